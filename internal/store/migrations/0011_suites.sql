-- What suites came to: the report as JSON.
CREATE TABLE suite_runs (
    id     TEXT PRIMARY KEY,
    at     INTEGER NOT NULL, -- microseconds since 1970
    suite  TEXT NOT NULL,    -- its title
    digest TEXT NOT NULL,    -- of its file
    doc    TEXT NOT NULL     -- JSON
) STRICT;
CREATE INDEX suite_runs_at ON suite_runs (at);
