-- +goose Up
-- A crossing that brings back what was written since the cutover of another: that one's return path.
ALTER TABLE crossings ADD COLUMN return_of bigint REFERENCES crossings ON DELETE SET NULL;
CREATE UNIQUE INDEX crossings_return_of ON crossings (return_of) WHERE phase <> 'closed';
