-- names and quotes
UPDATE `keeper` SET `region` = 'Moor' WHERE `keeper_id` = 2
--> update keeper | set region | where `keeper_id` = 2
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET REGION = 'Moor' WHERE Keeper_Id = 2
--> update keeper | set REGION | where Keeper_Id = 2
--> 1 of keeper exact, 1 would change:
UPDATE keeper k SET k.region = 'Moor' WHERE k.keeper_id = 2
--> update keeper | set region | where k.keeper_id = 2
--> 1 of keeper exact, 1 would change:
UPDATE keeper AS `the keeper` SET region = 'Moor' WHERE `the keeper`.keeper_id = 2
--> update keeper | set region | where `the keeper`.keeper_id = 2
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET keeper.region := 'Moor' WHERE keeper.keeper_id = 2
--> update keeper | set region | where keeper.keeper_id = 2
--> 1 of keeper exact, 1 would change:
UPDATE LOW_PRIORITY keeper SET region = 'Moor' WHERE keeper_id = 2
--> update keeper | set region | where keeper_id = 2
--> 1 of keeper exact, 1 would change:
UPDATE `odd names` SET `select` = 'y', `a.b` = 0.5 WHERE `row no` = 2
--> update odd names | set select, a.b | where `row no` = 2
--> 1 of odd names exact, 1 would change:
UPDATE `odd names` `o n` SET `select` = concat(`o n`.`näme`, `o n`.`a.b`) WHERE `o n`.`row no` IN (1, 3)
--> update odd names | set select | where `o n`.`row no` IN (1, 3)
--> 2 of odd names exact, 2 would change:
DELETE LOW_PRIORITY QUICK FROM inspection WHERE hive_id = 5
--> delete inspection | where hive_id = 5
--> 2 of inspection gone: not-unique
-- literals
UPDATE keeper SET name = "it's" WHERE keeper_id = 1
--> update keeper | set name | where keeper_id = 1
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET name = 'it\'s \\ \n' WHERE keeper_id = 1
--> update keeper | set name | where keeper_id = 1
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET name = 'a' 'b' WHERE keeper_id = 1
--> update keeper | set name | where keeper_id = 1
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET name = _utf8mb4'x' COLLATE utf8mb4_bin WHERE keeper_id = 1
--> update keeper | set name | where keeper_id = 1
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET phone = 0x41 WHERE keeper_id = 1
--> update keeper | set phone | where keeper_id = 1
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET phone = x'4142' WHERE keeper_id = 1
--> update keeper | set phone | where keeper_id = 1
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET phone = b'1000001' WHERE keeper_id = 1
--> update keeper | set phone | where keeper_id = 1
--> 1 of keeper exact, 1 would change:
UPDATE inspection SET day = DATE '2026-06-01' + INTERVAL 3 DAY WHERE inspection_id = 1
--> update inspection | set day | where inspection_id = 1
--> 1 of inspection exact, 1 would change:
UPDATE inspection SET day = date_add(day, INTERVAL 1 MONTH) WHERE inspection_id = 1
--> update inspection | set day | where inspection_id = 1
--> 1 of inspection exact, 1 would change: repeats
UPDATE inspection SET day = last_day(day) WHERE year(day) = 2026 AND month(day) >= 5
--> update inspection | set day | where year(day) = 2026 AND month(day) >= 5
--> 4 of inspection exact, 4 would change: merges moves-filter not-unique
UPDATE inspection SET note = extract(YEAR FROM day) WHERE inspection_id = 1
--> update inspection | set note | where inspection_id = 1
--> 1 of inspection exact, 1 would change:
UPDATE hive SET weight = DEFAULT WHERE hive_id = 1
--> update hive | set weight | where hive_id = 1
--> 1 of hive exact, 1 would change:
UPDATE hive SET weight = DEFAULT(weight) + 1 WHERE hive_id = 1
--> update hive | set weight | where hive_id = 1
--> 1 of hive exact, 1 would change:
UPDATE hive SET name = concat(left(name, 3), '…') WHERE hive_id < 3
--> update hive | set name | where hive_id < 3
--> 2 of hive exact, 2 would change: not-unique repeats unlike
UPDATE hive SET name = concat_ws('-', name, queen_colour), queen_colour = NULL WHERE hive_id IN (1, 3)
--> update hive | set name, queen_colour | where hive_id IN (1, 3)
--> 2 of hive exact, 1 would change: repeats unlike
UPDATE keeper SET name = 'a name that is much longer than the forty characters' WHERE keeper_id = 1 AND 1 = 0
--> update keeper | set name | where keeper_id = 1 AND 1 = 0
--> 0 of keeper exact, 0 would change: nothing-matched too-long
-- operators of its own
DELETE FROM inspection WHERE note LIKE 'CALM%'
--> delete inspection | where note LIKE 'CALM%'
--> 3 of inspection gone: not-unique
DELETE FROM inspection WHERE note LIKE BINARY 'Calm%'
--> delete inspection | where note LIKE BINARY 'Calm%'
--> 1 of inspection gone: not-unique
DELETE FROM inspection WHERE note REGEXP '^c' AND note NOT RLIKE 'eggs'
--> delete inspection | where note REGEXP '^c' AND note NOT RLIKE 'eggs'
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE note <=> NULL
--> delete inspection | where note <=> NULL
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE NOT note <=> 'calm'
--> delete inspection | where NOT note <=> 'calm'
--> 8 of inspection gone: not-unique over-half
DELETE FROM inspection WHERE hive_id = 1 && note IS NULL
--> delete inspection | where hive_id = 1 && note IS NULL
--> 1 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id = 1 || hive_id = 3
--> delete inspection | where hive_id = 1 || hive_id = 3
--> 4 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id = 1 XOR note IS NULL
--> delete inspection | where hive_id = 1 XOR note IS NULL
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE ! (hive_id > 1)
--> delete inspection | where ! (hive_id > 1) (not parsed)
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id DIV 2 = 1 AND hive_id MOD 2 = 1
--> delete inspection | where hive_id DIV 2 = 1 AND hive_id MOD 2 = 1 (not parsed)
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE isnull(note) AND if(hive_id = 1, 1, 0)
--> delete inspection | where isnull(note) AND if(hive_id = 1, 1, 0)
--> 1 of inspection gone: not-unique
DELETE FROM inspection WHERE (hive_id, inspection_id) = (5, 6)
--> delete inspection | where (hive_id, inspection_id) = (5, 6)
--> 1 of inspection gone:
DELETE FROM inspection WHERE (hive_id, inspection_id) IN ((5, 6), (3, 4))
--> delete inspection | where (hive_id, inspection_id) IN ((5, 6), (3, 4))
--> 2 of inspection gone:
DELETE FROM inspection WHERE day > now() - INTERVAL 1 DAY
--> delete inspection | where day > now() - INTERVAL 1 DAY
--> 1 of inspection gone: not-unique
DELETE FROM inspection WHERE rand() < 0.5
--> delete inspection | where rand() < 0.5
--> some of inspection gone: volatile-filter
DELETE FROM keeper WHERE phone = 171
--> refused type-mix
DELETE FROM batch WHERE kilos > 'ten'
--> refused type-mix
DELETE FROM hive WHERE name = 'ling'
--> delete hive | where name = 'ling'
--> 1 of hive gone: not-unique
DELETE FROM hive_season WHERE hive_id = 1 # AND season = 2026
--> delete hive_season | where hive_id = 1
--> 3 of hive_season gone: not-unique
-- JSON and sets
UPDATE doc SET body = json_set(body, '$.kilos', 4) WHERE json_value(body, '$.kind') = 'lime'
--> update doc | set body | where json_value(body, '$.kind') = 'lime'
--> 1 of doc exact, 1 would change: moves-filter not-unique
UPDATE doc SET body = json_remove(body, '$.tags') WHERE json_contains(body, '"a"', '$.tags')
--> update doc | set body | where json_contains(body, '"a"', '$.tags')
--> 1 of doc exact, 1 would change: moves-filter not-unique
UPDATE doc SET flags = 'a,c' WHERE find_in_set('b', flags)
--> update doc | set flags | where find_in_set('b', flags)
--> 1 of doc exact, 1 would change: moves-filter not-unique
UPDATE doc SET flags = '', seen = NULL WHERE flags & 1
--> update doc | set flags, seen | where flags & 1
--> 1 of doc exact, 1 would change: moves-filter not-unique
DELETE FROM doc WHERE json_extract(body, '$.kilos') = 3
--> delete doc | where json_extract(body, '$.kilos') = 3
--> 1 of doc gone: not-unique
-- order of assignments
UPDATE batch SET price = price + 1, list_price = price + 2 WHERE batch_id < 3
--> update batch | set price, list_price | where batch_id < 3
--> 2 of batch exact, 2 would change: not-unique repeats
UPDATE batch SET list_price = price + 2, price = price + 1 WHERE batch_id < 3
--> update batch | set list_price, price | where batch_id < 3
--> 2 of batch exact, 2 would change: not-unique repeats
UPDATE hive SET name = queen_colour, queen_colour = name WHERE hive_id IN (1, 2)
--> update hive | set name, queen_colour | where hive_id IN (1, 2)
--> 2 of hive exact, 2 would change: unlike
-- order and limit
UPDATE hive SET weight = weight + 1 WHERE apiary_id = 4 ORDER BY hive_id LIMIT 2
--> update hive | set weight | where apiary_id = 4 | ORDER BY hive_id LIMIT 2
--> 2 of hive exact, 2 would change: not-unique repeats
UPDATE hive SET weight = weight + 1 ORDER BY hive_id DESC LIMIT 2
--> update hive | set weight | ORDER BY hive_id DESC LIMIT 2
--> 2 of hive exact, 2 would change: repeats
UPDATE hive SET weight = 1 WHERE hive_id = 3 LIMIT 1
--> update hive | set weight | where hive_id = 3 | LIMIT 1
--> 1 of hive exact, 1 would change:
UPDATE hive SET weight = weight + 1 WHERE apiary_id = 4 LIMIT 1
--> update hive | set weight | where apiary_id = 4 | LIMIT 1
--> 1 of hive exact, 1 would change: not-unique repeats unstable-limit
UPDATE hive SET hive_id = hive_id + 1 WHERE hive_id >= 9 ORDER BY hive_id DESC
--> update hive | set hive_id | where hive_id >= 9 | ORDER BY hive_id DESC
--> 2 of hive exact, 2 would change: key-change moves-filter not-unique
DELETE FROM inspection WHERE hive_id > 1 ORDER BY day, inspection_id LIMIT 3
--> delete inspection | where hive_id > 1 | ORDER BY day, inspection_id LIMIT 3
--> 3 of inspection gone: not-unique
DELETE FROM inspection ORDER BY day LIMIT 1
--> delete inspection | ORDER BY day LIMIT 1
--> 1 of inspection gone:
DELETE FROM inspection WHERE hive_id = 1 LIMIT 5
--> delete inspection | where hive_id = 1 | LIMIT 5
--> 2 of inspection gone: not-unique
-- joins
UPDATE hive h JOIN apiary a ON a.apiary_id = h.apiary_id SET h.name = a.name WHERE h.hive_id < 3
--> update hive | set name | with h, a | where h.hive_id < 3
--> 2 of hive exact, 2 would change:
UPDATE hive JOIN apiary USING (apiary_id) SET hive.name = apiary.name, queen_colour = 'x' WHERE hive_id < 3
--> update hive | set name, queen_colour | with hive, apiary | where hive_id < 3
--> 2 of hive exact, 2 would change:
UPDATE hive, apiary SET hive.name = apiary.name WHERE apiary.apiary_id = hive.apiary_id AND hive.hive_id < 3
--> update hive | set name | with hive, apiary | where apiary.apiary_id = hive.apiary_id AND hive.hive_id < 3
--> 2 of hive exact, 2 would change:
UPDATE hive AS h INNER JOIN apiary AS a ON a.apiary_id = h.apiary_id INNER JOIN keeper AS k ON k.keeper_id = a.keeper_id SET h.queen_colour = 'blue' WHERE k.region = 'Moor'
--> update hive | set queen_colour | with h, a, k | where k.region = 'Moor'
--> 7 of hive exact, 6 would change: over-half
UPDATE hive NATURAL JOIN hive_season SET weight = total_kilos WHERE season = 2025
--> update hive | set weight | with hive, hive_season | where season = 2025
--> 3 of hive exact, 3 would change:
UPDATE hive h LEFT JOIN inspection i ON i.hive_id = h.hive_id SET h.queen_colour = 'none' WHERE i.hive_id IS NULL
--> update hive | set queen_colour | with h, i | where i.hive_id IS NULL
--> 3 of hive exact, 3 would change:
UPDATE inspection i RIGHT JOIN hive h ON i.hive_id = h.hive_id SET i.note = h.name WHERE h.apiary_id > 2
--> update inspection | set note | with i, h | where h.apiary_id > 2
--> 4 of inspection exact, 4 would change:
UPDATE apiary a STRAIGHT_JOIN hive h FORCE INDEX (hive_apiary) ON a.apiary_id = h.apiary_id SET h.weight = 1 WHERE a.apiary_id = 4
--> update hive | set weight | with a, h | where a.apiary_id = 4
--> 3 of hive exact, 3 would change:
UPDATE hive_season s JOIN (SELECT hive_id, sum(weight) AS w FROM hive GROUP BY hive_id) AS t ON t.hive_id = s.hive_id SET s.total_kilos = t.w
--> update hive_season | set total_kilos | with s, t
--> 8 of hive_season exact, 8 would change: becomes-null every-row
UPDATE hive h JOIN inspection i ON i.hive_id = h.hive_id SET h.weight = i.inspection_id
--> update hive | set weight | with h, i
--> 7 of hive unknown: many-sources over-half
UPDATE hive h JOIN inspection i ON i.hive_id = h.hive_id SET h.queen_colour = 'seen'
--> update hive | set queen_colour | with h, i
--> 7 of hive exact, 7 would change: many-sources over-half
UPDATE hive h JOIN hive o ON o.hive_id = h.hive_id + 1 SET h.name = o.name WHERE h.hive_id < 4
--> update hive | set name | with h, o | where h.hive_id < 4
--> 3 of hive exact, 3 would change:
UPDATE hive h JOIN hive o SET h.name = 'x' WHERE o.apiary_id = 3
--> update hive | set name | with h, o | where o.apiary_id = 3
--> 10 of hive exact, 10 would change: every-row many-sources target-again unlike
UPDATE batch b JOIN batch c USING (flower) SET b.price = b.price + 1, b.list_price = b.price WHERE c.batch_id = 3
--> update batch | set price, list_price | with b, c | where c.batch_id = 3
--> 2 of batch unknown: repeats
DELETE i FROM inspection i JOIN hive h ON h.hive_id = i.hive_id WHERE h.queen_colour = 'red'
--> delete inspection | with i, h | where h.queen_colour = 'red'
--> 4 of inspection gone:
DELETE inspection FROM inspection, hive WHERE hive.hive_id = inspection.hive_id AND hive.queen_colour = 'red'
--> delete inspection | with inspection, hive | where hive.hive_id = inspection.hive_id AND hive.queen_colour = 'red'
--> 4 of inspection gone:
DELETE inspection.* FROM inspection NATURAL JOIN hive WHERE hive.weight > 33
--> delete inspection | with inspection, hive | where hive.weight > 33
--> 5 of inspection gone:
DELETE FROM i USING inspection AS i INNER JOIN hive AS h USING (hive_id) WHERE h.apiary_id = 3
--> delete inspection | with i, h | where h.apiary_id = 3
--> 2 of inspection gone:
DELETE a FROM keeper a JOIN keeper b ON lower(a.region) = lower(b.region) AND a.keeper_id > b.keeper_id WHERE a.keeper_id = 5
--> delete keeper | with a, b | where a.keeper_id = 5
--> 1 of keeper gone: many-sources
DELETE s FROM hive_season s LEFT JOIN inspection i ON i.hive_id = s.hive_id WHERE i.inspection_id IS NULL
--> delete hive_season | with s, i | where i.inspection_id IS NULL
--> 1 of hive_season gone:
-- not exact, or not taken
WITH late AS (SELECT 1 AS i) UPDATE hive SET weight = 1 WHERE hive_id IN (SELECT i FROM late)
--> refused not-understood
UPDATE hive SET weight = (SELECT avg(x.weight) FROM (SELECT weight FROM hive) AS x) WHERE apiary_id = 2
--> update hive | set weight | where apiary_id = 2
--> 3 of hive unknown: not-unique
UPDATE inspection SET day = now() WHERE inspection_id = 1
--> update inspection | set day | where inspection_id = 1
--> 1 of inspection unknown:
UPDATE hive SET name = (SELECT a.name FROM apiary a WHERE a.apiary_id > hive.apiary_id) WHERE hive_id = 1
--> refused many-values
UPDATE keeper SET name = 'x' AND region = 'y' WHERE keeper_id = 1
--> refused and-for-comma, with what to write instead
UPDATE keeper SET name = 'x', name = 'y' WHERE keeper_id = 1
--> update keeper | set name, name | where keeper_id = 1
--> 1 of keeper exact, 1 would change: assigned-twice
UPDATE batch SET gross = 5 WHERE batch_id = 1
--> update batch | set gross | where batch_id = 1
--> 1 of batch exact, 0 would change: engine-column
UPDATE moor SET name = 'x' WHERE id = 1
--> update moor | set name | where id = 1
--> 1 of keeper exact, 1 would change: a-view
UPDATE IGNORE keeper SET name = 'x' WHERE keeper_id = 1
--> refused not-understood, with what to write instead
UPDATE hive h JOIN apiary a USING (apiary_id) SET h.name = 'x', a.name = 'y' WHERE hive_id = 1
--> refused several-tables, with what to write instead
DELETE i, s FROM inspection i JOIN hive_season s USING (hive_id) WHERE s.season = 2026
--> refused several-tables, with what to write instead
UPDATE sheet_import s JOIN hive h ON h.name = s.hive SET s.note = h.queen_colour
--> refused not-understood
UPDATE keeper SET name = 'x' /*! WHERE keeper_id = 1 */
--> refused not-understood
DELETE FROM inspection WHERE inspection_id = 1 RETURNING hive_id
--> delete inspection | where inspection_id = 1
--> 1 of inspection gone: rows-discarded
DELETE FROM inspection WHERE inspection_id = ?
--> refused not-understood
DELETE FROM inspection WHERE inspection_id = @id
--> refused not-understood
REPLACE INTO keeper VALUES (1, 'x', 'x', NULL, 'x')
--> refused not-understood
INSERT INTO apiary VALUES (9, 'x', 1) ON DUPLICATE KEY UPDATE name = 'y'
--> refused not-understood
TRUNCATE TABLE inspection
--> refused not-a-change, with what to write instead
CALL clean_up()
--> refused not-a-change
LOAD DATA INFILE 'x' INTO TABLE keeper
--> refused not-a-change
LOCK TABLES keeper WRITE
--> refused not-a-change
START TRANSACTION; DELETE FROM inspection WHERE inspection_id = 1; COMMIT
--> refused several-statements, with what to write instead
-- more of everything
UPDATE hive SET weight = i.n WHERE 1 = 0
--> refused unknown-name
UPDATE hive JOIN (SELECT hive_id, count(*) AS n FROM inspection GROUP BY hive_id) AS i USING (hive_id) SET weight = i.n WHERE i.n > 1
--> update hive | set weight | with hive, i | where i.n > 1
--> 3 of hive exact, 3 would change:
UPDATE hive_season AS s SET total_kilos = (SELECT sum(weight) FROM hive AS h WHERE h.hive_id <= s.hive_id), season = s.season + 100 WHERE s.season = 2025
--> update hive_season | set total_kilos, season | where s.season = 2025
--> 3 of hive_season exact, 3 would change: key-change moves-filter not-unique
UPDATE hive h JOIN (SELECT hive_id, rank() OVER (PARTITION BY apiary_id ORDER BY weight DESC) AS r FROM hive) x ON x.hive_id = h.hive_id SET h.weight = x.r
--> update hive | set weight | with h, x
--> 10 of hive exact, 10 would change: every-row
UPDATE keeper SET phone = (SELECT left(group_concat(name ORDER BY name SEPARATOR '; '), 20) FROM apiary a WHERE a.keeper_id = keeper.keeper_id) WHERE keeper_id <= 3
--> update keeper | set phone | where keeper_id <= 3
--> 3 of keeper exact, 2 would change: not-unique subquery-none
UPDATE inspection SET note = concat(hive_id, ': ', ifnull(note, '-')) WHERE date_format(day, '%m') = '05'
--> update inspection | set note | where date_format(day, '%m') = '05'
--> 4 of inspection exact, 4 would change: not-unique repeats
UPDATE batch SET price = greatest(price * 0.9, 9.99), season = season + 1 WHERE season = 2026 ORDER BY batch_id
--> update batch | set price, season | where season = 2026 | ORDER BY batch_id
--> 4 of batch exact, 4 would change: moves-filter not-unique
UPDATE batch b JOIN (SELECT flower, avg(price) AS price FROM batch GROUP BY flower) a USING (flower) SET b.price = a.price WHERE b.season = 2025
--> update batch | set price | with b, a | where b.season = 2025
--> 2 of batch exact, 2 would change:
UPDATE batch SET kilos = kilos + 1 WHERE batch_id IN (SELECT batch_id FROM (SELECT batch_id FROM batch ORDER BY price DESC, batch_id LIMIT 2) AS top)
--> update batch | set kilos | where batch_id IN (SELECT batch_id FROM (SELECT batch_id FROM batch ORDER BY price DESC, batch_id LIMIT 2) AS top)
--> 2 of batch exact, 2 would change: not-unique repeats
UPDATE apiary a, hive h SET h.queen_colour = if(a.keeper_id = 1, 'white', NULL), h.weight = a.apiary_id * 10.255 WHERE a.apiary_id = h.apiary_id AND h.hive_id BETWEEN 2 AND 8
--> update hive | set queen_colour, weight | with a, h | where a.apiary_id = h.apiary_id AND h.hive_id BETWEEN 2 AND 8
--> 7 of hive exact, 7 would change: becomes-null over-half
UPDATE keeper a JOIN keeper b ON b.region = a.region AND b.keeper_id <> a.keeper_id SET a.phone = 'same'
--> update keeper | set phone | with a, b
--> 3 of keeper exact, 3 would change: many-sources
UPDATE doc SET body = json_array_append(body, '$.tags', 'c'), flags = concat(flags, ',c'), seen = seen + INTERVAL 1 DAY WHERE doc_id = 1
--> update doc | set body, flags, seen | where doc_id = 1
--> 1 of doc exact, 1 would change: repeats
UPDATE hive SET name = 'Ling', weight = weight * 2, queen_colour = concat('x', name) WHERE hive_id IN (5, 6)
--> update hive | set name, weight, queen_colour | where hive_id IN (5, 6)
--> 2 of hive exact, 2 would change: repeats unlike
DELETE s FROM hive_season s JOIN hive_season o ON o.hive_id = s.hive_id AND o.season > s.season
--> delete hive_season | with s, o
--> 3 of hive_season gone: many-sources
DELETE FROM inspection WHERE (hive_id, day) IN (SELECT hive_id, d FROM (SELECT hive_id, min(day) AS d FROM inspection GROUP BY hive_id) AS m)
--> delete inspection | where (hive_id, day) IN (SELECT hive_id, d FROM (SELECT hive_id, min(day) AS d FROM inspection GROUP BY hive_id) AS m)
--> 7 of inspection gone: not-unique over-half
DELETE i FROM inspection i LEFT JOIN hive_season s ON s.hive_id = i.hive_id AND s.season = year(i.day) WHERE s.hive_id IS NULL AND i.hive_id > 3
--> delete inspection | with i, s | where s.hive_id IS NULL AND i.hive_id > 3
--> 4 of inspection gone:
DELETE FROM inspection WHERE note LIKE '%\_%' OR note SOUNDS LIKE 'kalm'
--> delete inspection | where note LIKE '%\_%' OR note SOUNDS LIKE 'kalm' (not parsed)
--> 1 of inspection gone: not-unique plain-like
DELETE FROM inspection WHERE hive_id IN (1, 2) IS TRUE AND (note IS NOT NULL) IS NOT FALSE
--> delete inspection | where hive_id IN (1, 2) IS TRUE AND (note IS NOT NULL) IS NOT FALSE
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE day = '2026-04-01' COLLATE utf8mb4_bin OR day IN (DATE '2026-04-15', 20260402)
--> delete inspection | where day = '2026-04-01' COLLATE utf8mb4_bin OR day IN (DATE '2026-04-15', 20260402)
--> 3 of inspection gone: not-unique
DELETE FROM sheet_import WHERE hive = 'Foxglove' LIMIT 1
--> delete sheet_import | where hive = 'Foxglove' | LIMIT 1
--> 1 of sheet_import gone: not-unique unstable-limit
