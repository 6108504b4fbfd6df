//! The screens in the documents are those of the program: each command in them is run on the demo's data, in order, and
//! prints what stands below it.

use marktwice_testkit::Scene;

/// A document of the project's.
fn document(name: &str) -> String {
    std::fs::read_to_string(format!("{}/../../{name}", env!("CARGO_MANIFEST_DIR"))).unwrap()
}

/// The blocks of a document in order: the language, with the name of a file behind it where there is one, and the text.
fn blocks(text: &str) -> Vec<(String, String)> {
    let mut all: Vec<(String, String)> = Vec::new();
    let mut open = false;
    for line in text.lines() {
        match line.strip_prefix("```") {
            Some(info) => {
                open = !open;
                if open {
                    all.push((info.to_owned(), String::new()));
                }
            }
            None if open => {
                if let Some((_, body)) = all.last_mut() {
                    body.push_str(line);
                    body.push('\n');
                }
            }
            None => {}
        }
    }
    all
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

/// Words side by side, names of runs and marks and moments left out, which are others each time: a terminal breaks long lines.
fn plain(text: &str) -> String {
    let is_name = |word: &str| {
        let known = |c: char| "23456789bcdfghjkmnpqrstvwxz".contains(c);
        // Some are nothing but digits.
        word.len() == 4 && word.chars().all(known)
    };
    let said = text.split_whitespace().map(|word| {
        let bare = word.trim_end_matches(['.', ',', ':']);
        let digits = |of: &str, mark: char| of.split(mark).all(|part| part.parse::<u16>().is_ok());
        if is_name(bare) {
            word.replace(bare, "NAME")
        } else if bare.len() == 10 && digits(bare, '-') && bare.starts_with("20") && bare > "2026-11" {
            "TODAY".to_owned()
        } else if bare.len() == 5 && bare.contains(':') && digits(bare, ':') {
            "NOW".to_owned()
        } else {
            word.to_owned()
        }
    });
    said.collect::<Vec<_>>().join(" ")
}

/// The run that a screen tells of: `… as NAME. To take it back: …`.
fn run_told(text: &str) -> Option<String> {
    let (_, behind) = text.rsplit_once(" as ").filter(|(_, behind)| behind.contains("To take "))?;
    Some(behind.chars().take_while(char::is_ascii_alphanumeric).collect())
}

/// Plays one screen; `last` is the run before, in the words of the document and as it is here.
fn play(s: &Scene, command: &str, shown: &str, last: &mut Option<(String, String)>) {
    let mut words = words(command);
    if let Some((written, run)) = last {
        words.iter_mut().filter(|word| *word == written).for_each(|word| word.clone_from(run));
    }
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
    if let (Some(written), Some(run)) = (run_told(shown), run_told(&found)) {
        *last = Some((written, run));
    }
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
    for name in ["README.md", "docs/TOUR.md", "docs/GUIDE.md", "docs/REFERENCE.md"] {
        let s = crate::demo();
        std::fs::create_dir_all(s.path("changes")).unwrap();
        for (name, text) in marktwice_demo::changes(marktwice_demo::Engine::Sqlite) {
            s.write(&format!("changes/{name}"), text);
        }
        let mut last = None;
        for (info, body) in blocks(&document(name)) {
            match (info.split_once(' '), body.strip_prefix("$ ")) {
                // What a file holds stands under its name.
                (Some((_, file)), _) => drop(s.write(file, body)),
                (None, Some(command)) => {
                    let (command, shown) = command.split_once('\n').unwrap_or((command, ""));
                    play(&s, command, shown, &mut last);
                    played += 1;
                }
                (None, None) => {}
            }
        }
    }
    assert!(played >= 30, "{played} screens");
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
