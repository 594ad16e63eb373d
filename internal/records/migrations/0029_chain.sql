-- +goose Up
-- Each entry carries the code of the one before and its own; the newest one's stands here as well.
ALTER TABLE journal ADD COLUMN before text NOT NULL DEFAULT '', ADD COLUMN code text NOT NULL DEFAULT '';
CREATE TABLE journal_head (
  one  boolean PRIMARY KEY DEFAULT true CHECK (one),
  id   bigint NOT NULL DEFAULT 0,
  code text NOT NULL DEFAULT ''
);
INSERT INTO journal_head DEFAULT VALUES;
