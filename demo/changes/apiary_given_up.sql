/* marktwice
title  = "The Old Quarry is given up"
reason = "Its hives move to Whin Bank; an apiary without hives goes"
*/

/* marktwice step
name = "the hives move"
rows = 5
*/
UPDATE hive SET apiary_id = 3 WHERE apiary_id = 9;

/* marktwice step
name = "the empty apiary goes"
rows = 1
*/
DELETE FROM apiary
 WHERE apiary_id = 9
   AND NOT EXISTS (SELECT 1 FROM hive WHERE hive.apiary_id = apiary.apiary_id);
