-- What gates share, with what changed of it. A gate that shares nothing has no triggers that write here, and no rows.
CREATE TABLE changes (
    kind    TEXT NOT NULL,    -- the table
    name    TEXT NOT NULL,    -- the row's key, in hexadecimal where that is no text
    stamp   INTEGER NOT NULL, -- when, in milliseconds since 1970, and later than all that was seen before
    by      TEXT NOT NULL,    -- the gate that changed it; empty for this one
    gone    INTEGER NOT NULL DEFAULT 0,
    pending INTEGER NOT NULL DEFAULT 1, -- whether others are to be told
    PRIMARY KEY (kind, name)
) WITHOUT ROWID;
CREATE INDEX changes_stamp ON changes (stamp);
CREATE INDEX changes_pending ON changes (stamp) WHERE pending = 1;

-- While it has a row, changes are those of other gates, which are not told again. Only the one connection that writes sees that.
CREATE TABLE applying (one INTEGER PRIMARY KEY);
