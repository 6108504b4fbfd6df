//! The screens in the documents are those of the program: each command in them is run on the demo's data, in order, and
//! prints what stands below it.

use marktwice_testkit::Scene;

/// A document of the project's.
fn document(name: &str) -> String {
    std::fs::read_to_string(format!("{}/../../{name}", env!("CARGO_MANIFEST_DIR"))).unwrap()
}

/// The commands in a document that stand behind a prompt, each with what is shown below it.
fn screens(text: &str) -> Vec<(String, String)> {
    let blocks = text.split("```\n$ ").skip(1).map(|block| block.split("\n```").next().unwrap());
    blocks
        .map(|block| {
            let (command, shown) = block.split_once('\n').unwrap_or((block, ""));
            (command.to_owned(), shown.to_owned())
        })
        .collect()
}

/// The words of a command, double quotes taken off.
fn words(command: &str) -> Vec<String> {
    let mut all = vec![String::new()];
    let mut quoted = false;
    for c in command.chars() {
        match c {
            '"' => quoted = !quoted,
            ' ' if !quoted => all.push(String::new()),
            _ => all.last_mut().unwrap().push(c),
        }
    }
    all
}

/// Words side by side, names that are others each time left out: a terminal breaks long lines.
fn plain(text: &str) -> String {
    let words: Vec<&str> = text.split_whitespace().collect();
    let named = |at: usize| {
        let before = at.checked_sub(1).and_then(|at| words.get(at)).copied().unwrap_or("");
        ["as", "undo", "of", "Mark", "--mark"].contains(&before)
    };
    let said = words.iter().enumerate().map(|(at, word)| match word.trim_end_matches(['.', ',']) {
        name if named(at) && name.len() == 4 => word.replace(name, "NAME"),
        _ => (*word).to_owned(),
    });
    said.collect::<Vec<_>>().join(" ")
}

fn play(s: &Scene, command: &str, shown: &str) {
    let words = words(command);
    let (program, args) = words.split_first().unwrap();
    assert_eq!(program, "marktwice", "{command}");
    let args: Vec<&str> = args.iter().map(String::as_str).collect();
    let found = if shown.contains("[y/N] y") {
        let mut t = s.terminal(&args);
        t.wait_for("[y/N]");
        t.write("y\n");
        t.end().1
    } else {
        let answer = s.run(&args);
        answer.out + &answer.err
    };
    let found = plain(&found);
    let mut rest = found.as_str();
    let (mut first, ends) = (true, !shown.trim_end().ends_with('…') && !shown.contains("[y/N] y"));
    for part in shown.split('…') {
        let part = plain(part);
        let at = rest.find(&part).unwrap_or_else(|| panic!("$ {command}\nhas not\n{part}\nin\n{found}"));
        assert!(!first || at == 0, "$ {command}\nbegins with\n{rest}");
        rest = &rest[at + part.len()..];
        first = false;
    }
    assert!(!ends || rest.trim().is_empty(), "$ {command}\nsays also\n{rest}");
}

#[test]
fn their_screens_are_the_programs_own() {
    let mut played = 0;
    for name in ["README.md", "docs/TOUR.md", "docs/GUIDE.md"] {
        let s = crate::demo();
        std::fs::create_dir_all(s.path("changes")).unwrap();
        for (name, text) in marktwice_demo::changes(marktwice_demo::Engine::Sqlite) {
            s.write(&format!("changes/{name}"), text);
        }
        for (command, shown) in screens(&document(name)) {
            play(&s, &command, &shown);
            played += 1;
        }
    }
    assert!(played >= 6, "{played} screens");
}

#[test]
fn every_exit_status_stands_in_the_documents() {
    let commands = document("docs/COMMANDS.md");
    let help = crate::demo().run(&["--help"]).out;
    let listed = help.split("Exit status:").nth(1).unwrap();
    for line in listed.lines().map(str::trim).filter(|l| l.starts_with(|c: char| c.is_ascii_digit())) {
        let (status, meaning) = line.split_once("  ").unwrap();
        assert!(commands.contains(&format!("| {status} | {meaning} |")), "{line}");
    }
}

#[test]
fn the_examples_in_the_help_run_as_they_stand() {
    let s = crate::demo();
    std::fs::create_dir_all(s.path("changes")).unwrap();
    for (name, text) in marktwice_demo::changes(marktwice_demo::Engine::Sqlite) {
        s.write(&format!("changes/{name}"), text);
    }
    let mut played = 0;
    for command in ["look", "set", "draft", "preview", "compare", "rehearse", "apply", "undo", "history"] {
        let help = s.run(&[command, "--help"]).expect(0).out;
        let examples = help.split("Examples:").nth(1).unwrap_or_else(|| panic!("{command} has no examples"));
        for example in examples.lines().map(str::trim).filter(|line| line.starts_with("marktwice ")) {
            let words = words(example);
            let args: Vec<&str> = words.iter().skip(1).map(String::as_str).collect();
            let found = s.run(&args);
            // Where a question would be asked nobody is there; two ways that differ say so.
            let nobody = found.status == Some(6) && found.err.contains("Nobody is there");
            let differ = command == "compare" && found.status == Some(4);
            assert!(found.status == Some(0) || nobody || differ, "{example}: {}{}", found.out, found.err);
            played += 1;
        }
    }
    assert!(played >= 15, "{played} examples");
}
