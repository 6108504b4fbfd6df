//! Every statement of the corpus on its engine. `MARKTWICE_WRITE_CORPUS=1` writes what is expected anew, to be read and
//! checked by a person; what the bare statements do is compared all the same.

use marktwice_testkit::corpus::{Entry, Pair, folder, names, read, write};
use marktwice_testkit::stage::On;

const ALL: [On; 3] = [On::Sqlite, On::Postgres, On::Maria];

/// Plays a file on engines and gives what was said, by engine and statement.
fn play(name: &str, engines: &[On], look: fn(&mut Pair, &str) -> Vec<String>) {
    let path = folder().join(format!("{name}.sql"));
    let mut entries = read(&std::fs::read_to_string(&path).unwrap());
    let mut said: Vec<Vec<(&str, Vec<String>)>> = vec![Vec::new(); entries.len()];
    for on in engines {
        let Some(mut pair) = Pair::new(*on) else { continue };
        for (entry, said) in entries.iter().zip(&mut said) {
            said.push((names(*on).1, look(&mut pair, &entry.statement)));
        }
        assert!(pair.is_untouched(), "{on:?}: previews write nothing");
    }
    if std::env::var_os("MARKTWICE_WRITE_CORPUS").is_some() {
        for (entry, said) in entries.iter_mut().zip(said) {
            entry.expected = merged(said, engines.len());
        }
        std::fs::write(path, write(&entries)).unwrap();
        return;
    }
    for (entry, said) in entries.iter().zip(said) {
        for (letter, lines) in said {
            assert_eq!(lines, expected(entry, letter), "{letter}: {}", entry.statement);
        }
    }
}

fn expected(entry: &Entry, letter: &str) -> Vec<String> {
    let mine = entry.expected.iter().filter(|(engines, _)| engines.is_empty() || engines.contains(letter));
    mine.map(|(_, text)| text.clone()).collect()
}

/// Lines that several engines share are written once.
fn merged(said: Vec<(&str, Vec<String>)>, engines: usize) -> Vec<(String, String)> {
    let mut all: Vec<(String, String)> = Vec::new();
    let longest = said.iter().map(|(_, lines)| lines.len()).max().unwrap_or(0);
    for at in 0..longest {
        let from = all.len();
        for (letter, lines) in &said {
            let Some(line) = lines.get(at) else { continue };
            match all[from..].iter_mut().find(|(_, text)| text == line) {
                Some((letters, _)) => letters.push_str(letter),
                None => all.push(((*letter).to_owned(), line.clone())),
            }
        }
    }
    for (letters, _) in &mut all {
        if letters.len() == engines {
            letters.clear();
        }
    }
    all
}

#[test]
fn statements_that_every_engine_takes() {
    play("common", &ALL, Pair::look);
}

#[test]
fn statements_of_sqlite() {
    play("sqlite", &[On::Sqlite], Pair::look);
}

#[test]
fn statements_of_postgresql() {
    play("postgres", &[On::Postgres], Pair::look);
}

#[test]
fn statements_of_mariadb() {
    play("mysql", &[On::Maria], Pair::look);
}

#[test]
fn broken_statements_are_told_with_their_place() {
    play("broken", &ALL, |pair, statement| vec![pair.complaint(statement)]);
}

#[test]
fn the_corpus_is_large_enough() {
    let count =
        |name: &str| read(&std::fs::read_to_string(folder().join(format!("{name}.sql"))).unwrap()).len();
    assert!(["common", "sqlite", "postgres", "mysql"].map(count).iter().sum::<usize>() >= 300);
    assert!(count("broken") >= 40);
}
