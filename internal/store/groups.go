package store

import (
	"context"
	"encoding/json"
	"fmt"

	"kindredgate/internal/keyring"
)

// PutGroup keeps a group, in the place of one with the same name.
func (s *Store) PutGroup(ctx context.Context, g keyring.Group) error {
	doc, err := json.Marshal(g.Limits)
	if err != nil {
		return err
	}
	return s.exec(ctx, `INSERT INTO groups (name, limits) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET limits = excluded.limits`, g.Name, string(doc))
}

// Groups lists the groups in the order of their names.
func (s *Store) Groups(ctx context.Context) (list []keyring.Group, err error) {
	rows, err := s.reader.QueryContext(ctx, `SELECT name, limits FROM groups ORDER BY name`)
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	for rows.Next() {
		var g keyring.Group
		var doc string
		if err := rows.Scan(&g.Name, &doc); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(doc), &g.Limits); err != nil {
			return nil, fmt.Errorf("limits of group %q: %w", g.Name, err)
		}
		list = append(list, g)
	}
	return list, told(rows.Err())
}

// DropGroup forgets a group, or returns keyring.ErrUnknown.
func (s *Store) DropGroup(ctx context.Context, name string) error {
	return s.drop(ctx, keyring.ErrUnknown, `DELETE FROM groups WHERE name = ?`, name)
}
