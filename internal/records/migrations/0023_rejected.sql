-- +goose Up
-- Rows that the target could not take are called what the trade calls them.
ALTER TABLE set_aside RENAME TO rejected_rows;
ALTER TABLE runs RENAME COLUMN set_aside TO rejected;
UPDATE crossings
   SET certificate = (certificate::jsonb - 'rows_set_aside' - 'set_aside') || jsonb_build_object(
       'rejected_rows', certificate::jsonb->'rows_set_aside', 'rejected', certificate::jsonb->'set_aside')
 WHERE certificate::jsonb ? 'rows_set_aside';
