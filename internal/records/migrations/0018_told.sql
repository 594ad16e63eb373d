-- +goose Up
-- Lags of the last minute from the source's commit to the target's, NULL while none was
-- measured; and whether a task's load has begun, which decides what a resumed one does.
ALTER TABLE streams ADD COLUMN lag_p50 double precision, ADD COLUMN lag_p99 double precision;
ALTER TABLE tasks ADD COLUMN begun boolean NOT NULL DEFAULT false;
UPDATE tasks SET begun = true WHERE note = 'the load has begun' AND kind IN ('prepare', 'restart') AND state IN ('waiting', 'running');
