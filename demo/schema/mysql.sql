-- Heathermoor Honey Co-operative: made-up people, made-up data.
CREATE TABLE keeper (
  keeper_id int PRIMARY KEY,
  name      varchar(120) NOT NULL,
  email     varchar(80) NOT NULL UNIQUE,
  phone     varchar(120),
  region    varchar(120) NOT NULL
);
CREATE TABLE apiary (
  apiary_id int AUTO_INCREMENT PRIMARY KEY,
  name      varchar(80) NOT NULL UNIQUE,
  keeper_id int NOT NULL,
  FOREIGN KEY (keeper_id) REFERENCES keeper (keeper_id)
);
CREATE TABLE hive (
  hive_id      int PRIMARY KEY,
  name         varchar(120) NOT NULL,
  apiary_id    int NOT NULL,
  queen_colour varchar(120) CHECK (queen_colour IN ('white', 'yellow', 'red', 'green', 'blue')),
  FOREIGN KEY (apiary_id) REFERENCES apiary (apiary_id)
);
CREATE INDEX hive_apiary ON hive (apiary_id);
CREATE TABLE hive_season (
  hive_id     int NOT NULL,
  season      int NOT NULL,
  total_kilos double,
  PRIMARY KEY (hive_id, season),
  FOREIGN KEY (hive_id) REFERENCES hive (hive_id)
);
CREATE TABLE inspection (
  inspection_id int PRIMARY KEY,
  hive_id       int NOT NULL,
  day           date NOT NULL,
  note          varchar(120),
  FOREIGN KEY (hive_id) REFERENCES hive (hive_id) ON DELETE CASCADE
);
CREATE INDEX inspection_hive ON inspection (hive_id);
CREATE TABLE batch (
  batch_id       int PRIMARY KEY,
  flower         varchar(120) NOT NULL,
  season         int NOT NULL,
  kilos          decimal(8,2) NOT NULL,
  price_per_kg   decimal(8,2) NOT NULL CHECK (price_per_kg > 0),
  list_price     decimal(10,2) NOT NULL,
  discount_price decimal(10,2)
);
CREATE TABLE price_log (
  log_id     bigint AUTO_INCREMENT PRIMARY KEY,
  batch_id   int NOT NULL,
  old_price  decimal(8,2),
  new_price  decimal(8,2),
  changed_on datetime NOT NULL DEFAULT CURRENT_TIMESTAMP
);
CREATE TABLE sale (
  sale_id  int PRIMARY KEY,
  batch_id int NOT NULL,
  kilos    decimal(8,2) NOT NULL,
  sold_on  date NOT NULL,
  FOREIGN KEY (batch_id) REFERENCES batch (batch_id) ON DELETE RESTRICT
);
CREATE INDEX sale_batch ON sale (batch_id);
CREATE TABLE sheet_import (hive varchar(120), day varchar(120), kilos varchar(120), note varchar(120));
CREATE TABLE season_sheet (hive_id int NOT NULL, season int NOT NULL, total_kilos double);
CREATE TABLE inspection_archive (
  inspection_id int PRIMARY KEY,
  hive_id       int NOT NULL,
  day           date NOT NULL,
  note          varchar(120)
);
CREATE VIEW hive_yield AS
  SELECT h.hive_id, h.name, s.season, s.total_kilos
    FROM hive AS h JOIN hive_season AS s ON s.hive_id = h.hive_id;
