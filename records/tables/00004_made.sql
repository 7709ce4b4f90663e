-- +goose Up

-- What stores were asked for an operation, by hour.
CREATE TABLE osprey.made (
  hour       timestamptz NOT NULL,
  operation  bytea NOT NULL,
  request    int NOT NULL,              -- in the plan
  wave       int NOT NULL,
  source     text NOT NULL,
  asks       text NOT NULL,
  asked      bigint NOT NULL,           -- answers for which it was made
  failed     bigint NOT NULL,
  requests   bigint NOT NULL,
  keys       bigint NOT NULL,
  records    bigint NOT NULL,
  bytes      bigint NOT NULL,           -- of the values of the records
  began      float8 NOT NULL,           -- milliseconds in all, since the first could be made
  took       float8 NOT NULL,           -- milliseconds in all
  most       float8 NOT NULL,           -- milliseconds of the longest
  PRIMARY KEY (operation, hour, request, source, asks)
);
CREATE INDEX ON osprey.made (hour);

-- The last errors of operations, without values of callers.
CREATE TABLE osprey.samples (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  at         timestamptz NOT NULL,
  operation  bytea NOT NULL,
  client     text NOT NULL,
  code       text NOT NULL,
  message    text NOT NULL,
  path       text NOT NULL,             -- JSON, or nothing
  source     text NOT NULL,
  request    text NOT NULL,             -- the id of the caller's request
  took       float8 NOT NULL            -- milliseconds
);
CREATE INDEX ON osprey.samples (operation, code, at);

-- +goose Down
DROP TABLE osprey.made, osprey.samples;
