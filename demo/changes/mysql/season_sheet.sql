/* marktwice
title  = "This season's totals: what is there is updated, what is not comes in"
reason = "The office has collected them in season_sheet. Drafted with: draft hive_season --from-table season_sheet"
*/

/* marktwice step
rows = "0+"
*/
UPDATE hive_season
  JOIN season_sheet
    ON hive_season.hive_id = season_sheet.hive_id
   AND hive_season.season = season_sheet.season
   SET hive_season.total_kilos = season_sheet.total_kilos;

/* marktwice step
rows = "0+"
*/
INSERT INTO hive_season (hive_id, season, total_kilos)
SELECT season_sheet.hive_id, season_sheet.season, season_sheet.total_kilos
  FROM season_sheet
 WHERE NOT EXISTS (SELECT 1 FROM hive_season WHERE hive_season.hive_id = season_sheet.hive_id AND hive_season.season = season_sheet.season);
