package store

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/kept"
)

// tables are what a gate has to remember, what it would miss most first.
var tables = []string{"keys", "groups", "presets", "names", "joined", "invitations", "changes", "model_names", "sessions", "responses", "notes", "counts", "totals"}

// large is what there may be very many of, so that it is not gone through at each start.
var large = []string{"exchanges", "conversations", "contents", "pictures", "content_pictures"}

// Rescue sets a damaged database aside and makes a new one, with what can still be read of the old. It says in words what came over
// and where the old one is.
func Rescue(path string, responses kept.Limits) (said string, err error) {
	aside := path + ".damaged-" + time.Now().UTC().Format("20060102T150405Z")
	// The log that belongs to it goes with it. It moves last: without it, the database alone would still be what is set aside.
	for _, suffix := range []string{"", "-wal", "-shm"} {
		if err := os.Rename(path+suffix, aside+suffix); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
	}
	s, err := Open(path, responses)
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, s.Close()) }()
	old, err := sql.Open("sqlite", location(aside, nil))
	if err != nil {
		return "", err
	}
	defer old.Close()
	old.SetMaxOpenConns(1)
	var came []string
	for _, table := range append(slices.Clone(tables), large...) {
		n, failure := copyTable(s.db, old, table)
		line := fmt.Sprintf("%d %s", n, strings.ReplaceAll(table, "_", " "))
		if failure != nil {
			line += " (not all of them)"
		}
		came = append(came, line)
	}
	return fmt.Sprintf("it is set aside as %s, and a new one is in its place; what could be read came over: %s", aside, strings.Join(came, ", ")), nil
}

// copyTable copies row by row, until one cannot be read. A row that is there already stays.
func copyTable(to, from *sql.DB, table string) (n int, err error) {
	rows, err := from.Query(`SELECT * FROM ` + table)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return 0, err
	}
	insert := fmt.Sprintf(`INSERT OR IGNORE INTO %s (%s) VALUES (%s)`, table, strings.Join(columns, ", "), strings.TrimSuffix(strings.Repeat("?, ", len(columns)), ", "))
	values := make([]any, len(columns))
	into := make([]any, len(columns))
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return n, err
		}
		if _, err := to.Exec(insert, values...); err != nil {
			return n, err
		}
		n++
	}
	return n, rows.Err()
}
