/* marktwice
title = "Inspection 418 was a day later"
rows  = 1
*/
UPDATE inspection SET day = '2026-05-11' WHERE inspection_id = 418;
