/* marktwice
title = "The season's total of hive 12, from the spreadsheet"
rows  = 1
*/
UPDATE hive_season
   SET total_kilos = (SELECT sum(CAST(kilos AS DECIMAL(8,2))) FROM sheet_import WHERE hive = '12')
 WHERE hive_id = 12 AND season = 2026;
