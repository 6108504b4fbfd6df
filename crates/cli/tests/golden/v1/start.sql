CREATE TABLE hive (hive_id INTEGER PRIMARY KEY, name TEXT NOT NULL, kilos REAL, tag BLOB, note);
INSERT INTO hive VALUES (1, 'Foxglove', 12.5, x'00ff', NULL), (2, 'Ling', NULL, NULL, 7), (3, 'Betony', 0.1, x'', 'wet'), (4, 'Thyme', 9e999, NULL, 1.0);
