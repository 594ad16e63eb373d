-- +goose Up
-- Neighbouring chunks that are carried in one read: the first holds the lease and its
-- mark, the others name it.
ALTER TABLE chunks
  ADD COLUMN run    integer NOT NULL DEFAULT 1, -- chunks carried with the first, itself included
  ADD COLUMN leader bigint;                     -- the first, for the others
