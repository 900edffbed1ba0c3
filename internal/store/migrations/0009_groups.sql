-- Groups of keys, with the limits that hold for all of a group together.
CREATE TABLE groups (
    name   TEXT PRIMARY KEY,
    limits TEXT NOT NULL -- JSON
) STRICT, WITHOUT ROWID;

-- The account of the key that issued a key; empty if the owner did.
ALTER TABLE keys ADD COLUMN issuer TEXT NOT NULL DEFAULT '';

-- Exchanges that go on from one another have the id of the first.
ALTER TABLE exchanges ADD COLUMN job TEXT NOT NULL DEFAULT '';
CREATE INDEX exchanges_job ON exchanges (job, begun) WHERE job != '';
CREATE INDEX exchanges_steps ON exchanges (begun) WHERE job != '' AND job != id;

-- What ended exchanges came to, by month (as 2031-01), key, group and model.
CREATE TABLE totals (
    month      TEXT NOT NULL,
    key        TEXT NOT NULL,
    label      TEXT NOT NULL,
    grp        TEXT NOT NULL,
    model      TEXT NOT NULL,
    requests   INTEGER NOT NULL,
    failed     INTEGER NOT NULL,
    prompt     INTEGER NOT NULL, -- tokens
    cached     INTEGER NOT NULL, -- tokens of the prompt
    completion INTEGER NOT NULL, -- tokens
    cost       INTEGER NOT NULL, -- millionths of the currency
    busy       INTEGER NOT NULL, -- milliseconds in the model
    PRIMARY KEY (month, key, label, grp, model)
) STRICT, WITHOUT ROWID;

-- What was said in exchanges, where that is recorded: a JSON document, compressed.
CREATE TABLE contents (
    id    TEXT PRIMARY KEY,
    at    INTEGER NOT NULL, -- seconds since 1970
    key   TEXT NOT NULL,
    bytes INTEGER NOT NULL,
    doc   BLOB NOT NULL
) STRICT;
CREATE INDEX contents_at ON contents (at);
CREATE INDEX contents_key ON contents (key);
CREATE INDEX contents_bytes ON contents (bytes);
