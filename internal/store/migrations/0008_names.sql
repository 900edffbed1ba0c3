-- Public names, and the model or preset that answers under each.
CREATE TABLE names (
    name   TEXT PRIMARY KEY,
    target TEXT NOT NULL
) STRICT, WITHOUT ROWID;
