//! A power cut after each sync: what was synced is there, everything else is lost, and the logbook still tells what
//! became of the run.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use marktwice_core::RunState;
use marktwice_logbook::faults::{self, Event};
use marktwice_port::Intent;
use marktwice_run::{Verdict, history, settle};
use marktwice_testkit::attempt::{SCRIPT, apply_once, with};
use marktwice_testkit::{Fuse, Scene};

/// What a disk holds for certain.
#[derive(Default)]
struct Disk {
    /// Contents that were synced, under the name that the file had then; renamed with it.
    contents: BTreeMap<PathBuf, Vec<u8>>,
    /// Names that their folder's sync has not made durable yet.
    pending: Vec<(PathBuf, Option<PathBuf>)>,
    /// Durable names.
    files: BTreeMap<PathBuf, Vec<u8>>,
    folders: Vec<PathBuf>,
}

impl Disk {
    fn after(events: &[Event]) -> Disk {
        let mut disk = Disk::default();
        for event in events {
            match event {
                Event::Made(path) => disk.pending.push((path.clone(), None)),
                Event::Synced(path, bytes) => drop(disk.contents.insert(path.clone(), bytes.clone())),
                Event::Renamed(from, to) => {
                    disk.contents.remove(to);
                    disk.pending.push((to.clone(), Some(from.clone())));
                }
                Event::FolderSynced(folder) => {
                    let (done, rest) =
                        disk.pending.into_iter().partition(|(path, _)| path.parent() == Some(folder));
                    disk.pending = rest;
                    for (path, from) in done {
                        match from {
                            // A name without synced contents would be an empty file.
                            Some(from) => {
                                let contents = disk.contents.get(&path).or_else(|| disk.contents.get(&from));
                                let contents = contents.cloned().unwrap_or_default();
                                disk.files.insert(path, contents);
                            }
                            None => disk.folders.push(path),
                        }
                    }
                }
            }
        }
        disk
    }

    /// Puts the logbook as the disk has it in the place of the one under `root`.
    fn restore(&self, root: &Path) {
        let _ = std::fs::remove_dir_all(root);
        for folder in &self.folders {
            // A folder is there only when all folders above it are.
            if folder.parent().is_some_and(Path::exists) {
                std::fs::create_dir(folder).expect("a folder");
            }
        }
        for (path, bytes) in &self.files {
            if path.parent().is_some_and(Path::exists) {
                std::fs::write(path, bytes).expect("a file");
            }
        }
    }
}

#[test]
fn after_each_sync() {
    let script = format!("{SCRIPT}\nCREATE TABLE s (id INTEGER PRIMARY KEY, a INT);");
    let s = Scene::with("no program", &script);
    let never = Fuse::at(0);
    let root = s.path("book");
    let database = |s: &Scene| std::fs::read(s.path("coop.db")).expect("read");
    let before = (s.dump(), database(&s));
    faults::arm(None);
    with(&s.path("."), &never, &never, false, apply_once).expect("applied");
    let events = faults::events();
    let after = (s.dump(), database(&s));
    let is_receipt = |path: &Path| path.ends_with("receipt.json");
    let receipts: Vec<usize> = events
        .iter()
        .enumerate()
        .filter(|(_, e)| matches!(e, Event::Renamed(_, to) if is_receipt(to)))
        .map(|(at, _)| at)
        .collect();
    let [_, committing, committed] = receipts.as_slice() else { panic!("{receipts:?}") };
    let syncs: Vec<usize> = events
        .iter()
        .enumerate()
        .filter(|(_, e)| matches!(e, Event::Synced(..) | Event::FolderSynced(_)))
        .map(|(at, _)| at)
        .collect();
    // The rows, the text, the receipt before COMMIT, the names of both folders, and the receipt behind it with its name.
    let begun =
        |e: &Event| matches!(e, Event::Made(path) if path.parent().is_some_and(|p| p.ends_with("runs")));
    let begun = events.iter().position(begun).expect("a run's folder is made");
    assert_eq!(syncs.iter().filter(|at| **at > begun).count(), 7, "nothing is synced that decides nothing");
    for &at in &syncs {
        // COMMIT lies between the syncs of both folders behind `committing` and the first sync of the final receipt.
        let may_be_committed = at >= *committing + 2;
        let must_be_committed = at > *committing + 2;
        for database_after in [false, true] {
            if (database_after && !may_be_committed) || (!database_after && must_be_committed) {
                continue;
            }
            let (contents, bytes) = if database_after { &after } else { &before };
            std::fs::write(s.path("coop.db"), bytes).expect("written");
            Disk::after(&events[..=at]).restore(&root);
            let point = format!("sync {at} of {:?}, database after: {database_after}", events.len());
            let settled = with(&s.path("."), &never, &never, false, |context| settle(context, None))
                .expect(&point)
                .runs;
            let truth = if database_after { Verdict::Committed } else { Verdict::RolledBack };
            assert!(settled.iter().all(|one| one.verdict == truth), "{point}: {settled:?}");
            if (*committing + 2..*committed + 1).contains(&at) {
                assert_eq!(settled.len(), 1, "{point}: the run is found");
            }
            assert_eq!(&s.dump(), contents, "{point}");
            with(&s.path("."), &never, &never, false, |context| {
                let session =
                    context.engine.open(context.address, Intent::Read, context.waits).expect(&point);
                let book = (context.book)(session.database()).expect(&point);
                let known =
                    history(&*book).expect(&point).iter().any(|e| e.receipt.state == RunState::Committed);
                assert_eq!(known, database_after, "{point}");
                if database_after {
                    // The snapshot was durable before COMMIT was asked for: the run can be taken back.
                    let receipt = history(&*book).expect(&point).remove(0).receipt;
                    let mut rows =
                        book.snapshot(&receipt.run, receipt.snapshot.as_ref().expect(&point)).expect(&point);
                    while rows.next().expect(&point).is_some() {}
                }
            });
        }
    }
}
