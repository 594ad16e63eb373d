-- +goose Up
-- What people watch: rates of tables, bytes on both sides, changes by kind, the
-- last transactions applied.
ALTER TABLE tables
  ADD COLUMN key_columns      jsonb NOT NULL DEFAULT '[]',
  ADD COLUMN carried_binary   boolean NOT NULL DEFAULT false,
  ADD COLUMN column_changes   bigint NOT NULL DEFAULT 0,
  ADD COLUMN column_change_at numeric(20) NOT NULL DEFAULT 0,  -- log position of the newest
  ADD COLUMN rows_rate        double precision NOT NULL DEFAULT 0,
  ADD COLUMN bytes_rate       double precision NOT NULL DEFAULT 0,
  ADD COLUMN seen_rows        bigint NOT NULL DEFAULT 0,       -- at the last reading of the rates
  ADD COLUMN seen_bytes       bigint NOT NULL DEFAULT 0,
  ADD COLUMN seen_at          timestamptz;
UPDATE tables SET key_columns = CASE WHEN jsonb_typeof(plan->'key') = 'array' THEN plan->'key' ELSE '[]' END,
                  carried_binary = coalesce((plan->>'binary')::boolean, false);

ALTER TABLE chunks ADD COLUMN read_bytes bigint NOT NULL DEFAULT 0;  -- taken from the source; bytes is what was written
UPDATE chunks SET read_bytes = bytes;
ALTER TABLE tables ADD COLUMN read_bytes bigint NOT NULL DEFAULT 0;
UPDATE tables SET read_bytes = bytes_landed;

ALTER TABLE streams
  ADD COLUMN source_at     numeric(20) NOT NULL DEFAULT 0,  -- where the source's log stood when last asked
  ADD COLUMN read_bytes    bigint NOT NULL DEFAULT 0,
  ADD COLUMN written_bytes bigint NOT NULL DEFAULT 0,
  ADD COLUMN note          text NOT NULL DEFAULT '',         -- what the applier waits for
  ADD COLUMN recent        jsonb NOT NULL DEFAULT '[]';     -- the last transactions applied, newest first

ALTER TABLE samples
  ADD COLUMN bytes_in  bigint NOT NULL DEFAULT 0,
  ADD COLUMN bytes_out bigint NOT NULL DEFAULT 0,
  ADD COLUMN inserts   bigint NOT NULL DEFAULT 0,
  ADD COLUMN updates   bigint NOT NULL DEFAULT 0,
  ADD COLUMN deletes   bigint NOT NULL DEFAULT 0;

ALTER TABLE findings RENAME COLUMN repaired_at TO changed_at;
ALTER TABLE cutovers ADD COLUMN gone_on jsonb NOT NULL DEFAULT '{}';  -- hold point -> who let it go on

CREATE INDEX journal_by_act ON journal (act, id);

CREATE TABLE defaults (
  one      boolean PRIMARY KEY DEFAULT true CHECK (one),
  settings jsonb NOT NULL
);
