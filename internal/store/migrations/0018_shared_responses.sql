-- Whether other gates know of a response as work, so that they carry on with it if this one ends.
ALTER TABLE responses ADD COLUMN shared INTEGER NOT NULL DEFAULT 0;
