//! An engine that knows no SQL, through the port alone: preview, apply, undo, settle.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::indexing_slicing,
    clippy::panic,
    reason = "a test that cannot go on is to fail"
)]

use std::path::Path;
use std::time::Duration;

use marktwice_change::read;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::table::NamedBy;
use marktwice_core::undo::Policy;
use marktwice_core::{Change, Image, Value};
use marktwice_logbook::Shelf;
use marktwice_port::{Draft, Engine, Limits, LogError, Logbook, Which, Work};
use marktwice_run::{
    Agreement, ApplyOptions, Context, End, RunOutcome, Show, UndoOptions, Verdict, apply, preview, settle,
    survey, undo,
};
use marktwice_testkit::FaultyEngine;
use marktwice_testkit::Fuse;
use marktwice_testkit::attempt::{Quiet, Yes};
use marktwice_testkit::memory::{Memory, dump, fill, poke};

fn with<T>(folder: &Path, engine: &dyn Engine, work: impl FnOnce(&Context<'_>) -> T) -> T {
    let address = folder.display().to_string();
    let open = |id: &DatabaseId| -> Result<Box<dyn Logbook>, LogError> {
        Ok(Box::new(Shelf::open(&folder.join("book"), id)?))
    };
    let waits = Limits { lock: Duration::from_millis(100), statement: None };
    let named_by = NamedBy::default();
    work(&Context {
        engine,
        address: &address,
        book: &open,
        ambient: &Quiet,
        waits,
        named_by: &named_by,
        hide: &marktwice_core::secret::HiddenColumns::default(),
        witness: None,
        user: None,
    })
}

/// Hives of a co-operative as documents.
fn hives() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let hive = |id: i64, apiary: i64, queen: &str| {
        vec![Value::Int(id), Value::Int(apiary), Value::Text(queen.into())]
    };
    let rows = [hive(1, 3, "white"), hive(2, 3, "red"), hive(3, 9, "blue")];
    let rows: Vec<&[Value]> = rows.iter().map(Vec::as_slice).collect();
    fill(&folder.path().display().to_string(), "hive", &["hive_id", "apiary", "queen"], &rows);
    folder
}

fn change(text: &str) -> Change {
    read(text, Memory.language()).unwrap()
}

const MOVED: &str = r#"/* marktwice
title = "The Old Quarry is given up"
*/
/* marktwice step
rows = 1
*/
{"update": "hive", "where": {"apiary": 9}, "set": {"apiary": 3}}
/* marktwice step
rows = 3
*/
{"update": "hive", "where": {"apiary": 3}, "set": {"queen": "green", "apiary": {"plus": ["apiary", 10]}}}
"#;

fn applied(context: &Context<'_>, change: &Change) -> RunOutcome {
    let options = ApplyOptions {
        agreement: Agreement::Given,
        mark: None,
        hold: false,
        show: Show::All,
        copy_database: None,
        keep_copy: None,
        most_rows: None,
        previewed: None,
    };
    apply(context, change, &options, &mut Yes).unwrap()
}

fn undone(context: &Context<'_>) -> RunOutcome {
    let options = UndoOptions {
        run: None,
        agreement: Agreement::Ask,
        allow: vec![],
        rows: None,
        policy: Policy::default(),
        only: vec![],
        hold: false,
        show: Show::All,
    };
    undo(context, &options, &mut Yes).unwrap()
}

#[test]
fn criteria_and_assignments_are_previewed_applied_and_taken_back() {
    let folder = hives();
    let address = folder.path().display().to_string();
    let start = dump(&address);
    with(folder.path(), &Memory, |context| {
        let seen = preview(context, &change(MOVED), Show::All).unwrap();
        let row = &seen.steps[0].block.rows[0];
        assert!(matches!(&row.image, Image::Update { after, .. } if after[1] == Value::Int(3)));
        assert_eq!(seen.open(), [1]);
        assert_eq!(seen.steps[1].waits[0].why, "reads hive.apiary, which step 1 writes");
        assert_eq!(dump(&address), start);
        let done = applied(context, &change(MOVED));
        assert!(matches!(done.end, End::Committed), "{:?}", done.end);
        assert!(dump(&address).iter().all(|row| row.contains("Int(13)") && row.contains("green")));
        assert!(matches!(undone(context).end, End::Committed));
        assert_eq!(dump(&address), start);
        // An edit in between is not overwritten.
        applied(context, &change(MOVED));
        poke(&address, "hive", 2, 2, Value::Text("white".into()));
        let End::Conflicts(found) = undone(context).end else { panic!("an edited row was overwritten") };
        assert_eq!((found.count, found.named[0].key.clone()), (1, vec![Value::Int(2)]));
    });
}

#[test]
fn a_lost_answer_to_a_commit_is_settled() {
    for gone_through in [true, false] {
        let folder = hives();
        let address = folder.path().display().to_string();
        let start = dump(&address);
        let step = r#"{"delete": "hive", "where": {"hive_id": {"over": 1}}}"#;
        let text = format!("/* marktwice\nrows = 2\n*/\n{step}");
        let calls = Fuse::at(0);
        let faulty = FaultyEngine { inner: &Memory, fuse: calls.clone(), after: false };
        with(folder.path(), &faulty, |context| applied(context, &change(&text)));
        let folder = {
            drop(folder);
            hives()
        };
        let address_now = folder.path().display().to_string();
        let faulty = FaultyEngine { inner: &Memory, fuse: Fuse::at(calls.calls()), after: gone_through };
        let lost = with(folder.path(), &faulty, |context| applied(context, &change(&text)));
        assert!(matches!(lost.end, End::Unknown(_)), "{:?}", lost.end);
        let found = with(folder.path(), &Memory, |context| settle(context, None).unwrap()).runs;
        let verdict = if gone_through { Verdict::Committed } else { Verdict::RolledBack };
        assert_eq!(found[0].verdict, verdict);
        assert_eq!(dump(&address_now) == start, !gone_through);
        assert_ne!(address, address_now);
    }
}

#[test]
fn its_own_texts_are_composed_and_refused() {
    let folder = hives();
    with(folder.path(), &Memory, |context| {
        let hive = survey(context, None, "hive").unwrap().seen.target;
        let sets = ["queen=blue".to_owned()];
        let rows = Which::Typed { key: "2", keys: &[], several: false };
        let draft = Draft { target: &hive, schema: false, work: Work::Set(&sets), rows };
        let text = Memory.language().compose(&draft).unwrap().text;
        assert_eq!(preview(context, &change(&text), Show::All).unwrap().steps[0].block.matched, 1);
        let wrong = format!("{text}\n{{\"delete\": \"hive\", \"where\": {{\"keeper\": 1}}}}");
        let failure = preview(context, &change(&wrong), Show::All).unwrap_err();
        let place = failure.finding().and_then(|f| f.place.clone()).unwrap();
        assert_eq!((place.line, failure.to_string().as_str()), (2, "hive has no field keeper"));
        let all = preview(context, &change(r#"{"delete": "hive"}"#), Show::All).unwrap();
        assert_eq!(all.stops()[0].as_str(), "no-filter");
    });
}
