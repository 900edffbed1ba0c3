-- Input, body and events of a response are one document, which is compressed with Zstandard when it is written. What was stored
-- before is taken over as it is.
CREATE TABLE packed_responses (
    id         TEXT PRIMARY KEY,
    key        TEXT NOT NULL,
    created    INTEGER NOT NULL,
    ended      INTEGER NOT NULL,
    background INTEGER NOT NULL,
    previous   TEXT NOT NULL,
    doc        BLOB NOT NULL,
    bytes      INTEGER NOT NULL -- of doc
) STRICT;

INSERT INTO packed_responses
SELECT id, key, created, ended, background, previous, CAST(doc AS BLOB), length(CAST(doc AS BLOB))
FROM (SELECT *, '{"input":' || input || ',"body":' || body || ',"events":' || events || '}' AS doc FROM responses);

DROP TABLE responses;
ALTER TABLE packed_responses RENAME TO responses;

CREATE INDEX responses_created ON responses (created);
CREATE INDEX responses_unended ON responses (ended) WHERE ended = 0;
CREATE INDEX responses_key ON responses (key, created, bytes);

-- What the gate has to remember of itself.
CREATE TABLE notes (
    name  TEXT PRIMARY KEY,
    value INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
