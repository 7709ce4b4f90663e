CREATE TYPE craft_type AS ENUM ('cargo', 'tanker', 'ferry', 'tug');
CREATE TYPE call_purpose AS ENUM ('load', 'unload', 'bunker', 'passengers', 'repair');
CREATE TYPE pilot_role AS ENUM ('lead', 'assist', 'trainee');

CREATE TABLE operators (
  id            integer PRIMARY KEY,
  name          text NOT NULL,
  country       text NOT NULL,
  parent_id     integer REFERENCES operators,
  billing_token text NOT NULL
);
CREATE INDEX ON operators (parent_id);

CREATE TABLE craft (
  imo            integer PRIMARY KEY,
  craft_type     craft_type NOT NULL,
  name           text NOT NULL,
  length_m       double precision NOT NULL,
  draught_dm     smallint,
  built_on       date,
  operator_id    integer NOT NULL REFERENCES operators,
  tow_imo        integer REFERENCES craft,
  deadweight_t   integer,
  containers     integer,
  double_hull    boolean,
  passengers     integer,
  cars           integer,
  bollard_pull_t numeric(6, 1),
  fittings       jsonb
);
CREATE INDEX ON craft (operator_id, name);
CREATE INDEX ON craft (name);

CREATE TABLE quays (
  code         text PRIMARY KEY,
  name         text NOT NULL,
  station_code text
);
CREATE INDEX ON quays (station_code);

CREATE TABLE berths (
  quay_code      text NOT NULL REFERENCES quays,
  number         integer NOT NULL,
  name           text NOT NULL,
  length_m       double precision NOT NULL,
  max_draught_dm smallint NOT NULL,
  PRIMARY KEY (quay_code, number)
);

CREATE TABLE port_calls (
  id           bigint PRIMARY KEY,
  craft_imo    integer NOT NULL REFERENCES craft,
  quay_code    text,
  berth_number integer,
  arrived_at   timestamptz NOT NULL,
  departed_at  timestamptz,
  purpose      call_purpose NOT NULL,
  cargo_t      numeric(10, 1),
  FOREIGN KEY (quay_code, berth_number) REFERENCES berths
);
CREATE INDEX ON port_calls (craft_imo, arrived_at DESC);
CREATE INDEX ON port_calls (quay_code, berth_number, arrived_at DESC);
CREATE INDEX ON port_calls (arrived_at DESC, id);

CREATE TABLE pilots (
  id      integer PRIMARY KEY,
  name    text NOT NULL,
  licence text NOT NULL UNIQUE
);

CREATE TABLE pilotage (
  id         bigint PRIMARY KEY,
  call_id    bigint NOT NULL REFERENCES port_calls,
  pilot_id   integer NOT NULL REFERENCES pilots,
  role       pilot_role NOT NULL,
  boarded_at timestamptz NOT NULL
);
CREATE INDEX ON pilotage (call_id);
CREATE INDEX ON pilotage (pilot_id);

CREATE TABLE harbour_seed (version integer NOT NULL, scale integer NOT NULL);
