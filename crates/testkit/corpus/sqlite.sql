-- names and quotes
UPDATE "keeper" SET "region" = 'Moor' WHERE "keeper_id" = 2
--> update keeper | set region | where "keeper_id" = 2
--> 1 of keeper exact, 1 would change:
UPDATE [keeper] SET [region] = 'Moor' WHERE [keeper_id] = 2
--> update keeper | set region | where [keeper_id] = 2
--> 1 of keeper exact, 1 would change:
UPDATE `keeper` SET `region` = 'Moor' WHERE `keeper_id` = 2
--> update keeper | set region | where `keeper_id` = 2
--> 1 of keeper exact, 1 would change:
UPDATE main.keeper SET region = 'Moor' WHERE main.keeper.keeper_id = 2
--> update keeper | set region | where main.keeper.keeper_id = 2
--> 1 of keeper exact, 1 would change:
UPDATE keeper AS k SET region = 'Moor' WHERE k.keeper_id = 2
--> update keeper | set region | where k.keeper_id = 2
--> 1 of keeper exact, 1 would change:
UPDATE main."keeper" AS "the keeper" SET region = 'Moor' WHERE "the keeper".keeper_id = 2
--> update keeper | set region | where "the keeper".keeper_id = 2
--> 1 of keeper exact, 1 would change:
UPDATE KEEPER SET REGION = 'Moor' WHERE Keeper.Keeper_Id = 2
--> update KEEPER | set REGION | where Keeper.Keeper_Id = 2
--> 1 of keeper exact, 1 would change:
UPDATE "odd names" SET "select" = 'y', "a.b" = 0.5 WHERE "row no" = 2
--> update odd names | set select, a.b | where "row no" = 2
--> 1 of odd names exact, 1 would change:
UPDATE [odd names] SET [näme] = 'ß' WHERE "näme" = 'over'
--> update odd names | set näme | where "näme" = 'over'
--> 2 of odd names exact, 2 would change: moves-filter not-unique
UPDATE "odd names" AS [o n] SET "select" = "o n"."näme" || "o n"."a.b" WHERE [o n].[row no] IN (1, 3)
--> update odd names | set select | where [o n].[row no] IN (1, 3)
--> 2 of odd names exact, 2 would change:
UPDATE keeper SET region = "Moor" WHERE keeper_id = 2
--> update keeper | set region | where keeper_id = 2
--> 1 of keeper exact, 1 would change: quoted-word
DELETE FROM "odd names" WHERE "slect" = 'slect'
--> delete odd names | where "slect" = 'slect'
--> 3 of odd names gone: every-row not-unique quoted-word
DELETE FROM main.inspection AS i WHERE i.hive_id = 5
--> delete inspection | where i.hive_id = 5
--> 2 of inspection gone: not-unique
-- hints
UPDATE hive INDEXED BY hive_apiary SET weight = 1 WHERE apiary_id = 3
--> update hive | set weight | where apiary_id = 3
--> 2 of hive exact, 2 would change: not-unique
UPDATE hive AS h INDEXED BY hive_apiary SET weight = 1 WHERE h.apiary_id = 3
--> update hive | set weight | where h.apiary_id = 3
--> 2 of hive exact, 2 would change: not-unique
UPDATE hive NOT INDEXED SET weight = 1 WHERE apiary_id = 3
--> update hive | set weight | where apiary_id = 3
--> 2 of hive exact, 2 would change: not-unique
DELETE FROM hive INDEXED BY hive_apiary WHERE apiary_id = 4
--> delete hive | where apiary_id = 4
--> 3 of hive gone: not-unique
-- operators of its own
DELETE FROM inspection WHERE note GLOB '*eggs*'
--> delete inspection | where note GLOB '*eggs*'
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE note NOT GLOB 'c*'
--> delete inspection | where note NOT GLOB 'c*'
--> 6 of inspection gone: not-unique over-half
DELETE FROM inspection WHERE note ISNULL
--> delete inspection | where note ISNULL
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE note NOTNULL AND note NOT NULL
--> delete inspection | where note NOTNULL AND note NOT NULL
--> 8 of inspection gone: not-unique over-half
DELETE FROM inspection WHERE note IS 'calm'
--> delete inspection | where note IS 'calm'
--> 1 of inspection gone: not-unique
DELETE FROM inspection WHERE note IS NOT 'calm'
--> delete inspection | where note IS NOT 'calm'
--> 9 of inspection gone: not-unique over-half
DELETE FROM inspection WHERE note IS NOT DISTINCT FROM NULL
--> delete inspection | where note IS NOT DISTINCT FROM NULL
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id == 5
--> delete inspection | where hive_id == 5
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id <> 5 AND hive_id & 1 AND hive_id << 1 > 4
--> delete inspection | where hive_id <> 5 AND hive_id & 1 AND hive_id << 1 > 4
--> 4 of inspection gone: not-unique
DELETE FROM inspection WHERE (hive_id, inspection_id) = (5, 6)
--> delete inspection | where (hive_id, inspection_id) = (5, 6)
--> 1 of inspection gone:
DELETE FROM inspection WHERE (hive_id, inspection_id) IN (VALUES (5, 6), (3, 4))
--> delete inspection | where (hive_id, inspection_id) IN (VALUES (5, 6), (3, 4))
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE day > date('2026-04-10', '+1 month')
--> delete inspection | where day > date('2026-04-10', '+1 month')
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE day > date('now')
--> delete inspection | where day > date('now')
--> 1 of inspection gone: not-unique
DELETE FROM inspection WHERE random() > 0
--> delete inspection | where random() > 0
--> some of inspection gone: volatile-filter
DELETE FROM inspection WHERE hive_id = (SELECT hive_id FROM hive WHERE apiary_id = 3)
--> delete inspection | where hive_id = (SELECT hive_id FROM hive WHERE apiary_id = 3)
--> 2 of inspection gone: many-values not-unique
DELETE FROM keeper WHERE phone = 171
--> delete keeper | where phone = 171
--> 0 of keeper gone: not-unique nothing-matched type-mix
DELETE FROM batch WHERE kilos > 'ten'
--> delete batch | where kilos > 'ten'
--> 0 of batch gone: not-unique nothing-matched type-mix
DELETE FROM inspection WHERE rowid = 4
--> delete inspection | where rowid = 4
--> 1 of inspection gone:
DELETE FROM sheet_import WHERE rowid = 2
--> delete sheet_import | where rowid = 2
--> 1 of sheet_import gone:
DELETE FROM sheet_import WHERE rowid NOT IN (SELECT min(rowid) FROM sheet_import GROUP BY hive, day, kilos)
--> delete sheet_import | where rowid NOT IN (SELECT min(rowid) FROM sheet_import GROUP BY hive, day, kilos)
--> 1 of sheet_import gone: not-unique
-- JSON
UPDATE doc SET body = json_set(body, '$.kilos', 4) WHERE body ->> '$.kind' = 'lime'
--> update doc | set body | where body ->> '$.kind' = 'lime'
--> 1 of doc exact, 1 would change: moves-filter not-unique
UPDATE doc SET body = json_remove(body, '$.tags') WHERE json_extract(body, '$.tags[0]') = 'a'
--> update doc | set body | where json_extract(body, '$.tags[0]') = 'a'
--> 1 of doc exact, 1 would change: moves-filter not-unique
DELETE FROM doc WHERE EXISTS (SELECT 1 FROM json_each(doc.body, '$.tags') WHERE value = 'b')
--> delete doc | where EXISTS (SELECT 1 FROM json_each(doc.body, '$.tags') WHERE value = 'b')
--> 1 of doc gone: not-unique
DELETE FROM doc WHERE body -> '$.kilos' IS NULL
--> delete doc | where body -> '$.kilos' IS NULL
--> 1 of doc gone: not-unique
-- row values
UPDATE hive SET (name, queen_colour) = ('x', 'red') WHERE hive_id = 1
--> update hive | set name, queen_colour | where hive_id = 1
--> 1 of hive exact, 1 would change: unlike
UPDATE hive SET (name, weight) = (upper(name), weight * 2), queen_colour = NULL WHERE hive_id = 2
--> update hive | set name, weight, queen_colour | where hive_id = 2
--> 1 of hive exact, 1 would change: repeats unlike
UPDATE hive SET (name, queen_colour) = (SELECT a.name, 'blue' FROM apiary a WHERE a.apiary_id = hive.apiary_id) WHERE hive_id > 8
--> update hive | set name, queen_colour | where hive_id > 8
--> 2 of hive exact, 2 would change: not-unique
UPDATE hive SET (name, queen_colour) = (SELECT flower, season FROM batch WHERE batch_id = hive_id) WHERE hive_id = 77
--> update hive | set name, queen_colour | where hive_id = 77
--> 0 of hive exact, 0 would change: nothing-matched
UPDATE hive SET (weight) = (3) WHERE hive_id = 1
--> update hive | set weight | where hive_id = 1
--> 1 of hive exact, 1 would change:
-- joins
UPDATE hive SET name = a.name FROM apiary a WHERE a.apiary_id = hive.apiary_id AND hive.hive_id < 3
--> update hive | set name | with a | where a.apiary_id = hive.apiary_id AND hive.hive_id < 3
--> 2 of hive exact, 2 would change:
UPDATE hive AS h SET queen_colour = 'blue' FROM apiary AS a JOIN keeper AS k ON k.keeper_id = a.keeper_id WHERE a.apiary_id = h.apiary_id AND k.region = 'Moor'
--> update hive | set queen_colour | with a, k | where a.apiary_id = h.apiary_id AND k.region = 'Moor'
--> 5 of hive exact, 5 would change:
UPDATE hive AS h SET queen_colour = 'blue' FROM apiary AS a, keeper AS k WHERE k.keeper_id = a.keeper_id AND a.apiary_id = h.apiary_id AND k.region = 'Moor'
--> update hive | set queen_colour | with a, k | where k.keeper_id = a.keeper_id AND a.apiary_id = h.apiary_id AND k.region = 'Moor'
--> 5 of hive exact, 5 would change:
UPDATE hive_season SET total_kilos = t.sum FROM (SELECT hive_id, sum(weight) AS sum FROM hive GROUP BY hive_id) AS t WHERE t.hive_id = hive_season.hive_id
--> update hive_season | set total_kilos | with t | where t.hive_id = hive_season.hive_id
--> 8 of hive_season exact, 8 would change: becomes-null every-row
UPDATE hive SET weight = i.inspection_id FROM inspection i WHERE i.hive_id = hive.hive_id
--> update hive | set weight | with i | where i.hive_id = hive.hive_id
--> 7 of hive unknown: many-sources over-half
UPDATE hive SET queen_colour = 'seen' FROM inspection i WHERE i.hive_id = hive.hive_id
--> update hive | set queen_colour | with i | where i.hive_id = hive.hive_id
--> 7 of hive exact, 7 would change: many-sources over-half
UPDATE hive SET weight = s.total_kilos FROM hive_season s LEFT JOIN inspection i ON i.hive_id = s.hive_id WHERE s.hive_id = hive.hive_id AND s.season = 2025 AND i.hive_id IS NULL
--> update hive | set weight | with s, i | where s.hive_id = hive.hive_id AND s.season = 2025 AND i.hive_id IS NULL
--> 1 of hive exact, 1 would change:
UPDATE hive SET name = 'x' FROM hive AS h JOIN apiary a USING (apiary_id) WHERE a.name = 'Sand Hole'
--> update hive | set name | with h, a | where a.name = 'Sand Hole'
--> 10 of hive exact, 10 would change: every-row many-sources target-again unlike
UPDATE hive SET name = o.name FROM hive AS o WHERE o.hive_id = hive.hive_id + 1 AND hive.hive_id < 4
--> update hive | set name | with o | where o.hive_id = hive.hive_id + 1 AND hive.hive_id < 4
--> 3 of hive exact, 3 would change:
UPDATE sheet_import SET note = h.queen_colour FROM hive h WHERE h.name = sheet_import.hive
--> update sheet_import | set note | with h | where h.name = sheet_import.hive
--> 5 of sheet_import exact, 5 would change: becomes-null twin-rows
UPDATE inspection SET note = j.value FROM json_each('["p","q"]') AS j WHERE j.key = inspection.inspection_id
--> update inspection | set note | with j | where j.key = inspection.inspection_id
--> 1 of inspection exact, 1 would change:
UPDATE hive SET weight = random() FROM apiary a WHERE a.apiary_id = hive.apiary_id AND a.apiary_id = 1
--> update hive | set weight | with a | where a.apiary_id = hive.apiary_id AND a.apiary_id = 1
--> 2 of hive unknown:
UPDATE keeper SET phone = s.kilos FROM sheet_import s
--> update keeper | set phone | with s
--> 6 of keeper unknown: many-sources no-filter
-- WITH
WITH late AS (SELECT hive_id FROM inspection WHERE day > '2026-05-01') DELETE FROM hive_season WHERE hive_id IN late
--> delete hive_season | where hive_id IN late (not parsed)
--> 2 of hive_season gone: not-unique
WITH late AS (SELECT hive_id FROM inspection WHERE day > '2026-05-01') UPDATE hive SET queen_colour = 'late' WHERE hive_id IN (SELECT hive_id FROM late)
--> update hive | set queen_colour | where hive_id IN (SELECT hive_id FROM late)
--> 4 of hive exact, 4 would change: not-unique
WITH best(id, kilos) AS (SELECT hive_id, max(total_kilos) FROM hive_season GROUP BY hive_id) UPDATE hive SET weight = best.kilos FROM best WHERE best.id = hive.hive_id AND best.kilos IS NOT NULL
--> update hive | set weight | with best | where best.id = hive.hive_id AND best.kilos IS NOT NULL
--> 4 of hive exact, 4 would change:
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3) DELETE FROM inspection WHERE inspection_id IN (SELECT i FROM n)
--> delete inspection | where inspection_id IN (SELECT i FROM n)
--> 3 of inspection gone: not-unique
WITH a AS (SELECT 1 AS x), b AS MATERIALIZED (SELECT x + 1 AS x FROM a) UPDATE keeper SET phone = (SELECT x FROM b) WHERE keeper_id = 1
--> update keeper | set phone | where keeper_id = 1
--> 1 of keeper exact, 1 would change:
-- not exact, or not taken
UPDATE hive SET weight = (SELECT count(*) FROM hive AS o WHERE o.weight >= hive.weight) WHERE apiary_id = 2
--> update hive | set weight | where apiary_id = 2
--> 3 of hive unknown: not-unique
UPDATE hive SET weight = (SELECT max(weight) FROM hive) WHERE apiary_id = 2
--> update hive | set weight | where apiary_id = 2
--> 3 of hive exact, 2 would change: merges not-unique
UPDATE inspection SET note = datetime('now') WHERE inspection_id = 1
--> update inspection | set note | where inspection_id = 1
--> 1 of inspection unknown:
UPDATE hive SET name = (SELECT a.name FROM apiary a WHERE a.apiary_id > hive.apiary_id) WHERE hive_id = 1
--> update hive | set name | where hive_id = 1
--> 1 of hive exact, 1 would change: many-values
UPDATE keeper SET name = 'x' AND region = 'y' WHERE keeper_id = 1
--> update keeper | set name | where keeper_id = 1
--> 1 of keeper exact, 1 would change: and-for-comma
UPDATE keeper SET name = 'x', name = 'y' WHERE keeper_id = 1
--> update keeper | set name, name | where keeper_id = 1
--> 1 of keeper exact, 1 would change: assigned-twice
UPDATE batch SET gross = 5 WHERE batch_id = 1
--> refused engine-column
UPDATE moor SET name = 'x' WHERE id = 1
--> refused a-view, with what to write instead
UPDATE OR REPLACE keeper SET name = 'x' WHERE keeper_id = 1
--> refused not-understood, with what to write instead
UPDATE keeper SET name = 'x' WHERE keeper_id = 1 RETURNING name
--> update keeper | set name | where keeper_id = 1
--> 1 of keeper exact, 1 would change: rows-discarded
DELETE FROM keeper WHERE region = 'Moor' ORDER BY keeper_id LIMIT 1
--> delete keeper | where region = 'Moor' | ORDER BY keeper_id LIMIT 1
--> 1 of keeper gone: has-children not-unique
DELETE FROM inspection WHERE inspection_id = ?1
--> refused not-understood
DELETE FROM inspection WHERE inspection_id = :id
--> refused error
REPLACE INTO keeper VALUES (1, 'x', 'x', NULL, 'x')
--> refused not-understood
INSERT INTO apiary VALUES (9, 'x', 1)
--> delete apiary
--> 1 of apiary exact: no-column-list
PRAGMA foreign_keys = OFF
--> refused not-a-change
VACUUM
--> refused not-a-change
BEGIN; DELETE FROM inspection WHERE inspection_id = 1; COMMIT
--> refused several-statements, with what to write instead
-- more of everything
UPDATE hive SET weight = 1 WHERE hive_id IN (SELECT hive_id FROM hive_season GROUP BY hive_id HAVING max(total_kilos) > 20 ORDER BY 1 LIMIT 2)
--> update hive | set weight | where hive_id IN (SELECT hive_id FROM hive_season GROUP BY hive_id HAVING max(total_kilos) > 20 ORDER BY 1 LIMIT 2)
--> 2 of hive exact, 2 would change: not-unique
UPDATE hive SET weight = i.n FROM (SELECT hive_id, count(*) AS n FROM inspection GROUP BY hive_id) AS i WHERE hive.hive_id = i.hive_id AND i.n > 1
--> update hive | set weight | with i | where hive.hive_id = i.hive_id AND i.n > 1
--> 3 of hive exact, 3 would change:
UPDATE hive SET weight = weight + x.w, queen_colour = x.c FROM (VALUES (1), (2)) AS v, (SELECT 1 AS w, 'red' AS c) AS x WHERE v.column1 = hive.hive_id
--> update hive | set weight, queen_colour | with v, x | where v.column1 = hive.hive_id
--> 2 of hive exact, 2 would change: repeats
UPDATE hive_season AS s SET total_kilos = (SELECT sum(weight) FROM hive AS h WHERE h.hive_id <= s.hive_id), season = s.season + 100 WHERE s.season = 2025
--> update hive_season | set total_kilos, season | where s.season = 2025
--> 3 of hive_season exact, 3 would change: key-change moves-filter not-unique
UPDATE keeper SET name = CASE WHEN EXISTS (SELECT 1 FROM apiary AS a WHERE a.keeper_id = keeper.keeper_id) THEN name || ' *' ELSE name END
--> update keeper | set name
--> 6 of keeper exact, 3 would change: no-filter repeats
UPDATE keeper SET phone = (SELECT group_concat(name, '; ') FROM (SELECT name FROM apiary AS a WHERE a.keeper_id = keeper.keeper_id ORDER BY name)) WHERE keeper_id <= 3
--> update keeper | set phone | where keeper_id <= 3
--> 3 of keeper exact, 2 would change: not-unique subquery-none too-long
UPDATE inspection SET note = printf('%05d %s', hive_id, coalesce(note, '-')) WHERE strftime('%m', day) = '05'
--> update inspection | set note | where strftime('%m', day) = '05'
--> 4 of inspection exact, 4 would change: not-unique repeats
UPDATE inspection SET day = date(day, 'start of month', '+1 month', '-1 day') WHERE day LIKE '2026-0%'
--> update inspection | set day | where day LIKE '2026-0%'
--> 7 of inspection exact, 7 would change: merges moves-filter not-unique over-half
UPDATE sheet_import SET kilos = CAST(replace(kilos, ',', '.') AS REAL) * 2 WHERE rowid > 2
--> update sheet_import | set kilos | where rowid > 2
--> 4 of sheet_import exact, 4 would change: not-unique repeats
UPDATE hive SET queen_colour = iif(queen_colour IS NULL, 'none', NULL) WHERE weight IS NOT NULL AND weight NOT BETWEEN 28 AND 32
--> update hive | set queen_colour | where weight IS NOT NULL AND weight NOT BETWEEN 28 AND 32
--> 4 of hive exact, 4 would change: becomes-null not-unique
DELETE FROM hive_season WHERE EXISTS (SELECT 1 FROM hive_season AS o WHERE o.hive_id = hive_season.hive_id AND o.season > hive_season.season)
--> delete hive_season | where EXISTS (SELECT 1 FROM hive_season AS o WHERE o.hive_id = hive_season.hive_id AND o.season > hive_season.season)
--> 3 of hive_season gone: not-unique
DELETE FROM sheet_import WHERE EXISTS (SELECT 1 FROM sheet_import AS o WHERE o.hive IS sheet_import.hive AND o.day IS sheet_import.day AND o.rowid < sheet_import.rowid)
--> delete sheet_import | where EXISTS (SELECT 1 FROM sheet_import AS o WHERE o.hive IS sheet_import.hive AND o.day IS sheet_import.day AND o.rowid < sheet_import.rowid)
--> 1 of sheet_import gone: not-unique
DELETE FROM inspection WHERE (hive_id, day) IN (SELECT hive_id, min(day) FROM inspection GROUP BY hive_id)
--> delete inspection | where (hive_id, day) IN (SELECT hive_id, min(day) FROM inspection GROUP BY hive_id)
--> 7 of inspection gone: not-unique over-half
DELETE FROM inspection WHERE note LIKE '%\_%' ESCAPE '\'
--> delete inspection | where note LIKE '%\_%' ESCAPE '\'
--> 1 of inspection gone: not-unique
DELETE FROM inspection WHERE inspection_id IN (SELECT value FROM json_each('[1, 3, "5"]'))
--> delete inspection | where inspection_id IN (SELECT value FROM json_each('[1, 3, "5"]'))
--> 3 of inspection gone: not-unique
DELETE FROM keeper WHERE keeper_id NOT IN (SELECT keeper_id FROM apiary) AND phone IS NULL OR phone = ''
--> delete keeper | where keeper_id NOT IN (SELECT keeper_id FROM apiary) AND phone IS NULL OR phone = ''
--> 2 of keeper gone: mixed-and-or not-unique
DELETE FROM inspection WHERE 'calm' = note COLLATE NOCASE
--> delete inspection | where 'calm' = note COLLATE NOCASE
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id IN (1, 2) IS TRUE AND note IS NOT NULL IS NOT FALSE
--> delete inspection | where hive_id IN (1, 2) IS TRUE AND note IS NOT NULL IS NOT FALSE
--> 2 of inspection gone: not-unique
