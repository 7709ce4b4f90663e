-- +goose Up

-- The texts of projects. One that was served before is kept once.
CREATE TABLE osprey.texts (
  sum    bytea PRIMARY KEY,             -- SHA-256 of the files
  files  json NOT NULL                  -- by their paths
);

-- What was served: from the files of a service, published, or restored.
CREATE TABLE osprey.revisions (
  number       bigint PRIMARY KEY,
  id           uuid NOT NULL UNIQUE DEFAULT gen_random_uuid(),
  at           timestamptz NOT NULL DEFAULT now(),
  by           text NOT NULL,
  note         text NOT NULL DEFAULT '',
  origin       text NOT NULL CHECK (origin IN ('files', 'published', 'restored')),
  restores     bigint,                  -- the number of the revision that it makes current again
  sum          bytea NOT NULL REFERENCES osprey.texts,
  schema       text NOT NULL,           -- as clients see it
  differences  jsonb NOT NULL           -- to what was served before
);

-- Services that use these records, and what they serve.
CREATE TABLE osprey.instances (
  id        uuid PRIMARY KEY,
  name      text NOT NULL,
  since     timestamptz NOT NULL DEFAULT now(),
  seen      timestamptz NOT NULL DEFAULT now(),
  revision  uuid,                       -- what it serves
  trouble   text NOT NULL DEFAULT '',   -- why it does not serve the last that was published
  batch     bigint NOT NULL DEFAULT 0   -- the last batch of traffic that it has written
);

-- Operations by their normal form, in which there are no values of callers.
CREATE TABLE osprey.operations (
  id     bytea PRIMARY KEY,
  name   text NOT NULL,
  kind   text NOT NULL,
  text   text NOT NULL,
  uses   text[] NOT NULL                -- coordinates of the schema
);

-- What was asked, by hour.
CREATE TABLE osprey.traffic (
  hour       timestamptz NOT NULL,
  operation  bytea NOT NULL,
  client     text NOT NULL,
  asked      bigint NOT NULL,
  failed     bigint NOT NULL,
  requests   bigint NOT NULL,           -- store requests
  records    bigint NOT NULL,           -- that stores sent
  times      bigint[] NOT NULL,         -- a histogram of how long answers took
  PRIMARY KEY (hour, operation, client)
);
CREATE INDEX ON osprey.traffic (operation, hour);

CREATE TABLE osprey.errors (
  hour       timestamptz NOT NULL,
  operation  bytea NOT NULL,
  client     text NOT NULL,
  code       text NOT NULL,
  count      bigint NOT NULL,
  PRIMARY KEY (hour, operation, client, code)
);

-- Operations that people saved in the console.
CREATE TABLE osprey.saved (
  name     text PRIMARY KEY,
  text     text NOT NULL,
  by       text NOT NULL,
  at       timestamptz NOT NULL DEFAULT now(),
  version  bigint NOT NULL DEFAULT 1
);

-- +goose StatementBegin
CREATE FUNCTION osprey.plus(a bigint[], b bigint[]) RETURNS bigint[] LANGUAGE sql IMMUTABLE AS $$
  SELECT array_agg(coalesce(x, 0) + coalesce(y, 0) ORDER BY i) FROM unnest(a, b) WITH ORDINALITY AS both_of(x, y, i)
$$;
-- +goose StatementEnd

CREATE AGGREGATE osprey.total(bigint[]) (sfunc = osprey.plus, stype = bigint[], initcond = '{}');

-- +goose Down
DROP AGGREGATE osprey.total(bigint[]);
DROP FUNCTION osprey.plus(bigint[], bigint[]);
DROP TABLE osprey.saved, osprey.errors, osprey.traffic, osprey.operations, osprey.instances, osprey.revisions, osprey.texts;
