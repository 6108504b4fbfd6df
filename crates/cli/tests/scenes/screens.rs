//! Whole screens of the main commands, on the demo's data, as people see them: what stands in `snapshots/` is what is shown,
//! with names that differ each time, moments and sizes left out.

use marktwice_testkit::{Answer, Scene};

/// The demo's database with its change files.
fn demo() -> Scene {
    let s = crate::demo();
    std::fs::create_dir_all(s.path("changes")).unwrap();
    for (name, text) in marktwice_demo::changes(marktwice_demo::Engine::Sqlite) {
        s.write(&format!("changes/{name}"), text);
    }
    s
}

/// Standard output and standard error of a command, with its exit status.
fn screen(s: &Scene, name: &str, args: &[&str]) {
    let Answer { status, out, err } = s.run(args);
    let status = status.map_or("a signal".to_owned(), |code| code.to_string());
    let shown = args.join(" ");
    let runs = s.run(&["history", "--format", "json"]).json();
    let mut text = format!("$ marktwice {shown}\n{out}--- standard error\n{err}--- exit status {status}\n");
    for (at, run) in runs["runs"].as_array().unwrap().iter().rev().enumerate() {
        let receipt = &run["receipt"];
        for (what, name) in [("run", &receipt["run"]), ("mark", &receipt["mark"])] {
            let name = name.as_str().unwrap_or("-none-");
            text = text.replace(name, &format!("<{what}{}>", at + 1));
        }
    }
    insta::with_settings!({
        filters => vec![
            (r"\d{4}-\d\d-\d\d \d\d:\d\d UTC", "<moment>"),
            (r"in [\d ]+ bytes", "in <n> bytes"),
            (r"Mark [0-9a-z]{4} is", "Mark <mark> is"),
            (r"--mark [0-9a-z]{4}\b", "--mark <mark>"),
            (r"takes up [\d.]+ kB", "takes up <n> kB"),
            (r"(?m)^  by .*\n", ""),
        ],
        omit_expression => true,
        prepend_module_to_snapshot => false,
    }, { insta::assert_snapshot!(name, text) });
}

#[test]
fn a_change_of_one_step() {
    let s = demo();
    screen(&s, "preview", &["preview", "changes/region.sql"]);
    screen(&s, "apply_another_count", &["apply", "changes/region.sql", "--yes"]);
    screen(&s, "apply", &["apply", "changes/region_corrected.sql", "--yes"]);
    screen(&s, "receipt", &["receipt"]);
    screen(&s, "undo", &["undo", "@last", "--yes", "--rows", "2"]);
    screen(&s, "history", &["history"]);
}

#[test]
fn a_change_of_several_steps() {
    let s = demo();
    screen(&s, "steps_preview", &["preview", "changes/apiary_given_up.sql"]);
    screen(&s, "steps_exact", &["preview", "changes/two_slips.sql"]);
    screen(&s, "steps_apply", &["apply", "changes/apiary_given_up.sql", "--yes"]);
    screen(&s, "steps_receipt", &["receipt"]);
    screen(&s, "steps_undo", &["undo", "@last", "--yes", "--rows", "6"]);
    screen(&s, "steps_history", &["history"]);
}

#[test]
fn what_is_stopped_and_refused() {
    let s = demo();
    screen(&s, "stopped", &["preview", "changes/forgotten_filter.sql"]);
    screen(
        &s,
        "unknown_name",
        &["preview", "--sql", "UPDATE keeper SET regoin = 'Moor' WHERE keeper_id = 3"],
    );
    screen(&s, "collides", &["apply", "changes/email_collides.sql", "--yes", "--rows", "1"]);
    screen(
        &s,
        "around",
        &["preview", "--sql", "BEGIN; UPDATE hive SET name = 'x' WHERE hive_id = 1; COMMIT"],
    );
    let held = "/* marktwice step\nrows = 1\n*/\nUPDATE hive SET queen_colour = 'red' WHERE hive_id = 1;\n\
                /* marktwice step\nrows = 1\n*/\nDELETE FROM apiary WHERE apiary_id = 3;\n";
    s.write("held.sql", held);
    screen(&s, "second_step_fails", &["apply", "held.sql", "--yes"]);
}
