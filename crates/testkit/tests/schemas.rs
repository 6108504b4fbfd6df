//! The schemas in `docs/schema` are what the types say.

#![allow(clippy::unwrap_used, clippy::expect_used, reason = "a test that cannot go on is to fail")]

use std::path::Path;

use marktwice_testkit::documents::{fits, schemas};
use serde_json::json;

#[test]
fn the_schemas_are_those_of_the_types() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema");
    let mut kept: Vec<String> = std::fs::read_dir(&folder)
        .map(|all| all.flatten().map(|entry| entry.file_name().to_string_lossy().into_owned()).collect())
        .unwrap_or_default();
    kept.sort();
    let mut names = Vec::new();
    for (format, schema) in schemas() {
        let name = format!("{format}.json");
        let path = folder.join(&name);
        if std::env::var_os("MARKTWICE_WRITE_DOCS").is_some() {
            std::fs::create_dir_all(&folder).unwrap();
            std::fs::write(&path, &schema).unwrap();
        }
        assert!(
            std::fs::read_to_string(&path).unwrap_or_default() == schema,
            "docs/schema/{name} is not what the types say"
        );
        names.push(name);
    }
    names.sort();
    if std::env::var_os("MARKTWICE_WRITE_DOCS").is_none() {
        assert_eq!(kept, names, "docs/schema holds nothing else");
    }
}

#[test]
fn a_document_with_more_or_less_is_noticed() {
    let whole = json!({ "format": "marktwice-key", "version": 1, "status": 0, "file": "a", "key": "age1" });
    fits(&whole).unwrap();
    let with = |name: &str, value: serde_json::Value| {
        let mut other = whole.clone();
        other[name] = value;
        fits(&other)
    };
    assert!(with("more", json!(1)).is_err());
    assert!(with("file", json!(1)).is_err());
    assert!(with("format", json!("marktwice-other")).is_err());
    fits(&json!({ "format": "somebody else's" })).unwrap();
}
