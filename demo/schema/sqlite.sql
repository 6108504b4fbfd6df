-- Heathermoor Honey Co-operative: made-up people, made-up data.
CREATE TABLE keeper (
  keeper_id INTEGER PRIMARY KEY,
  name      TEXT NOT NULL,
  email     TEXT NOT NULL UNIQUE,
  phone     TEXT,
  region    TEXT NOT NULL
);
CREATE TABLE apiary (
  apiary_id INTEGER PRIMARY KEY,
  name      TEXT NOT NULL UNIQUE,
  keeper_id INTEGER NOT NULL REFERENCES keeper (keeper_id)
);
CREATE TABLE hive (
  hive_id      INTEGER PRIMARY KEY,
  name         TEXT NOT NULL,
  apiary_id    INTEGER NOT NULL REFERENCES apiary (apiary_id),
  queen_colour TEXT CHECK (queen_colour IN ('white', 'yellow', 'red', 'green', 'blue'))
);
CREATE INDEX hive_apiary ON hive (apiary_id);
CREATE TABLE hive_season (
  hive_id     INTEGER NOT NULL REFERENCES hive (hive_id),
  season      INTEGER NOT NULL,
  total_kilos REAL,
  PRIMARY KEY (hive_id, season)
) WITHOUT ROWID;
CREATE TABLE inspection (
  inspection_id INTEGER PRIMARY KEY,
  hive_id       INTEGER NOT NULL REFERENCES hive (hive_id) ON DELETE CASCADE,
  day           TEXT NOT NULL,
  note          TEXT
);
CREATE INDEX inspection_hive ON inspection (hive_id);
CREATE TABLE batch (
  batch_id       INTEGER PRIMARY KEY,
  flower         TEXT NOT NULL,
  season         INTEGER NOT NULL,
  kilos          REAL NOT NULL,
  price_per_kg   DECIMAL(8,2) NOT NULL CHECK (price_per_kg > 0),
  list_price     DECIMAL(10,2) NOT NULL,
  discount_price DECIMAL(10,2)
);
CREATE TABLE price_log (
  log_id     INTEGER PRIMARY KEY,
  batch_id   INTEGER NOT NULL,
  old_price  DECIMAL(8,2),
  new_price  DECIMAL(8,2),
  changed_on TEXT NOT NULL DEFAULT CURRENT_TIMESTAMP
);
CREATE TABLE sale (
  sale_id  INTEGER PRIMARY KEY,
  batch_id INTEGER NOT NULL REFERENCES batch (batch_id) ON DELETE RESTRICT,
  kilos    REAL NOT NULL,
  sold_on  TEXT NOT NULL
);
CREATE INDEX sale_batch ON sale (batch_id);
CREATE TABLE sheet_import (hive TEXT, day TEXT, kilos TEXT, note TEXT);
CREATE TABLE season_sheet (hive_id INTEGER NOT NULL, season INTEGER NOT NULL, total_kilos REAL);
CREATE TABLE inspection_archive (
  inspection_id INTEGER PRIMARY KEY,
  hive_id       INTEGER NOT NULL,
  day           TEXT NOT NULL,
  note          TEXT
);
CREATE VIEW hive_yield AS
  SELECT h.hive_id, h.name, s.season, s.total_kilos
    FROM hive AS h JOIN hive_season AS s ON s.hive_id = h.hive_id;
