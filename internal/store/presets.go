package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"kindredgate/internal/catalog"
)

// PutPreset keeps a preset, in the place of one of the same name.
func (s *Store) PutPreset(ctx context.Context, p catalog.Preset) error {
	doc, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return s.exec(ctx, `INSERT INTO presets (name, doc) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET doc = excluded.doc`, p.Name, string(doc))
}

func scanPreset(row interface{ Scan(...any) error }) (p catalog.Preset, err error) {
	var doc string
	if err := row.Scan(&doc); err != nil {
		return p, err
	}
	if err := json.Unmarshal([]byte(doc), &p); err != nil {
		return p, fmt.Errorf("a preset in the database: %w", err)
	}
	return p, nil
}

// Preset returns a preset, or catalog.ErrNoPreset.
func (s *Store) Preset(ctx context.Context, name string) (catalog.Preset, error) {
	p, err := scanPreset(s.reader.QueryRowContext(ctx, `SELECT doc FROM presets WHERE name = ?`, name))
	if errors.Is(err, sql.ErrNoRows) {
		return p, catalog.ErrNoPreset
	}
	return p, err
}

// Presets lists the presets by name.
func (s *Store) Presets(ctx context.Context) ([]catalog.Preset, error) {
	rows, err := s.reader.QueryContext(ctx, `SELECT doc FROM presets ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []catalog.Preset
	for rows.Next() {
		p, err := scanPreset(rows)
		if err != nil {
			return nil, err
		}
		list = append(list, p)
	}
	return list, rows.Err()
}

// DropPreset forgets a preset, or returns catalog.ErrNoPreset.
func (s *Store) DropPreset(ctx context.Context, name string) error {
	return s.drop(ctx, catalog.ErrNoPreset, `DELETE FROM presets WHERE name = ?`, name)
}
