-- +goose Up
-- From where on it is known which rows changes have touched, and up to where those are compared.
ALTER TABLE streams
  ADD COLUMN touched_from numeric(20) NOT NULL DEFAULT 0,
  ADD COLUMN vouched      numeric(20) NOT NULL DEFAULT 0,
  ADD COLUMN vouched_at   timestamptz,
  ADD COLUMN round_at     timestamptz, -- when the last round was made, whatever came of it
  ADD COLUMN vouched_rows bigint NOT NULL DEFAULT 0;
