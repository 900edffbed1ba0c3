package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"kindredgate/internal/kept"
)

const responseColumns = `id, key, created, ended, background, previous, input, body, events`

// PutResponse keeps a response, in the place of one with the same id.
func (s *Store) PutResponse(ctx context.Context, r kept.Response) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO responses (`+responseColumns+`) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET ended = excluded.ended, body = excluded.body, events = excluded.events`,
		r.ID, r.Key, r.Created.Unix(), r.Ended, r.Background, r.Previous, string(r.Input), string(r.Body), string(r.Events))
	return err
}

func scanResponse(row interface{ Scan(...any) error }) (r kept.Response, err error) {
	var created int64
	var input, body, events string
	if err := row.Scan(&r.ID, &r.Key, &created, &r.Ended, &r.Background, &r.Previous, &input, &body, &events); err != nil {
		return r, err
	}
	r.Created = time.Unix(created, 0).UTC()
	r.Input, r.Body, r.Events = []byte(input), []byte(body), []byte(events)
	return r, nil
}

// Response returns a response, or kept.ErrMissing.
func (s *Store) Response(ctx context.Context, id string) (kept.Response, error) {
	r, err := scanResponse(s.db.QueryRowContext(ctx, `SELECT `+responseColumns+` FROM responses WHERE id = ?`, id))
	if errors.Is(err, sql.ErrNoRows) {
		err = kept.ErrMissing
	}
	return r, err
}

// DropResponse removes a response, or returns kept.ErrMissing.
func (s *Store) DropResponse(ctx context.Context, id string) error {
	result, err := s.db.ExecContext(ctx, `DELETE FROM responses WHERE id = ?`, id)
	if err != nil {
		return err
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, kept.ErrMissing)
	}
	return nil
}

// DropResponsesBefore removes responses that are older.
func (s *Store) DropResponsesBefore(ctx context.Context, t time.Time) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM responses WHERE created < ?`, t.Unix())
	return err
}

// UnendedResponses lists the responses that have not ended.
func (s *Store) UnendedResponses(ctx context.Context) ([]kept.Response, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT `+responseColumns+` FROM responses WHERE ended = 0`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []kept.Response
	for rows.Next() {
		r, err := scanResponse(rows)
		if err != nil {
			return nil, err
		}
		list = append(list, r)
	}
	return list, rows.Err()
}
