//! A row as a form in the user's editor.

use crate::{demo, scene};

/// Replaces a line of the form.
fn edit(line: &str, with: &str) -> String {
    format!("cat \"$1\" >> seen.txt; sed -i \"s/^{line}$/{with}/\" \"$1\"\n")
}

#[test]
fn what_differs_in_the_form_is_set() {
    let s = demo();
    let before = s.dump();
    let editor = edit("queen_colour = green", "queen_colour = red");
    let mut t = s.terminal_with_editor(&["set", "hive", "12"], &editor);
    t.wait_for("Commit this 1 row to coop.db? [y/N]");
    t.write("y\n");
    let (status, seen) = t.end();
    assert_eq!(status, Some(0), "{seen}");
    assert!(seen.contains("SET queen_colour = 'red'") && !seen.contains("SET name"), "{seen}");
    assert!(seen.contains("queen_colour was green: so it is"), "{seen}");
    let form = std::fs::read_to_string(s.path("seen.txt")).unwrap();
    for line in
        ["# hive_id = 12", "name = Bellheather", "# INTEGER, not NULL, now Sand Hole", "apiary_id = 7"]
    {
        assert!(form.lines().any(|l| l == line), "{line}: {form}");
    }
    s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
    assert_eq!(s.dump(), before);
}

#[test]
fn an_unchanged_form_does_nothing_and_a_faulty_one_is_opened_again() {
    let s = demo();
    let before = s.dump();
    let (status, seen) = s.terminal_with_editor(&["set", "hive", "12"], "true").end();
    assert!(status == Some(6) && seen.contains("Nothing differs in the form"), "{status:?} {seen}");
    let editor = edit("apiary_id = 7", "apiary_id = seven");
    let (status, seen) = s.terminal_with_editor(&["set", "hive", "12"], &editor).end();
    assert!(status == Some(2) && seen.contains("is no number"), "{status:?} {seen}");
    let form = std::fs::read_to_string(s.path("seen.txt")).unwrap();
    assert!(form.contains("#! apiary_id holds INTEGER, and 'seven' is no number"), "{form}");
    for (editor, says) in [
        (edit("name = .*", "nmae = x"), "nmae is no column of this form"),
        (edit("name = .*", "name = 'x"), "this quote is not closed"),
        (edit("name = .*", "just words"), "this line has no equals sign"),
        (edit("name = .*", "queen_colour = red"), "queen_colour stands here twice"),
        (edit("name = .*", "name = NULL"), "does not take NULL"),
    ] {
        let (status, seen) = s.terminal_with_editor(&["set", "hive", "12"], &editor).end();
        assert!(status == Some(2) && seen.contains(says), "{says}: {status:?} {seen}");
    }
    let (status, seen) = s.terminal_with_editor(&["set", "hive", "12"], "exit 3").end();
    assert!(status == Some(2) && seen.contains("the form cannot be edited"), "{status:?} {seen}");
    let (status, seen) = s.terminal_with_editor(&["set", "hive", "999"], "true").end();
    assert!(status == Some(3) && seen.contains("no row of hive has the key 999"), "{status:?} {seen}");
    // On a pipe nobody could fill it in.
    s.run(&["set", "hive", "12"]).expect(2).says("a form needs a terminal").says("COLUMN=VALUE");
    s.run(&["set", "hive", "12,13", "--several"]).expect(2);
    assert_eq!(s.dump(), before);
}

#[test]
fn values_of_every_kind_come_back_as_they_were() {
    let s = scene(
        "CREATE TABLE odd (id INTEGER PRIMARY KEY, a TEXT, b TEXT, c, d REAL, e BLOB, f TEXT, \"a#b c\" TEXT, n INTEGER NOT NULL DEFAULT 1);
         INSERT INTO odd VALUES (1, ' it''s
two', 'NULL', '5', 0.1, x'00ff', '', '# x = y', 7);",
    );
    let before = s.dump();
    // Saved without a change: not one of them differs, however it is written.
    let (status, seen) =
        s.terminal_with_editor(&["set", "odd", "1"], "cp \"$1\" seen.txt; touch \"$1\"").end();
    assert_eq!(status, Some(6), "{seen}");
    let form = std::fs::read_to_string(s.path("seen.txt")).unwrap();
    for line in [
        "a = ' it''s\ntwo'",
        "b = 'NULL'",
        "c = '5'",
        "d = 0.1",
        "# e = x'00ff'",
        "f = ''",
        "a#b c = # x = y",
    ] {
        assert!(form.contains(&format!("\n{line}\n")), "{line}: {form}");
    }
    let editor = "printf \"a = 'x\\n\\n  y'\\n\\nd = 2.5\\n\" > \"$1\"";
    let mut t = s.terminal_with_editor(&["set", "odd", "1"], editor);
    t.wait_for("[y/N]");
    t.write("y\n");
    let (status, seen) = t.end();
    assert_eq!(status, Some(0), "{seen}");
    assert_eq!(s.value("SELECT a FROM odd"), "text:'x\n\n  y'");
    assert_eq!(
        s.value("SELECT count(*) FROM odd WHERE d = 2.5 AND c = '5' AND typeof(c) = 'text' AND e = x'00ff'"),
        "integer:1"
    );
    s.run(&["undo", "@last", "--yes", "--rows", "1"]).expect(0);
    assert_eq!(s.dump(), before);
}
