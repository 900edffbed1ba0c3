-- Whose space a response takes: of a key that another one issued, that one's.
ALTER TABLE responses ADD COLUMN payer TEXT NOT NULL DEFAULT '';
UPDATE responses SET payer = coalesce((SELECT nullif(issuer, '') FROM keys WHERE keys.id = responses.key), key);

DROP INDEX responses_key;
CREATE INDEX responses_payer ON responses (payer, created, bytes);
CREATE INDEX responses_of_key ON responses (key);
