-- +goose Up
-- What became of sources that cutovers had closed.
CREATE TABLE closed_again (
  cutover_id bigint PRIMARY KEY REFERENCES cutovers ON DELETE CASCADE,
  at         timestamptz NOT NULL, -- when it was closed again, as its server was restarted and forgot it
  opened     boolean NOT NULL      -- a person let it take writes, and is not fought
);
