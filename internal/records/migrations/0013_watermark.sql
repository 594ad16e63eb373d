-- +goose Up
-- The greatest value of a table's watermark column, as the source's text, when its rows
-- were last begun to be read; empty: not known, so that every row is past it.
ALTER TABLE tables ADD COLUMN watermark text NOT NULL DEFAULT '';
