package store

import (
	"context"
	"database/sql"
	"errors"

	"kindredgate/internal/catalog"
)

// PutName keeps a public name, in the place of the same one.
func (s *Store) PutName(ctx context.Context, n catalog.Name) error {
	return s.exec(ctx, `INSERT INTO names (name, target) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET target = excluded.target`, n.Name, n.Target)
}

// Name returns a public name, or catalog.ErrNoName.
func (s *Store) Name(ctx context.Context, name string) (catalog.Name, error) {
	n := catalog.Name{Name: name}
	err := s.db.QueryRowContext(ctx, `SELECT target FROM names WHERE name = ?`, name).Scan(&n.Target)
	if errors.Is(err, sql.ErrNoRows) {
		return n, catalog.ErrNoName
	}
	return n, err
}

// Names lists the public names in their order.
func (s *Store) Names(ctx context.Context) (list []catalog.Name, err error) {
	rows, err := s.db.QueryContext(ctx, `SELECT name, target FROM names ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var n catalog.Name
		if err := rows.Scan(&n.Name, &n.Target); err != nil {
			return nil, err
		}
		list = append(list, n)
	}
	return list, rows.Err()
}

// DropName forgets a public name, or returns catalog.ErrNoName.
func (s *Store) DropName(ctx context.Context, name string) error {
	return s.drop(ctx, catalog.ErrNoName, `DELETE FROM names WHERE name = ?`, name)
}
