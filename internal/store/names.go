package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"kindredgate/internal/catalog"
)

// PutName keeps a public name, in the place of the same one.
func (s *Store) PutName(ctx context.Context, n catalog.Name) error {
	route, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return s.exec(ctx, `INSERT INTO names (name, target, route) VALUES (?, ?, ?) ON CONFLICT (name) DO UPDATE SET target = excluded.target, route = excluded.route`, n.Name, n.Of[0].To, string(route))
}

// scanName reads the columns name, target, route.
func scanName(row interface{ Scan(...any) error }) (n catalog.Name, err error) {
	var name, target, route string
	if err := row.Scan(&name, &target, &route); err != nil {
		return n, err
	}
	if route == "" {
		return catalog.Name{Name: name, Of: []catalog.Target{{To: target}}}, nil
	}
	if err := json.Unmarshal([]byte(route), &n); err != nil {
		return n, fmt.Errorf("the public name %q in the database: %w", name, err)
	}
	return n, nil
}

// Name returns a public name, or catalog.ErrNoName.
func (s *Store) Name(ctx context.Context, name string) (catalog.Name, error) {
	n, err := scanName(s.reader.QueryRowContext(ctx, `SELECT name, target, route FROM names WHERE name = ?`, name))
	if errors.Is(err, sql.ErrNoRows) {
		return n, catalog.ErrNoName
	}
	return n, err
}

// Names lists the public names in their order.
func (s *Store) Names(ctx context.Context) (list []catalog.Name, err error) {
	rows, err := s.reader.QueryContext(ctx, `SELECT name, target, route FROM names ORDER BY name`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		n, err := scanName(rows)
		if err != nil {
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
