-- Exchanges of one style, and slow ones by how slow they were, are found without going through all of them.
CREATE INDEX exchanges_style ON exchanges (style, begun);
CREATE INDEX exchanges_took ON exchanges (took);
DROP INDEX exchanges_slow;
DROP INDEX exchanges_steps;

-- What the exchanges of a conversation came to, added up as they end.
CREATE TABLE conversations (
    id         TEXT PRIMARY KEY, -- the first exchange
    label      TEXT NOT NULL,
    model      TEXT NOT NULL,
    begun      INTEGER NOT NULL, -- microseconds since 1970
    ended      INTEGER NOT NULL,
    requests   INTEGER NOT NULL,
    first      INTEGER NOT NULL, -- tokens of the shortest prompt
    last       INTEGER NOT NULL, -- and of the longest
    prompt     INTEGER NOT NULL, -- tokens of all
    repeated   INTEGER NOT NULL,
    completion INTEGER NOT NULL,
    busy       INTEGER NOT NULL  -- microseconds
) STRICT, WITHOUT ROWID;

INSERT INTO conversations
    SELECT job, max(label), max(model), min(begun), max(begun + took), count(*),
        min(doc ->> 'prompt_tokens'), max(doc ->> 'prompt_tokens'), sum(doc ->> 'prompt_tokens'), coalesce(sum(doc ->> 'repeated_tokens'), 0), sum(doc ->> 'completion_tokens'), sum(took)
    FROM exchanges WHERE job != '' AND state NOT IN ('open', 'refused') GROUP BY job;

CREATE INDEX conversations_begun ON conversations (begun) WHERE requests > 1;
CREATE INDEX conversations_ended ON conversations (ended);
