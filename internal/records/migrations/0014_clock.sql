-- +goose Up
-- The latest time that the keeper has seen on this server's clock: an earlier one says
-- that the clock was set back, and that what is due by it would wait for too long.
CREATE TABLE clock (seen timestamptz NOT NULL);
INSERT INTO clock VALUES (now());
