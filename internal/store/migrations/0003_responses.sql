-- Answers of the response style that are kept. Times are seconds since 1970; input, body and events are JSON.
CREATE TABLE responses (
    id         TEXT PRIMARY KEY,
    key        TEXT NOT NULL,
    created    INTEGER NOT NULL,
    ended      INTEGER NOT NULL,
    background INTEGER NOT NULL,
    previous   TEXT NOT NULL,
    input      TEXT NOT NULL,
    body       TEXT NOT NULL,
    events     TEXT NOT NULL
) STRICT, WITHOUT ROWID;

CREATE INDEX responses_created ON responses (created);
CREATE INDEX responses_unended ON responses (ended) WHERE ended = 0;
