//! The questions: before the transaction, inside it, and nobody there.

use crate::demo;

const SQL: &str = "UPDATE keeper SET region = 'Moor' WHERE keeper_id IN (3, 5)";

#[test]
fn yes_commits_and_says_how_to_take_it_back() {
    let s = demo();
    let mut t = s.terminal(&["apply", "--sql", SQL]);
    t.wait_for("Commit these 2 rows to coop.db? [y/N]");
    t.write("y\n");
    let (status, seen) = t.end();
    assert_eq!(status, Some(0), "{seen}");
    assert!(seen.contains("2 rows committed as") && seen.contains("marktwice undo"), "{seen}");
    assert_eq!(s.value("SELECT region FROM keeper WHERE keeper_id = 3"), "text:'Moor'");
    let mut t = s.terminal(&["undo"]);
    t.wait_for("Put these 2 rows back in coop.db? [y/N]");
    t.write("yes\n");
    assert_eq!(t.end().0, Some(0));
    assert_eq!(s.value("SELECT region FROM keeper WHERE keeper_id = 3"), "text:'Dale'");
}

#[test]
fn anything_else_declines() {
    let s = demo();
    let before = s.dump();
    for (typed, word) in [
        ("n\n", "Declined"),
        ("\n", "Declined"),
        ("yep\n", "Declined"),
        ("\x03", "Interrupted"),
        ("\x04", "Nobody"),
    ] {
        let mut t = s.terminal(&["apply", "--sql", SQL]);
        t.wait_for("[y/N]");
        t.write(typed);
        let (status, seen) = t.end();
        assert_eq!(status, Some(6), "{typed:?}: {seen}");
        // A terminal breaks long lines between words.
        let seen = seen.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(seen.contains(word) && seen.contains("Not begun; nothing changed"), "{typed:?}: {seen}");
    }
    assert_eq!(s.dump(), before);
    assert!(s.runs().is_empty(), "nothing was begun");
}

#[test]
fn nobodys_rows_are_locked_while_a_person_reads() {
    let s = demo();
    let mut t = s.terminal(&["apply", "--sql", SQL]);
    t.wait_for("[y/N]");
    s.sql("UPDATE sale SET kilos = 1 WHERE sale_id = 1");
    t.write("y\n");
    assert_eq!(t.end().0, Some(0));
}

#[test]
fn hold_asks_inside_and_nobody_else_sees_anything_before_commit() {
    let s = demo();
    let before = s.dump();
    let mut t = s.terminal(&["apply", "--sql", SQL, "--hold"]);
    t.wait_for("is open: 2 rows matched, 2 changed, every one verified");
    assert_eq!(s.dump(), before, "seen from another connection");
    let other = s.db();
    other.busy_timeout(std::time::Duration::ZERO).unwrap();
    assert!(
        other.execute("UPDATE keeper SET phone = 'x' WHERE keeper_id = 3", []).is_err(),
        "the writer's place is taken"
    );
    assert_eq!(s.receipt(&s.runs()[0])["state"], "prepared");
    t.write("y\n");
    let (status, seen) = t.end();
    assert_eq!(status, Some(0), "{seen}");
    assert_ne!(s.dump(), before);
    let mut t = s.terminal(&["undo", "--hold"]);
    t.wait_for("is open: 2 rows matched");
    t.write("n\n");
    let (status, seen) = t.end();
    assert_eq!(status, Some(6), "{seen}");
    assert!(seen.contains("Rolled back; nothing changed"), "{seen}");
    assert_ne!(s.dump(), before);
}

/// A script that asks for documents gets one, whatever is wrong.
#[test]
fn a_misread_command_line_is_a_document() {
    let s = demo();
    for format in [&["--format", "json"][..], &["--format=json"]] {
        let said = s.run(&[&["look", "-1"][..], format].concat()).expect(2).says("unexpected argument '-1'");
        let document = said.json();
        assert_eq!((&document["format"], &document["status"]), (&"marktwice-error".into(), &2.into()));
    }
    let plain = s.run(&["look", "-1"]).expect(2);
    assert_eq!(plain.out, "");
}

#[test]
fn without_a_terminal_agreement_needs_what_was_agreed() {
    let s = demo();
    let before = s.dump();
    s.run(&["apply", "--sql", SQL]).expect(6).says("Nobody is there to ask").says("--yes");
    s.run(&["apply", "--sql", SQL, "--yes"]).expect(2).says("what was agreed to");
    s.run(&["undo", "--yes"]).expect(2).says("name the run");
    assert_eq!(s.dump(), before);
    s.run(&["apply", "--sql", SQL, "--yes", "--rows", "3"]).expect(4).says("2 rows match, 3 expected");
    s.run(&["apply", "--sql", SQL, "--yes", "--rows", "2", "--changes", "1"]).expect(4).says("1 expected");
    assert_eq!(s.dump(), before);
    s.run(&["apply", "--sql", SQL, "--yes", "--rows", "2", "--changes", "2"]).expect(0);
}

#[test]
fn a_count_that_is_met_is_still_asked_about_at_a_terminal() {
    let s = demo();
    let mut t = s.terminal(&["apply", "--sql", SQL, "--rows", "2"]);
    t.wait_for("[y/N]");
    t.write("n\n");
    assert_eq!(t.end().0, Some(6));
}

#[test]
fn words_are_answers_too() {
    let s = demo();
    s.write("a.sql", "UPDATE keeper SET region = 'Moor' WHERE keeper_id < 20");
    // The editor makes another change of it, which is previewed and asked about anew.
    let mut t = s.terminal_with_editor(
        &["apply", "a.sql", "--show", "2"],
        "printf \"UPDATE keeper SET region = 'Fell' WHERE keeper_id = 3\" > \"$1\"",
    );
    t.wait_for("and 17 rows more");
    t.wait_for("[y/N]");
    t.write("help\n");
    t.wait_for("edit: open the change in your editor");
    t.wait_for("[y/N]");
    t.write("all\n");
    t.wait_for("Quilla Usher");
    t.wait_for("[y/N]");
    t.write("edit\n");
    t.wait_for("Dale → Fell");
    t.wait_for("Commit this 1 row to coop.db? [y/N]");
    t.write("y\n");
    let (status, seen) = t.end();
    assert_eq!(status, Some(0), "{seen}");
    assert_eq!(s.value("SELECT region FROM keeper WHERE keeper_id = 3"), "text:'Fell'");
    assert_eq!(s.value("SELECT region FROM keeper WHERE keeper_id = 5"), "text:'Dale'");
    // Where the change is in no file nothing is offered that could not be done.
    let mut t = s.terminal(&["undo"]);
    t.wait_for("all and help are answers too");
    t.wait_for("[y/N]");
    t.write("edit\n");
    assert_eq!(t.end().0, Some(6));
}

#[test]
fn what_is_long_goes_to_the_pager_that_was_chosen() {
    let s = demo();
    let look = ["look", "batch", "--show", "all"];
    let paged = |args: &[&str], pager: &str| s.terminal_with(args, &[("PAGER", pager)]).end();
    let (status, seen) = paged(&look, "sed 's/^/PAGED /'");
    assert_eq!(status, Some(0));
    assert!(seen.contains("PAGED") && seen.contains("144"), "{seen}");
    // What is short is not; nor is anything where the pager fails, nobody looks on, or something is asked.
    assert!(!paged(&["history"], "sed 's/^/PAGED /'").1.contains("PAGED"));
    let (status, seen) = paged(&look, "exit 3");
    assert!(status == Some(0) && seen.contains("coop.db"), "{seen}");
    let piped =
        marktwice_testkit::finished(s.command().env("PAGER", "sed 's/^/PAGED /'").args(look)).expect(0);
    assert!(!piped.out.contains("PAGED"));
}
