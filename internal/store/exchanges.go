package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
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
	converse, err := tx.PrepareContext(ctx, `INSERT INTO conversations (id, label, model, begun, ended, requests, first, last, prompt, repeated, completion, busy) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET begun = min(begun, excluded.begun), ended = max(ended, excluded.ended), requests = requests + 1, first = min(first, excluded.first), last = max(last, excluded.last),
		prompt = prompt + excluded.prompt, repeated = repeated + excluded.repeated, completion = completion + excluded.completion, busy = busy + excluded.busy`)
	if err != nil {
		return told(err)
	}
	defer converse.Close()
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
		if e.Job != "" {
			prompt := int64(e.PromptTokens)
			if _, err := converse.ExecContext(ctx, e.Job, e.Label, e.Model, e.Begun.UnixMicro(), e.Begun.UnixMicro()+int64(e.Took*1000), 1, prompt, prompt, prompt, e.RepeatedTokens, e.CompletionTokens, int64(e.Took*1000)); err != nil {
				return told(err)
			}
		}
		of := totalOf{e.Begun.Local().Format(monthForm), e.Key, e.Label, e.Group, e.Answered}
		t := totals[of]
		if t == nil {
			t = &kept.Total{}
			totals[of] = t
		}
		if !e.IsStep() {
			t.Requests++
			if e.State != record.Done {
				t.Failed++
			}
		}
		if e = e.Own(); e.Steps > 0 {
			continue // nor was the model busy with it beside its steps
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

// ExchangeIDs lists ids that begin so, in their order, and no more than limit.
func (s *Store) ExchangeIDs(ctx context.Context, prefix string, limit int) (ids []string, err error) {
	rows, err := s.reader.QueryContext(ctx, `SELECT id FROM exchanges WHERE id >= ? AND id < ? ORDER BY id LIMIT ?`, prefix, prefix+"\x7f", limit)
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	for rows.Next() {
		var id string
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	return ids, told(rows.Err())
}

// Exchanges lists exchanges, the newest first.
func (s *Store) Exchanges(ctx context.Context, f record.Filter) ([]record.Record, error) {
	// A key may be named in two ways, and a model: each has its index, which gives the newest first, and goes through nothing else.
	// Those that are bad or slow are few, so theirs comes first.
	from, slow := "exchanges", `+took >= ?` // which no index is used for
	if f.Bad {
		from += " INDEXED BY exchanges_bad"
	} else if few, err := s.fewSlow(ctx, f.Slow); err != nil {
		return nil, err
	} else if few {
		from, slow = from+" INDEXED BY exchanges_took", `took >= ?`
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
			if f.Whole {
				where(`NOT (job = '' AND instr(id, '-') > 0 AND json_extract(doc, '$.parent') IS NOT NULL AND coalesce(json_extract(doc, '$.step'), 0) > 0)`)
			}
			if f.Slow > 0 {
				where(slow, f.Slow.Microseconds())
			}
			query += ` ORDER BY begun DESC, id DESC LIMIT ?)`
			args = append(args, f.Limit)
		}
	}
	query = `SELECT doc FROM (` + query + `)`
	rows, err := s.pages.QueryContext(ctx, query+` ORDER BY begun DESC, id DESC LIMIT ?`, append(args, f.Limit)...)
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

// fewSlow reports whether so few exchanges were slow that they are found first, and put in their order then. Of many, a page is full soon when
// one goes from the newest on.
func (s *Store) fewSlow(ctx context.Context, slow time.Duration) (bool, error) {
	if slow <= 0 {
		return false, nil
	}
	const few = 2000
	var n int
	err := s.pages.QueryRowContext(ctx, `SELECT count(*) FROM (SELECT 1 FROM exchanges WHERE took >= ? LIMIT ?)`, slow.Microseconds(), few).Scan(&n)
	return n < few, told(err)
}

// either gives the columns in which a value is looked for; one, if there is nothing to look for.
func either(value string, columns ...string) []string {
	if value == "" {
		return columns[:1]
	}
	return columns
}

// slice is how many rows are removed in one transaction, so that nobody waits long for the database.
const slice = 2000

// PruneExchanges removes those that are older than may be, and the oldest of those that are too many or take too much. The space goes back to
// the disk.
func (s *Store) PruneExchanges(ctx context.Context, now time.Time, k kept.Keep) error {
	if k.Age > 0 {
		now, err := s.steadily(ctx, "exchanges_pruned", now)
		if err != nil {
			return err
		}
		before := now.Add(-k.Age).UnixMicro()
		if err := s.removeExchanges(ctx, `begun < ?`, before); err != nil {
			return err
		}
		if err := s.exec(ctx, `DELETE FROM conversations WHERE ended < ?`, before); err != nil {
			return err
		}
	}
	var rows, bytes int64
	if err := s.pages.QueryRowContext(ctx, `SELECT count(*) FROM exchanges`).Scan(&rows); err != nil {
		return told(err)
	}
	// What a row takes is known from the newest; to weigh all of them would take as long as to read them.
	if err := s.pages.QueryRowContext(ctx, `SELECT coalesce(avg(n), 0) FROM (SELECT CAST(length(doc) AS REAL) + ? AS n FROM exchanges ORDER BY begun DESC LIMIT 1000)`, rowBytes).Scan((*truncated)(&bytes)); err != nil {
		return told(err)
	}
	most := k.Rows
	if k.Space > 0 && bytes > 0 {
		if fit := k.Space / bytes; most == 0 || fit < most {
			most = fit
		}
	}
	if most > 0 && rows > most {
		// More than is needed goes, so that this is not done for each.
		var before int64
		if err := s.pages.QueryRowContext(ctx, `SELECT begun FROM exchanges ORDER BY begun DESC LIMIT 1 OFFSET ?`, most-most/20).Scan(&before); err != nil {
			return told(err)
		}
		if err := s.removeExchanges(ctx, `begun <= ?`, before); err != nil {
			return err
		}
	}
	return s.giveBack(ctx)
}

// rowBytes is what an exchange takes in the database beside its document, its indexes included.
const rowBytes = 600

// truncated takes a number that SQLite gives as a fraction.
type truncated int64

// Scan takes the number.
func (t *truncated) Scan(v any) error {
	switch v := v.(type) {
	case float64:
		*t = truncated(v)
	case int64:
		*t = truncated(v)
	default:
		return fmt.Errorf("%v is no number", v)
	}
	return nil
}

// removeExchanges removes the exchanges that fit, a slice after the other.
func (s *Store) removeExchanges(ctx context.Context, which string, args ...any) error {
	for {
		result, err := s.db.ExecContext(ctx, `DELETE FROM exchanges WHERE rowid IN (SELECT rowid FROM exchanges WHERE `+which+` LIMIT ?)`, append(args[:len(args):len(args)], slice)...)
		if err != nil {
			return told(err)
		}
		if n, err := result.RowsAffected(); err != nil || n < slice {
			return err
		}
	}
}

// giveBack gives pages of the database that nothing is in any more back to the disk.
func (s *Store) giveBack(ctx context.Context) error {
	for {
		var free int64
		if err := s.db.QueryRowContext(ctx, `PRAGMA freelist_count`).Scan(&free); err != nil || free == 0 {
			return told(err)
		}
		rows, err := s.db.QueryContext(ctx, `PRAGMA incremental_vacuum(`+strconv.Itoa(slice)+`)`)
		if err != nil {
			return told(err)
		}
		for rows.Next() { // each step frees a page
		}
		if err := errors.Join(rows.Err(), rows.Close()); err != nil {
			return told(err)
		}
		var left int64
		if err := s.db.QueryRowContext(ctx, `PRAGMA freelist_count`).Scan(&left); err != nil || left >= free {
			return told(err) // a database that was made without this gives nothing back
		}
	}
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
	rows, err := s.pages.QueryContext(ctx, `SELECT id, label, model, begun, ended, requests, first, last, prompt, repeated, completion, busy FROM conversations
		WHERE requests > 1 AND ended >= ? ORDER BY begun DESC LIMIT ?`, since.UnixMicro(), limit)
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
