package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"kindredgate/internal/kept"
)

// PutSuiteRun keeps what a suite came to. The oldest beyond a number go.
func (s *Store) PutSuiteRun(ctx context.Context, r kept.SuiteRun, most int) error {
	if err := s.exec(ctx, `INSERT INTO suite_runs (id, at, suite, digest, doc) VALUES (?, ?, ?, ?, ?)`, r.ID, r.At.UnixMicro(), r.Suite, r.Digest, string(r.Report)); err != nil {
		return err
	}
	return s.exec(ctx, `DELETE FROM suite_runs WHERE id NOT IN (SELECT id FROM suite_runs ORDER BY at DESC LIMIT ?)`, most)
}

func scanSuiteRun(row interface{ Scan(...any) error }) (r kept.SuiteRun, err error) {
	var at int64
	var doc string
	err = row.Scan(&r.ID, &at, &r.Suite, &r.Digest, &doc)
	r.At, r.Report = time.UnixMicro(at).UTC(), []byte(doc)
	return r, err
}

// SuiteRuns lists what suites came to, the newest first.
func (s *Store) SuiteRuns(ctx context.Context, limit int) (list []kept.SuiteRun, err error) {
	rows, err := s.reader.QueryContext(ctx, `SELECT id, at, suite, digest, doc FROM suite_runs ORDER BY at DESC LIMIT ?`, limit)
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	for rows.Next() {
		r, err := scanSuiteRun(rows)
		if err != nil {
			return nil, err
		}
		list = append(list, r)
	}
	return list, told(rows.Err())
}

// SuiteRun returns what a suite came to, or kept.ErrMissing.
func (s *Store) SuiteRun(ctx context.Context, id string) (kept.SuiteRun, error) {
	r, err := scanSuiteRun(s.reader.QueryRowContext(ctx, `SELECT id, at, suite, digest, doc FROM suite_runs WHERE id = ?`, id))
	if errors.Is(err, sql.ErrNoRows) {
		return r, kept.ErrMissing
	}
	return r, told(err)
}
