-- +goose Up
-- Rows that the target could not take and that were left behind, with the reason.
CREATE TABLE set_aside (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  crossing_id bigint NOT NULL REFERENCES crossings (id) ON DELETE CASCADE,
  table_id    bigint NOT NULL REFERENCES tables (id) ON DELETE CASCADE,
  chunk_id    bigint NOT NULL REFERENCES chunks (id) ON DELETE CASCADE,
  key         jsonb,          -- texts of the key's columns, null without one
  row         jsonb NOT NULL, -- column to text, cut
  column_name text NOT NULL DEFAULT '',
  error       text NOT NULL,
  at          timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON set_aside (crossing_id, id);
CREATE INDEX ON set_aside (table_id);
CREATE INDEX ON set_aside (chunk_id);
