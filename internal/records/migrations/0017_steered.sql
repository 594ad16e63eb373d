-- +goose Up
-- Which plan a crossing has: whatever acts on a plan checks that it is still the one it
-- read. What keeps a crossing from going on by itself, in a sentence.
ALTER TABLE crossings ADD COLUMN plan_version bigint NOT NULL DEFAULT 1;
ALTER TABLE crossings ADD COLUMN trouble text NOT NULL DEFAULT '';

-- Whether what is to be made on the target has been listed. Whether it stands is computed
-- from the list, never said.
ALTER TABLE crossings ADD COLUMN counted boolean NOT NULL DEFAULT false;
UPDATE crossings c SET counted = built OR EXISTS (SELECT FROM objects o WHERE o.crossing_id = c.id);

-- The statement as it was planned; whether a person wrote another; whether the object is
-- made at cutover; and what each try to make it is told by.
ALTER TABLE objects ADD COLUMN planned text NOT NULL DEFAULT '';
ALTER TABLE objects ADD COLUMN by_hand boolean NOT NULL DEFAULT false;
ALTER TABLE objects ADD COLUMN late boolean NOT NULL DEFAULT false;
ALTER TABLE objects ADD COLUMN try bigint NOT NULL DEFAULT 0;
UPDATE objects SET planned = statement, by_hand = state = 'left out' AND statement = '';
UPDATE objects o SET late = true FROM crossings c
 WHERE c.id = o.crossing_id AND c.kind <> 'load' AND o.state = 'waiting'
   AND (o.kind = 'trigger' AND o.stage = 'carried' OR o.kind = 'foreign' AND o.stage = 'deferred' AND c.built);
ALTER TABLE crossings DROP COLUMN built;
CREATE INDEX objects_open ON objects (crossing_id) WHERE stage IN ('deferred', 'after', 'carried') AND NOT late AND state NOT IN ('made', 'left out');

-- Why a task is to end before its time; empty: it is not.
ALTER TABLE tasks ADD COLUMN cancel text NOT NULL DEFAULT '';

-- One at a time has the two sides stand at a shared position: by whose wish, and what for.
ALTER TABLE streams ADD COLUMN ask_by text NOT NULL DEFAULT '';
ALTER TABLE streams ADD COLUMN ask_for text NOT NULL DEFAULT '';

-- What comparisons found does not depend on tables, which a restart replaces.
ALTER TABLE reconciled_tables DROP CONSTRAINT reconciled_tables_table_id_fkey;
ALTER TABLE reconciled_tables ADD COLUMN name text NOT NULL DEFAULT '';
ALTER TABLE reconciled_tables ADD COLUMN ordinal integer NOT NULL DEFAULT 0;
ALTER TABLE reconciled_tables ADD COLUMN expected bigint NOT NULL DEFAULT 0;
ALTER TABLE reconciled_tables ADD COLUMN columns jsonb;
UPDATE reconciled_tables x
   SET name = t.source_name, ordinal = t.ordinal, expected = greatest(t.est_rows, t.rows_landed),
       columns = (SELECT jsonb_agg(c->>'name' ORDER BY n) FROM jsonb_array_elements(CASE jsonb_typeof(t.plan->'columns') WHEN 'array' THEN t.plan->'columns' ELSE '[]' END) WITH ORDINALITY AS a (c, n))
  FROM tables t WHERE t.id = x.table_id;
ALTER TABLE findings DROP CONSTRAINT findings_table_id_fkey;

-- A schedule can be paused; every time at which a run was due has its line among the runs.
ALTER TABLE schedules ADD COLUMN paused_by text NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN due_at timestamptz;
ALTER TABLE runs ADD COLUMN times integer NOT NULL DEFAULT 1; -- due times in a row that were skipped for the same reason
CREATE INDEX runs_due ON runs (id) WHERE state IN ('due', 'asked');

-- Each receiver has a queue of its own, in order: how often in a row it did not take what
-- it was sent, and when it is tried again.
ALTER TABLE webhooks ADD COLUMN failures integer NOT NULL DEFAULT 0;
ALTER TABLE webhooks ADD COLUMN next_at timestamptz NOT NULL DEFAULT '-infinity';
DROP INDEX deliveries_next_at_idx;
CREATE INDEX deliveries_waiting ON deliveries (webhook_id, id) WHERE next_at IS NOT NULL;

-- What is older than an organisation wants kept is removed, from the journal too, in steps
-- that say so.
CREATE INDEX journal_at ON journal (at);
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION journal_is_append_only() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP = 'DELETE' AND current_setting('dusty_ferry.thinning', true) = 'on' THEN
    RETURN NULL;
  END IF;
  RAISE EXCEPTION 'the journal is append-only';
END $$;
-- +goose StatementEnd

-- Parts of names that hold a dot or a quotation mark are written in quotation marks.
-- +goose StatementBegin
CREATE FUNCTION pg_temp.named(n jsonb) RETURNS text LANGUAGE sql AS $$
  SELECT string_agg(CASE WHEN x ~ '[."]' THEN '"' || replace(x, '"', '""') || '"' ELSE x END, '.' ORDER BY o)
    FROM (VALUES (1, n->>'schema'), (2, n->>'name')) v (o, x) $$;
-- +goose StatementEnd
UPDATE objects o SET table_name = pg_temp.named(t.plan->'target')
  FROM tables t WHERE t.crossing_id = o.crossing_id AND t.target_name = o.table_name AND o.table_name <> pg_temp.named(t.plan->'target');
UPDATE reconciled_tables x SET name = pg_temp.named(t.plan->'source') FROM tables t WHERE t.id = x.table_id AND x.name <> pg_temp.named(t.plan->'source');
UPDATE tables SET source_name = pg_temp.named(plan->'source'), target_name = pg_temp.named(plan->'target')
 WHERE source_name <> pg_temp.named(plan->'source') OR target_name <> pg_temp.named(plan->'target');
