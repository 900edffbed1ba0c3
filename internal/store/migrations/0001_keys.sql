-- Keys are kept as an identifier and the hash of the whole; times are seconds since 1970, 0 for none.
CREATE TABLE keys (
    id        TEXT PRIMARY KEY,
    label     TEXT NOT NULL,
    hash      BLOB NOT NULL,
    owner     INTEGER NOT NULL,
    models    TEXT NOT NULL, -- JSON list of the models it may use; null for all
    created   INTEGER NOT NULL,
    last_used INTEGER NOT NULL DEFAULT 0,
    revoked   INTEGER NOT NULL DEFAULT 0
);

CREATE TABLE sessions (
    hash    BLOB PRIMARY KEY,
    expires INTEGER NOT NULL
);
