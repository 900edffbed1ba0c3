-- What is known of exchanges: what they are looked for by, and the whole as a JSON document.
CREATE TABLE exchanges (
    id       TEXT PRIMARY KEY,
    begun    INTEGER NOT NULL, -- microseconds since 1970
    key      TEXT NOT NULL,
    label    TEXT NOT NULL,
    model    TEXT NOT NULL,
    answered TEXT NOT NULL,
    style    TEXT NOT NULL,
    state    TEXT NOT NULL,
    took     INTEGER NOT NULL, -- microseconds
    doc      TEXT NOT NULL
) STRICT;

CREATE INDEX exchanges_begun ON exchanges (begun);
CREATE INDEX exchanges_key ON exchanges (key, begun);
CREATE INDEX exchanges_label ON exchanges (label, begun);
CREATE INDEX exchanges_model ON exchanges (model, begun);
CREATE INDEX exchanges_answered ON exchanges (answered, begun);
CREATE INDEX exchanges_bad ON exchanges (begun) WHERE state IN ('failed', 'refused', 'interrupted', 'cancelled');
CREATE INDEX exchanges_slow ON exchanges (begun) WHERE took > 1000000;
CREATE INDEX exchanges_open ON exchanges (id) WHERE state = 'open';
