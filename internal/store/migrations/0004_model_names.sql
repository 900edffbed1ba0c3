-- The name that each model got when it was first seen, by its path.
CREATE TABLE model_names (
    path TEXT PRIMARY KEY,
    name TEXT NOT NULL
) STRICT, WITHOUT ROWID;
