-- Heathermoor Honey Co-operative: made-up people, made-up data.
CREATE TABLE keeper (
  keeper_id integer PRIMARY KEY,
  name      text NOT NULL,
  email     varchar(80) NOT NULL UNIQUE,
  phone     text,
  region    text NOT NULL
);
CREATE TABLE apiary (
  apiary_id integer PRIMARY KEY,
  name      text NOT NULL UNIQUE,
  keeper_id integer NOT NULL REFERENCES keeper (keeper_id)
);
CREATE TABLE hive (
  hive_id      integer PRIMARY KEY,
  name         text NOT NULL,
  apiary_id    integer NOT NULL REFERENCES apiary (apiary_id),
  queen_colour text CHECK (queen_colour IN ('white', 'yellow', 'red', 'green', 'blue'))
);
CREATE INDEX hive_apiary ON hive (apiary_id);
CREATE TABLE hive_season (
  hive_id     integer NOT NULL REFERENCES hive (hive_id),
  season      integer NOT NULL,
  total_kilos double precision,
  PRIMARY KEY (hive_id, season)
);
CREATE TABLE inspection (
  inspection_id integer PRIMARY KEY,
  hive_id       integer NOT NULL REFERENCES hive (hive_id) ON DELETE CASCADE,
  day           date NOT NULL,
  note          text
);
CREATE INDEX inspection_hive ON inspection (hive_id);
CREATE TABLE batch (
  batch_id       integer PRIMARY KEY,
  flower         text NOT NULL,
  season         integer NOT NULL,
  kilos          numeric(8,2) NOT NULL,
  price_per_kg   numeric(8,2) NOT NULL CHECK (price_per_kg > 0),
  list_price     numeric(10,2) NOT NULL,
  discount_price numeric(10,2)
);
CREATE TABLE price_log (
  log_id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  batch_id   integer NOT NULL,
  old_price  numeric(8,2),
  new_price  numeric(8,2),
  changed_on timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE sale (
  sale_id  integer PRIMARY KEY,
  batch_id integer NOT NULL REFERENCES batch (batch_id) ON DELETE RESTRICT,
  kilos    numeric(8,2) NOT NULL,
  sold_on  date NOT NULL
);
CREATE INDEX sale_batch ON sale (batch_id);
CREATE TABLE sheet_import (hive text, day text, kilos text, note text);
CREATE TABLE inspection_archive (
  inspection_id integer PRIMARY KEY,
  hive_id       integer NOT NULL,
  day           date NOT NULL,
  note          text
);
CREATE VIEW hive_yield AS
  SELECT h.hive_id, h.name, s.season, s.total_kilos
    FROM hive AS h JOIN hive_season AS s ON s.hive_id = h.hive_id;
