-- Pictures of recorded contents, each once, however many contents have it.
CREATE TABLE pictures (
	sum BLOB PRIMARY KEY, -- SHA-256 of its data URL
	url BLOB NOT NULL, -- compressed
	bytes INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE content_pictures (
	content TEXT NOT NULL REFERENCES contents (id) ON DELETE CASCADE,
	sum BLOB NOT NULL REFERENCES pictures (sum),
	PRIMARY KEY (content, sum)
) WITHOUT ROWID;
CREATE INDEX content_pictures_sum ON content_pictures (sum);
