package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"modernc.org/sqlite"
	codes "modernc.org/sqlite/lib"

	"kindredgate/internal/fleet"
)

// This file is what gates share. Triggers note what changes, so that nothing else has to know of it; changes of other gates are put into the
// same tables, and are read like this gate's own.

// sharedTable is a table whose rows gates share.
type sharedTable struct {
	name, key string
	columns   []string // that are shared, the key included
	revoked   string   // a column with the time since when the row is revoked, which wins over later changes; "" for none
	blob      bool     // the key is no text
}

// sharedTables are all of them.
var sharedTables = []sharedTable{
	{name: "keys", key: "id", columns: []string{"id", "label", "hash", "owner", "models", "created", "revoked", "terms", "follows", "issuer"}, revoked: "revoked"},
	{name: "groups", key: "name", columns: []string{"name", "limits"}},
	{name: "names", key: "name", columns: []string{"name", "target", "route"}},
	{name: "presets", key: "name", columns: []string{"name", "doc"}},
	{name: "joined", key: "id", columns: []string{"id", "name", "seal", "since", "revoked"}, revoked: "revoked"},
	{name: "invitations", key: "id", columns: []string{"id", "hash", "name", "until"}},
	{name: "sessions", key: "hash", columns: []string{"hash", "expires"}, blob: true},
}

// now is the stamp of a change that is made now.
const now = `max(CAST(unixepoch('subsec') * 1000 AS INTEGER), (SELECT coalesce(max(stamp), 0) FROM changes) + 1)`

// lastStamp is the latest time that a change can have: after it there would be no room for others.
const lastStamp = 1 << 60

// unusable tells a row that a table does not take from a database that does not work.
func unusable(err error) error {
	var e *sqlite.Error
	if errors.As(err, &e) && e.Code()&0xff == codes.SQLITE_CONSTRAINT || errors.As(err, &e) && e.Code()&0xff == codes.SQLITE_MISMATCH {
		return fmt.Errorf("%w: %w", fleet.ErrUnusable, err)
	}
	return told(err)
}

// of is the name of a row, by what its key is called in a statement.
func (t sharedTable) of(row string) string {
	if t.blob {
		return "hex(" + row + "." + t.key + ")"
	}
	return row + "." + t.key
}

// Share has changes noted from now on, by a gate of a name. What is there already counts as changed when nothing is known of it.
func (s *Store) Share(ctx context.Context, gate string) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return told(err)
	}
	defer tx.Rollback() //nolint:errcheck // it has no effect after Commit
	do := func(query string, args ...any) {
		if err == nil {
			_, err = tx.ExecContext(ctx, query, args...)
		}
	}
	do(`DELETE FROM applying`)
	for _, t := range sharedTables {
		note := func(row string, gone int) string {
			return fmt.Sprintf(`INSERT INTO changes (kind, name, stamp, by, gone, pending) VALUES ('%s', %s, %s, '', %d, 1)
				ON CONFLICT (kind, name) DO UPDATE SET stamp = excluded.stamp, by = '', gone = excluded.gone, pending = 1;`, t.name, t.of(row), now, gone)
		}
		trigger := func(what, when, row string, gone int) {
			name := "share_" + t.name + "_" + strings.ToLower(strings.Fields(what)[0])
			do(`DROP TRIGGER IF EXISTS ` + name)
			do(fmt.Sprintf(`CREATE TRIGGER %s AFTER %s ON %s WHEN NOT EXISTS (SELECT 1 FROM applying)%s BEGIN %s END`, name, what, t.name, when, note(row, gone)))
		}
		var differ []string
		for _, c := range t.columns {
			differ = append(differ, fmt.Sprintf("OLD.%s IS NOT NEW.%s", c, c))
		}
		trigger("INSERT", "", "NEW", 0)
		trigger("UPDATE", " AND ("+strings.Join(differ, " OR ")+")", "NEW", 0)
		trigger("DELETE", "", "OLD", 1)
		do(fmt.Sprintf(`INSERT INTO changes (kind, name, stamp, by) SELECT '%s', %s, 1, '' FROM %s AS x WHERE NOT EXISTS (SELECT 1 FROM changes WHERE kind = '%s' AND name = %s)`, t.name, t.of("x"), t.name, t.name, t.of("x")))
	}
	// What was removed long ago is heard of by nobody any more.
	do(`DELETE FROM changes WHERE gone = 1 AND pending = 0 AND stamp < (unixepoch() - 60 * 86400) * 1000`)
	if err == nil {
		err = tx.Commit()
	}
	if err != nil {
		return told(err)
	}
	s.gate.Store(&gate)
	s.wake()
	return nil
}

// wake has who waits for changes look.
func (s *Store) wake() {
	if s.gate.Load() == nil {
		return
	}
	select {
	case s.waiting <- struct{}{}:
	default:
	}
}

// Waiting has something in it when changes may be pending.
func (s *Store) Waiting() <-chan struct{} { return s.waiting }

// table is that of a kind of change.
func table(kind string) (sharedTable, error) {
	i := slices.IndexFunc(sharedTables, func(t sharedTable) bool { return t.name == kind })
	if i < 0 {
		return sharedTable{}, fmt.Errorf("gates share no %q", kind)
	}
	return sharedTables[i], nil
}

// where finds a row by its name.
func (t sharedTable) where() string {
	if t.blob {
		return "hex(" + t.key + ") = ?"
	}
	return t.key + " = ?"
}

// queryer is a database or a transaction.
type queryer interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// row reads a row as JSON; nil if there is none.
func (t sharedTable) row(ctx context.Context, from queryer, name string) (map[string]any, error) {
	values := make([]any, len(t.columns))
	into := make([]any, len(t.columns))
	for i := range values {
		into[i] = &values[i]
	}
	err := from.QueryRowContext(ctx, fmt.Sprintf(`SELECT %s FROM %s WHERE %s`, strings.Join(t.columns, ", "), t.name, t.where()), name).Scan(into...)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	} else if err != nil {
		return nil, told(err)
	}
	row := map[string]any{}
	for i, c := range t.columns {
		row[c] = values[i]
	}
	return row, nil
}

// cell is a value as it goes to other gates: JSON has no bytes.
type cell struct {
	Int   *int64  `json:"i,omitempty"`
	Text  *string `json:"t,omitempty"`
	Bytes []byte  `json:"b,omitempty"`
}

func packRow(row map[string]any) (json.RawMessage, error) {
	out := map[string]cell{}
	for c, v := range row {
		switch v := v.(type) {
		case int64:
			out[c] = cell{Int: &v}
		case string:
			out[c] = cell{Text: &v}
		case []byte:
			out[c] = cell{Bytes: v}
		case nil:
			out[c] = cell{}
		default:
			return nil, fmt.Errorf("the column %s has a value of the type %T", c, v)
		}
	}
	return json.Marshal(out)
}

// unpackRow reads the columns of a table out of a row of another gate, which may know of others.
func (t sharedTable) unpackRow(raw json.RawMessage) (map[string]any, error) {
	var in map[string]cell
	if err := json.Unmarshal(raw, &in); err != nil {
		return nil, err
	}
	row := map[string]any{}
	for _, c := range t.columns {
		v, ok := in[c]
		switch {
		case !ok:
		case v.Int != nil:
			row[c] = *v.Int
		case v.Text != nil:
			row[c] = *v.Text
		case v.Bytes != nil:
			row[c] = v.Bytes
		}
	}
	if row[t.key] == nil {
		return nil, fmt.Errorf("a row of %s has no %s", t.name, t.key)
	}
	return row, nil
}

// Pending lists changes that others were not told of, the oldest first.
func (s *Store) Pending(ctx context.Context, limit int) (list []fleet.Change, err error) {
	rows, err := s.reader.QueryContext(ctx, `SELECT kind, name, stamp, by, gone FROM changes WHERE pending = 1 ORDER BY stamp LIMIT ?`, limit)
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	for rows.Next() {
		var c fleet.Change
		if err := rows.Scan(&c.Kind, &c.Name, &c.Stamp, &c.By, &c.Gone); err != nil {
			return nil, err
		}
		if c.By == "" {
			c.By = *s.gate.Load()
		}
		list = append(list, c)
	}
	if err := rows.Err(); err != nil {
		return nil, told(err)
	}
	for i := range list {
		c := &list[i]
		t, err := table(c.Kind)
		if err != nil {
			return nil, err
		}
		row, err := t.row(ctx, s.reader, c.Name)
		if err != nil {
			return nil, err
		}
		if c.Gone = row == nil; c.Gone {
			continue
		}
		if c.Row, err = packRow(row); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// Behind is how many changes others were not told of.
func (s *Store) Behind(ctx context.Context) (n int, err error) {
	err = s.reader.QueryRowContext(ctx, `SELECT count(*) FROM changes WHERE pending = 1`).Scan(&n)
	return n, told(err)
}

// Told notes that others were told of a change, unless it was changed again meanwhile.
func (s *Store) Told(ctx context.Context, c fleet.Change) error {
	return s.exec(ctx, `UPDATE changes SET pending = 0 WHERE kind = ? AND name = ? AND stamp = ?`, c.Kind, c.Name, c.Stamp)
}

// Apply takes over a change of another gate, and reports whether that changed anything here.
func (s *Store) Apply(ctx context.Context, c fleet.Change) (changed bool, err error) {
	t, err := table(c.Kind)
	if err != nil {
		return false, nil //nolint:nilerr // a newer gate shares more
	}
	if c.Stamp < 0 || c.Stamp > lastStamp {
		return false, fmt.Errorf("%w: its time cannot be", fleet.ErrUnusable)
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return false, told(err)
	}
	defer tx.Rollback() //nolint:errcheck // it has no effect after Commit
	var own fleet.Change
	var pending bool
	err = tx.QueryRowContext(ctx, `SELECT stamp, by, gone, pending FROM changes WHERE kind = ? AND name = ?`, c.Kind, c.Name).Scan(&own.Stamp, &own.By, &own.Gone, &pending)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return false, told(err)
	}
	known := err == nil
	if known && own.By == "" {
		own.By = *s.gate.Load()
	}
	if known && own.Stamp == c.Stamp && own.By == c.By {
		return false, nil // it is this one
	}
	here, err := t.row(ctx, tx, c.Name)
	if err != nil {
		return false, err
	}
	var there map[string]any
	if !c.Gone {
		if there, err = t.unpackRow(c.Row); err != nil {
			return false, fmt.Errorf("%w: %w", fleet.ErrUnusable, err)
		}
	}
	row, merged := there, false
	if known && own.Later(c) {
		if row = here; !pending {
			merged = true // the servers have lost what they had been told
		}
	}
	if at := t.revocation(here, there); at != 0 && row != nil {
		if was, _ := row[t.revoked].(int64); was != at {
			row[t.revoked], merged = at, true
		}
	}
	stamp, by := c.Stamp, c.By
	if known && own.Later(c) {
		stamp, by = own.Stamp, own.By
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO applying (one) VALUES (1)`); err != nil {
		return false, told(err)
	}
	if err := t.write(ctx, tx, c.Name, row); err != nil {
		return false, unusable(err)
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM applying`); err != nil {
		return false, told(err)
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO changes (kind, name, stamp, by, gone, pending) VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT (kind, name) DO UPDATE SET stamp = excluded.stamp, by = excluded.by, gone = excluded.gone, pending = excluded.pending OR changes.pending AND excluded.stamp = changes.stamp`,
		c.Kind, c.Name, stamp, by, row == nil, false); err != nil {
		return false, told(err)
	}
	if merged {
		if _, err := tx.ExecContext(ctx, `UPDATE changes SET stamp = `+now+`, by = '', pending = 1 WHERE kind = ? AND name = ?`, c.Kind, c.Name); err != nil {
			return false, told(err)
		}
	}
	if err := tx.Commit(); err != nil {
		return false, told(err)
	}
	if merged {
		s.wake()
	}
	return true, nil
}

// revocation is since when a row is revoked in any of two forms, the earlier time if it is in both; 0 for neither.
func (t sharedTable) revocation(rows ...map[string]any) (at int64) {
	if t.revoked == "" {
		return 0
	}
	for _, row := range rows {
		if since, _ := row[t.revoked].(int64); since != 0 && (at == 0 || since < at) {
			at = since
		}
	}
	return at
}

// write has a row be as it is given; nil removes it.
func (t sharedTable) write(ctx context.Context, tx *sql.Tx, name string, row map[string]any) error {
	if row == nil {
		_, err := tx.ExecContext(ctx, fmt.Sprintf(`DELETE FROM %s WHERE %s`, t.name, t.where()), name)
		return err
	}
	var columns, updates []string
	var values []any
	for _, c := range t.columns {
		v, ok := row[c]
		if !ok {
			continue // a column that an older gate does not know keeps its default
		}
		columns, values = append(columns, c), append(values, v)
		if c != t.key {
			updates = append(updates, c+" = excluded."+c)
		}
	}
	if updates == nil {
		return fmt.Errorf("%w: it has nothing but its key", fleet.ErrUnusable)
	}
	_, err := tx.ExecContext(ctx, fmt.Sprintf(`INSERT INTO %s (%s) VALUES (%s) ON CONFLICT (%s) DO UPDATE SET %s`, t.name, strings.Join(columns, ", "),
		strings.TrimSuffix(strings.Repeat("?, ", len(columns)), ", "), t.key, strings.Join(updates, ", ")), values...)
	return err
}
