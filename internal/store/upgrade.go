package store

import (
	"bytes"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"modernc.org/sqlite"
	codes "modernc.org/sqlite/lib"
)

// migrate runs the numbered scripts that the database has not seen. A database from a newer gate is refused. Before an older one is changed,
// a copy of it is set aside, and whoever else has it open is found out.
func migrate(db *sql.DB, path string) error {
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
	if version > 0 && version < len(scripts) {
		if err := setAside(db, path, version); err != nil {
			return err
		}
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
	if version < packedSince {
		if err := packOld(db); err != nil {
			return err
		}
	}
	if version > 0 && version < shrinksSince {
		// Only a database that is written anew can give space back later. Where there is no room for that now, it stays as it is.
		var e *sqlite.Error
		if _, err := db.Exec(`PRAGMA auto_vacuum = INCREMENTAL; VACUUM`); err != nil && (!errors.As(err, &e) || e.Code()&0xff != codes.SQLITE_FULL) {
			return err
		}
	}
	return nil
}

// shrinksSince is the version of the schema from which on a database gives the space of what is removed back to the disk.
const shrinksSince = 13

// packedSince is the version of the schema from which on no response is stored uncompressed.
const packedSince = 12

// copyOf is where the copy of a database lies that was set aside when its schema had a version.
func copyOf(path string, version int) string { return fmt.Sprintf("%s.v%d", path, version) }

// setAside copies the database as it is, in the place of copies that were set aside before.
func setAside(db *sql.DB, path string, version int) error {
	// Only whoever has the database for itself can turn its log off.
	var mode string
	if err := db.QueryRow("PRAGMA journal_mode = DELETE").Scan(&mode); err != nil || mode != "delete" {
		return errors.Join(fmt.Errorf("its schema is that of an older gate, which another program has open, so it cannot be brought up to date; stop that gate first"), err)
	}
	earlier, err := filepath.Glob(path + ".v*")
	if err != nil {
		return err
	}
	to := copyOf(path, version)
	if err := copyFile(path, to+".part"); err != nil {
		return errors.Join(fmt.Errorf("its schema is that of an older gate, and there is no copy of it yet that could be set aside: %w", err), os.Remove(to+".part"))
	}
	for _, file := range earlier {
		if err := os.Remove(file); err != nil {
			return err
		}
	}
	if err := os.Rename(to+".part", to); err != nil {
		return err
	}
	return db.QueryRow("PRAGMA journal_mode = WAL").Scan(&mode)
}

func copyFile(from, to string) (err error) {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Sync(), out.Close())
}

// packOld compresses the responses that were stored before that was done. As they are they count for many times their size, and the next
// response that is stored would have no room beside them.
func packOld(db *sql.DB) error {
	for {
		var id string
		var doc []byte
		err := db.QueryRow(`SELECT id, doc FROM responses WHERE substr(doc, 1, 1) = x'7b' LIMIT 1`).Scan(&id, &doc)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		} else if err != nil {
			return err
		}
		if bytes.HasPrefix(doc, frame) || !json.Valid(doc) { // a damaged one stays as it is, and is found out by whoever asks for it
			doc = append([]byte{0}, doc...)
		} else {
			doc = packer.EncodeAll(doc, nil)
		}
		if _, err := db.Exec(`UPDATE responses SET doc = ?, bytes = ? WHERE id = ?`, doc, len(doc), id); err != nil {
			return err
		}
	}
}
