-- +goose Up
-- What was seen of the source's tables when they were last looked at: columns that have
-- changed without a row that shows it, tables that the patterns would choose.
ALTER TABLE streams ADD COLUMN noticed jsonb NOT NULL DEFAULT '[]';

-- The lag in transactions (guessed: some were not read yet), and how long until it is
-- gone as things go, seconds; below 0: it grows, or nothing is known.
ALTER TABLE streams
  ADD COLUMN lag_transactions bigint NOT NULL DEFAULT 0,
  ADD COLUMN lag_guessed      boolean NOT NULL DEFAULT false,
  ADD COLUMN catch_up         double precision NOT NULL DEFAULT -1;

-- Log that the source keeps for a crossing: since when, and what people were told of it
-- (0 nothing, 1 that it comes near its limit, 2 that it is over it).
ALTER TABLE streams
  ADD COLUMN retained_since timestamptz,
  ADD COLUMN retained_told  smallint NOT NULL DEFAULT 0;
-- Where the log stood when, so that its age can be told.
CREATE TABLE log_places (
  crossing_id bigint NOT NULL REFERENCES crossings ON DELETE CASCADE,
  place       numeric(20) NOT NULL,
  at          timestamptz NOT NULL DEFAULT now(),
  PRIMARY KEY (crossing_id, at)
);

ALTER TABLE tables ADD COLUMN last_change_at timestamptz;
