/* marktwice
title = "Inspections before 2021 go to the archive"
rows  = "1+"
archive_to = "inspection_archive"
*/
DELETE FROM inspection WHERE day < '2021-01-01';
