-- one value, one row
UPDATE keeper SET region = 'Moor' WHERE keeper_id = 2
--> update keeper | set region | where keeper_id = 2
--> 1 of keeper exact, 1 would change:
update keeper set region='Moor' where keeper_id=2
--> update keeper | set region | where keeper_id=2
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET phone = NULL WHERE keeper_id = 1
--> update keeper | set phone | where keeper_id = 1
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET phone = '' WHERE phone IS NULL
--> update keeper | set phone | where phone IS NULL
--> 2 of keeper exact, 2 would change: moves-filter not-unique
UPDATE keeper SET name = 'Ann O''Byre' WHERE email = 'ann@heather.example'
--> update keeper | set name | where email = 'ann@heather.example'
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET region = 'Moor' WHERE keeper_id = 77
--> update keeper | set region | where keeper_id = 77
--> 0 of keeper exact, 0 would change: nothing-matched
UPDATE keeper SET region = 'Moor' WHERE region = 'Moor'
--> update keeper | set region | where region = 'Moor'
-->sp 2 of keeper exact, 0 would change: moves-filter not-unique
-->m 3 of keeper exact, 1 would change: moves-filter not-unique
UPDATE hive SET weight = -1.5 WHERE hive_id = 1
--> update hive | set weight | where hive_id = 1
--> 1 of hive exact, 1 would change:
UPDATE hive SET weight = +2 WHERE hive_id = -1 OR hive_id = 2
--> update hive | set weight | where hive_id = -1 OR hive_id = 2
--> 1 of hive exact, 1 would change:
UPDATE hive SET weight = 1e1 WHERE hive_id IN (3)
--> update hive | set weight | where hive_id IN (3)
--> 1 of hive exact, 1 would change:
-- several assignments and expressions
UPDATE keeper SET region = 'Dale', phone = '0171 9' WHERE keeper_id IN (2, 4)
--> update keeper | set region, phone | where keeper_id IN (2, 4)
--> 2 of keeper exact, 2 would change:
UPDATE batch SET price = price * 1.1 WHERE flower = 'lime' AND season = 2026
--> update batch | set price | where flower = 'lime' AND season = 2026
--> 2 of batch exact, 2 would change: not-unique repeats
UPDATE batch SET price = round(price * 1.10, 1), list_price = price + 2 WHERE batch_id = 1
--> update batch | set price, list_price | where batch_id = 1
--> 1 of batch exact, 1 would change: repeats
UPDATE batch SET list_price = coalesce(list_price, price) WHERE season = 2026
--> update batch | set list_price | where season = 2026
--> 4 of batch exact, 1 would change: not-unique
UPDATE batch SET list_price = price, season = season + 1 WHERE kilos > 9
--> update batch | set list_price, season | where kilos > 9
--> 4 of batch exact, 4 would change: not-unique repeats
UPDATE batch SET kilos = kilos - 1, price = (price + list_price) / 2 WHERE list_price IS NOT NULL
--> update batch | set kilos, price | where list_price IS NOT NULL
--> 5 of batch exact, 5 would change: merges not-unique repeats
UPDATE hive SET queen_colour = CASE WHEN weight > 30 THEN 'red' WHEN weight IS NULL THEN queen_colour ELSE 'blue' END WHERE apiary_id = 2
--> update hive | set queen_colour | where apiary_id = 2
--> 3 of hive exact, 1 would change: not-unique
UPDATE hive SET queen_colour = CASE queen_colour WHEN 'red' THEN 'green' ELSE 'red' END WHERE queen_colour IN ('red', 'green')
--> update hive | set queen_colour | where queen_colour IN ('red', 'green')
--> 5 of hive exact, 5 would change: moves-filter not-unique
UPDATE hive SET name = upper(name) WHERE hive_id BETWEEN 2 AND 4
--> update hive | set name | where hive_id BETWEEN 2 AND 4
--> 3 of hive exact, 3 would change: not-unique unlike
UPDATE hive SET name = trim(name), weight = NULL WHERE weight < 28 OR weight > 39
--> update hive | set name, weight | where weight < 28 OR weight > 39
--> 2 of hive exact, 2 would change: moves-filter not-unique
UPDATE keeper SET phone = nullif(phone, '')
--> update keeper | set phone
--> 6 of keeper exact, 1 would change: becomes-null no-filter
UPDATE keeper SET phone = nullif(phone, '') WHERE phone = ''
--> update keeper | set phone | where phone = ''
--> 1 of keeper exact, 1 would change: becomes-null moves-filter not-unique
UPDATE hive_season SET total_kilos = total_kilos + 0.5 WHERE hive_id = 1
--> update hive_season | set total_kilos | where hive_id = 1
--> 3 of hive_season exact, 2 would change: not-unique repeats stays-null
UPDATE hive_season SET total_kilos = 0 WHERE total_kilos IS NULL
--> update hive_season | set total_kilos | where total_kilos IS NULL
--> 2 of hive_season exact, 2 would change: moves-filter not-unique
UPDATE hive_season SET season = season + 10 WHERE hive_id = 2 AND season = 2026
--> update hive_season | set season | where hive_id = 2 AND season = 2026
--> 1 of hive_season exact, 1 would change: key-change moves-filter
UPDATE hive SET hive_id = hive_id + 100 WHERE hive_id IN (9, 10)
--> update hive | set hive_id | where hive_id IN (9, 10)
--> 2 of hive exact, 2 would change: key-change moves-filter
UPDATE inspection SET note = 'x' WHERE note = NULL
--> update inspection | set note | where note = NULL
--> 0 of inspection exact, 0 would change: moves-filter not-unique nothing-matched null-compare
UPDATE inspection SET note = replace(note, 'eggs', 'brood') WHERE note LIKE '%eggs%'
--> update inspection | set note | where note LIKE '%eggs%'
--> 2 of inspection exact, 2 would change: moves-filter not-unique
-- filters
DELETE FROM inspection WHERE day < '2026-01-01'
--> delete inspection | where day < '2026-01-01'
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE day BETWEEN '2026-04-01' AND '2026-04-30' AND note IS NOT NULL
--> delete inspection | where day BETWEEN '2026-04-01' AND '2026-04-30' AND note IS NOT NULL
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE note LIKE '%!%%' ESCAPE '!'
--> delete inspection | where note LIKE '%!%%' ESCAPE '!'
--> 1 of inspection gone: not-unique
DELETE FROM inspection WHERE note LIKE 'calm'
--> delete inspection | where note LIKE 'calm'
-->sm 2 of inspection gone: not-unique plain-like
-->p 1 of inspection gone: not-unique plain-like
DELETE FROM inspection WHERE note LIKE '%'
--> delete inspection | where note LIKE '%'
--> 8 of inspection gone: like-anything not-unique over-half
DELETE FROM inspection WHERE note NOT LIKE '%seen%'
--> delete inspection | where note NOT LIKE '%seen%'
--> 5 of inspection gone: not-unique
DELETE FROM inspection WHERE note IS NULL OR note = ''
--> delete inspection | where note IS NULL OR note = ''
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE NOT (hive_id = 1 OR hive_id = 3)
--> delete inspection | where NOT (hive_id = 1 OR hive_id = 3)
--> 6 of inspection gone: not-unique over-half
DELETE FROM inspection WHERE (hive_id = 1 OR hive_id = 3) AND note IS NOT NULL
--> delete inspection | where (hive_id = 1 OR hive_id = 3) AND note IS NOT NULL
--> 3 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id = 1 AND note IS NULL OR hive_id = 3
--> delete inspection | where hive_id = 1 AND note IS NULL OR hive_id = 3
--> 3 of inspection gone: mixed-and-or not-unique
DELETE FROM inspection WHERE hive_id <> 1 AND hive_id != 3
--> delete inspection | where hive_id <> 1 AND hive_id != 3
--> 6 of inspection gone: not-unique over-half
DELETE FROM inspection WHERE hive_id NOT IN (1, 3, 5)
--> delete inspection | where hive_id NOT IN (1, 3, 5)
--> 4 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id NOT BETWEEN 2 AND 9
--> delete inspection | where hive_id NOT BETWEEN 2 AND 9
--> 3 of inspection gone: not-unique
DELETE FROM inspection WHERE inspection_id = 1 OR inspection_id = 2 OR inspection_id = 3
--> delete inspection | where inspection_id = 1 OR inspection_id = 2 OR inspection_id = 3
--> 3 of inspection gone:
DELETE FROM inspection WHERE inspection_id % 2 = 1
--> delete inspection | where inspection_id % 2 = 1
--> 5 of inspection gone: not-unique
DELETE FROM inspection WHERE length(note) > 8
--> delete inspection | where length(note) > 8
--> 5 of inspection gone: not-unique
DELETE FROM inspection WHERE CASE WHEN hive_id = 5 THEN 1 ELSE 0 END = 1
--> delete inspection | where CASE WHEN hive_id = 5 THEN 1 ELSE 0 END = 1
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE coalesce(note, 'none') = 'none'
--> delete inspection | where coalesce(note, 'none') = 'none'
--> 2 of inspection gone: not-unique
DELETE FROM inspection
--> delete inspection
--> 10 of inspection gone: no-filter
DELETE FROM inspection WHERE 1 = 1
--> delete inspection | where 1 = 1
--> 10 of inspection gone: always-true not-unique
DELETE FROM inspection WHERE hive_id = hive_id
--> delete inspection | where hive_id = hive_id
--> 10 of inspection gone: always-true not-unique
DELETE FROM inspection WHERE 1 = 0
--> delete inspection | where 1 = 0
--> 0 of inspection gone: not-unique nothing-matched
DELETE FROM hive_season WHERE hive_id = 1 AND season = 2026
--> delete hive_season | where hive_id = 1 AND season = 2026
--> 1 of hive_season gone:
DELETE FROM hive_season WHERE season = 2025
--> delete hive_season | where season = 2025
--> 3 of hive_season gone: not-unique
DELETE FROM sheet_import WHERE hive = 'Foxglove'
--> delete sheet_import | where hive = 'Foxglove'
--> 2 of sheet_import gone: not-unique twin-rows
DELETE FROM sheet_import WHERE hive = 'Ling' AND day = '2026-07-08'
--> delete sheet_import | where hive = 'Ling' AND day = '2026-07-08'
--> 1 of sheet_import gone: not-unique
UPDATE sheet_import SET kilos = replace(kilos, ',', '.') WHERE kilos LIKE '%,%'
--> update sheet_import | set kilos | where kilos LIKE '%,%'
--> 1 of sheet_import exact, 1 would change: moves-filter not-unique
UPDATE sheet_import SET note = NULL WHERE note = ''
--> update sheet_import | set note | where note = ''
--> 1 of sheet_import exact, 1 would change: moves-filter not-unique
UPDATE sheet_import SET note = 'dry' WHERE note IS NULL
--> update sheet_import | set note | where note IS NULL
--> 3 of sheet_import exact, 3 would change: moves-filter not-unique twin-rows
-- subqueries in the filter
DELETE FROM inspection WHERE hive_id IN (SELECT hive_id FROM hive WHERE apiary_id = 2)
--> delete inspection | where hive_id IN (SELECT hive_id FROM hive WHERE apiary_id = 2)
--> 3 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id NOT IN (SELECT hive_id FROM hive WHERE queen_colour = 'red')
--> delete inspection | where hive_id NOT IN (SELECT hive_id FROM hive WHERE queen_colour = 'red')
--> 6 of inspection gone: not-unique over-half
DELETE FROM hive_season WHERE total_kilos NOT IN (SELECT total_kilos FROM hive_season WHERE season = 2026)
--> delete hive_season | where total_kilos NOT IN (SELECT total_kilos FROM hive_season WHERE season = 2026)
--> 0 of hive_season gone: not-in-null not-unique nothing-matched
DELETE FROM inspection WHERE EXISTS (SELECT 1 FROM hive WHERE hive.hive_id = inspection.hive_id AND hive.queen_colour = 'red')
--> delete inspection | where EXISTS (SELECT 1 FROM hive WHERE hive.hive_id = inspection.hive_id AND hive.queen_colour = 'red')
--> 4 of inspection gone: not-unique
DELETE FROM inspection WHERE NOT EXISTS (SELECT 1 FROM hive h WHERE h.hive_id = inspection.hive_id AND h.weight > 30)
--> delete inspection | where NOT EXISTS (SELECT 1 FROM hive h WHERE h.hive_id = inspection.hive_id AND h.weight > 30)
--> 2 of inspection gone: not-unique
DELETE FROM hive_season WHERE NOT EXISTS (SELECT 1 FROM inspection i WHERE i.hive_id = hive_season.hive_id)
--> delete hive_season | where NOT EXISTS (SELECT 1 FROM inspection i WHERE i.hive_id = hive_season.hive_id)
--> 1 of hive_season gone: not-unique
DELETE FROM inspection WHERE hive_id = (SELECT hive_id FROM hive WHERE name = 'Gorse')
--> delete inspection | where hive_id = (SELECT hive_id FROM hive WHERE name = 'Gorse')
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE day = (SELECT max(x.day) FROM (SELECT day FROM inspection) AS x)
--> delete inspection | where day = (SELECT max(x.day) FROM (SELECT day FROM inspection) AS x)
--> 1 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id IN (SELECT hive_id FROM hive WHERE apiary_id IN (SELECT apiary_id FROM apiary WHERE keeper_id = 1))
--> delete inspection | where hive_id IN (SELECT hive_id FROM hive WHERE apiary_id IN (SELECT apiary_id FROM apiary WHERE keeper_id = 1))
--> 6 of inspection gone: not-unique over-half
DELETE FROM inspection WHERE (SELECT count(*) FROM hive_season s WHERE s.hive_id = inspection.hive_id) > 1
--> delete inspection | where (SELECT count(*) FROM hive_season s WHERE s.hive_id = inspection.hive_id) > 1
--> 3 of inspection gone: not-unique
UPDATE keeper SET region = 'Hills' WHERE keeper_id IN (SELECT keeper_id FROM apiary GROUP BY keeper_id HAVING count(*) > 1)
--> update keeper | set region | where keeper_id IN (SELECT keeper_id FROM apiary GROUP BY keeper_id HAVING count(*) > 1)
--> 1 of keeper exact, 1 would change: not-unique
UPDATE hive SET queen_colour = 'white' WHERE hive_id IN (SELECT hive_id FROM hive_season UNION SELECT hive_id FROM inspection) AND queen_colour IS NULL
--> update hive | set queen_colour | where hive_id IN (SELECT hive_id FROM hive_season UNION SELECT hive_id FROM inspection) AND queen_colour IS NULL
--> 1 of hive exact, 1 would change: moves-filter not-unique
UPDATE hive SET weight = weight + 1 WHERE hive_id IN (SELECT i.hive_id FROM inspection AS i JOIN apiary AS a ON a.apiary_id = hive.apiary_id WHERE a.name = 'Whin Bank')
--> update hive | set weight | where hive_id IN (SELECT i.hive_id FROM inspection AS i JOIN apiary AS a ON a.apiary_id = hive.apiary_id WHERE a.name = 'Whin Bank')
--> 2 of hive exact, 2 would change: not-unique repeats
UPDATE hive SET name = 'big' WHERE (hive_id, apiary_id) IN (SELECT hive_id, apiary_id FROM hive_season, apiary WHERE total_kilos > 25)
--> update hive | set name | where (hive_id, apiary_id) IN (SELECT hive_id, apiary_id FROM hive_season, apiary WHERE total_kilos > 25)
--> 1 of hive exact, 1 would change: not-unique unlike
-- subqueries in SET
UPDATE hive SET name = (SELECT a.name FROM apiary a WHERE a.apiary_id = hive.apiary_id) WHERE hive_id < 4
--> update hive | set name | where hive_id < 4
--> 3 of hive exact, 3 would change: not-unique
UPDATE hive SET weight = (SELECT max(total_kilos) FROM hive_season s WHERE s.hive_id = hive.hive_id) WHERE apiary_id <= 2
--> update hive | set weight | where apiary_id <= 2
--> 5 of hive exact, 5 would change: becomes-null not-unique subquery-none
UPDATE hive SET weight = coalesce((SELECT sum(total_kilos) FROM hive_season s WHERE s.hive_id = hive.hive_id), weight)
--> update hive | set weight
--> 10 of hive exact, 4 would change: merges no-filter
UPDATE hive SET weight = coalesce((SELECT sum(total_kilos) FROM hive_season s WHERE s.hive_id = hive.hive_id), weight) WHERE hive_id < 6
--> update hive | set weight | where hive_id < 6
--> 5 of hive exact, 4 would change: not-unique
UPDATE hive SET name = (SELECT k.name FROM keeper k WHERE k.region = 'Nowhere') WHERE queen_colour = 'green' AND 1 = 0
--> update hive | set name | where queen_colour = 'green' AND 1 = 0
--> 0 of hive exact, 0 would change: not-unique nothing-matched
UPDATE inspection SET note = (SELECT h.queen_colour FROM hive h WHERE h.hive_id = inspection.hive_id) WHERE note IS NULL
--> update inspection | set note | where note IS NULL
--> 2 of inspection exact, 2 would change: moves-filter not-unique
UPDATE inspection SET note = (SELECT h.queen_colour FROM hive h WHERE h.hive_id = 3) WHERE inspection_id = 4
--> update inspection | set note | where inspection_id = 4
--> 1 of inspection exact, 1 would change: becomes-null
UPDATE hive_season SET total_kilos = (SELECT count(*) FROM inspection i WHERE i.hive_id = hive_season.hive_id) WHERE season = 2026
--> update hive_season | set total_kilos | where season = 2026
--> 4 of hive_season exact, 4 would change: not-unique
UPDATE inspection SET note = (SELECT i.note FROM batch b, inspection i WHERE b.batch_id = i.inspection_id AND b.batch_id = inspection.inspection_id) WHERE inspection_id = 6
--> update inspection | set note | where inspection_id = 6
-->sm 1 of inspection unknown:
-->p 1 of inspection exact, 0 would change:
UPDATE keeper SET phone = (SELECT s.kilos FROM sheet_import s WHERE s.hive = 'Foxglove' LIMIT 1) WHERE keeper_id = 4
--> update keeper | set phone | where keeper_id = 4
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET phone = (SELECT s.kilos FROM sheet_import s WHERE s.hive = 'Ling' LIMIT 1) WHERE keeper_id = 4
--> update keeper | set phone | where keeper_id = 4
--> 1 of keeper exact, 1 would change: hidden-values
-- layout and comments
UPDATE /* which */ keeper -- the table
   SET region /* to */ = 'Moor' -- WHERE keeper_id = 1
 WHERE /* not all */ keeper_id = 2 -- AND region = 'x'
--> update keeper | set region | where keeper_id = 2
--> 1 of keeper exact, 1 would change:
DELETE FROM inspection WHERE hive_id = 1 -- AND note IS NULL
--> delete inspection | where hive_id = 1
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE note = '-- no comment' OR note = '/* nor this */' OR note = 'calm'
--> delete inspection | where note = '-- no comment' OR note = '/* nor this */' OR note = 'calm'
-->sp 1 of inspection gone: not-unique
-->m 2 of inspection gone: not-unique
DELETE FROM inspection WHERE note = 'semi;colon' OR inspection_id = 3;
--> delete inspection | where note = 'semi;colon' OR inspection_id = 3
--> 1 of inspection gone: not-unique
DELETE	FROM	inspection	WHERE	inspection_id	=	4	;
--> delete inspection | where inspection_id = 4
--> 1 of inspection gone:
UPDATE keeper SET name = 'Zoë Ærø ❤' WHERE keeper_id = 6
--> update keeper | set name | where keeper_id = 6
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET name = 'WHERE keeper_id = 1' WHERE keeper_id = 5
--> update keeper | set name | where keeper_id = 5
--> 1 of keeper exact, 1 would change:
-- with text, number and both mixed
DELETE FROM sheet_import WHERE kilos = '6.6'
--> delete sheet_import | where kilos = '6.6'
--> 2 of sheet_import gone: not-unique twin-rows
UPDATE keeper SET region = 'MOOR' WHERE keeper_id = 3
--> update keeper | set region | where keeper_id = 3
--> 1 of keeper exact, 1 would change:
UPDATE hive SET queen_colour = 'ultramarine' WHERE 1 = 0
-->sm update hive | set queen_colour | where 1 = 0
-->p refused too-long
-->sm 0 of hive exact, 0 would change: not-unique nothing-matched too-long
UPDATE hive SET name = 'same', queen_colour = 'same' WHERE apiary_id = 4
--> update hive | set name, queen_colour | where apiary_id = 4
--> 3 of hive exact, 3 would change: not-unique unlike
UPDATE keeper SET keeper_id = 50 WHERE keeper_id = 6
--> update keeper | set keeper_id | where keeper_id = 6
--> 1 of keeper exact, 1 would change: key-change moves-filter
UPDATE batch SET flower = 'Lime' WHERE flower = 'lime'
--> update batch | set flower | where flower = 'lime'
--> 3 of batch exact, 3 would change: moves-filter not-unique
UPDATE batch SET price = 9.99 WHERE price > 5 AND price < 100
--> update batch | set price | where price > 5 AND price < 100
--> 6 of batch exact, 5 would change: every-row moves-filter not-unique
UPDATE batch SET list_price = list_price - price WHERE batch_id < 4
--> update batch | set list_price | where batch_id < 4
--> 3 of batch exact, 2 would change: not-unique repeats stays-null
