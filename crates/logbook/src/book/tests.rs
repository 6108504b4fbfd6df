//! Tests of the files themselves: they read back, and damage is refused with its place.

use super::*;
use marktwice_core::change::Terms;
use marktwice_core::hash::{RowHash, ShortHash};
use marktwice_core::image::{Image, Place};
use marktwice_core::mark::{MarkRow, MarkSummary, Parts, StepKind};
use marktwice_core::receipt::{RunKind, RunState, StepReceipt};
use marktwice_core::record::{
    MARK_FORMAT, MARK_VERSION, SNAPSHOT_FORMAT, SNAPSHOT_VERSION, SnapshotHeader, StepRecord,
};
use marktwice_core::table::{Column, Key, KeyKind, Target};
use marktwice_core::undo::RowChange;
use marktwice_core::value::Value;

fn database() -> DatabaseId {
    DatabaseId {
        engine: "SQLite".into(),
        version: "3".into(),
        name: "/x/coop.db".into(),
        identity: "/x/coop.db".into(),
        formerly: Vec::new(),
    }
}

fn target() -> Target {
    let column = |name: &str| Column {
        name: name.into(),
        declared: "INTEGER".into(),
        generated: false,
        not_null: false,
    };
    Target {
        table: "keeper".into(),
        schema: "main".into(),
        columns: vec![column("id"), column("region")],
        key: Key { kind: KeyKind::Primary, names: vec!["id".into()], columns: vec![0] },
        definition: "d".into(),
        naming: None,
        refers: Vec::new(),
        hidden: Vec::new(),
        veil: Default::default(),
        family: Vec::new(),
    }
}

fn step() -> StepRecord {
    StepRecord {
        kind: StepKind::Update,
        statement: "UPDATE keeper SET region = 1".into(),
        statement_hash: "h".into(),
        table: 0,
        foreseen: vec![],
    }
}

fn receipt(run: &str, state: RunState) -> Receipt {
    let step = StepReceipt {
        schema: None,
        kind: StepKind::Update,
        table: "keeper".into(),
        statement: "s".into(),
        statement_hash: "h".into(),
        definition: "d".into(),
        terms: Terms { rows: Some(marktwice_core::Expect::Range(1, Some(2))), ..Terms::default() },
        also_written: Vec::new(),
        along: Vec::new(),
        untouched: None,
        about: false,
        came: None,
        checks: Vec::new(),
        matched: 1,
        changed: 1,
        engine_count: Some(1),
    };
    Receipt {
        state,
        ..Receipt::prepared(run, RunKind::Apply, &database(), "2026-05-11T08:00:00Z".into(), vec![step])
    }
}

fn mark_header() -> MarkHeader {
    MarkHeader {
        by: None,
        origin: None,
        format: MARK_FORMAT.into(),
        version: MARK_VERSION,
        mark: String::new(),
        taken: "2026-05-11T08:00:00Z".into(),
        database: database(),
        change: "UPDATE".into(),
        checks: Vec::new(),
        params: serde_json::Map::new(),
        key: None,
        keyed: false,
        seed: Some(0xfeed),
        sheets: Vec::new(),
        settings: vec![],
        steps: vec![step()],
        tables: vec![target()],
        parts: vec![Parts::default()],
        open: Vec::new(),
    }
}

fn row(i: i64) -> RowChange {
    RowChange {
        place: Place::default(),
        ordinal: i,
        key: vec![Value::Int(i)],
        key_after: None,
        image: Image::Update {
            before: vec![Value::Int(i), Value::Text("Dale".repeat(20).into())],
            after: vec![Value::Int(i), Value::Null],
        },
    }
}

fn snapshot(shelf: &Shelf, rows: i64) -> (String, SnapshotRef, PathBuf) {
    let mut run = shelf
        .begin_run("20260511T080000.000Z", "UPDATE", &mut |run| receipt(run, RunState::Prepared))
        .unwrap();
    let header = SnapshotHeader {
        format: SNAPSHOT_FORMAT.into(),
        version: SNAPSHOT_VERSION,
        run: run.run().into(),
        database: database(),
        params: serde_json::Map::new(),
        along: Vec::new(),
        steps: vec![step()],
        tables: vec![target()],
    };
    let mut writer = run.snapshot(&header).unwrap();
    (1..=rows).for_each(|i| writer.row(row(i)).unwrap());
    let (reference, totals) = writer.finish().unwrap();
    assert_eq!((totals.rows, totals.changed), (rows as u64, rows as u64));
    let path = shelf.run_folder(run.run()).unwrap().join(&reference.file);
    (run.run().to_owned(), reference, path)
}

fn read_all(shelf: &Shelf, run: &str, reference: &SnapshotRef) -> Result<Vec<RowChange>, LogError> {
    let mut reader = shelf.snapshot(run, reference)?;
    let mut rows = Vec::new();
    while let Some(row) = reader.next()? {
        rows.push(row);
    }
    Ok(rows)
}

#[test]
fn snapshots_read_back_and_damage_is_refused() {
    let dir = tempfile::tempdir().unwrap();
    let shelf = Shelf::open(dir.path(), &database()).unwrap();
    let (run, reference, path) = snapshot(&shelf, 500);
    assert_eq!(read_all(&shelf, &run, &reference).unwrap(), (1..=500).map(row).collect::<Vec<_>>());
    let whole = fs::read(&path).unwrap();
    for cut in [0, 10, whole.len() / 2, whole.len() - 1] {
        fs::write(&path, &whole[..cut]).unwrap();
        assert_eq!(
            read_all(&shelf, &run, &reference).unwrap_err().kind,
            LogErrorKind::Damaged,
            "cut at {cut}"
        );
    }
    let mut altered = whole.clone();
    altered[whole.len() / 2] ^= 1;
    fs::write(&path, &altered).unwrap();
    assert_eq!(read_all(&shelf, &run, &reference).unwrap_err().kind, LogErrorKind::Damaged);
    let (_, _, other) = snapshot(&shelf, 500);
    fs::copy(other, &path).unwrap();
    assert_eq!(read_all(&shelf, &run, &reference).unwrap_err().kind, LogErrorKind::Damaged, "swapped");
}

#[test]
fn only_the_holder_of_the_key_reads_what_is_encrypted() {
    let dir = tempfile::tempdir().unwrap();
    let plain = Shelf::open(dir.path(), &database()).unwrap();
    let (old, old_reference, _) = snapshot(&plain, 3);
    let file = dir.path().join("live.key");
    let key = FileKey::make(&file).unwrap();
    assert!(FileKey::make(&file).is_err(), "nothing is overwritten");
    assert_eq!(FileKey::read(&file).unwrap().name(), key.name());
    let of = |key: Option<Result<FileKey, LogError>>| plain.clone().encrypting(key);
    let shelf = of(Some(FileKey::read(&file)));
    let (run, reference, path) = snapshot(&shelf, 5_000);
    assert_eq!(reference.encrypted_for, Some(key.name()));
    assert_eq!(read_all(&shelf, &run, &reference).unwrap(), (1..=5_000).map(row).collect::<Vec<_>>());
    // What was kept before stays readable, with the key and without.
    assert_eq!(read_all(&shelf, &old, &old_reference).unwrap().len(), 3);
    let other = dir.path().join("other.key");
    FileKey::make(&other).unwrap();
    let lost = || Some(FileKey::read(&dir.path().join("no.key")));
    for shelf in [of(None), of(Some(FileKey::read(&other))), of(lost())] {
        assert_eq!(read_all(&shelf, &run, &reference).unwrap_err().kind, LogErrorKind::Key);
        assert_eq!(read_all(&shelf, &old, &old_reference).unwrap().len(), 3);
    }
    // A key that cannot be had is in the way of a new run, before anything is begun.
    let begun = of(lost()).begin_run("20260511T080000.000Z", "", &mut |run| receipt(run, RunState::Prepared));
    assert_eq!(begun.err().unwrap().kind, LogErrorKind::Key);
    for text in ["", "AGE-SECRET-KEY-1QQ", "sesame", "# only a comment\n"] {
        fs::write(&other, text).unwrap();
        let said = FileKey::read(&other).unwrap_err();
        assert!(said.kind == LogErrorKind::Key && !said.message.contains("sesame"), "{said}");
    }
    // Whoever alters the file can give it another checksum, and is found out all the same.
    let whole = fs::read(&path).unwrap();
    assert!(!String::from_utf8_lossy(&whole).contains("Dale"));
    for at in [250, whole.len() / 2, whole.len() - 1] {
        let mut altered = whole.clone();
        altered[at] ^= 1;
        fs::write(&path, &altered).unwrap();
        assert_eq!(read_all(&shelf, &run, &reference).unwrap_err().kind, LogErrorKind::Damaged);
        let checksum = blake3::hash(&altered).to_hex().to_string();
        let forged = SnapshotRef { checksum, ..reference.clone() };
        assert!(read_all(&shelf, &run, &forged).is_err(), "a byte at {at}");
    }
    fs::write(&path, &whole).unwrap();
    shelf.forget(&receipt(&run, RunState::Committed)).unwrap();
    assert!(!path.exists());
}

#[test]
fn what_is_newer_is_refused() {
    let dir = tempfile::tempdir().unwrap();
    let shelf = Shelf::open(dir.path(), &database()).unwrap();
    let (run, reference, path) = snapshot(&shelf, 1);
    let newer = zstd::encode_all(&b"{\"format\":\"marktwice-snapshot\",\"version\":99}\n"[..], 1).unwrap();
    fs::write(&path, &newer).unwrap();
    let hash = blake3::hash(&newer).to_hex().to_string();
    let forged = SnapshotRef { checksum: hash, bytes: newer.len() as u64, ..reference };
    let error = read_all(&shelf, &run, &forged).unwrap_err();
    assert_eq!(error.kind, LogErrorKind::Newer);
    assert!(error.message.contains("version 99"), "{}", error.message);
}

#[test]
fn marks_read_back_and_the_last_one_is_found() {
    let dir = tempfile::tempdir().unwrap();
    let shelf = Shelf::open(dir.path(), &database()).unwrap();
    assert_eq!(shelf.mark(None).err().unwrap().kind, LogErrorKind::NotFound);
    let mut summary = MarkSummary::default();
    let rows: Vec<MarkRow> = (0..10)
        .map(|i| {
            summary.matched += 1;
            summary.related.add(&RowHash::of(&[Value::Int(i)]));
            MarkRow {
                key: vec![Value::Int(i), Value::Bytes(vec![7])],
                related: ShortHash(i as u64),
                rest: ShortHash(u64::MAX),
                after: ShortHash(0),
            }
        })
        .collect();
    for stamp in ["20260511T080000.000Z", "20260511T080001.000Z"] {
        let (_, mut draft) = shelf.draft_mark(mark_header(), stamp).unwrap();
        rows.iter().for_each(|r| draft.row(0, r.clone()).unwrap());
        draft.finish(&[summary]).unwrap();
    }
    let files = shelf.mark_files().unwrap();
    let last = shelf.mark(None).unwrap();
    assert_eq!(last.header().mark, short_name(&files[1]));
    assert_eq!(last.totals(), [summary]);
    let mut back = Vec::new();
    last.rows(0, &mut |r| back.push(r.clone())).unwrap();
    assert_eq!(back, rows);
    fs::write(&files[1], &fs::read(&files[1]).unwrap()[..40]).unwrap();
    assert_eq!(shelf.mark(None).err().unwrap().kind, LogErrorKind::Damaged);
    assert!(shelf.mark(Some(short_name(&files[0]))).is_ok());
}

#[test]
fn unsettled_runs_are_found_until_their_outcome_is_written() {
    let dir = tempfile::tempdir().unwrap();
    let shelf = Shelf::open(dir.path(), &database()).unwrap();
    let mut run =
        shelf.begin_run("20260511T080000.000Z", "x", &mut |r| receipt(r, RunState::Prepared)).unwrap();
    let name = run.run().to_owned();
    assert_eq!(shelf.unsettled().unwrap()[0].run, name);
    run.receipt(&receipt(&name, RunState::Committing)).unwrap();
    assert_eq!(shelf.unsettled().unwrap()[0].state, RunState::Committing);
    run.receipt(&receipt(&name, RunState::Committed)).unwrap();
    assert!(shelf.unsettled().unwrap().is_empty());
    assert_eq!(shelf.receipts().unwrap()[0].state, RunState::Committed);
    assert_eq!(shelf.change(&name).unwrap(), "x");
    let path = shelf.run_folder(&name).unwrap().join("receipt.json");
    let whole = fs::read_to_string(&path).unwrap();
    let other =
        shelf.begin_run("20260511T080001.000Z", "x", &mut |r| receipt(r, RunState::Prepared)).unwrap();
    let others = shelf.run_folder(other.run()).unwrap().join("receipt.json");
    let newer = whole.replace("\"version\": 3", "\"version\": 4");
    for (text, kind) in [
        ("{".to_owned(), LogErrorKind::Damaged),
        (whole[..whole.len() / 2].to_owned(), LogErrorKind::Damaged),
        (whole.replace("\"committed\"", "\"rolled-back\""), LogErrorKind::Damaged),
        (whole.replace("\"matched\": 1", "\"matched\": 2"), LogErrorKind::Damaged),
        (fs::read_to_string(&others).unwrap(), LogErrorKind::Damaged),
        (newer, LogErrorKind::Newer),
    ] {
        assert_ne!(text, whole);
        fs::write(&path, &text).unwrap();
        if kind == LogErrorKind::Damaged {
            // One that nobody can read is told, and stands in nobody else's way.
            let damaged = shelf.damaged().unwrap();
            assert_eq!((damaged.len(), damaged[0].run.as_str()), (1, name.as_str()), "{text}");
            assert!(damaged[0].why.contains("receipt.json"), "{}", damaged[0].why);
            assert_eq!(shelf.receipts().unwrap().len(), 1);
            continue;
        }
        let error = shelf.receipts().unwrap_err();
        assert_eq!(error.kind, kind, "{text}");
        assert!(error.message.contains("receipt.json"), "{}", error.message);
    }
    fs::write(&path, "{").unwrap();
    shelf.set_aside(&receipt(&name, RunState::SetAside)).unwrap();
    assert!(shelf.damaged().unwrap().is_empty());
    assert_eq!(fs::read_to_string(path.with_file_name("receipt.damaged.json")).unwrap(), "{");
    fs::write(&path, &whole).unwrap();
    assert_eq!(shelf.receipts().unwrap().len(), 2);
}

#[test]
fn one_process_at_a_time_and_one_folder_a_database() {
    let dir = tempfile::tempdir().unwrap();
    let shelf = Shelf::open(dir.path(), &database()).unwrap();
    let guard = shelf.lock().unwrap();
    assert_eq!(shelf.lock().err().unwrap().kind, LogErrorKind::Busy);
    drop(guard);
    assert!(shelf.lock().is_ok());
    let other = DatabaseId { identity: "/y/coop.db".into(), ..database() };
    assert_ne!(Shelf::at(dir.path(), &other).folder(), shelf.folder());
    assert_eq!(databases(dir.path()).unwrap()[0].database, database());
    assert!(dir.path().join(".gitignore").exists());
}

/// Whatever is changed in a file of the logbook, it is refused, never read as something else, and nothing panics.
#[test]
fn random_damage_is_refused() {
    let dir = tempfile::tempdir().unwrap();
    let shelf = Shelf::open(dir.path(), &database()).unwrap();
    let (run, reference, path) = snapshot(&shelf, 40);
    let (name, mut draft) = shelf.draft_mark(mark_header(), "20260511T080000.000Z").unwrap();
    let none = ShortHash(1);
    draft.row(0, MarkRow { key: vec![Value::Int(1)], related: none, rest: none, after: none }).unwrap();
    draft.finish(&[MarkSummary { matched: 1, ..MarkSummary::default() }]).unwrap();
    let mark = shelf.mark_files().unwrap()[0].clone();
    let mut dice = 2026u64;
    let mut roll = |sides: usize| {
        dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (dice >> 33) as usize % sides
    };
    for (file, is_mark) in [(&path, false), (&mark, true)] {
        let whole = fs::read(file).unwrap();
        for case in 0..2_000 {
            let mut bytes = whole.clone();
            match case % 4 {
                0 => bytes.truncate(roll(whole.len())),
                1 => bytes[roll(whole.len())] ^= 1 << roll(8),
                2 => bytes.extend_from_slice(&whole[..1 + roll(whole.len())]),
                _ => {
                    let (a, b) = (roll(whole.len()), roll(whole.len()));
                    bytes.swap(a, b);
                }
            }
            if bytes == whole {
                continue;
            }
            fs::write(file, &bytes).unwrap();
            let read = if is_mark {
                shelf.mark(Some(&name)).map(|_| ())
            } else {
                // Even when the receipt were altered to fit, what is inside does not.
                let forged = SnapshotRef {
                    checksum: blake3::hash(&bytes).to_hex().to_string(),
                    bytes: bytes.len() as u64,
                    ..reference.clone()
                };
                assert!(read_all(&shelf, &run, &reference).is_err(), "case {case}");
                // A spare bit of the compression may be another; what is read must be the very same rows.
                read_all(&shelf, &run, &forged)
                    .map(|rows| assert_eq!(rows, (1..=40).map(row).collect::<Vec<_>>(), "case {case}"))
            };
            if let Err(error) = &read {
                assert!(error.message.contains(file_name(file)), "case {case}: {}", error.message);
            }
        }
        fs::write(file, &whole).unwrap();
    }
}

/// What a command finds that reads nothing into its memory before.
fn anew(root: &Path) -> (Vec<String>, Vec<String>) {
    let shelf = Shelf::open(root, &database()).unwrap();
    let runs = shelf.receipts().unwrap().into_iter().map(|receipt| receipt.run).collect();
    (runs, shelf.damaged().unwrap().into_iter().map(|damaged| damaged.run).collect())
}

#[test]
fn receipts_that_are_known_are_not_read_again() {
    let folder = tempfile::tempdir().unwrap();
    let shelf = Shelf::open(folder.path(), &database()).unwrap();
    let copy = shelf.folder().join("receipts.jsonl.zst");
    let mut paths = Vec::new();
    let mut runs = Vec::new();
    for n in 0..20 {
        let mut run = shelf
            .begin_run(&format!("20260511T0800{n:02}Z"), "UPDATE", &mut |run| {
                receipt(run, RunState::Prepared)
            })
            .unwrap();
        run.receipt(&receipt(run.run(), RunState::Committed)).unwrap();
        runs.insert(0, run.run().to_owned());
        paths.push(shelf.run_folder(run.run()).unwrap().join(RECEIPT));
    }
    // A file that was written just now may be written again without that being seen.
    assert_eq!(anew(folder.path()), (runs.clone(), vec![]));
    assert!(!copy.exists());
    std::thread::sleep(Duration::from_millis(400));
    assert_eq!(anew(folder.path()), (runs.clone(), vec![]));
    let lines = || -> Vec<serde_json::Value> {
        let text = zstd::decode_all(&fs::read(&copy).unwrap()[..]).unwrap();
        text.split(|b| *b == b'\n').filter_map(|line| serde_json::from_slice(line).ok()).collect()
    };
    let whole = lines();
    assert_eq!(whole.len(), 22);
    // It is what is read.
    let mut writer = crate::lines::LineWriter::new(&copy, &whole[0], None).unwrap();
    for line in &whole[1..21] {
        let text = line.to_string().replace("2026-05-11T08:00:00Z", "2026-05-11T09:00:00Z");
        writer.line(&serde_json::from_str::<serde_json::Value>(&text).unwrap()).unwrap();
    }
    writer.finish(false, |checksum| serde_json::json!({"end": 20, "checksum": checksum})).unwrap();
    let again = || Shelf::open(folder.path(), &database()).unwrap().receipts().unwrap();
    assert!(again().iter().all(|receipt| receipt.started == "2026-05-11T09:00:00Z"));
    // But for a file that was written since, though it is as long and says that it is as old.
    let (text, about) = (fs::read_to_string(&paths[0]).unwrap(), fs::metadata(&paths[0]).unwrap());
    fs::write(&paths[0], text.replace("committed", "comitted ")).unwrap();
    File::options().write(true).open(&paths[0]).unwrap().set_modified(about.modified().unwrap()).unwrap();
    assert_eq!(fs::metadata(&paths[0]).unwrap().len(), about.len());
    assert_eq!(anew(folder.path()), (runs[..19].to_vec(), vec![runs[19].clone()]));
    fs::write(&paths[0], &text).unwrap();
    assert_eq!(again()[19].started, "2026-05-11T08:00:00Z");
    // A copy that is damaged is none; another one is made.
    std::thread::sleep(Duration::from_millis(400));
    let bytes = fs::read(&copy).unwrap();
    for bytes in [&bytes[..bytes.len() / 2], b"", b"nonsense"] {
        fs::write(&copy, bytes).unwrap();
        assert!(again().iter().all(|receipt| receipt.started == "2026-05-11T08:00:00Z"));
        assert_eq!(lines().len(), 22);
    }
    // A run that is gone is in it no longer.
    fs::remove_dir_all(paths[0].parent().unwrap()).unwrap();
    assert_eq!(anew(folder.path()), (runs[..19].to_vec(), vec![]));
    assert_eq!(lines().len(), 21);
}
