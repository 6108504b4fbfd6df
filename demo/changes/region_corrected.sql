/* marktwice
title  = "Two keepers have moved to the Moor"
reason = "Letters from Orla Fenwick and Tam Birkett"
rows   = 2
*/
UPDATE keeper
   SET region = 'Moor'
 WHERE keeper_id IN (3, 5, 8)
   AND region <> 'Moor';
