/* marktwice
title  = "Lime honey 2026 rises by a tenth"
reason = "Autumn price list. The trigger batch_price keeps the log of prices, and an undo leaves that log as it is."
rows   = 12
allow  = ["undeclared-write"]
*/
UPDATE batch
   SET price_per_kg = round(price_per_kg * 1.10, 2)
 WHERE flower = 'lime' AND season = 2026;
