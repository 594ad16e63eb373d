-- +goose Up
-- What the last fit check of a crossing found, and how far it is.
ALTER TABLE crossings ADD COLUMN fit jsonb;
-- How the plans of tables differ from what the catalogue of types gives.
ALTER TABLE crossings ADD COLUMN rules jsonb NOT NULL DEFAULT '[]';
