-- +goose Up
-- What the last fit check of a crossing found, and how far it is.
ALTER TABLE crossings ADD COLUMN fit jsonb;
