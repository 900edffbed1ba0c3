package store

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/klauspost/compress/zstd"

	"kindredgate/internal/kept"
)

// document is what is stored of a response as one compressed whole: the events repeat the text of the body, which costs next to
// nothing then.
type document struct {
	Input  json.RawMessage `json:"input"`
	Body   json.RawMessage `json:"body"`
	Events json.RawMessage `json:"events"`
	Loop   json.RawMessage `json:"loop,omitempty"`
}

// longDocument is how long a document may become when it is unpacked, in bytes.
const longDocument = 1 << 30

// Both are safe for concurrent use when they do whole texts.
var (
	packer, _   = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	unpacker, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(longDocument))
)

// frame is how a text that Zstandard has compressed begins (RFC 8878, section 3.1.1).
var frame = []byte{0x28, 0xb5, 0x2f, 0xfd}

func pack(r kept.Response) ([]byte, error) {
	raw, err := json.Marshal(document{r.Input, r.Body, r.Events, r.Loop})
	return packer.EncodeAll(raw, nil), err
}

func unpack(r *kept.Response, doc []byte) (err error) {
	if bytes.HasPrefix(doc, frame) {
		if doc, err = unpacker.DecodeAll(doc, nil); err != nil {
			return fmt.Errorf("%w: %w", kept.ErrDamaged, err)
		}
	}
	var d document
	if err := json.Unmarshal(doc, &d); err != nil {
		return fmt.Errorf("%w: %w", kept.ErrDamaged, err)
	}
	r.Input, r.Body, r.Events, r.Loop = d.Input, d.Body, d.Events, d.Loop
	return nil
}

// PutResponse keeps a response, in the place of one with the same id. The oldest of its payer make room for it, those that have not
// ended apart.
func (s *Store) PutResponse(ctx context.Context, r kept.Response) error {
	payer := cmp.Or(r.Payer, r.Key)
	doc, err := pack(r)
	switch {
	case err != nil:
		return err
	case int64(len(doc)) > s.limits.Load().Space:
		return kept.ErrNoRoom
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return told(err)
	}
	defer tx.Rollback() //nolint:errcheck // it has no effect after Commit
	if _, err := tx.ExecContext(ctx, `INSERT INTO responses (id, key, payer, created, ended, background, shared, previous, doc, bytes) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET ended = excluded.ended, shared = excluded.shared, doc = excluded.doc, bytes = excluded.bytes`,
		r.ID, r.Key, payer, r.Created.Unix(), r.Ended, r.Background, r.Shared, r.Previous, doc, len(doc)); err != nil {
		return told(err)
	}
	// Whatever lies beyond the space, counted from the newest on.
	if _, err := tx.ExecContext(ctx, `DELETE FROM responses WHERE ended = 1 AND id IN (
		SELECT id FROM (SELECT id, sum(bytes) OVER (ORDER BY id = ?1 DESC, created DESC, rowid DESC) AS total FROM responses WHERE payer = ?2) WHERE total > ?3)`,
		r.ID, payer, s.limits.Load().Space); err != nil {
		return told(err)
	}
	return told(tx.Commit())
}

// Response returns a response, kept.ErrMissing, or kept.ErrDamaged.
func (s *Store) Response(ctx context.Context, id string) (kept.Response, error) {
	r := kept.Response{ID: id}
	var created int64
	var doc []byte
	err := s.reader.QueryRowContext(ctx, `SELECT key, created, ended, background, shared, previous, doc FROM responses WHERE id = ?`, id).
		Scan(&r.Key, &created, &r.Ended, &r.Background, &r.Shared, &r.Previous, &doc)
	if errors.Is(err, sql.ErrNoRows) {
		return r, kept.ErrMissing
	} else if err != nil {
		return r, err
	}
	r.Created = time.Unix(created, 0).UTC()
	return r, unpack(&r, doc)
}

// DropResponse removes a response, or returns kept.ErrMissing.
func (s *Store) DropResponse(ctx context.Context, id string) error {
	return s.drop(ctx, kept.ErrMissing, `DELETE FROM responses WHERE id = ?`, id)
}

// mostAhead is how far the clock may have gone on from one pruning to the next. A clock that jumps ahead, which is put right soon as a
// rule, would have everything removed.
const mostAhead = 24 * time.Hour

// steadily brings a time up to which things are removed to one that is no more than mostAhead later than the last one of that name, and notes
// it.
func (s *Store) steadily(ctx context.Context, name string, at time.Time) (time.Time, error) {
	var last int64
	err := s.db.QueryRowContext(ctx, `SELECT value FROM notes WHERE name = ?`, name).Scan(&last)
	switch {
	case errors.Is(err, sql.ErrNoRows):
	case err != nil:
		return at, err
	case at.Unix() > last+int64(mostAhead.Seconds()):
		at = time.Unix(last, 0).Add(mostAhead)
	}
	return at, s.exec(ctx, `INSERT INTO notes (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`, name, at.Unix())
}

// PruneResponses removes responses that are too old. It is called now and then while the gate runs.
func (s *Store) PruneResponses(ctx context.Context, now time.Time) error {
	now, err := s.steadily(ctx, "responses_pruned", now)
	if err != nil {
		return err
	}
	return s.exec(ctx, `DELETE FROM responses WHERE created < ?`, now.Add(-s.limits.Load().Age).Unix())
}

// UnendedResponses lists the responses that have not ended. Damaged ones count as ended from then on.
func (s *Store) UnendedResponses(ctx context.Context) (list []kept.Response, damaged []string, err error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id FROM responses WHERE ended = 0`)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	var ids []string
	for rows.Next() {
		var id string
		if err := rows.Scan(&id); err != nil {
			return nil, nil, err
		}
		ids = append(ids, id)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, nil, err
	}
	for _, id := range ids {
		r, err := s.Response(ctx, id)
		switch {
		case errors.Is(err, kept.ErrDamaged):
			damaged = append(damaged, id)
			err = s.exec(ctx, `UPDATE responses SET ended = 1 WHERE id = ?`, id)
		case err == nil:
			list = append(list, r)
		}
		if err != nil {
			return list, damaged, err
		}
	}
	return list, damaged, nil
}
