-- +goose Up
-- The only chunks of small tables are carried many at once, each a chunk of its own: the one that
-- takes up the lane, for the others.
ALTER TABLE chunks ADD COLUMN beside bigint;
