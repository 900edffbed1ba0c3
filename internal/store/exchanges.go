package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"kindredgate/internal/kept"
	"kindredgate/internal/record"
)

// PutExchanges keeps exchanges, all or none. One that has ended stays as it is.
func (s *Store) PutExchanges(ctx context.Context, list []record.Record) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return told(err)
	}
	defer tx.Rollback() //nolint:errcheck // it has no effect after Commit
	put, err := tx.PrepareContext(ctx, `INSERT INTO exchanges (id, begun, key, label, model, answered, style, state, took, job, doc) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (id) DO UPDATE SET answered = excluded.answered, state = excluded.state, took = excluded.took, job = excluded.job, doc = excluded.doc WHERE exchanges.state = 'open'`)
	if err != nil {
		return told(err)
	}
	defer put.Close()
	sum, err := tx.PrepareContext(ctx, `INSERT INTO totals (month, key, label, grp, model, requests, failed, prompt, cached, completion, cost, busy) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET requests = requests + excluded.requests, failed = failed + excluded.failed, prompt = prompt + excluded.prompt, cached = cached + excluded.cached,
		completion = completion + excluded.completion, cost = cost + excluded.cost, busy = busy + excluded.busy`)
	if err != nil {
		return told(err)
	}
	defer sum.Close()
	// What belongs to the same total is added up here, since a batch mostly has one key and one model.
	totals := map[totalOf]*kept.Total{}
	for _, e := range list {
		doc := e.Doc
		if doc == nil {
			if doc, err = json.Marshal(e); err != nil {
				return err
			}
		}
		result, err := put.ExecContext(ctx, e.ID, e.Begun.UnixMicro(), e.Key, e.Label, e.Model, e.Answered, e.Style, string(e.State), int64(e.Took*1000), e.Job, string(doc))
		if err != nil {
			return told(err)
		}
		// What is written a second time, out of the journal, changes nothing, and does not count again.
		if n, err := result.RowsAffected(); err != nil || n == 0 || e.State == record.Open || e.State == record.Refused {
			if err != nil {
				return err
			}
			continue
		}
		if e.ShadowOf != "" {
			continue // nobody asked for it
		}
		of := totalOf{e.Begun.Local().Format(monthForm), e.Key, e.Label, e.Group, e.Answered}
		t := totals[of]
		if t == nil {
			t = &kept.Total{}
			totals[of] = t
		}
		t.Requests++
		if e.State != record.Done {
			t.Failed++
		}
		t.Prompt, t.Cached, t.Completion = t.Prompt+int64(e.PromptTokens), t.Cached+int64(e.CachedTokens), t.Completion+int64(e.CompletionTokens)
		t.Cost, t.Busy = t.Cost+e.Cost, t.Busy+int64(max(0, e.Took-e.Queue-e.Load))
	}
	for of, t := range totals {
		if _, err := sum.ExecContext(ctx, of.month, of.key, of.label, of.group, of.model, t.Requests, t.Failed, t.Prompt, t.Cached, t.Completion, t.Cost, t.Busy); err != nil {
			return told(err)
		}
	}
	return told(tx.Commit())
}

// totalOf is what a total is of.
type totalOf struct{ month, key, label, group, model string }

// InterruptExchanges marks those that are open as interrupted.
func (s *Store) InterruptExchanges(ctx context.Context) error {
	return s.exec(ctx, `UPDATE exchanges SET state = 'interrupted', doc = json_set(doc, '$.state', 'interrupted') WHERE state = 'open'`)
}

func scanExchange(row interface{ Scan(...any) error }) (e record.Record, err error) {
	var doc string
	if err := row.Scan(&doc); err != nil {
		return e, err
	}
	if err := json.Unmarshal([]byte(doc), &e); err != nil {
		return e, fmt.Errorf("an exchange in the database: %w", err)
	}
	return e, nil
}

// Exchange returns an exchange, or kept.ErrMissing.
func (s *Store) Exchange(ctx context.Context, id string) (record.Record, error) {
	e, err := scanExchange(s.reader.QueryRowContext(ctx, `SELECT doc FROM exchanges WHERE id = ?`, id))
	if errors.Is(err, sql.ErrNoRows) {
		return e, kept.ErrMissing
	}
	return e, err
}

// Exchanges lists exchanges, the newest first.
func (s *Store) Exchanges(ctx context.Context, f record.Filter) ([]record.Record, error) {
	// A key may be named in two ways, and a model: each has its index, which gives the newest first, and goes through nothing else.
	// Those that are bad or slow are few, so theirs comes first.
	from := "exchanges"
	switch {
	case f.Bad:
		from += " INDEXED BY exchanges_bad"
	case f.Slow > time.Second:
		from += " INDEXED BY exchanges_slow"
	}
	query, args := "", []any{}
	for _, key := range either(f.Key, "key", "label") {
		for _, model := range either(f.Model, "model", "answered") {
			if query != "" {
				query += " UNION "
			}
			query += `SELECT * FROM (SELECT begun, id, doc FROM ` + from + ` WHERE 1`
			where := func(condition string, values ...any) {
				query += " AND " + condition
				args = append(args, values...)
			}
			if f.Key != "" {
				where(key+` = ?`, f.Key)
			}
			if f.Model != "" {
				where(model+` = ?`, f.Model)
			}
			if f.Job != "" {
				where(`job = ? AND job != ''`, f.Job)
			}
			if f.Style != "" {
				where(`style = ?`, f.Style)
			}
			if !f.Since.IsZero() {
				where(`begun >= ?`, f.Since.UnixMicro())
			}
			if !f.Until.IsZero() {
				where(`begun < ?`, f.Until.UnixMicro())
			}
			if f.Before != "" {
				where(`(begun, id) < (SELECT begun, id FROM exchanges WHERE id = ?)`, f.Before)
			}
			if f.Bad {
				where(`state IN ('failed', 'refused', 'interrupted', 'cancelled')`)
			}
			if f.Slow > 0 {
				where(`took >= ?`, f.Slow.Microseconds())
			}
			if f.Slow > time.Second {
				where(`took > 1000000`) // which has an index
			}
			query += ` ORDER BY begun DESC, id DESC LIMIT ?)`
			args = append(args, f.Limit)
		}
	}
	query = `SELECT doc FROM (` + query + `)`
	rows, err := s.reader.QueryContext(ctx, query+` ORDER BY begun DESC, id DESC LIMIT ?`, append(args, f.Limit)...)
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	var list []record.Record
	for rows.Next() {
		e, err := scanExchange(rows)
		if err != nil {
			return nil, err
		}
		list = append(list, e)
	}
	return list, told(rows.Err())
}

// either gives the columns in which a value is looked for; one, if there is nothing to look for.
func either(value string, columns ...string) []string {
	if value == "" {
		return columns[:1]
	}
	return columns
}

// PruneExchanges removes those that are older than age.
func (s *Store) PruneExchanges(ctx context.Context, now time.Time, age time.Duration) error {
	now, err := s.steadily(ctx, "exchanges_pruned", now)
	if err != nil {
		return err
	}
	return s.exec(ctx, `DELETE FROM exchanges WHERE begun < ?`, now.Add(-age).UnixMicro())
}

// monthForm is how months are named.
const monthForm = "2006-01"

// Totals sums up what ended in a month, those that cost most first.
func (s *Store) Totals(ctx context.Context, month string) (list []kept.Total, err error) {
	rows, err := s.reader.QueryContext(ctx, `SELECT key, label, grp, model, requests, failed, prompt, cached, completion, cost, busy FROM totals WHERE month = ?
		ORDER BY cost DESC, completion DESC, label, model`, month)
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	for rows.Next() {
		var t kept.Total
		if err := rows.Scan(&t.Key, &t.Label, &t.Group, &t.Model, &t.Requests, &t.Failed, &t.Prompt, &t.Cached, &t.Completion, &t.Cost, &t.Busy); err != nil {
			return nil, err
		}
		list = append(list, t)
	}
	return list, told(rows.Err())
}

// Jobs lists jobs of more than one exchange that went on after a time, the newest first.
func (s *Store) Jobs(ctx context.Context, since time.Time, limit int) (list []kept.Job, err error) {
	rows, err := s.reader.QueryContext(ctx, `SELECT job, label, model, begun, ended, n, first, last, prompt, repeated, completion, busy FROM (
		SELECT job, max(label) AS label, max(model) AS model, min(begun) AS begun, max(begun + took) AS ended, count(*) AS n,
			min(doc ->> 'prompt_tokens') AS first, max(doc ->> 'prompt_tokens') AS last, sum(doc ->> 'prompt_tokens') AS prompt,
			coalesce(sum(doc ->> 'repeated_tokens'), 0) AS repeated, sum(doc ->> 'completion_tokens') AS completion, sum(took) AS busy
		FROM exchanges WHERE job IN (SELECT DISTINCT job FROM exchanges WHERE job != '' AND job != id AND begun >= ?) GROUP BY job)
		WHERE n > 1 ORDER BY begun DESC LIMIT ?`, since.UnixMicro(), limit)
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	for rows.Next() {
		var j kept.Job
		var begun, ended, busy int64
		if err := rows.Scan(&j.ID, &j.Label, &j.Model, &begun, &ended, &j.Requests, &j.First, &j.Last, &j.Prompt, &j.Repeated, &j.Answered, &busy); err != nil {
			return nil, err
		}
		j.Begun, j.Ended = time.UnixMicro(begun).UTC(), time.UnixMicro(ended).UTC()
		j.Busy = float64(busy) / 1000
		j.Between = max(0, float64(ended-begun-busy)/1000)
		list = append(list, j)
	}
	return list, told(rows.Err())
}
