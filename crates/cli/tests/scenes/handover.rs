//! A change that one person previews and another applies.

use marktwice_testkit::{Scene, finished};

use crate::{demo, scene};

const HEAD: &str =
    "/* marktwice\ntitle = \"Dearer lime honey\"\nreason = \"The autumn list\"\nrows = 2\n*/\n";

fn change(s: &Scene) {
    s.write("a.sql", format!("{HEAD}UPDATE keeper SET region = :region WHERE keeper_id IN (3, 5)"));
}

/// Runs the program as somebody else, with a logbook of their own.
fn colleague(s: &Scene, args: &[&str]) -> marktwice_testkit::Answer {
    finished(s.command().env("USER", "orla").args(args).args(["--logbook", "theirs"]))
}

#[test]
fn a_colleague_applies_exactly_what_was_previewed() {
    let s = demo();
    change(&s);
    s.run(&["preview", "a.sql", "--with", "region=Moor", "--out", "a.twice"])
        .expect(0)
        .says("a.twice holds it with its mark");
    s.run(&["preview", "a.sql", "--with", "region=Moor", "--out", "a.twice"])
        .expect(2)
        .says("is there already");
    s.run(&["preview", "a.sql", "--with", "region=Moor", "--out", "a.txt"]).expect(2).says("call it a.twice");
    s.run(&["preview", "a.twice"]).expect(2).says("marktwice apply a.twice previews it again");
    // What is there changes in between: both marks have to agree.
    s.sql("UPDATE keeper SET region = 'Fell' WHERE keeper_id = 5");
    let before = s.dump();
    colleague(&s, &["apply", "a.twice", "--yes"]).expect(5).says("previewed by tester on").says("keeper 5");
    assert_eq!(s.dump(), before);
    s.sql("UPDATE keeper SET region = 'Dale' WHERE keeper_id = 5");
    // The values, the counts and the mark are the file's.
    colleague(&s, &["apply", "a.twice", "--yes", "--with", "region=Fell"]).expect(2).says("leave those out");
    let run = colleague(&s, &["apply", "a.twice", "--yes", "--format", "json"]).expect(0).run();
    assert_eq!(s.value("SELECT region FROM keeper WHERE keeper_id = 5"), "text:'Moor'");
    colleague(&s, &["receipt", &run])
        .expect(0)
        .says("previewed    elsewhere, by tester on")
        .says("by           orla")
        .says("Dearer lime honey");
    colleague(&s, &["undo", &run, "--yes"]).expect(0);
}

#[test]
fn an_altered_byte_anywhere_is_noticed() {
    let s = demo();
    change(&s);
    s.run(&["preview", "a.sql", "--with", "region=Moor", "--out", "a.twice"]).expect(0);
    let whole = std::fs::read(s.path("a.twice")).unwrap();
    let before = s.dump();
    let mut at = 0;
    while at < whole.len() {
        let mut other = whole.clone();
        other[at] ^= 1;
        s.write("b.twice", &other);
        colleague(&s, &["apply", "b.twice", "--yes"]).expect(2).says("was altered, or is torn");
        // Each byte of the end, and enough of all others.
        at += if at + 80 > whole.len() { 1 } else { whole.len() / 60 };
    }
    for torn in [0, 1, whole.len() / 2, whole.len() - 1] {
        s.write("b.twice", &whole[..torn]);
        colleague(&s, &["apply", "b.twice", "--yes"]).expect(2).says("was altered, or is torn");
    }
    s.write("b.twice", [&whole[..], b"\n"].concat());
    colleague(&s, &["apply", "b.twice", "--yes"]).expect(2).says("was altered, or is torn");
    assert_eq!(s.dump(), before);
    // Whoever makes it anew with another database in it is told so too.
    let t = scene(
        "CREATE TABLE keeper (keeper_id INTEGER PRIMARY KEY, region TEXT); INSERT INTO keeper VALUES (3, 'Dale'), (5, 'Dale');",
    );
    t.write("a.twice", &whole);
    t.run(&["apply", "a.twice", "--yes"])
        .expect(2)
        .says("was previewed on coop.db, and this is coop.db, another database");
}

#[test]
fn sheets_go_along_and_secrets_stay() {
    let s = demo();
    s.write("prices.csv", "batch_id,price\n97,20.5\n98,21.5\n");
    s.write("a.sql", "/* marktwice\nrows = 2\nalso_writes = [\"price_log\"]\n*/\nUPDATE batch SET price_per_kg = p.price FROM prices AS p WHERE batch.batch_id = p.batch_id");
    s.run(&["preview", "a.sql", "--sheet", "prices=prices.csv", "--out", "a.twice"]).expect(0);
    std::fs::remove_file(s.path("prices.csv")).unwrap();
    let run = colleague(&s, &["apply", "a.twice", "--yes", "--format", "json"]).expect(0).run();
    assert_eq!(s.value("SELECT price_per_kg FROM batch WHERE batch_id = 98"), "real:21.5");
    colleague(&s, &["undo", &run, "--yes"]).expect(0);

    s.write("b.sql", "/* marktwice\nrows = 1\n[params.word]\nsecret = true\n*/\nUPDATE keeper SET email = :word WHERE keeper_id = 3");
    s.run(&["preview", "b.sql", "--with", "word=honeycomb", "--out", "b.twice"])
        .expect(2)
        .says("secret")
        .says_not("honeycomb");
    assert!(!s.path("b.twice").exists());
}

#[test]
fn with_hidden_columns_only_the_holder_of_the_key_goes_on() {
    let s = demo();
    let head = |more: &str| {
        format!(
            "on = \"live\"\n[logbook]\nfolder = \"book\"\n{more}\n[database.live]\nurl = \"coop.db\"\nhide = [\"keeper.email\"]\n"
        )
    };
    let sql = "UPDATE keeper SET region = 'Moor', email = lower(email) WHERE keeper_id IN (3, 5)";
    let preview = |file: &str| s.run(&["preview", "--sql", sql, "--rows", "2", "--out", file]);
    s.write("marktwice.toml", head(""));
    preview("a.twice").expect(2).says("name a key_file");
    s.run(&["key", "one.key"]).expect(0);
    s.run(&["key", "two.key"]).expect(0);
    s.write("marktwice.toml", head("key_file = \"one.key\""));
    preview("b.twice").expect(0);
    assert!(!std::fs::read_to_string(s.path("b.twice")).unwrap().contains("fenwick@"));
    s.write("marktwice.toml", head("key_file = \"two.key\""));
    colleague(&s, &["apply", "b.twice", "--yes"]).expect(2).says("under the key age1");
    s.write("marktwice.toml", head("key_file = \"one.key\""));
    colleague(&s, &["apply", "b.twice", "--yes"]).expect(0);
}

#[test]
fn a_guarded_database_takes_what_somebody_else_has_previewed() {
    let s = demo();
    change(&s);
    s.write("marktwice.toml", "on = \"live\"\nlogbook = \"book\"\n[database.live]\nurl = \"coop.db\"\nguarded = true\nmark_within = \"0m\"\n");
    s.run(&["preview", "a.sql", "--with", "region=Moor", "--out", "a.twice"]).expect(0);
    std::thread::sleep(std::time::Duration::from_millis(1_100));
    s.run(&["apply", "a.twice", "--yes"])
        .expect(2)
        .says("was taken ")
        .says(" s ago, and may be 0 s old here");
    colleague(&s, &["apply", "a.twice", "--yes"]).expect(0);
}
