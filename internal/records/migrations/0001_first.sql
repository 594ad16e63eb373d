-- +goose Up
CREATE TABLE databases (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  engine     text NOT NULL,
  host       text NOT NULL,
  port       integer NOT NULL,
  dbname     text NOT NULL,
  username   text NOT NULL,
  secret     bytea NOT NULL,
  tls        text NOT NULL,
  created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE crossings (
  id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  uid          text NOT NULL UNIQUE,
  name         text NOT NULL UNIQUE,
  kind         text NOT NULL,
  source_id    bigint NOT NULL REFERENCES databases,
  target_id    bigint NOT NULL REFERENCES databases,
  phase        text NOT NULL DEFAULT 'draft',
  condition    text NOT NULL DEFAULT 'running',
  reason       text NOT NULL DEFAULT '',
  keep_capture boolean NOT NULL DEFAULT false,  -- while paused
  patterns     jsonb NOT NULL,
  settings     jsonb NOT NULL,
  survey       jsonb,
  surveyed_at  timestamptz,
  catalog      jsonb,                           -- of the source, when prepared
  start_at     numeric(20) NOT NULL DEFAULT 0,  -- log position from which changes are applied
  max_read     numeric(20) NOT NULL DEFAULT 0,  -- highest log position of a chunk's snapshot
  undo         jsonb NOT NULL DEFAULT '[]',     -- statements that restore the source
  built        boolean NOT NULL DEFAULT false,
  below_since  timestamptz,                     -- lag below its threshold since then
  certificate  jsonb,
  created_at   timestamptz NOT NULL DEFAULT now(),
  started_at   timestamptz,
  landed_at    timestamptz,
  in_step_at   timestamptz,
  cut_over_at  timestamptz,
  closed_at    timestamptz
);

CREATE TABLE tables (
  id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  crossing_id   bigint NOT NULL REFERENCES crossings ON DELETE CASCADE,
  target_id     bigint NOT NULL REFERENCES databases,
  ordinal       integer NOT NULL,
  source_name   text NOT NULL,
  target_name   text NOT NULL,
  active        boolean NOT NULL DEFAULT true, -- false once the crossing is closed
  plan          jsonb NOT NULL,
  state         text NOT NULL DEFAULT 'planned',
  reason        text NOT NULL DEFAULT '',
  est_rows      bigint NOT NULL DEFAULT 0,
  est_bytes     bigint NOT NULL DEFAULT 0,
  chunks        integer NOT NULL DEFAULT 0,
  chunks_landed integer NOT NULL DEFAULT 0,
  rows_landed   bigint NOT NULL DEFAULT 0,
  bytes_landed  bigint NOT NULL DEFAULT 0,
  inserts       bigint NOT NULL DEFAULT 0,
  updates       bigint NOT NULL DEFAULT 0,
  deletes       bigint NOT NULL DEFAULT 0,
  truncates     bigint NOT NULL DEFAULT 0,
  started_at    timestamptz,
  landed_at     timestamptz
);
CREATE INDEX ON tables (crossing_id, ordinal);
-- Two crossings must never write the same target table.
CREATE UNIQUE INDEX tables_one_crossing ON tables (target_id, target_name) WHERE active;

CREATE TABLE chunks (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  crossing_id bigint NOT NULL REFERENCES crossings ON DELETE CASCADE,
  table_id    bigint NOT NULL REFERENCES tables ON DELETE CASCADE,
  ordinal     integer NOT NULL,
  lower       jsonb,
  upper       jsonb,
  state       text NOT NULL DEFAULT 'pending',
  epoch       bigint NOT NULL DEFAULT 0,
  attempts    integer NOT NULL DEFAULT 0,
  worker      text NOT NULL DEFAULT '',
  lease_until timestamptz,
  not_before  timestamptz NOT NULL DEFAULT now(),
  snapshot    text NOT NULL DEFAULT '',
  rows        bigint NOT NULL DEFAULT 0,
  bytes       bigint NOT NULL DEFAULT 0,
  hash        bigint NOT NULL DEFAULT 0,
  started_at  timestamptz,
  ended_at    timestamptz,
  error       text NOT NULL DEFAULT '',
  UNIQUE (table_id, ordinal)
);
CREATE INDEX chunks_open ON chunks (crossing_id, state) WHERE state <> 'landed';

CREATE TABLE attempts (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  chunk_id   bigint NOT NULL REFERENCES chunks ON DELETE CASCADE,
  epoch      bigint NOT NULL,
  worker     text NOT NULL,
  started_at timestamptz,
  ended_at   timestamptz NOT NULL DEFAULT now(),
  error      text NOT NULL
);
CREATE INDEX ON attempts (chunk_id);

CREATE TABLE lanes (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  crossing_id bigint NOT NULL REFERENCES crossings ON DELETE CASCADE,
  job_id      bigint NOT NULL DEFAULT 0,
  worker      text NOT NULL DEFAULT '',
  lease_until timestamptz NOT NULL
);
CREATE INDEX ON lanes (crossing_id);

CREATE TABLE streams (
  crossing_id bigint PRIMARY KEY REFERENCES crossings ON DELETE CASCADE,
  epoch       bigint NOT NULL DEFAULT 0,
  worker      text NOT NULL DEFAULT '',
  lease_until timestamptz NOT NULL DEFAULT '-infinity',
  received    numeric(20) NOT NULL DEFAULT 0,
  applied     numeric(20) NOT NULL DEFAULT 0,
  committed   bigint NOT NULL DEFAULT 0,      -- source commit time of the newest applied change, microseconds
  lag_seconds double precision NOT NULL DEFAULT 0,
  lag_bytes   bigint NOT NULL DEFAULT 0,
  retained    bigint NOT NULL DEFAULT 0,      -- log the source keeps for us, bytes
  changes     bigint NOT NULL DEFAULT 0,
  reported_at timestamptz,
  error       text NOT NULL DEFAULT '',
  not_before  timestamptz NOT NULL DEFAULT now(),
  failures    integer NOT NULL DEFAULT 0,
  ask         text NOT NULL DEFAULT '',       -- hold, go, reached: a stop between two transactions
  ask_at      numeric(20) NOT NULL DEFAULT 0,
  ask_until   timestamptz NOT NULL DEFAULT '-infinity'
);

CREATE TABLE tasks (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  crossing_id bigint NOT NULL REFERENCES crossings ON DELETE CASCADE,
  kind        text NOT NULL,
  args        jsonb NOT NULL DEFAULT '{}',
  state       text NOT NULL DEFAULT 'waiting',
  epoch       bigint NOT NULL DEFAULT 0,
  worker      text NOT NULL DEFAULT '',
  lease_until timestamptz,
  actor       text NOT NULL DEFAULT '',
  note        text NOT NULL DEFAULT '',
  error       text NOT NULL DEFAULT '',
  created_at  timestamptz NOT NULL DEFAULT now(),
  started_at  timestamptz,
  ended_at    timestamptz
);
CREATE INDEX tasks_open ON tasks (crossing_id, kind) WHERE state IN ('waiting', 'running');
-- A crossing does one thing of a kind at a time.
CREATE UNIQUE INDEX tasks_one ON tasks (crossing_id, kind) WHERE state IN ('waiting', 'running');

CREATE TABLE reconciliations (
  id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  crossing_id bigint NOT NULL REFERENCES crossings ON DELETE CASCADE,
  task_id     bigint REFERENCES tasks,
  depth       text NOT NULL,
  state       text NOT NULL DEFAULT 'waiting',
  position    numeric(20) NOT NULL DEFAULT 0,
  patterns    jsonb NOT NULL DEFAULT '[]',
  error       text NOT NULL DEFAULT '',
  created_at  timestamptz NOT NULL DEFAULT now(),
  started_at  timestamptz,
  ended_at    timestamptz
);
CREATE INDEX ON reconciliations (crossing_id);

CREATE TABLE reconciled_tables (
  reconciliation_id bigint NOT NULL REFERENCES reconciliations ON DELETE CASCADE,
  table_id          bigint NOT NULL REFERENCES tables ON DELETE CASCADE,
  state             text NOT NULL DEFAULT 'waiting',
  parts             integer NOT NULL DEFAULT 0,
  differing_parts   integer NOT NULL DEFAULT 0,
  source_rows       bigint NOT NULL DEFAULT 0,
  target_rows       bigint NOT NULL DEFAULT 0,
  source_hash       text NOT NULL DEFAULT '',
  target_hash       text NOT NULL DEFAULT '',
  findings          bigint NOT NULL DEFAULT 0,
  seconds           double precision NOT NULL DEFAULT 0,
  PRIMARY KEY (reconciliation_id, table_id)
);

CREATE TABLE findings (
  id                bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  reconciliation_id bigint NOT NULL REFERENCES reconciliations ON DELETE CASCADE,
  table_id          bigint NOT NULL REFERENCES tables ON DELETE CASCADE,
  kind              text NOT NULL,
  detail            jsonb NOT NULL,
  state             text NOT NULL DEFAULT 'open', -- open, repaired
  repaired_at       timestamptz
);
CREATE INDEX ON findings (reconciliation_id, table_id);

CREATE TABLE cutovers (
  id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  crossing_id    bigint NOT NULL REFERENCES crossings ON DELETE CASCADE,
  task_id        bigint REFERENCES tasks,
  rehearsal      boolean NOT NULL,
  state          text NOT NULL DEFAULT 'running', -- running, done, undone, failed
  settings       jsonb NOT NULL,
  readiness      jsonb NOT NULL DEFAULT '[]',
  end_position   numeric(20) NOT NULL DEFAULT 0,
  paused_at      timestamptz,
  released_at    timestamptz,
  reconciliation_id bigint REFERENCES reconciliations,
  abort_by       text NOT NULL DEFAULT '',
  word_by        text NOT NULL DEFAULT '',        -- who said that writes have stopped
  error          text NOT NULL DEFAULT '',
  actor          text NOT NULL DEFAULT '',
  created_at     timestamptz NOT NULL DEFAULT now(),
  ended_at       timestamptz
);
CREATE INDEX ON cutovers (crossing_id);

CREATE TABLE cutover_steps (
  cutover_id bigint NOT NULL REFERENCES cutovers ON DELETE CASCADE,
  ordinal    integer NOT NULL,
  name       text NOT NULL,
  state      text NOT NULL DEFAULT 'waiting',
  note       text NOT NULL DEFAULT '',
  started_at timestamptz,
  ended_at   timestamptz,
  PRIMARY KEY (cutover_id, ordinal)
);

CREATE TABLE journal (
  id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  at       timestamptz NOT NULL DEFAULT now(),
  actor    text NOT NULL,
  crossing text NOT NULL DEFAULT '',
  subject  text NOT NULL DEFAULT '',
  act      text NOT NULL,
  severity text NOT NULL DEFAULT 'info',  -- info, warning, error
  message  text NOT NULL
);
CREATE INDEX ON journal (crossing, id);
-- +goose StatementBegin
CREATE FUNCTION journal_is_append_only() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  RAISE EXCEPTION 'the journal is append-only';
END $$;
-- +goose StatementEnd
CREATE TRIGGER journal_is_append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON journal
  FOR EACH STATEMENT EXECUTE FUNCTION journal_is_append_only();

CREATE TABLE tokens (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  name       text NOT NULL UNIQUE,
  role       text NOT NULL,
  hash       text NOT NULL UNIQUE,
  created_at timestamptz NOT NULL DEFAULT now(),
  used_at    timestamptz
);

CREATE TABLE sessions (
  hash       text PRIMARY KEY,
  token_id   bigint NOT NULL REFERENCES tokens ON DELETE CASCADE,
  expires_at timestamptz NOT NULL
);

CREATE TABLE samples (
  crossing_id bigint NOT NULL REFERENCES crossings ON DELETE CASCADE,
  at          timestamptz NOT NULL DEFAULT now(),
  rows        bigint NOT NULL,
  bytes       bigint NOT NULL,
  changes     bigint NOT NULL,
  lag_seconds double precision NOT NULL,
  lag_bytes   bigint NOT NULL,
  PRIMARY KEY (crossing_id, at)
);

CREATE TABLE workers (
  name       text PRIMARY KEY,
  host       text NOT NULL,
  pid        integer NOT NULL,
  version    text NOT NULL,
  started_at timestamptz NOT NULL DEFAULT now(),
  seen_at    timestamptz NOT NULL DEFAULT now()
);
