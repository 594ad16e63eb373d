-- +goose Up
-- Rows that landed with a value cut to the length that a rule allows.
ALTER TABLE set_aside ADD COLUMN landed boolean NOT NULL DEFAULT false;
