/* marktwice
title = "A queen is marked blue (which one? the WHERE is forgotten)"
*/
UPDATE hive SET queen_colour = 'blue';
