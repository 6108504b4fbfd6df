//! Commands that are printed to be run next run as they are printed: on the database and with the logbook of the command that
//! printed them, where neither stands in a configuration.

use std::collections::HashSet;

use marktwice_testkit::Answer;
use marktwice_testkit::stage::{On, Stage};

use crate::{each, watched};

/// What commands are followed by where they stand in a sentence.
const PROSE: [&str; 9] = ["shows", "lists", "previews", "sets", "finds", "without", "prints", "makes", "and"];

/// Commands that a text names, word by word; what stands for something is put in.
fn commands(text: &str, run: &str) -> Vec<Vec<String>> {
    let plain = strip(text);
    let mut all = Vec::new();
    for line in plain.lines() {
        for (at, _) in line.match_indices("marktwice ") {
            let before = line[..at].chars().next_back().unwrap_or(' ');
            let rest = &line[at + "marktwice ".len()..];
            if !" (`>".contains(before) || !rest.starts_with(|c: char| c.is_ascii_lowercase()) {
                continue;
            }
            let rest =
                rest.split_once(" (").map_or(rest, |(rest, _)| rest).trim_end_matches(['.', ')', ',', ';']);
            let mut words = Vec::new();
            for word in shlex(rest) {
                if PROSE.contains(&word.as_str()) {
                    break;
                }
                words.push(match word.as_str() {
                    "RUN" => run.to_owned(),
                    "TABLE" => "keeper".to_owned(),
                    "CONDITION" => "keeper_id = 1".to_owned(),
                    "CHANGE" => "change.sql".to_owned(),
                    "FILE.twice" => "made.twice".to_owned(),
                    "TEXT" => "why".to_owned(),
                    _ => word,
                });
            }
            all.push(words);
        }
    }
    all
}

/// A text without colours and tags.
fn strip(text: &str) -> String {
    let mut out = String::new();
    let mut inside = false;
    for c in text.chars() {
        match c {
            '<' if text.starts_with("<!DOCTYPE") => inside = true,
            '>' if inside => {
                inside = false;
                out.push(' ');
            }
            _ if inside => {}
            _ => out.push(c),
        }
    }
    out.replace("&#x27;", "'").replace("&#39;", "'").replace("&quot;", "\"").replace("&amp;", "&")
}

/// The words of a line as a shell reads them.
fn shlex(line: &str) -> Vec<String> {
    let (mut words, mut word, mut quoted, mut any) = (Vec::new(), String::new(), false, false);
    let mut chars = line.chars();
    while let Some(c) = chars.next() {
        match c {
            '\\' if !quoted => word.extend(chars.next()),
            '\'' => (quoted, any) = (!quoted, true),
            ' ' if !quoted => {
                if any || !word.is_empty() {
                    words.push(std::mem::take(&mut word));
                }
                any = false;
            }
            _ => word.push(c),
        }
    }
    if any || !word.is_empty() {
        words.push(word);
    }
    words
}

struct Trying<'s> {
    stage: &'s Stage,
    place: Vec<String>,
    tried: HashSet<Vec<String>>,
    run: String,
}

impl Trying<'_> {
    /// Runs a command on the database, then all that it prints.
    fn first(&mut self, args: &[&str]) -> Answer {
        let all: Vec<&str> = args.iter().copied().chain(self.place.iter().map(String::as_str)).collect();
        let answer = self.stage.scene.run(&all);
        self.printed(&format!("{}{}", answer.out, answer.err));
        answer
    }

    fn printed(&mut self, text: &str) {
        for mut words in commands(text, &self.run) {
            if ["apply", "undo"].contains(&words[0].as_str()) && !words.contains(&"--yes".to_owned()) {
                words.extend(["--yes", "--rows", "0+"].map(str::to_owned));
            }
            if words[0] == "demo" || !self.tried.insert(words.clone()) {
                continue;
            }
            let args: Vec<&str> = words.iter().map(String::as_str).collect();
            let answer = self.stage.scene.run(&args);
            assert!(
                answer.status.is_some_and(|status| status != 2),
                "{:?}, printed: {words:?}\n{}\n{}\nby\n{text}",
                self.stage.on,
                answer.out,
                answer.err
            );
        }
    }
}

#[test]
fn what_is_printed_runs() {
    each(|stage| {
        let insert = "INSERT INTO seen (what) VALUES (new.name);";
        let (number, watch) = watched(stage.on, "keeper", insert);
        stage.run(&format!("CREATE TABLE seen (nr {number}, what varchar(40)); {watch}"));
        stage.scene.write("marktwice.toml", "");
        let mut url = stage.url.clone();
        if stage.on == On::Sqlite {
            url = stage.scene.path("co op's.db").display().to_string();
            std::fs::copy(&stage.url, &url).unwrap();
        }
        let book = stage.scene.path("its book").display().to_string();
        let place = vec!["--on".to_owned(), url, "--logbook".to_owned(), book];
        let mut trying = Trying { stage, place, tried: HashSet::new(), run: "none".to_owned() };
        stage.scene.write("change.sql", "UPDATE hive SET note = 'printed' WHERE hive_id = 10;\n");
        let (one, two) = (
            "UPDATE hive SET kilos = kilos + 1 WHERE hive_id <= 11",
            "UPDATE keeper SET name = 'Ida' WHERE keeper_id = 2",
        );
        trying.first(&["look"]);
        trying.first(&["look", "hive"]);
        trying.first(&["preview", "--sql", one]);
        trying.first(&["preview", "change.sql"]);
        trying.first(&["rehearse", "change.sql"]);
        trying.first(&["preview", "change.sql", "--html", "page.html"]).expect(0);
        trying.first(&["preview", "change.sql", "--out", "made.twice"]).expect(0);
        // Not a change file: it says what is to be done with it.
        trying.first(&["preview", "made.twice"]).expect(2);
        let done = trying.first(&["apply", "change.sql", "--yes", "--rows", "1"]);
        assert!(done.status.is_some(), "{}", done.err);
        for sql in [one, two] {
            let agreed = ["--yes", "--rows", "0+", "--also-writes", "seen", "--again"];
            trying.first(&["preview", "--sql", sql]);
            // What is printed by it takes it back at once, and what that prints applies it again.
            trying.first(&[&["apply", "--sql", sql][..], &agreed].concat()).expect(0);
            let newest = trying.first(&["history", "--format", "json"]).json();
            trying.run = newest["runs"][0]["receipt"]["run"].as_str().unwrap().to_owned();
            let run = trying.run.clone();
            trying.first(&["receipt", &run, "--html", &format!("{run}.html")]).expect(0);
            trying.first(&["look", "--run", &run]);
            trying.first(&["history"]);
            trying.first(&["undo", &run, "--yes", "--rows", "0+"]);
            trying.first(&["undo", &run, "--yes"]);
        }
        trying.first(&["undo", "none", "--yes"]).expect(2);
        trying.first(&["undo", "--yes"]).expect(2);
        trying.first(&["receipt", "none"]).expect(2);
        trying.first(&["set", "hive", "99", "note='x'"]);
        trying.first(&["settle"]);
        trying.first(&["draft", "hive", "--to", "new.sql"]).expect(0);
        for page in ["page.html".to_owned(), format!("{}.html", trying.run)] {
            let text = std::fs::read_to_string(stage.scene.path(&page)).unwrap();
            trying.printed(&text);
        }
        assert!(trying.tried.len() > 12, "{:?}: {:#?}", stage.on, trying.tried);
    });
}
