-- What a gate has taken of a limit that gates share, and what others had: beyond what it has taken, what was used is still to be counted for all. As
-- much as was used if there is nothing.
ALTER TABLE counts ADD COLUMN taken INTEGER;
ALTER TABLE counts ADD COLUMN elsewhere INTEGER NOT NULL DEFAULT 0;
