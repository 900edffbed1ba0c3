-- What else a key may, as a JSON document, and whose use and responses are its own; and what was used of limits.
ALTER TABLE keys ADD COLUMN terms TEXT NOT NULL DEFAULT '{}';
ALTER TABLE keys ADD COLUMN follows TEXT NOT NULL DEFAULT '';

CREATE TABLE counts (
    account TEXT NOT NULL,
    what    TEXT NOT NULL,
    begun   INTEGER NOT NULL, -- milliseconds since 1970
    used    INTEGER NOT NULL,
    PRIMARY KEY (account, what)
) STRICT, WITHOUT ROWID;
