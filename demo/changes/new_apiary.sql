/* marktwice
title  = "A new apiary, and the hives that move there"
reason = "The slope at Cold Kirby is too windy for three of them"

[params.name]
type    = "text"
default = "Silver Howe"
meaning = "what the new apiary is called"

[params.keeper]
type    = "integer"
default = 7
meaning = "the keeper_id of whoever looks after it"

[[check]]
name      = "no hive is lost on the way"
sql       = "SELECT count(*) FROM hive"
unchanged = true
*/

/* marktwice step
name = "the new apiary"
rows = 1
keep = "apiary_id"
*/
INSERT INTO apiary (name, keeper_id) VALUES (:name, :keeper);

/* marktwice step
name = "the hives move"
rows = 3

[[check]]
name = "they leave Cold Kirby"
each = "old.apiary_id = 5 AND new.apiary_id <> 5"
*/
UPDATE hive SET apiary_id = :apiary_id WHERE apiary_id = 5 AND queen_colour = 'red';
