-- Machines that have joined by dialling in, and invitations to do so, of which only hashes are kept. Times are seconds since 1970, 0 for none.
CREATE TABLE joined (
    id      TEXT PRIMARY KEY, -- its public key, with which it signs in
    name    TEXT NOT NULL,
    seal    TEXT NOT NULL,    -- its public key, for which messages to it are sealed
    since   INTEGER NOT NULL,
    revoked INTEGER NOT NULL DEFAULT 0
);

CREATE TABLE invitations (
    id    TEXT PRIMARY KEY,
    hash  BLOB NOT NULL,
    name  TEXT NOT NULL,
    until INTEGER NOT NULL
);
