package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"kindredgate/internal/kept"
)

// PutContent keeps what was said in an exchange. The oldest make room for it.
func (s *Store) PutContent(ctx context.Context, c kept.Content, space int64) error {
	raw, err := json.Marshal(c)
	if err != nil {
		return err
	}
	doc := packer.EncodeAll(raw, nil)
	if int64(len(doc)) > space {
		return kept.ErrNoRoom
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return told(err)
	}
	defer tx.Rollback() //nolint:errcheck // it has no effect after Commit
	if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO contents (id, at, key, bytes, doc) VALUES (?, ?, ?, ?, ?)`, c.ID, c.At.Unix(), c.Key, len(doc), doc); err != nil {
		return told(err)
	}
	var total int64
	if err := tx.QueryRowContext(ctx, `SELECT sum(bytes) FROM contents`).Scan(&total); err != nil {
		return told(err)
	}
	if total > space {
		// More than is needed goes, so that this is not done for each.
		if _, err := tx.ExecContext(ctx, `DELETE FROM contents WHERE id != ?1 AND rowid IN (
			SELECT rowid FROM (SELECT rowid, sum(bytes) OVER (ORDER BY rowid DESC) AS total FROM contents) WHERE total > ?2)`, c.ID, space-space/10); err != nil {
			return told(err)
		}
	}
	return told(tx.Commit())
}

// Content returns what was said in an exchange, or kept.ErrMissing.
func (s *Store) Content(ctx context.Context, id string) (c kept.Content, err error) {
	var doc []byte
	err = s.reader.QueryRowContext(ctx, `SELECT key, doc FROM contents WHERE id = ?`, id).Scan(&c.Key, &doc)
	if errors.Is(err, sql.ErrNoRows) {
		return c, kept.ErrMissing
	} else if err != nil {
		return c, told(err)
	}
	c.ID = id
	raw, err := unpacker.DecodeAll(doc, nil)
	if err == nil {
		err = json.Unmarshal(raw, &c)
	}
	if err != nil {
		return c, fmt.Errorf("the content of exchange %s: %w: %w", id, kept.ErrDamaged, err)
	}
	return c, nil
}

// PruneContents removes contents that are older than age.
func (s *Store) PruneContents(ctx context.Context, now time.Time, age time.Duration) error {
	now, err := s.steadily(ctx, "contents_pruned", now)
	if err != nil {
		return err
	}
	_, err = s.PurgeContents(ctx, "", now.Add(-age))
	return err
}

// PurgeContents removes the contents of a key, or all, that are older than a time, or all.
func (s *Store) PurgeContents(ctx context.Context, key string, before time.Time) (int64, error) {
	result, err := s.db.ExecContext(ctx, `DELETE FROM contents WHERE (?1 = '' OR key = ?1) AND (?2 = 0 OR at < ?2)`, key, seconds(before))
	if err != nil {
		return 0, told(err)
	}
	return result.RowsAffected()
}
