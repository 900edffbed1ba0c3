// Package store keeps the gate's state in an SQLite database: keys and console sessions.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"kindredgate/internal/keyring"

	_ "modernc.org/sqlite" // the driver "sqlite", in pure Go
)

// Store is an open database. It is safe for concurrent use.
type Store struct{ db *sql.DB }

//go:embed migrations/*.sql
var migrations embed.FS

// Open opens the database at path, making it if there is none, and brings its schema up to date.
func Open(path string) (*Store, error) {
	// The file is made here so that only its owner can read it; the driver would leave that to the umask.
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := f.Close(); err != nil {
		return nil, err
	}
	options := url.Values{"_pragma": {"journal_mode(WAL)", "busy_timeout(5000)", "foreign_keys(1)", "synchronous(NORMAL)"}}
	db, err := sql.Open("sqlite", (&url.URL{Scheme: "file", Opaque: url.PathEscape(filepath.ToSlash(path)), RawQuery: options.Encode()}).String())
	if err != nil {
		return nil, err
	}
	// One connection: SQLite has one writer, and waiting for it here is fair and cannot time out.
	db.SetMaxOpenConns(1)
	if err := migrate(db); err != nil {
		return nil, errors.Join(fmt.Errorf("database %s: %w", path, err), db.Close())
	}
	return &Store{db}, nil
}

// Close closes the database.
func (s *Store) Close() error { return s.db.Close() }

// migrate runs the numbered scripts that the database has not seen. A database from a newer gate is refused.
func migrate(db *sql.DB) error {
	var version int
	if err := db.QueryRow("PRAGMA user_version").Scan(&version); err != nil {
		return err
	}
	scripts, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return err
	}
	if version > len(scripts) {
		return fmt.Errorf("its schema has version %d, this gate knows versions up to %d; use the newer gate that made it", version, len(scripts))
	}
	for i, name := range scripts[version:] {
		script, err := migrations.ReadFile(name)
		if err != nil {
			return err
		}
		number := version + i + 1
		if !strings.HasPrefix(filepath.Base(name), fmt.Sprintf("%04d_", number)) {
			return fmt.Errorf("migration %d is called %s", number, name)
		}
		tx, err := db.Begin()
		if err != nil {
			return err
		}
		_, err = tx.Exec(string(script))
		if err == nil {
			_, err = tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", number))
		}
		if err != nil {
			return errors.Join(fmt.Errorf("migration %s: %w", name, err), tx.Rollback())
		}
		if err := tx.Commit(); err != nil {
			return err
		}
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
	models, err := json.Marshal(k.Models)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO keys (id, label, hash, owner, models, created) VALUES (?, ?, ?, ?, ?, ?)`,
		k.ID, k.Label, k.Hash, k.Owner, string(models), seconds(k.Created))
	return err
}

const keyColumns = `id, label, hash, owner, models, created, last_used, revoked`

func scanKey(row interface{ Scan(...any) error }) (k keyring.Key, err error) {
	var models string
	var created, used, revoked int64
	if err := row.Scan(&k.ID, &k.Label, &k.Hash, &k.Owner, &models, &created, &used, &revoked); err != nil {
		return keyring.Key{}, err
	}
	if err := json.Unmarshal([]byte(models), &k.Models); err != nil {
		return keyring.Key{}, fmt.Errorf("models of key %s: %w", k.ID, err)
	}
	k.Created, k.LastUsed, k.Revoked = fromSeconds(created), fromSeconds(used), fromSeconds(revoked)
	return k, nil
}

// Key returns a key, or keyring.ErrUnknown.
func (s *Store) Key(ctx context.Context, id string) (keyring.Key, error) {
	k, err := scanKey(s.db.QueryRowContext(ctx, `SELECT `+keyColumns+` FROM keys WHERE id = ?`, id))
	if errors.Is(err, sql.ErrNoRows) {
		return keyring.Key{}, keyring.ErrUnknown
	}
	return k, err
}

// Keys lists all keys, the newest first.
func (s *Store) Keys(ctx context.Context) ([]keyring.Key, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT `+keyColumns+` FROM keys ORDER BY created DESC, rowid DESC`)
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
	_, err := s.db.ExecContext(ctx, `UPDATE keys SET revoked = ? WHERE id = ?`, seconds(at), id)
	return err
}

// TouchKey notes when a key was used.
func (s *Store) TouchKey(ctx context.Context, id string, at time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE keys SET last_used = ? WHERE id = ?`, seconds(at), id)
	return err
}

// AddSession keeps a console's session, and forgets those that have expired.
func (s *Store) AddSession(ctx context.Context, session keyring.Session) error {
	if _, err := s.db.ExecContext(ctx, `DELETE FROM sessions WHERE expires <= ?`, time.Now().Unix()); err != nil {
		return err
	}
	_, err := s.db.ExecContext(ctx, `INSERT INTO sessions (hash, expires) VALUES (?, ?)`, session.Hash, seconds(session.Expires))
	return err
}

// Session returns a session, or keyring.ErrUnknown.
func (s *Store) Session(ctx context.Context, hash []byte) (keyring.Session, error) {
	var expires int64
	err := s.db.QueryRowContext(ctx, `SELECT expires FROM sessions WHERE hash = ?`, hash).Scan(&expires)
	if errors.Is(err, sql.ErrNoRows) {
		return keyring.Session{}, keyring.ErrUnknown
	}
	return keyring.Session{Hash: hash, Expires: fromSeconds(expires)}, err
}

// DropSession forgets a session.
func (s *Store) DropSession(ctx context.Context, hash []byte) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM sessions WHERE hash = ?`, hash)
	return err
}

// DropSessions forgets all sessions.
func (s *Store) DropSessions(ctx context.Context) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM sessions`)
	return err
}
