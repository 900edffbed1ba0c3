-- A preset is kept as the JSON document that the interface shows.
CREATE TABLE presets (
    name TEXT PRIMARY KEY,
    doc  TEXT NOT NULL
);
