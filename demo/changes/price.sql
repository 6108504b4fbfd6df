/* marktwice
title  = "Lime honey 2026 rises by a tenth"
reason = "Autumn price list. The trigger batch_price keeps the log of prices; an undo takes its entries out again."
rows   = 12
also_writes = ["price_log=12"]

[[check]]
name  = "nothing dearer than 40 a kilo"
sql   = "SELECT count(*) FROM batch WHERE price_per_kg > 40"
gives = 0
*/
UPDATE batch
   SET price_per_kg = round(price_per_kg * 1.10, 2)
 WHERE flower = 'lime' AND season = 2026;
