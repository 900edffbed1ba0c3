package store

import "context"

// ModelNames are the names that models got when they were first seen, by path.
func (s *Store) ModelNames() (names map[string]string, err error) {
	rows, err := s.db.Query(`SELECT path, name FROM model_names`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names = map[string]string{}
	for rows.Next() {
		var path, name string
		if err := rows.Scan(&path, &name); err != nil {
			return nil, err
		}
		names[path] = name
	}
	return names, rows.Err()
}

// NameModel keeps the name of a model.
func (s *Store) NameModel(path, name string) error {
	return s.exec(context.Background(), `INSERT INTO model_names (path, name) VALUES (?, ?) ON CONFLICT (path) DO UPDATE SET name = excluded.name`, path, name)
}
