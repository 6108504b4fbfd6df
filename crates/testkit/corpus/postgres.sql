-- names and quotes
UPDATE "keeper" SET "region" = 'Moor' WHERE "keeper_id" = 2
--> update keeper | set region | where "keeper_id" = 2
--> 1 of keeper exact, 1 would change:
UPDATE KEEPER SET Region = 'Moor' WHERE Keeper.KEEPER_ID = 2
--> update keeper | set region | where Keeper.KEEPER_ID = 2
--> 1 of keeper exact, 1 would change:
UPDATE public.keeper SET region = 'Moor' WHERE keeper.keeper_id = 2
--> update keeper | set region | where keeper.keeper_id = 2
--> 1 of keeper exact, 1 would change:
UPDATE public.keeper SET region = 'Moor' WHERE public.keeper.keeper_id = 2
--> update keeper | set region | where public.keeper.keeper_id = 2
--> 1 of keeper exact, 1 would change:
UPDATE keeper k SET region = 'Moor' WHERE k.keeper_id = 2
--> update keeper | set region | where k.keeper_id = 2
--> 1 of keeper exact, 1 would change:
UPDATE ONLY keeper AS "the keeper" SET region = 'Moor' WHERE "the keeper".keeper_id = 2
--> update keeper | set region | where "the keeper".keeper_id = 2
--> 1 of keeper exact, 1 would change:
UPDATE keeper * SET region = 'Moor' WHERE keeper_id = 2
--> update keeper | set region | where keeper_id = 2
--> 1 of keeper exact, 1 would change:
UPDATE "odd names" SET "select" = 'y', "a.b" = 0.5 WHERE "row no" = 2
--> update odd names | set select, a.b | where "row no" = 2
--> 1 of odd names exact, 1 would change:
UPDATE "odd names" "o n" SET "select" = "o n"."näme" || "o n"."a.b" WHERE "o n"."row no" IN (1, 3)
--> update odd names | set select | where "o n"."row no" IN (1, 3)
--> 2 of odd names exact, 2 would change:
UPDATE "Keeper" SET region = 'x' WHERE keeper_id = 1
--> refused unknown-name
DELETE FROM ONLY inspection AS i WHERE i.hive_id = 5
--> delete inspection | where i.hive_id = 5
--> 2 of inspection gone: not-unique
DELETE FROM inspection i WHERE i.* IS NOT NULL AND i.hive_id = 1
--> delete inspection | where i.* IS NOT NULL AND i.hive_id = 1
--> 1 of inspection gone: not-unique
-- literals and casts
UPDATE keeper SET name = E'tab\there' WHERE keeper_id = 1
--> update keeper | set name | where keeper_id = 1
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET name = $$it's WHERE$$ WHERE keeper_id = 1
--> update keeper | set name | where keeper_id = 1
--> 1 of keeper exact, 1 would change:
UPDATE keeper SET name = $q$a $$ b$q$ WHERE keeper_id = 1
--> update keeper | set name | where keeper_id = 1
--> 1 of keeper exact, 1 would change:
UPDATE inspection SET day = '2026-06-01'::date + 3 WHERE inspection_id = 1
--> update inspection | set day | where inspection_id = 1
--> 1 of inspection exact, 1 would change:
UPDATE inspection SET day = day + interval '1 month' WHERE inspection_id = 1
--> update inspection | set day | where inspection_id = 1
--> 1 of inspection exact, 1 would change: repeats
UPDATE inspection SET day = date_trunc('month', day)::date WHERE day >= DATE '2026-05-01'
--> update inspection | set day | where day >= DATE '2026-05-01'
--> 5 of inspection exact, 4 would change: merges moves-filter not-unique
UPDATE inspection SET day = CAST('2026-06-01' AS date) WHERE extract(year FROM day) = 2025
--> update inspection | set day | where extract(year FROM day) = 2025
--> 1 of inspection exact, 1 would change: moves-filter not-unique
UPDATE hive SET weight = weight::int WHERE weight > 30.5::numeric
--> update hive | set weight | where weight > 30.5::numeric
--> 5 of hive exact, 3 would change: moves-filter not-unique
UPDATE hive SET weight = DEFAULT WHERE hive_id = 1
--> update hive | set weight | where hive_id = 1
--> 1 of hive exact, 1 would change:
UPDATE hive SET weight = DEFAULT, queen_colour = DEFAULT WHERE hive_id IN (1, 2)
--> update hive | set weight, queen_colour | where hive_id IN (1, 2)
--> 2 of hive exact, 2 would change:
UPDATE hive SET name = substring(name FROM 1 FOR 3) || '…' WHERE hive_id < 3
--> update hive | set name | where hive_id < 3
--> 2 of hive exact, 2 would change: not-unique repeats unlike
UPDATE hive SET name = overlay(name PLACING 'xx' FROM 2), queen_colour = position('r' IN name)::text WHERE hive_id = 5
--> update hive | set name, queen_colour | where hive_id = 5
--> 1 of hive exact, 1 would change: repeats unlike
UPDATE hive SET name = trim(BOTH 'g' FROM lower(name)) WHERE name ILIKE 'g%'
--> update hive | set name | where name ILIKE 'g%'
--> 1 of hive exact, 1 would change: moves-filter not-unique unlike
UPDATE keeper SET name = 'a name that is much longer than the forty characters' WHERE keeper_id = 1
--> refused too-long
-- operators of its own
DELETE FROM inspection WHERE note ILIKE 'CALM'
--> delete inspection | where note ILIKE 'CALM'
--> 2 of inspection gone: not-unique plain-like
DELETE FROM inspection WHERE note ~ '^c' AND note !~* 'eggs'
--> delete inspection | where note ~ '^c' AND note !~* 'eggs'
--> 1 of inspection gone: not-unique
DELETE FROM inspection WHERE note SIMILAR TO '(calm|eggs)%'
--> delete inspection | where note SIMILAR TO '(calm|eggs)%'
--> 3 of inspection gone: not-unique
DELETE FROM inspection WHERE note ISNULL
--> delete inspection | where note ISNULL (not parsed)
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE note IS DISTINCT FROM 'calm'
--> delete inspection | where note IS DISTINCT FROM 'calm'
--> 9 of inspection gone: not-unique over-half
DELETE FROM inspection WHERE note IS NOT DISTINCT FROM NULL
--> delete inspection | where note IS NOT DISTINCT FROM NULL
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id = ANY (ARRAY[1, 3])
--> delete inspection | where hive_id = ANY (ARRAY[1, 3])
--> 4 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id = ANY ('{1,3}') AND NOT hive_id = ALL (ARRAY[3, 3])
--> delete inspection | where hive_id = ANY ('{1,3}') AND NOT hive_id = ALL (ARRAY[3, 3])
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE hive_id BETWEEN SYMMETRIC 5 AND 2
--> delete inspection | where hive_id BETWEEN SYMMETRIC 5 AND 2 (not parsed)
--> 5 of inspection gone: not-unique
DELETE FROM inspection WHERE (hive_id, inspection_id) = (5, 6)
--> delete inspection | where (hive_id, inspection_id) = (5, 6)
--> 1 of inspection gone:
DELETE FROM inspection WHERE (hive_id, inspection_id) IN ((5, 6), (3, 4))
--> delete inspection | where (hive_id, inspection_id) IN ((5, 6), (3, 4))
--> 2 of inspection gone:
DELETE FROM inspection WHERE (day, day) OVERLAPS (DATE '2026-04-01', DATE '2026-04-10')
--> delete inspection | where (day, day) OVERLAPS (DATE '2026-04-01', DATE '2026-04-10')
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE (hive_id = 1) IS TRUE AND (note = 'x') IS UNKNOWN
--> delete inspection | where (hive_id = 1) IS TRUE AND (note = 'x') IS UNKNOWN
--> 1 of inspection gone: not-unique
DELETE FROM inspection WHERE day > now() - interval '1 day'
--> delete inspection | where day > now() - interval '1 day'
--> 1 of inspection gone: not-unique
DELETE FROM inspection WHERE day < current_date AND hive_id = 1
--> delete inspection | where day < current_date AND hive_id = 1
--> 2 of inspection gone: not-unique
DELETE FROM inspection WHERE random() < 0.5
--> delete inspection | where random() < 0.5
--> some of inspection gone: volatile-filter
DELETE FROM sheet_import a WHERE ctid <> (SELECT min(ctid) FROM sheet_import b WHERE (a.*) IS NOT DISTINCT FROM (b.*))
--> delete sheet_import | where ctid <> (SELECT min(ctid) FROM sheet_import b WHERE (a.*) IS NOT DISTINCT FROM (b.*))
--> 1 of sheet_import gone: not-unique
-- JSON, arrays, ranges
UPDATE doc SET body = jsonb_set(body, '{kilos}', '4') WHERE body ->> 'kind' = 'lime'
--> update doc | set body | where body ->> 'kind' = 'lime'
--> 1 of doc exact, 1 would change: moves-filter not-unique
UPDATE doc SET body = body - 'tags' WHERE body @> '{"kind":"lime"}' AND body ? 'tags'
--> update doc | set body | where body @> '{"kind":"lime"}' AND body ? 'tags'
--> 1 of doc exact, 1 would change: moves-filter not-unique
UPDATE doc SET body = body || '{"done": true}' WHERE body #>> '{tags,0}' = 'a'
--> update doc | set body | where body #>> '{tags,0}' = 'a'
--> 1 of doc exact, 1 would change: moves-filter not-unique
UPDATE doc SET tags = array_append(tags, 'c') WHERE 'a' = ANY (tags)
--> update doc | set tags | where 'a' = ANY (tags)
--> 1 of doc exact, 1 would change: moves-filter not-unique
UPDATE doc SET tags = ARRAY['x', 'y'], span = '[2,3)' WHERE doc_id = 2
--> update doc | set tags, span | where doc_id = 2
--> 1 of doc exact, 1 would change:
UPDATE doc SET tags = tags[1:1] || ARRAY['z'] WHERE tags && ARRAY['b']
--> update doc | set tags | where tags && ARRAY['b']
--> 1 of doc exact, 1 would change: moves-filter not-unique
UPDATE doc SET tags[1] = 'q' WHERE doc_id = 1
--> update doc | set tags | where doc_id = 1
--> 1 of doc unknown:
DELETE FROM doc WHERE span @> 4
--> delete doc | where span @> 4
--> 1 of doc gone: not-unique
DELETE FROM doc WHERE tags IS NULL OR cardinality(tags) = 0
--> delete doc | where tags IS NULL OR cardinality(tags) = 0
--> 2 of doc gone: not-unique
-- row values
UPDATE hive SET (name, queen_colour) = ('x', 'red') WHERE hive_id = 1
--> update hive | set name, queen_colour | where hive_id = 1
--> 1 of hive exact, 1 would change: unlike
UPDATE hive SET (name, queen_colour) = ROW ('x', DEFAULT) WHERE hive_id = 1
--> update hive | set name, queen_colour | where hive_id = 1
--> 1 of hive exact, 1 would change: unlike
UPDATE hive SET (name, weight) = (upper(name), weight * 2), queen_colour = NULL WHERE hive_id = 2
--> update hive | set name, weight, queen_colour | where hive_id = 2
--> 1 of hive exact, 1 would change: repeats unlike
UPDATE hive SET (name, queen_colour) = (SELECT a.name, 'blue' FROM apiary a WHERE a.apiary_id = hive.apiary_id) WHERE hive_id > 8
--> update hive | set name, queen_colour | where hive_id > 8
--> 2 of hive exact, 2 would change: not-unique
UPDATE hive SET (name, queen_colour) = (SELECT 'none', 'x' WHERE false) WHERE hive_id = 77
--> update hive | set name, queen_colour | where hive_id = 77
--> 0 of hive exact, 0 would change: nothing-matched
-- joins
UPDATE hive SET name = a.name FROM apiary a WHERE a.apiary_id = hive.apiary_id AND hive.hive_id < 3
--> update hive | set name | with a | where a.apiary_id = hive.apiary_id AND hive.hive_id < 3
--> 2 of hive exact, 2 would change:
UPDATE hive h SET queen_colour = 'blue' FROM apiary a JOIN keeper k ON k.keeper_id = a.keeper_id WHERE a.apiary_id = h.apiary_id AND k.region = 'Moor'
--> update hive | set queen_colour | with a, k | where a.apiary_id = h.apiary_id AND k.region = 'Moor'
--> 5 of hive exact, 5 would change:
UPDATE hive h SET queen_colour = 'blue' FROM apiary a NATURAL JOIN keeper k WHERE a.apiary_id = h.apiary_id AND k.region = 'Dale'
--> update hive | set queen_colour | with a, k | where a.apiary_id = h.apiary_id AND k.region = 'Dale'
--> 0 of hive exact, 0 would change: nothing-matched
UPDATE hive AS h SET queen_colour = 'blue' FROM apiary AS a CROSS JOIN LATERAL (SELECT k.region FROM keeper k WHERE k.keeper_id = a.keeper_id) l WHERE a.apiary_id = h.apiary_id AND l.region = 'moor'
--> update hive | set queen_colour | with a, l | where a.apiary_id = h.apiary_id AND l.region = 'moor'
--> 2 of hive exact, 1 would change:
UPDATE hive_season SET total_kilos = t.sum FROM (SELECT hive_id, sum(weight) AS sum FROM hive GROUP BY hive_id) AS t WHERE t.hive_id = hive_season.hive_id
--> update hive_season | set total_kilos | with t | where t.hive_id = hive_season.hive_id
--> 8 of hive_season exact, 8 would change: becomes-null every-row
UPDATE hive SET weight = v.w FROM (VALUES (1, 11.5), (2, 12.5)) AS v (id, w) WHERE v.id = hive.hive_id
--> update hive | set weight | with v | where v.id = hive.hive_id
--> 2 of hive exact, 2 would change:
UPDATE hive SET weight = u.w FROM unnest(ARRAY[1, 2], ARRAY[5.5, 6.5]) AS u (id, w) WHERE u.id = hive.hive_id
--> update hive | set weight | with u | where u.id = hive.hive_id
--> 2 of hive exact, 2 would change:
UPDATE hive SET weight = i.inspection_id FROM inspection i WHERE i.hive_id = hive.hive_id
--> update hive | set weight | with i | where i.hive_id = hive.hive_id
--> 7 of hive unknown: many-sources over-half
UPDATE hive SET queen_colour = 'seen' FROM inspection i WHERE i.hive_id = hive.hive_id
--> update hive | set queen_colour | with i | where i.hive_id = hive.hive_id
--> 7 of hive exact, 7 would change: many-sources over-half
UPDATE hive SET weight = s.total_kilos FROM hive_season s LEFT JOIN inspection i ON i.hive_id = s.hive_id WHERE s.hive_id = hive.hive_id AND s.season = 2025 AND i.hive_id IS NULL
--> update hive | set weight | with s, i | where s.hive_id = hive.hive_id AND s.season = 2025 AND i.hive_id IS NULL
--> 1 of hive exact, 1 would change:
UPDATE hive SET name = 'x' FROM hive h JOIN apiary a USING (apiary_id) WHERE a.name = 'Sand Hole'
--> update hive | set name | with h, a | where a.name = 'Sand Hole'
--> 10 of hive exact, 10 would change: every-row many-sources target-again unlike
UPDATE hive SET name = o.name FROM hive o WHERE o.hive_id = hive.hive_id + 1 AND hive.hive_id < 4
--> update hive | set name | with o | where o.hive_id = hive.hive_id + 1 AND hive.hive_id < 4
--> 3 of hive exact, 3 would change:
UPDATE sheet_import SET note = h.queen_colour FROM hive h WHERE h.name = sheet_import.hive
--> update sheet_import | set note | with h | where h.name = sheet_import.hive
--> 5 of sheet_import exact, 5 would change: becomes-null twin-rows
UPDATE keeper SET phone = s.kilos FROM sheet_import s
--> update keeper | set phone | with s
--> 6 of keeper unknown: many-sources no-filter
DELETE FROM inspection USING hive WHERE hive.hive_id = inspection.hive_id AND hive.queen_colour = 'red'
--> delete inspection | with hive | where hive.hive_id = inspection.hive_id AND hive.queen_colour = 'red'
--> 4 of inspection gone:
DELETE FROM inspection i USING hive h JOIN apiary a ON a.apiary_id = h.apiary_id WHERE h.hive_id = i.hive_id AND a.name = 'Sand Hole'
--> delete inspection | with h, a | where h.hive_id = i.hive_id AND a.name = 'Sand Hole'
--> 2 of inspection gone:
DELETE FROM hive_season s USING inspection i WHERE i.hive_id = s.hive_id
--> delete hive_season | with i | where i.hive_id = s.hive_id
--> 7 of hive_season gone: many-sources
DELETE FROM sheet_import USING hive WHERE hive.name = sheet_import.hive
--> delete sheet_import | with hive | where hive.name = sheet_import.hive
--> 5 of sheet_import gone: twin-rows
-- WITH
WITH late AS (SELECT hive_id FROM inspection WHERE day > '2026-05-01') DELETE FROM hive_season WHERE hive_id IN (TABLE late)
--> delete hive_season | where hive_id IN (TABLE late) (not parsed)
--> 2 of hive_season gone: not-unique
WITH late AS MATERIALIZED (SELECT hive_id FROM inspection WHERE day > '2026-05-01') UPDATE hive SET queen_colour = 'late' FROM late WHERE late.hive_id = hive.hive_id
--> update hive | set queen_colour | with late | where late.hive_id = hive.hive_id
--> 4 of hive exact, 4 would change:
WITH best (id, kilos) AS (SELECT hive_id, max(total_kilos) FROM hive_season GROUP BY hive_id) UPDATE hive SET weight = best.kilos FROM best WHERE best.id = hive.hive_id AND best.kilos IS NOT NULL
--> update hive | set weight | with best | where best.id = hive.hive_id AND best.kilos IS NOT NULL
--> 4 of hive exact, 4 would change:
WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 3) DELETE FROM inspection WHERE inspection_id IN (SELECT i FROM n)
--> delete inspection | where inspection_id IN (SELECT i FROM n)
--> 3 of inspection gone: not-unique
-- not exact, or not taken
UPDATE hive SET weight = (SELECT count(*) FROM hive o WHERE o.weight >= hive.weight) WHERE apiary_id = 2
--> update hive | set weight | where apiary_id = 2
--> 3 of hive exact, 3 would change: not-unique
UPDATE inspection SET day = now() WHERE inspection_id = 1
--> update inspection | set day | where inspection_id = 1
--> 1 of inspection unknown:
UPDATE hive SET name = (SELECT a.name FROM apiary a WHERE a.apiary_id > hive.apiary_id) WHERE hive_id = 1
--> refused many-values
UPDATE keeper SET name = 'x' AND region = 'y' WHERE keeper_id = 1
--> refused and-for-comma, with what to write instead
UPDATE keeper SET name = 'x', name = 'y' WHERE keeper_id = 1
--> refused assigned-twice
UPDATE batch SET gross = 5 WHERE batch_id = 1
--> refused engine-column
UPDATE moor SET name = 'x' WHERE id = 1
--> update moor | set name | where id = 1
--> 1 of keeper exact, 1 would change: a-view
UPDATE keeper SET name = 'x' WHERE keeper_id = 1 RETURNING name
--> update keeper | set name | where keeper_id = 1
--> 1 of keeper exact, 1 would change: rows-discarded
DELETE FROM keeper WHERE region = 'Moor' ORDER BY keeper_id LIMIT 1
--> refused not-understood, with what to write instead
DELETE FROM inspection WHERE CURRENT OF c
--> refused not-understood
DELETE FROM inspection WHERE inspection_id = $1
--> refused not-understood
WITH gone AS (DELETE FROM inspection RETURNING hive_id) UPDATE hive SET name = 'x' WHERE hive_id IN (SELECT hive_id FROM gone)
--> refused not-understood
WITH gone AS (DELETE FROM inspection WHERE hive_id = 1) UPDATE hive SET name = 'x' WHERE hive_id = 1
--> refused not-understood, with what to write instead
MERGE INTO hive h USING sheet_import s ON s.hive = h.name WHEN MATCHED THEN UPDATE SET queen_colour = s.note
--> refused not-a-change, with what to write instead
TRUNCATE inspection, hive_season
--> refused not-a-change, with what to write instead
INSERT INTO apiary VALUES (9, 'x', 1)
--> delete apiary
--> 1 of apiary exact: no-column-list
COPY keeper FROM STDIN
--> refused not-a-change
DO $$ BEGIN DELETE FROM keeper; END $$
--> refused not-a-change
SET search_path = x
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
UPDATE hive_season AS s SET total_kilos = (SELECT sum(weight) FROM hive AS h WHERE h.hive_id <= s.hive_id), season = s.season + 100 WHERE s.season = 2025
--> update hive_season | set total_kilos, season | where s.season = 2025
--> 3 of hive_season exact, 3 would change: key-change moves-filter not-unique
UPDATE hive SET weight = r.rank FROM (SELECT hive_id, rank() OVER (PARTITION BY apiary_id ORDER BY weight DESC NULLS LAST) FROM hive) r WHERE r.hive_id = hive.hive_id
--> update hive | set weight | with r | where r.hive_id = hive.hive_id
--> 10 of hive exact, 10 would change: every-row
UPDATE keeper SET phone = (SELECT string_agg(name, '; ' ORDER BY name) FROM apiary a WHERE a.keeper_id = keeper.keeper_id) WHERE keeper_id <= 3
--> refused value-refused
UPDATE inspection SET note = format('%s: %s', hive_id, coalesce(note, '-')) WHERE to_char(day, 'MM') = '05'
--> update inspection | set note | where to_char(day, 'MM') = '05'
--> 4 of inspection exact, 4 would change: not-unique repeats
UPDATE inspection SET day = (date_trunc('month', day) + interval '1 month - 1 day')::date WHERE day >= '2026-01-01' AND day < '2027-01-01'
--> update inspection | set day | where day >= '2026-01-01' AND day < '2027-01-01'
--> 7 of inspection exact, 7 would change: merges moves-filter not-unique over-half
UPDATE batch SET price = greatest(price * 0.9, 9.99), list_price = NULLIF(list_price, price) WHERE season = 2026
--> update batch | set price, list_price | where season = 2026
--> 4 of batch exact, 4 would change: becomes-null not-unique repeats
UPDATE batch b SET price = avg.price FROM (SELECT flower, avg(price) AS price FROM batch GROUP BY flower) avg WHERE avg.flower = b.flower AND b.season = 2025
--> update batch | set price | with avg | where avg.flower = b.flower AND b.season = 2025
--> 2 of batch exact, 2 would change:
UPDATE hive SET queen_colour = k.region FROM apiary a JOIN LATERAL (SELECT * FROM keeper WHERE keeper.keeper_id = a.keeper_id) k ON true WHERE a.apiary_id = hive.apiary_id
--> update hive | set queen_colour | with a, k | where a.apiary_id = hive.apiary_id
--> 10 of hive exact, 10 would change: every-row unlike
UPDATE sheet_import s SET note = d.n::text FROM (SELECT ctid AS place, row_number() OVER (PARTITION BY hive ORDER BY day) AS n FROM sheet_import) d WHERE d.place = s.ctid
--> update sheet_import | set note | with d | where d.place = s.ctid
--> 6 of sheet_import exact, 6 would change: every-row twin-rows
UPDATE doc SET body = (SELECT jsonb_object_agg(key, value) FROM jsonb_each(body) WHERE key <> 'tags') WHERE body IS NOT NULL
--> update doc | set body | where body IS NOT NULL
--> 2 of doc exact, 1 would change: moves-filter not-unique
UPDATE doc SET tags = (SELECT array_agg(upper(t) ORDER BY t DESC) FROM unnest(tags) AS t), span = int4range(lower(span), upper(span) + 1) WHERE doc_id = 1
--> update doc | set tags, span | where doc_id = 1
--> 1 of doc exact, 1 would change: repeats
UPDATE "odd names" SET "a.b" = 'NaN', "select" = U&'d\0061t\+000061' WHERE "row no" = 2
--> update odd names | set a.b, select | where "row no" = 2
--> 1 of odd names exact, 1 would change:
UPDATE "odd names" SET "a.b" = -"a.b", "select" = NULL WHERE "näme" COLLATE "C" > 'a'
--> update odd names | set a.b, select | where "näme" COLLATE "C" > 'a'
--> 2 of odd names exact, 2 would change: not-unique repeats
DELETE FROM hive_season s WHERE EXISTS (SELECT 1 FROM hive_season o WHERE (o.hive_id, o.season) > (s.hive_id, s.season) AND o.hive_id = s.hive_id)
--> delete hive_season | where EXISTS (SELECT 1 FROM hive_season o WHERE (o.hive_id, o.season) > (s.hive_id, s.season) AND o.hive_id = s.hive_id)
--> 3 of hive_season gone: not-unique
DELETE FROM sheet_import a USING sheet_import b WHERE a.ctid > b.ctid AND a IS NOT DISTINCT FROM b
--> delete sheet_import | with b | where a.ctid > b.ctid AND a IS NOT DISTINCT FROM b
--> 1 of sheet_import gone:
DELETE FROM inspection WHERE (hive_id, day) IN (SELECT hive_id, min(day) FROM inspection GROUP BY hive_id)
--> delete inspection | where (hive_id, day) IN (SELECT hive_id, min(day) FROM inspection GROUP BY hive_id)
--> 7 of inspection gone: not-unique over-half
DELETE FROM inspection i USING (SELECT hive_id, max(day) AS day FROM inspection GROUP BY hive_id) m WHERE m.hive_id = i.hive_id AND i.day < m.day
--> delete inspection | with m | where m.hive_id = i.hive_id AND i.day < m.day
--> 3 of inspection gone:
DELETE FROM inspection WHERE note = any (SELECT note FROM inspection WHERE note LIKE 'calm%') AND NOT (hive_id IN (VALUES (1), (2)))
--> delete inspection | where note = any (SELECT note FROM inspection WHERE note LIKE 'calm%') AND NOT (hive_id IN (VALUES (1), (2)))
--> 2 of inspection gone: not-unique
WITH old AS (SELECT hive_id, min(season) AS s FROM hive_season GROUP BY 1), bad AS (SELECT * FROM old WHERE s < 2025) DELETE FROM hive_season h USING bad WHERE h.hive_id = bad.hive_id AND h.season = bad.s
--> delete hive_season | with bad | where h.hive_id = bad.hive_id AND h.season = bad.s
--> 1 of hive_season gone:
UPDATE keeper AS k SET (name, region) = (SELECT upper(a.name), k.region || '!' FROM apiary a WHERE a.keeper_id = k.keeper_id ORDER BY a.apiary_id LIMIT 1) WHERE EXISTS (SELECT FROM apiary a WHERE a.keeper_id = k.keeper_id)
--> update keeper | set name, region | where EXISTS (SELECT FROM apiary a WHERE a.keeper_id = k.keeper_id)
--> 3 of keeper exact, 3 would change: not-unique
