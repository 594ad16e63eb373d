-- +goose Up
-- What a person plans beside tables and rules: queries, parameters, statements.
ALTER TABLE crossings ADD COLUMN planning jsonb NOT NULL DEFAULT '{}';
-- What was made on the target, object by object, with what came of it.
CREATE TABLE objects (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  crossing_id bigint NOT NULL REFERENCES crossings (id) ON DELETE CASCADE,
  ordinal     integer NOT NULL,
  stage       text NOT NULL, -- table, before, deferred, after, carried
  kind        text NOT NULL,
  name        text NOT NULL,
  table_name  text NOT NULL DEFAULT '',
  statement   text NOT NULL,
  state       text NOT NULL DEFAULT 'waiting', -- waiting, running, made, failed, left out
  error       text NOT NULL DEFAULT '',
  seconds     double precision,
  ended_at    timestamptz,
  UNIQUE (crossing_id, stage, kind, table_name, name)
);
-- What an organisation plans for every crossing, what it wants checked, and what it
-- keeps crossings from changing.
ALTER TABLE defaults ALTER COLUMN settings DROP NOT NULL;
ALTER TABLE defaults ADD COLUMN house jsonb NOT NULL DEFAULT '{}';
-- Tables that must have landed before this one begins.
ALTER TABLE tables ADD COLUMN after bigint[] NOT NULL DEFAULT '{}';
