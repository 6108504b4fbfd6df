//! Change files: what they say about themselves, and what is wrong with them.

use crate::demo;

#[test]
fn the_header_counts() {
    let s = demo();
    s.write("r.sql", "/* marktwice\ntitle = \"t\"\nrows = \"1-2\"\nchanges = 2\n*/\nUPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 5, 8);");
    s.run(&["preview", "r.sql"])
        .expect(4)
        .says("3 rows match, 1-2 expected")
        .says("AND region IS NOT 'Moor'");
    s.run(&["apply", "r.sql", "--yes"]).expect(4).says("Not begun");
    s.run(&["apply", "r.sql", "--rows", "3", "--yes"])
        .expect(0)
        .says("2 rows changed and committed (3 matched)");
}

#[test]
fn what_is_wrong_is_underlined() {
    let s = demo();
    s.write("bad.sql", "/* marktwice\ntitle = \"t\"\nrosw = 2\n*/\nDELETE FROM sale WHERE sale_id = 1");
    s.run(&["preview", "bad.sql"]).expect(2).says("rosw").says("bad.sql, line 3, column 1").says("^^^^");
    s.write("typo.sql", "/*marktwice\nrows = 2\n*/\nDELETE FROM sale WHERE sale_id = 1");
    s.run(&["apply", "typo.sql", "--rows", "1", "--yes"]).expect(2).says("must be exactly");
    assert_eq!(s.value("SELECT count(*) FROM sale WHERE sale_id = 1"), "integer:1");
    s.write("code.sql", "/* marktwice\nallow = [\"everything\"]\n*/\nDELETE FROM sale WHERE sale_id = 1");
    s.run(&["preview", "code.sql"]).expect(2).says("no finding's code");
}

#[test]
fn the_same_statement_twice() {
    let s = demo();
    let rise = "UPDATE batch SET list_price = list_price + 1 WHERE batch_id = 1";
    s.run(&["apply", "--sql", rise, "--rows", "1", "--yes"]).expect(0);
    let before = s.dump();
    let relaid = "update batch set list_price=list_price+1 where batch_id=1 -- once more";
    s.run(&["apply", "--sql", relaid, "--rows", "1", "--yes"]).expect(3).says("already-run").says("--again");
    assert_eq!(s.dump(), before);
    s.run(&["apply", "--sql", relaid, "--rows", "1", "--yes", "--again"]).expect(0);
    let fixed = "UPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 5)";
    s.run(&["apply", "--sql", fixed, "--rows", "2", "--yes"]).expect(0);
    s.run(&["apply", "--sql", fixed, "--rows", "2", "--yes"])
        .expect(0)
        .says("Nothing to do")
        .says("already hold the new values")
        .says("committed as");
    // Taken back, it may be applied again without a word.
    s.run(&["undo", "@last", "--rows", "2", "--yes"]).expect(0);
    s.run(&["apply", "--sql", fixed, "--rows", "2", "--yes"]).expect(0).says("2 rows committed");
}
