/* marktwice
title = "Inspections before 2021 go"
rows  = "1+"
*/
DELETE FROM inspection WHERE day < '2021-01-01';
