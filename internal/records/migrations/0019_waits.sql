-- +goose Up
-- What a chunk that is being read waits for, when nothing has moved for a while.
ALTER TABLE chunks ADD COLUMN waits text NOT NULL DEFAULT '';
