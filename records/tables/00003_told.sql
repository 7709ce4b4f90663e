-- +goose Up

-- What instances tell each other of what they have written, for some minutes.
CREATE TABLE osprey.told (
  id    bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  xid   xid8 NOT NULL DEFAULT pg_current_xact_id(),
  at    timestamptz NOT NULL DEFAULT clock_timestamp(),
  body  jsonb NOT NULL
);
CREATE INDEX told_xid ON osprey.told (xid);

-- +goose Down
DROP TABLE osprey.told;
