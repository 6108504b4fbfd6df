/* marktwice
title = "A line of the spreadsheet came in twice"
rows  = 1
*/
DELETE FROM sheet_import
 WHERE ctid IN (SELECT max(ctid) FROM sheet_import GROUP BY hive, day, kilos, note HAVING count(*) > 1);
