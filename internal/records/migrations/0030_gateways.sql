-- +goose Up
-- Where gateways let connections go, and which gateways there are.
CREATE TABLE gateway_routes (
  crossing_id bigint PRIMARY KEY REFERENCES crossings ON DELETE CASCADE,
  epoch       bigint NOT NULL,
  live        text NOT NULL,              -- name of the database in charge
  holding     boolean NOT NULL,
  patience    double precision NOT NULL   -- seconds that open transactions have to end
);
CREATE TABLE gateways (
  crossing_id bigint NOT NULL REFERENCES gateway_routes ON DELETE CASCADE,
  name        text NOT NULL,
  listens     text NOT NULL,
  epoch       bigint NOT NULL,            -- of the route that it acts on
  sessions    integer NOT NULL,
  busy        integer NOT NULL,
  waiting     integer NOT NULL,
  stall       double precision NOT NULL,  -- seconds
  seen_at     timestamptz NOT NULL,
  PRIMARY KEY (crossing_id, name)
);
