-- +goose Up
-- What this control database is sure of, one line each: the fingerprint of the key that
-- seals its secrets.
CREATE TABLE facts (
  name  text PRIMARY KEY,
  value text NOT NULL
);

-- What a sealed secret is bound to beside the address. NULL: sealed before there was a
-- binding; the service seals it anew when it starts.
ALTER TABLE databases ADD COLUMN uid text UNIQUE;
ALTER TABLE webhooks ADD COLUMN uid text UNIQUE;

-- Whether a token may see rows of the databases.
ALTER TABLE tokens ADD COLUMN see_rows boolean NOT NULL DEFAULT false;
UPDATE tokens SET see_rows = role IN ('operator', 'admin');

-- What was run or set, word for word: changed settings, statements, commands.
ALTER TABLE journal ADD COLUMN detail text NOT NULL DEFAULT '';
