/* marktwice
title = "Two slips of one afternoon"
*/

/* marktwice step
rows = 1
*/
UPDATE inspection SET day = '2026-05-11' WHERE inspection_id = 418;

/* marktwice step
rows = 1
*/
UPDATE hive SET queen_colour = 'white' WHERE hive_id = 12;
