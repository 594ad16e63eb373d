-- +goose Up
-- The rows of a chunk were read, and wait for the target's word that they have landed: its lane may
-- read another meanwhile.
ALTER TABLE chunks ADD COLUMN landing boolean NOT NULL DEFAULT false;
