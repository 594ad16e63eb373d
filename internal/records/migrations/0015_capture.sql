-- +goose Up
-- What was seen of the source's tables when they were last looked at: columns that have
-- changed without a row that shows it, tables that the patterns would choose.
ALTER TABLE streams ADD COLUMN noticed jsonb NOT NULL DEFAULT '[]';
