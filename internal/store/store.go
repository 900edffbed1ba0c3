// Package store keeps the gate's state in an SQLite database.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"

	"modernc.org/sqlite" // the driver "sqlite", in pure Go
	codes "modernc.org/sqlite/lib"
)

// Store is an open database. It is safe for concurrent use.
type Store struct {
	db     *sql.DB                     // that writes
	reader *sql.DB                     // that reads what requests wait for, beside it
	pages  *sql.DB                     // that reads what may take long, such as pages of the ledger, so that nothing else waits for it
	limits atomic.Pointer[kept.Limits] // of stored responses

	gate    atomic.Pointer[string] // the name of the gate, if it shares what it knows; nil if not
	waiting chan struct{}          // has room for one: something that is shared may have changed
}

//go:embed migrations/*.sql
var migrations embed.FS

// Open opens the database at path, making it if there is none, and brings its schema up to date. The error for one that is damaged
// wraps [ErrDamaged].
func Open(path string, responses kept.Limits) (*Store, error) {
	// The file is made here so that only its owner can read it; the driver would leave that to the umask.
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err := errors.Join(err, f.Close()); err != nil {
		return nil, err
	}
	options := url.Values{"_pragma": {"journal_mode(WAL)", "busy_timeout(5000)", "foreign_keys(1)", "synchronous(NORMAL)"}}
	if info.Size() == 0 { // that space is given back must be said before anything is written
		options["_pragma"] = append([]string{"auto_vacuum(INCREMENTAL)"}, options["_pragma"]...)
	}
	db, err := sql.Open("sqlite", location(path, options))
	if err != nil {
		return nil, err
	}
	// One connection: SQLite has one writer, and waiting for it here is fair and cannot time out.
	db.SetMaxOpenConns(1)
	if err := errors.Join(migrate(db, path), readable(db)); err != nil {
		return nil, errors.Join(fmt.Errorf("database %s: %w", path, told(err)), db.Close())
	}
	options["_pragma"] = append(options["_pragma"], "query_only(1)")
	reader, err := sql.Open("sqlite", location(path, options))
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	reader.SetMaxOpenConns(4)
	pages, err := sql.Open("sqlite", location(path, options))
	if err != nil {
		return nil, errors.Join(err, reader.Close(), db.Close())
	}
	pages.SetMaxOpenConns(3)
	s := &Store{db: db, reader: reader, pages: pages, waiting: make(chan struct{}, 1)}
	s.Limit(responses)
	return s, nil
}

// Limit changes how much is kept of responses, from the next one on.
func (s *Store) Limit(responses kept.Limits) { s.limits.Store(&responses) }

// location is the name that the driver has for a file.
func location(path string, options url.Values) string {
	return (&url.URL{Scheme: "file", Opaque: url.PathEscape(filepath.ToSlash(path)), RawQuery: options.Encode()}).String()
}

// readable reads what the gate cannot do without.
func readable(db *sql.DB) error {
	for _, table := range tables {
		if _, err := db.Exec(`SELECT count(*) FROM ` + table + ` NOT INDEXED`); err != nil {
			return err
		}
	}
	return nil
}

// Close closes the database.
func (s *Store) Close() error { return errors.Join(s.pages.Close(), s.reader.Close(), s.db.Close()) }

// ErrDamaged is for a database that cannot be read.
var ErrDamaged = errors.New("the database is damaged")

// told says of a failure of the database what its owner can do about it.
func told(err error) error {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return err
	}
	switch e.Code() & 0xff {
	case codes.SQLITE_FULL:
		return &exchange.Error{Kind: exchange.Unavailable, Code: "storage_full", Message: "the disk with the gate's data folder is full, so this could not be stored; free some of it and try again", Err: err}
	case codes.SQLITE_BUSY, codes.SQLITE_LOCKED:
		return &exchange.Error{Kind: exchange.Unavailable, Code: "storage_failed", Message: "another program has the gate's database locked, so this could not be stored; try again", RetryAfter: time.Second, Err: err}
	case codes.SQLITE_IOERR, codes.SQLITE_READONLY, codes.SQLITE_CANTOPEN:
		return &exchange.Error{Kind: exchange.Unavailable, Code: "storage_failed", Message: "the gate's database cannot be written; the gate's log says why", Err: err}
	case codes.SQLITE_CORRUPT, codes.SQLITE_NOTADB:
		return fmt.Errorf("%w: %w", ErrDamaged, err)
	}
	return err
}

// exec runs a statement.
func (s *Store) exec(ctx context.Context, query string, args ...any) error {
	_, err := s.db.ExecContext(ctx, query, args...)
	s.wake()
	return told(err)
}

// drop runs a statement that removes a row, and returns missing if there was none.
func (s *Store) drop(ctx context.Context, missing error, query string, args ...any) error {
	result, err := s.db.ExecContext(ctx, query, args...)
	if err != nil {
		return told(err)
	}
	s.wake()
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, missing)
	}
	return nil
}

// Times are kept as seconds since 1970, 0 for none.

func seconds(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.Unix()
}

func fromSeconds(s int64) time.Time {
	if s == 0 {
		return time.Time{}
	}
	return time.Unix(s, 0).UTC()
}

// AddKey keeps a new key.
func (s *Store) AddKey(ctx context.Context, k keyring.Key) error {
	models, doc, err := packTerms(k.Terms)
	if err != nil {
		return err
	}
	return s.exec(ctx, `INSERT INTO keys (id, label, hash, owner, models, created, terms, follows, issuer) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		k.ID, k.Label, k.Hash, k.Owner, models, seconds(k.Created), doc, k.Follows, k.Issuer)
}

// ChangeKey keeps other terms of a key.
func (s *Store) ChangeKey(ctx context.Context, id string, t keyring.Terms) error {
	models, doc, err := packTerms(t)
	if err != nil {
		return err
	}
	return s.exec(ctx, `UPDATE keys SET label = ?, models = ?, terms = ? WHERE id = ?`, t.Label, models, doc, id)
}

// terms are kept as one document, but for the label and the models, which have columns.
type terms struct {
	Endpoints []string                  `json:"endpoints,omitempty"`
	Tools     []string                  `json:"tools,omitempty"`
	Limits    keyring.Limits            `json:"limits,omitzero"`
	ByModel   map[string]keyring.Limits `json:"by_model,omitempty"`
	Expires   int64                     `json:"expires,omitempty"`
	Origins   []string                  `json:"origins,omitempty"`
	Addresses []netip.Prefix            `json:"addresses,omitempty"`
	Group     string                    `json:"group,omitempty"`
	MayIssue  bool                      `json:"may_issue,omitempty"`
	KeepAlive bool                      `json:"keep_alive,omitempty"`
	Content   keyring.Content           `json:"content,omitempty"`
}

func packTerms(t keyring.Terms) (models, doc string, err error) {
	list, err := json.Marshal(t.Models)
	if err != nil {
		return "", "", err
	}
	raw, err := json.Marshal(terms{t.Endpoints, t.Tools, t.Limits, t.ByModel, seconds(t.Expires), t.Origins, t.Addresses, t.Group, t.MayIssue, t.KeepAlive, t.Content})
	return string(list), string(raw), err
}

const keyColumns = `id, label, hash, owner, models, created, last_used, revoked, terms, follows, issuer`

func scanKey(row interface{ Scan(...any) error }) (k keyring.Key, err error) {
	var models, doc string
	var created, used, revoked int64
	if err := row.Scan(&k.ID, &k.Label, &k.Hash, &k.Owner, &models, &created, &used, &revoked, &doc, &k.Follows, &k.Issuer); err != nil {
		return keyring.Key{}, err
	}
	var t terms
	if err := errors.Join(json.Unmarshal([]byte(models), &k.Models), json.Unmarshal([]byte(doc), &t)); err != nil {
		return keyring.Key{}, fmt.Errorf("terms of key %s: %w", k.ID, err)
	}
	k.Endpoints, k.Limits, k.ByModel, k.Expires, k.Origins, k.Addresses = keyring.Styles(t.Endpoints), t.Limits, t.ByModel, fromSeconds(t.Expires), t.Origins, t.Addresses
	k.Tools, k.Group, k.MayIssue, k.KeepAlive, k.Content = t.Tools, t.Group, t.MayIssue, t.KeepAlive, t.Content
	k.Created, k.LastUsed, k.Revoked = fromSeconds(created), fromSeconds(used), fromSeconds(revoked)
	return k, nil
}

// Counts lists what was used of limits.
func (s *Store) Counts(ctx context.Context) (list []keyring.Counts, until time.Time, err error) {
	var at int64
	if err := s.reader.QueryRowContext(ctx, `SELECT value FROM notes WHERE name = 'counted'`).Scan(&at); err == nil {
		until = time.UnixMicro(at)
	} else if !errors.Is(err, sql.ErrNoRows) {
		return nil, until, told(err)
	}
	rows, err := s.reader.QueryContext(ctx, `SELECT account, what, begun, used, coalesce(taken, used), elsewhere FROM counts`)
	if err != nil {
		return nil, until, told(err)
	}
	defer rows.Close()
	for rows.Next() {
		var c keyring.Counts
		var begun int64
		if err := rows.Scan(&c.Account, &c.What, &begun, &c.Used, &c.Taken, &c.Elsewhere); err != nil {
			return nil, until, err
		}
		c.Begun = time.UnixMilli(begun)
		list = append(list, c)
	}
	return list, until, rows.Err()
}

// Note is the time that was noted under a name; zero for none.
func (s *Store) Note(ctx context.Context, name string) (time.Time, error) {
	var at int64
	err := s.reader.QueryRowContext(ctx, `SELECT value FROM notes WHERE name = ?`, name).Scan(&at)
	if errors.Is(err, sql.ErrNoRows) {
		return time.Time{}, nil
	}
	return time.UnixMicro(at), told(err)
}

// Notes are the times that were noted under names with a prefix, by what follows that.
func (s *Store) Notes(ctx context.Context, prefix string) (list map[string]time.Time, err error) {
	rows, err := s.reader.QueryContext(ctx, `SELECT substr(name, length(?1) + 1), value FROM notes WHERE substr(name, 1, length(?1)) = ?1`, prefix)
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	list = map[string]time.Time{}
	for rows.Next() {
		var name string
		var at int64
		if err := rows.Scan(&name, &at); err != nil {
			return nil, err
		}
		list[name] = time.UnixMicro(at)
	}
	return list, told(rows.Err())
}

// DropNote forgets a note, if there is one.
func (s *Store) DropNote(ctx context.Context, name string) error {
	return s.exec(ctx, `DELETE FROM notes WHERE name = ?`, name)
}

// PutNote notes a time, in the place of the one before.
func (s *Store) PutNote(ctx context.Context, name string, at time.Time) error {
	return s.exec(ctx, `INSERT INTO notes (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`, name, at.UnixMicro())
}

// PutCounts keeps what was used of limits, and until when.
func (s *Store) PutCounts(ctx context.Context, list []keyring.Counts, until time.Time) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return told(err)
	}
	defer tx.Rollback() //nolint:errcheck // it has no effect after Commit
	for _, c := range list {
		if _, err := tx.ExecContext(ctx, `INSERT INTO counts (account, what, begun, used, taken, elsewhere) VALUES (?, ?, ?, ?, ?, ?)
			ON CONFLICT (account, what) DO UPDATE SET begun = excluded.begun, used = excluded.used, taken = excluded.taken, elsewhere = excluded.elsewhere`,
			c.Account, c.What, c.Begun.UnixMilli(), c.Used, c.Taken, c.Elsewhere); err != nil {
			return told(err)
		}
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO notes (name, value) VALUES ('counted', ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value`, until.UnixMicro()); err != nil {
		return told(err)
	}
	return told(tx.Commit())
}

// Key returns a key, or keyring.ErrUnknown.
func (s *Store) Key(ctx context.Context, id string) (keyring.Key, error) {
	k, err := scanKey(s.reader.QueryRowContext(ctx, `SELECT `+keyColumns+` FROM keys WHERE id = ?`, id))
	if errors.Is(err, sql.ErrNoRows) {
		return keyring.Key{}, keyring.ErrUnknown
	}
	return k, err
}

// Keys lists all keys, the newest first.
func (s *Store) Keys(ctx context.Context) ([]keyring.Key, error) {
	rows, err := s.reader.QueryContext(ctx, `SELECT `+keyColumns+` FROM keys ORDER BY created DESC, rowid DESC`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var keys []keyring.Key
	for rows.Next() {
		k, err := scanKey(rows)
		if err != nil {
			return nil, err
		}
		keys = append(keys, k)
	}
	return keys, rows.Err()
}

// RevokeKey notes since when a key is invalid.
func (s *Store) RevokeKey(ctx context.Context, id string, at time.Time) error {
	return s.exec(ctx, `UPDATE keys SET revoked = ? WHERE id = ?`, seconds(at), id)
}

// DropKey forgets a key, what was counted of it, and its responses.
func (s *Store) DropKey(ctx context.Context, id string) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return told(err)
	}
	defer tx.Rollback() //nolint:errcheck // it has no effect after Commit
	if _, err := tx.ExecContext(ctx, `DELETE FROM keys WHERE id = ?`, id); err != nil {
		return told(err)
	}
	// What was counted with single models stands under the key's identifier, a slash, and the model.
	if _, err := tx.ExecContext(ctx, `DELETE FROM counts WHERE account = ?1 OR substr(account, 1, length(?1) + 1) = ?1 || '/'`, id); err != nil {
		return told(err)
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM responses WHERE key = ?`, id); err != nil {
		return told(err)
	}
	err = tx.Commit()
	s.wake()
	return told(err)
}

// TouchKey notes when a key was used.
func (s *Store) TouchKey(ctx context.Context, id string, at time.Time) error {
	return s.exec(ctx, `UPDATE keys SET last_used = ? WHERE id = ?`, seconds(at), id)
}

// AddSession keeps a console's session, and forgets those that have expired.
func (s *Store) AddSession(ctx context.Context, session keyring.Session) error {
	if err := s.exec(ctx, `DELETE FROM sessions WHERE expires <= ?`, time.Now().Unix()); err != nil {
		return err
	}
	return s.exec(ctx, `INSERT INTO sessions (hash, expires) VALUES (?, ?)`, session.Hash, seconds(session.Expires))
}

// Session returns a session, or keyring.ErrUnknown.
func (s *Store) Session(ctx context.Context, hash []byte) (keyring.Session, error) {
	var expires int64
	err := s.reader.QueryRowContext(ctx, `SELECT expires FROM sessions WHERE hash = ?`, hash).Scan(&expires)
	if errors.Is(err, sql.ErrNoRows) {
		return keyring.Session{}, keyring.ErrUnknown
	}
	return keyring.Session{Hash: hash, Expires: fromSeconds(expires)}, err
}

// DropSession forgets a session.
func (s *Store) DropSession(ctx context.Context, hash []byte) error {
	return s.exec(ctx, `DELETE FROM sessions WHERE hash = ?`, hash)
}

// DropSessions forgets all sessions.
func (s *Store) DropSessions(ctx context.Context) error {
	return s.exec(ctx, `DELETE FROM sessions`)
}
