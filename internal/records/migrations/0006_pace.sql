-- +goose Up
-- How many lanes a load uses now, where that is looked for, and what is known of it.
ALTER TABLE crossings
  ADD COLUMN lanes_now integer,
  ADD COLUMN pace      jsonb NOT NULL DEFAULT '{}';
-- What a worker is good for, by its own word.
ALTER TABLE workers ADD COLUMN labels jsonb NOT NULL DEFAULT '[]';
