/* marktwice
title       = "Prices from the office's spreadsheet"
reason      = "Autumn list of the co-operative, as saved by the office"
rows        = 4
also_writes = ["price_log=4"]

[sheet.prices]
file = "office_prices.csv"
*/
UPDATE batch
  JOIN prices ON prices.Batch = batch.batch_id
   SET batch.price_per_kg = prices.Price;
