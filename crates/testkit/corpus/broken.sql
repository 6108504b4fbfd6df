-- words and signs
UPDAT keeper SET region = 'Moor' WHERE keeper_id = 1
--> 1:1 `UPDAT` not-a-change: this is no UPDATE, DELETE or INSERT (did you mean UPDATE?)
DELTE FROM keeper WHERE keeper_id = 1
--> 1:1 `DELTE` not-a-change: this is no UPDATE, DELETE or INSERT (did you mean DELETE?)
UPDATE keeper STE region = 'Moor' WHERE keeper_id = 1
--> 1:15 `STE` not-understood: the statement is not understood from STE on (did you mean SET?)
UPDATE keeper SET region = 'Moor' WHER keeper_id = 1
--> 1:35 `WHER` not-understood: the statement is not understood from WHER on (did you mean WHERE?)
UPDATE keeper SET region = 'Moor' WHERE keeper_id == = 1
-->sp 1:54 `=` not-understood: the statement is not understood from = on (correct the statement here, or just before)
-->m 1:52 `=` not-understood: the statement is not understood from = on (correct the statement here, or just before)
UPDATE keeper SET region 'Moor' WHERE keeper_id = 1
--> 1:26 `'Moor'` not-understood: the statement is not understood from 'Moor' on (an equals sign is missing: SET column = value)
UPDATE keeper SET region = WHERE keeper_id = 1
--> 1:28 `WHERE` not-understood: the statement is not understood from WHERE on (the value is missing; for none write NULL)
UPDATE keeper SET = 'Moor' WHERE keeper_id = 1
--> 1:19 `=` not-understood: the statement is not understood from = on (the column is missing: SET column = value)
UPDATE keeper SET region = 'Moor', WHERE keeper_id = 1
--> 1:36 `WHERE` not-understood: the statement is not understood from WHERE on (there is one comma too many before WHERE)
UPDATE keeper SET region = 'Moor' phone = 'x' WHERE keeper_id = 1
--> 1:35 `phone` not-understood: the statement is not understood from phone on (a comma is missing before phone)
UPDATE keeper region = 'Moor' WHERE keeper_id = 1
-->s 1:15 `region` not-understood: the statement is not understood from region on (SET is missing: UPDATE table SET column = value WHERE …)
-->pm 1:22 `=` not-understood: the statement is not understood from = on (SET is missing: UPDATE table SET column = value WHERE …)
UPDATE SET region = 'Moor' WHERE keeper_id = 1
-->sm 1:8 `SET` not-understood: the statement is not understood from SET on (the table is missing: UPDATE table SET column = value WHERE …)
-->p 1:19 `=` not-understood: the statement is not understood from = on (the table is missing: UPDATE table SET column = value WHERE …)
UPDATE keeper SET region = 'Moor' WHERE
--> 1:40 `` not-understood: the statement ends too early (a condition is missing behind WHERE)
UPDATE keeper SET region = 'Moor' WHERE keeper_id
 =
--> 2:3 `` not-understood: the statement ends too early (finish the statement)
UPDATE keeper
   SET region = 'Moor'
 WHERE keeper_id = 1
   AND
--> 4:7 `` not-understood: the statement ends too early (a condition is missing behind AND)
DELETE keeper_id FROM keeper WHERE
-->sp 1:8 `keeper_id` not-understood: the statement is not understood from keeper_id on (correct the statement here, or just before)
-->m 1:35 `` not-understood: the statement ends too early (a condition is missing behind WHERE)
DELETE FROM WHERE keeper_id = 1
--> 1:13 `WHERE` not-understood: the statement is not understood from WHERE on (the table is missing: DELETE FROM table WHERE …)
DELETE * FROM keeper WHERE keeper_id = 1
--> 1:8 `*` not-understood: the statement is not understood from * on (leave the star out: DELETE FROM table WHERE …)
DELETE FROM keeper WHEN keeper_id = 1
--> 1:20 `WHEN` not-understood: the statement is not understood from WHEN on (correct the statement here, or just before)
DELETE FROM keeper WHERE keeper_id = 1 AND AND region = 'Moor'
--> 1:44 `AND` not-understood: the statement is not understood from AND on (correct the statement here, or just before)
DELETE FROM keeper WHERE keeper_id = 1 OR
--> 1:42 `` not-understood: the statement ends too early (a condition is missing behind OR)
DELETE FROM keeper WHERE keeper_id IN (1, 2
--> 1:44 `` not-understood: the statement ends too early (a closing parenthesis is missing)
DELETE FROM keeper WHERE keeper_id IN 1, 2)
--> 1:39 `1` not-understood: the statement is not understood from 1 on (a list stands in parentheses: IN (1, 2))
DELETE FROM keeper WHERE (keeper_id = 1
--> 1:40 `` not-understood: the statement ends too early (a closing parenthesis is missing)
DELETE FROM keeper WHERE keeper_id = 1)
--> 1:39 `)` not-understood: the statement is not understood from ) on (this parenthesis closes nothing)
DELETE FROM keeper WHERE keeper_id BETWEEN 1
--> 1:45 `` not-understood: the statement ends too early (finish the statement)
DELETE FROM keeper WHERE name LIKE
--> 1:35 `` not-understood: the statement ends too early (a condition is missing behind LIKE)
DELETE FROM keeper WHERE CASE WHEN keeper_id = 1 THEN 1
--> 1:56 `` not-understood: the statement ends too early (END is missing behind CASE)
DELETE FROM keeper WHERE keeper_id = (SELECT max(keeper_id) FROM keeper
--> 1:72 `` not-understood: the statement ends too early (a closing parenthesis is missing)
DELETE FROM keeper LIMIT WHERE keeper_id = 1
-->s 1:20 `LIMIT` not-understood: the statement is not understood from LIMIT on (this SQLite has no ORDER BY or LIMIT here; pick the rows by key: WHERE key IN (SELECT key … LIMIT n))
-->p 1:20 `LIMIT` not-understood: the statement is not understood from LIMIT on (PostgreSQL has no ORDER BY or LIMIT here; pick the rows by key:)
-->m 1:26 `WHERE` not-understood: the statement is not understood from WHERE on (correct the statement here, or just before)
DELETE FROM keeper SET region = 'x' WHERE keeper_id = 1
--> 1:20 `SET` not-understood: the statement is not understood from SET on (a DELETE sets nothing; to change values write UPDATE table SET …)
-- quotes
UPDATE keeper SET region = 'Moor WHERE keeper_id = 1
--> 1:28 `'` not-understood: the text cannot be cut into words: unterminated string literal (close the quote; a quote inside a text is written twice: 'O''Dell')
UPDATE keeper SET region = 'Moor' WHERE name = 'O'Dell'
--> 1:55 `'` not-understood: the text cannot be cut into words: unterminated string literal (close the quote; a quote inside a text is written twice: 'O''Dell')
UPDATE keeper SET region = "Moor WHERE keeper_id = 1
-->sp 1:28 `"` not-understood: the text cannot be cut into words: expected close delimiter '"' before EOF (close the quote; a quote inside a text is written twice: 'O''Dell')
-->m 1:28 `"` not-understood: the text cannot be cut into words: unterminated string literal (close the quote; a quote inside a text is written twice: 'O''Dell')
UPDATE keeper SET region = ‘Moor’ WHERE keeper_id = 1
--> 1:28 `‘Moor’` unknown-name: there is no column ‘Moor’ (these are no quotation marks of SQL; write 'Moor')
UPDATE keeper SET region = 'Moor' /* the moor WHERE keeper_id = 1
--> 1:35 `/*` not-understood: the text cannot be cut into words: unexpected EOF while in a multi-line comment (close the comment)
-- names
UPDATE keepr SET region = 'Moor' WHERE keeper_id = 1
--> 1:8 `keepr` unknown-name: there is no table keepr (did you mean keeper?)
UPDATE keeper SET regoin = 'Moor' WHERE keeper_id = 1
--> 1:19 `regoin` unknown-name: there is no column regoin (did you mean region?)
UPDATE keeper
   SET region = 'Moor',
       fone = '0171'
 WHERE keeper_id = 1
--> 3:8 `fone` unknown-name: there is no column fone (there are: keeper_id, name, email, phone, region)
UPDATE keeper SET region = 'Moor' WHERE keeperid = 1
--> 1:41 `keeperid` unknown-name: there is no column keeperid (did you mean keeper_id?)
UPDATE keeper k SET region = 'Moor' WHERE keeper.keeper_id = 1
-->s 1:15 `k` not-understood: the statement is not understood from k on (this SQLite wants AS before an alias: AS k)
-->p 1:43 `keeper.keeper_id` unknown-name: keeper has another name in this statement (keeper is called k here: write k.keeper_id)
-->m 1:50 `keeper_id` unknown-name: there is no column keeper.keeper_id (did you mean keeper_id?)
UPDATE keeper SET region = uper(region) WHERE keeper_id = 1
-->sm 1:28 `uper` unknown-name: there is no function uper (Correct the name.)
-->p 1:28 `uper` unknown-name: function uper(character varying) does not exist (No function matches the given name and argument types. You might need to add explicit type casts)
UPDATE keeper SET region = (SELECT nme FROM apiary WHERE keeper_id = 1) WHERE keeper_id = 1
--> 1:36 `nme` unknown-name: there is no column nme (did you mean name?)
DELETE FROM hives WHERE hive_id = 1
--> 1:13 `hives` unknown-name: there is no table hives (did you mean hive?)
DELETE FROM hive WHERE apiary = 1
--> 1:24 `apiary` unknown-name: there is no column apiary (did you mean apiary_id?)
DELETE FROM hive WHERE hive_id IN (SELECT hive_id FROM inspectoin)
--> 1:56 `inspectoin` unknown-name: there is no table inspectoin (did you mean inspection?)
DELETE FROM nowhere.hive WHERE hive_id = 1
-->s 1:21 `hive` unknown-name: there is no table nowhere.hive (did you mean hive?)
-->p 1:13 `nowhere.hive` unknown-name: there is no table nowhere.hive (did you mean hive?)
-->m 1:21 `hive` unknown-name: there is no table hive (there are: apiary, batch, doc, hive, hive_season, inspection, keeper, moor, odd names, sheet_import)
DELETE FROM hive WHERE hive_id IN (SELECT hive_id FROM hive_season JOIN inspection ON season = day)
-->s 1:43 `hive_id` ambiguous-name: hive_id is a column of several of these tables (write the table or its alias before it: table.hive_id)
-->p 1:94 `=` unknown-name: operator does not exist: integer = date (No operator matches the given name and argument types. You might need to add explicit type casts)
-->m 1:24 `hive_id` ambiguous-name: hive_id is a column of several of these tables (write the table or its alias before it: table.hive_id)
