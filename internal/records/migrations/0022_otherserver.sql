-- +goose Up
-- Which server answers at the source's address now, where it is another one than the crossing
-- began with: what is offered to a person follows from this, not from the words of a reason.
ALTER TABLE crossings ADD COLUMN other_server text NOT NULL DEFAULT '';
