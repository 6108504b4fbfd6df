INSERT INTO `odd names` VALUES (1, 'x', 'Ünder', 1.5), (2, 'from', 'over', 2.5), (3, NULL, 'OVER', 0);
INSERT INTO doc VALUES (1, '{"kind":"lime","kilos":3,"tags":["a","b"]}', 'a,b', '2026-05-10 10:00:00.5'), (2, '{"kind":"heather","kilos":null}', '', NULL), (3, NULL, NULL, NULL);
