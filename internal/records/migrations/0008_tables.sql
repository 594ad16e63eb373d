-- +goose Up
-- The epoch of the holder that has opened the log with the tables as they were then.
ALTER TABLE streams ADD COLUMN following bigint NOT NULL DEFAULT 0;
