/* marktwice
title = "New address for keeper 4 (it collides: somebody has it already)"
rows  = 1
*/
UPDATE keeper SET email = 'orla.fenwick@heathermoor.example' WHERE keeper_id = 4;
