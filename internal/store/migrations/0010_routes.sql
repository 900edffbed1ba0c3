-- A public name may have several targets: its form as JSON, beside the first of them. Empty for a name from before, which has one.
ALTER TABLE names ADD COLUMN route TEXT NOT NULL DEFAULT '';
