-- +goose Up
-- Chunks in the order in which they are claimed, so that a claim sorts nothing.
ALTER TABLE chunks ADD COLUMN place integer NOT NULL DEFAULT 0; -- of its table
UPDATE chunks k SET place = t.ordinal FROM tables t WHERE t.id = k.table_id;
CREATE INDEX chunks_next ON chunks (crossing_id, place, ordinal) WHERE state = 'pending';
