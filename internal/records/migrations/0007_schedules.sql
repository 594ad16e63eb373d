-- +goose Up
-- When a crossing starts by itself.
CREATE TABLE schedules (
  crossing_id bigint PRIMARY KEY REFERENCES crossings (id) ON DELETE CASCADE,
  once_at     timestamptz,
  cron        text NOT NULL DEFAULT '',
  zone        text NOT NULL DEFAULT '',
  missed      text NOT NULL DEFAULT 'run once', -- or: skip
  next_at     timestamptz,                      -- null: nothing more to come
  actor       text NOT NULL,
  created_at  timestamptz NOT NULL DEFAULT now()
);
-- Every time that a crossing's load ran, or should have.
CREATE TABLE runs (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  crossing_id bigint NOT NULL REFERENCES crossings (id) ON DELETE CASCADE,
  by          text NOT NULL,
  state       text NOT NULL DEFAULT 'running', -- running, done, given up, skipped, failed
  started_at  timestamptz NOT NULL DEFAULT now(),
  ended_at    timestamptz,
  tables      integer NOT NULL DEFAULT 0,
  rows        bigint NOT NULL DEFAULT 0,
  bytes       bigint NOT NULL DEFAULT 0,
  set_aside   bigint NOT NULL DEFAULT 0,
  note        text NOT NULL DEFAULT ''
);
CREATE INDEX ON runs (crossing_id, id);
CREATE UNIQUE INDEX ON runs (crossing_id) WHERE state = 'running';
-- Who is told of what.
CREATE TABLE webhooks (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  url        text NOT NULL,
  secret     bytea NOT NULL, -- sealed
  events     jsonb NOT NULL, -- empty: all
  crossings  text NOT NULL DEFAULT '*',
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE deliveries (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  webhook_id bigint NOT NULL REFERENCES webhooks (id) ON DELETE CASCADE,
  event      text NOT NULL,
  body       text NOT NULL,
  attempts   integer NOT NULL DEFAULT 0,
  next_at    timestamptz DEFAULT now(), -- null: delivered, or given up
  done_at    timestamptz,
  answer     text NOT NULL DEFAULT '',
  created_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON deliveries (next_at) WHERE next_at IS NOT NULL;
CREATE INDEX ON deliveries (webhook_id, id);
ALTER TABLE crossings ADD COLUMN lag_told boolean NOT NULL DEFAULT false;
