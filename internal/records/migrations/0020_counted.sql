-- +goose Up
-- How many changes of rows whoever follows had applied when it answered a wish.
ALTER TABLE streams ADD COLUMN answered bigint NOT NULL DEFAULT 0;
