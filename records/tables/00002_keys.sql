-- +goose Up

-- Keys of client programs. Of the secret only a slow hash is kept.
CREATE TABLE osprey.keys (
  id          text PRIMARY KEY,
  name        text NOT NULL,
  hash        text NOT NULL,
  roles       text[] NOT NULL,
  by          text NOT NULL,
  made        timestamptz NOT NULL DEFAULT now(),
  until       timestamptz,              -- when it ends
  used        timestamptz,              -- when it was used last
  revoked     timestamptz,
  revoked_by  text
);

-- +goose Down
DROP TABLE osprey.keys;
