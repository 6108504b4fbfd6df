//! `docs/GLOSSARY.md` names every public type of `core` and `port`, in the words of its own documentation. With
//! `MARKTWICE_WRITE_DOCS` set the list is written anew.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    reason = "a test that cannot go on is to fail"
)]

use std::collections::BTreeMap;
use std::path::Path;

const HEADING: &str = "This list is made from the code.\n";

/// Public types of a crate by name, each with the first sentence of its documentation.
fn types(folder: &Path, krate: &str, into: &mut BTreeMap<String, String>) {
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() {
            types(&path, krate, into);
            continue;
        }
        let text = std::fs::read_to_string(&path).unwrap();
        let mut about = String::new();
        for line in text.lines() {
            if let Some(doc) = line.strip_prefix("///") {
                about.push_str(doc);
            } else if !line.starts_with("#[") && !line.starts_with(')') {
                let declared = ["pub struct ", "pub enum ", "pub trait ", "pub type "];
                let name = declared.iter().find_map(|word| line.strip_prefix(word));
                if let Some(name) = name {
                    let name: String = name.chars().take_while(|c| c.is_alphanumeric()).collect();
                    let sentence =
                        about.split_inclusive(". ").next().unwrap_or("").trim().trim_end_matches('.');
                    assert!(!sentence.is_empty(), "{krate}: {name} says nothing about itself");
                    into.insert(format!("{krate}::{name}"), sentence.to_owned());
                }
                about.clear();
            }
        }
    }
}

#[test]
fn the_glossary_names_every_public_type() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut all = BTreeMap::new();
    for krate in ["core", "port"] {
        types(&root.join("crates").join(krate).join("src"), krate, &mut all);
    }
    assert!(all.len() > 60, "{}", all.len());
    let line = |(name, about): (&String, &String)| format!("| `{name}` | {} |\n", about.replace('|', "\\|"));
    let list = format!("\n| type | |\n|---|---|\n{}", all.iter().map(line).collect::<String>());
    let path = root.join("docs/GLOSSARY.md");
    let text = std::fs::read_to_string(&path).unwrap();
    let at = text.find(HEADING).expect("the heading of the list") + HEADING.len();
    if std::env::var_os("MARKTWICE_WRITE_DOCS").is_some() {
        std::fs::write(&path, format!("{}{list}", &text[..at])).unwrap();
        return;
    }
    assert_eq!(&text[at..], list, "docs/GLOSSARY.md is not what the code says");
}
