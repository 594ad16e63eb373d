-- +goose Up
-- A side of a crossing cannot take or give rows now: how often that was tried, and when
-- it is tried again.
ALTER TABLE crossings
  ADD COLUMN away_tries integer NOT NULL DEFAULT 0,
  ADD COLUMN rest_until timestamptz NOT NULL DEFAULT '2000-01-01';
