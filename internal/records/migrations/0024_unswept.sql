-- +goose Up
-- There may be rows on the target that were removed, and that a chunk has brought back.
ALTER TABLE streams ADD COLUMN unswept boolean NOT NULL DEFAULT false;
