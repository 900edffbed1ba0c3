package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"time"

	"kindredgate/internal/kept"
)

// Pictures in contents are kept once, by their hash, since a conversation sends its pictures again with every turn. In the content stands a
// reference, which is of use only where the content is noted to have that picture.
var (
	inlined   = regexp.MustCompile(`"data:image/[a-z0-9.+-]+;base64,[A-Za-z0-9+/=_-]+"`)
	reference = regexp.MustCompile(`"kept-picture:([0-9a-f]{64})"`)
)

// leastApart is how many bytes a picture has that is kept apart.
const leastApart = 1 << 10

// apart takes the pictures out of a request.
func apart(request json.RawMessage) (json.RawMessage, map[[sha256.Size]byte][]byte) {
	pictures := map[[sha256.Size]byte][]byte{}
	if reference.Match(request) { // which would stand for a picture that was not there, as often as somebody wrote it
		return request, pictures
	}
	without := inlined.ReplaceAllFunc(request, func(url []byte) []byte {
		if len(url) < leastApart {
			return url
		}
		sum := sha256.Sum256(url)
		pictures[sum] = url
		return fmt.Appendf(nil, `"kept-picture:%x"`, sum)
	})
	return without, pictures
}

// PutContent keeps what was said in an exchange. The oldest make room for it.
func (s *Store) PutContent(ctx context.Context, c kept.Content, space int64) error {
	without, pictures := apart(c.Request)
	c.Request = without
	raw, err := json.Marshal(c)
	if err != nil {
		return err
	}
	doc := packer.EncodeAll(raw, nil)
	bytes := int64(len(doc))
	packed := map[[sha256.Size]byte][]byte{}
	for sum, url := range pictures {
		packed[sum] = packer.EncodeAll(url, nil)
		bytes += int64(len(packed[sum]))
	}
	if bytes > space {
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
	for sum, url := range packed {
		if _, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO pictures (sum, url, bytes) VALUES (?, ?, ?)`, sum[:], url, len(url)); err != nil {
			return told(err)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO content_pictures (content, sum) VALUES (?, ?)`, c.ID, sum[:]); err != nil {
			return told(err)
		}
	}
	if err := makeRoom(ctx, tx, c.ID, space); err != nil {
		return told(err)
	}
	return told(tx.Commit())
}

// makeRoom deletes the oldest contents, but one, until all of them and their pictures fit into a space. More than is needed goes, so that this is not done for each.
func makeRoom(ctx context.Context, tx *sql.Tx, except string, space int64) error {
	for {
		var contents, pictures int64
		if err := tx.QueryRowContext(ctx, `SELECT (SELECT ifnull(sum(bytes), 0) FROM contents), (SELECT ifnull(sum(bytes), 0) FROM pictures)`).Scan(&contents, &pictures); err != nil {
			return err
		}
		if contents+pictures <= space {
			return nil
		}
		left := space - space/10 - pictures // for what has no pictures; where these alone are too many, the oldest tenth goes
		result, err := tx.ExecContext(ctx, `DELETE FROM contents WHERE id != ?1 AND (
			rowid IN (SELECT rowid FROM (SELECT rowid, sum(bytes) OVER (ORDER BY rowid DESC) AS total FROM contents) WHERE ?2 > 0 AND total > ?2)
			OR rowid IN (SELECT rowid FROM contents WHERE ?2 <= 0 ORDER BY rowid LIMIT 1 + (SELECT count(*) / 10 FROM contents)))`, except, left)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return err
		}
		if err := forgetPictures(ctx, tx); err != nil {
			return err
		}
	}
}

// executor is a database or a transaction.
type executor interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// forgetPictures deletes the pictures that no content has any more.
func forgetPictures(ctx context.Context, in executor) error {
	_, err := in.ExecContext(ctx, `DELETE FROM pictures WHERE NOT EXISTS (SELECT 1 FROM content_pictures c WHERE c.sum = pictures.sum)`)
	return err
}

// restored puts the pictures of a content back.
func (s *Store) restored(ctx context.Context, id string, request json.RawMessage) (json.RawMessage, error) {
	var failed error
	whole := reference.ReplaceAllFunc(request, func(found []byte) []byte {
		sum, err := hex.DecodeString(string(reference.FindSubmatch(found)[1]))
		if err != nil {
			return found
		}
		var packed []byte
		switch err = s.reader.QueryRowContext(ctx, `SELECT p.url FROM pictures p JOIN content_pictures c USING (sum) WHERE c.content = ? AND c.sum = ?`, id, sum).Scan(&packed); {
		case errors.Is(err, sql.ErrNoRows): // somebody wrote this text
			return found
		case err == nil:
			var url []byte
			if url, err = unpacker.DecodeAll(packed, nil); err == nil {
				return url
			}
		}
		failed = err
		return found
	})
	return whole, failed
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
	if err == nil {
		c.Request, err = s.restored(ctx, id, c.Request)
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
	if err == nil {
		err = forgetPictures(ctx, s.db)
	}
	if err != nil {
		return 0, told(err)
	}
	return result.RowsAffected()
}
