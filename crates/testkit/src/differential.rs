//! The differential tester: random schemas, data and statements of all shapes. What a preview labels `exact` must be
//! what the bare statement does on a copy; what an application leaves must be the bare result, or the start where the
//! bare statement fails; an undo must bring back the start, value for value; and after somebody else's edit in between
//! it must touch nothing and name exactly the edited rows.

use std::path::{Path, PathBuf};

use marktwice_core::mark::{Label, StepKind};
use marktwice_core::table::KeyKind;
use marktwice_core::{Code, Value};
use marktwice_run::{
    Agreement, ApplyOptions, Change, Context, End, Failure, Preview, RunOutcome, Show, UndoOptions,
};

use crate::attempt::{self, Yes};
use crate::faulty::Fuse;
use crate::stage::On;

pub use hazards::Hazard;

mod file;
mod hazards;
mod servers;
mod shapes;

/// The rows of all tables.
pub(crate) type Contents = Vec<Vec<Vec<Value>>>;

/// Where cases are tried: a database under test, and one for the bare statement.
trait Ring {
    /// On which engine.
    fn on(&self) -> On;
    /// The folder of the logbook.
    fn folder(&self) -> &Path;
    /// Makes both databases.
    fn set_up(&mut self, case: &Case);
    /// What is in the database under test.
    fn everything(&mut self) -> Contents;
    /// Runs the statement on the other one; gives the rows that it matched.
    fn bare(&mut self, statement: &str) -> Result<u64, String>;
    /// What is in the other one.
    fn bare_contents(&mut self) -> Contents;
    /// Remembers the database under test.
    fn save(&mut self);
    /// Somebody else's edit; whether it went through.
    fn edit(&mut self, sql: &str) -> bool;
    /// Brings the remembered state back.
    fn restore(&mut self);
}

/// What became of many cases.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Tally {
    /// Cases in all.
    pub cases: u64,
    /// Applied, and taken back.
    pub applied: u64,
    /// Where the bare statement fails, and so did the application.
    pub failed: u64,
    /// Where nothing was to be done.
    pub nothing: u64,
    /// Refused by the program although the engine would have run it.
    pub refused: u64,
    /// Undone over a foreign edit: refused, with exactly the edited rows named.
    pub conflicts: u64,
}

/// One random case, as scripts that anybody can run.
#[derive(Debug, Clone)]
pub struct Case {
    /// Definitions and rows.
    pub script: String,
    /// The statement.
    pub statement: String,
    /// An edit by somebody else, between application and undo.
    pub edit: String,
    /// Whether that edit comes between preview and application as well.
    pub between: bool,
    /// What stands around the table.
    pub hazard: Hazard,
}

/// Makes a case from a seed.
pub fn case(seed: u64, on: On) -> Case {
    if on != On::Sqlite {
        return servers::case(seed, on);
    }
    file::case(seed)
}

/// Runs the cases of the seeds `from..from + count` on an engine, in `folder`; none where its server is not installed.
///
/// # Panics
/// At the first case that is not as it must be, with its seed and its scripts.
pub fn run(on: On, folder: &Path, from: u64, count: u64) -> Tally {
    let mut tally = Tally::default();
    let place = folder.join(format!("cases-{on:?}-{from}"));
    // What failed before was left there to be looked at.
    let _ = std::fs::remove_dir_all(&place);
    std::fs::create_dir_all(&place).expect("a folder");
    let server = match on {
        On::Sqlite => None,
        On::Postgres => crate::servers::postgres(),
        On::Maria => crate::servers::maria(),
    };
    let mut ring: Box<dyn Ring> = match server {
        Some(server) => Box::new(servers::OnServer::new(server, on, &place)),
        None if on == On::Sqlite => Box::new(file::InFile::new(&place)),
        None => return tally,
    };
    for seed in from..from + count {
        let case = case(seed, on);
        let mut attempt = || one(&mut *ring, &case, &mut tally);
        let said = std::panic::catch_unwind(std::panic::AssertUnwindSafe(&mut attempt));
        if let Err(panic) = said {
            let case = shrink(&mut *ring, case);
            eprintln!(
                "{on:?}, seed {seed}, shrunk:\n{}\n{};\n-- edit: {}",
                case.script, case.statement, case.edit
            );
            std::panic::resume_unwind(panic);
        }
    }
    std::fs::remove_dir_all(&place).expect("removed");
    tally
}

/// Leaves out rows, one after the other, as long as the case still fails.
fn shrink(ring: &mut dyn Ring, mut case: Case) -> Case {
    let mut fails = |case: &Case| {
        let attempt = || one(ring, case, &mut Tally::default());
        std::panic::catch_unwind(std::panic::AssertUnwindSafe(attempt)).is_err()
    };
    let mut at = 0;
    loop {
        let lines: Vec<&str> = case.script.lines().collect();
        let Some(line) = lines.get(at) else { return case };
        let without: Vec<&str> =
            lines.iter().enumerate().filter(|(n, _)| *n != at).map(|(_, l)| *l).collect();
        let smaller = Case { script: without.join("\n") + "\n", ..case.clone() };
        if line.starts_with("INSERT") && fails(&smaller) {
            case = smaller;
        } else {
            at += 1;
        }
    }
}

fn sorted(mut rows: Vec<Vec<Value>>) -> Vec<Vec<Value>> {
    rows.sort_by_cached_key(|row| format!("{row:?}"));
    rows
}

struct Place {
    folder: PathBuf,
}

impl Place {
    fn with<T>(&self, work: impl FnOnce(&Context<'_>) -> T) -> T {
        let never = Fuse::at(0);
        attempt::with(&self.folder, &never, &never, false, work)
    }

    fn apply(&self, change: &Change, mark: Option<String>) -> Result<RunOutcome, Failure> {
        let options = ApplyOptions { agreement: Agreement::Ask, mark, hold: false, show: Show::All };
        self.with(|context| marktwice_run::apply(context, change, &options, &mut Yes))
    }

    fn undo(&self, run: &str, allow: Vec<Code>) -> Result<RunOutcome, Failure> {
        let options = UndoOptions {
            run: Some(run.to_owned()),
            agreement: Agreement::Given,
            allow,
            rows: None,
            policy: marktwice_core::undo::Policy::default(),
            only: Vec::new(),
            hold: false,
            show: Show::First(0),
        };
        self.with(|context| marktwice_run::undo(context, &options, &mut Yes))
    }
}

fn one(ring: &mut dyn Ring, case: &Case, tally: &mut Tally) {
    tally.cases += 1;
    let place = Place { folder: ring.folder().to_owned() };
    ring.set_up(case);
    let start = ring.everything();
    let bare = ring.bare(&case.statement);
    let bare_contents = ring.bare_contents();
    let change = Change {
        source: case.statement.clone(),
        title: None,
        reason: None,
        rows: None,
        changes: None,
        allow: vec![
            Code::NoFilter,
            Code::AlwaysTrue,
            Code::NothingMatched,
            Code::TargetAgain,
            Code::AssignedTwice,
        ]
        .into_iter()
        .chain(case.hazard.allowed(ring.on()))
        .collect(),
        again: true,
        quick: true,
    };
    let preview = match place.with(|context| marktwice_run::preview(context, &change, Show::All)) {
        Ok(preview) => preview,
        Err(failure) => {
            assert_eq!(ring.everything(), start, "a preview writes nothing");
            // A type that STRICT refuses is found out by the preview already.
            // Where several rows of a join match, the engine may take one that fits, and we see one that does not.
            let joined = case.statement.contains(" x") && !case.statement.starts_with("DELETE");
            assert!(bare.is_err() || failure.finding().is_some() || joined, "preview failed: {failure}");
            if bare.is_ok() {
                tally.refused += 1
            } else {
                tally.failed += 1
            }
            return;
        }
    };
    assert_eq!(ring.everything(), start, "a preview writes nothing");
    if let Ok(count) = &bare {
        // A row that a cascade has taken along before its turn is not counted by every engine; one that is skipped is not.
        if !matches!(case.hazard, Hazard::OntoItself | Hazard::Skips) {
            check_preview(&preview, &start[0], &bare_contents[0], *count);
        }
    }
    if case.between {
        between(ring, case, &place, &change, &preview, &start);
        return;
    }
    let outcome = place.apply(&change, None);
    let now = ring.everything();
    let run = match outcome.as_ref().map(|o| &o.end) {
        Ok(End::Committed) => {
            assert!(bare.is_ok(), "it committed what the bare statement refuses: {bare:?}");
            assert!(servers::same(case, &now, &bare_contents), "after apply: {now:?}\n{bare_contents:?}");
            outcome.expect("committed").receipt.expect("a receipt").run
        }
        Ok(End::NothingToDo(_)) => {
            assert_eq!(now, start);
            assert!(
                bare.is_err() || bare_contents == start,
                "there was something to do: {start:?}\n{bare_contents:?}"
            );
            tally.nothing += 1;
            return;
        }
        other => {
            assert_eq!(now, start, "it did not commit: {other:?}");
            if bare.is_ok() {
                let end = other.expect("a reason");
                if !case.hazard.explains(end) {
                    explainable(case, end);
                }
                tally.refused += 1;
            } else {
                tally.failed += 1;
            }
            return;
        }
    };
    tally.applied += 1;
    if now == start {
        // Only the run could tell that nothing would change; there is nothing to take back.
        return;
    }
    let applied = now;
    // On a server the state before the edit is made again by statements, which triggers and keys would meddle with.
    if ring.on() == On::Sqlite || matches!(case.hazard, Hazard::None | Hazard::Settings) {
        over_an_edit(ring, case, &place, &preview, (&run, &applied), tally);
    }
    if place.with(was_undone(&run)) {
        return;
    }
    let undone = place.undo(&run, case.hazard.allowed(ring.on()));
    let committed = matches!(undone.as_ref().map(|o| &o.end), Ok(End::Committed));
    if !committed && case.hazard.may_not_come_back() {
        assert_eq!(ring.everything(), applied, "a refused undo touches nothing");
        return;
    }
    assert!(committed, "undo: {undone:?}");
    let hazard = case.hazard;
    assert_eq!(hazard.promised(ring.everything()), hazard.promised(start), "after undo");
}

/// With somebody else's edit in between nothing is touched, and exactly the edited rows are named.
fn over_an_edit(
    ring: &mut dyn Ring,
    case: &Case,
    place: &Place,
    preview: &Preview,
    (run, applied): (&str, &Contents),
    tally: &mut Tally,
) {
    ring.save();
    let edited = ring.edit(&case.edit);
    let after_edit = ring.everything();
    if edited && after_edit != *applied && preview.kind == StepKind::Update {
        let touched = named_rows(preview, &applied[0], &after_edit[0]);
        match place.undo(run, case.hazard.allowed(ring.on())).map(|o| o.end) {
            Ok(End::Conflicts(found)) => {
                assert_eq!(ring.everything(), after_edit, "a refused undo touches nothing");
                if let Some(touched) = touched {
                    assert_eq!(found.count, touched, "exactly the edited rows are named");
                }
                tally.conflicts += 1;
            }
            Ok(End::Committed) => assert!(touched.is_none_or(|n| n == 0), "an edited row was overwritten"),
            _ => assert_eq!(ring.everything(), after_edit, "a refused undo touches nothing"),
        }
    }
    ring.restore();
    assert_eq!(ring.everything(), *applied, "the state before the edit is there again");
}

/// Somebody else's edit between preview and application, which is held to the mark: it commits only what was shown.
fn between(
    ring: &mut dyn Ring,
    case: &Case,
    place: &Place,
    change: &Change,
    preview: &Preview,
    start: &Contents,
) {
    ring.set_up(case);
    if !ring.edit(&case.edit) {
        return;
    }
    let edited = ring.everything();
    let outcome = place.apply(change, preview.mark.clone());
    let now = ring.everything();
    if !matches!(outcome.as_ref().map(|o| &o.end), Ok(End::Committed)) {
        assert_eq!(now, edited, "what does not commit leaves everything");
        return;
    }
    if preview.target.key.kind == KeyKind::WholeRow {
        return;
    }
    let target = &preview.target;
    let named = preview.foreseen.iter().map(|f| f.column).chain(preview.filter.iter().copied());
    let columns: Vec<usize> = named.chain(target.key.columns.iter().copied()).chain(target.naming).collect();
    // Every shown row was still there as it was shown when the statement ran.
    let _ = start;
    for row in &preview.rows {
        let there = edited[0].iter().any(|r| hazards::still_as_shown(&row.before, r, &columns));
        assert!(there, "a shown row had changed: {row:?}");
    }
}

/// A commit that is refused where the bare statement runs must have one of the reasons that are meant.
fn explainable(case: &Case, end: &End) {
    let replaces = case.script.contains("ON CONFLICT");
    let child = case.script.contains("CREATE TABLE kid");
    match end {
        // A conflict clause in the definition deletes or skips rows without a word: found out, and rolled back.
        End::Verification(_) => assert!(replaces, "{end:?}"),
        // Several reasons may come together; rows beside the matched ones are written only where there is a child.
        End::Stopped(codes) => assert!(
            codes.iter().all(|code| match code {
                Code::ManySources | Code::ManyValues => true,
                Code::UndeclaredWrite => child,
                Code::NoWayBack => case.script.contains("CONSTRAINT older"),
                _ => false,
            }),
            "{codes:?}"
        ),
        other => panic!("the bare statement runs: {other:?}"),
    }
}

/// The rows listed are those that the statement touches, and the after-values are what it stores.
fn check_preview(preview: &Preview, start: &[Vec<Value>], bare: &[Vec<Value>], count: u64) {
    assert_eq!(preview.rows.len() as u64, preview.matched);
    let replaced = start.len() != bare.len() && preview.kind == StepKind::Update;
    let silent = preview.foreseen.iter().any(|f| f.why.as_ref().is_some_and(|w| w.contains("ON CONFLICT")));
    let several = preview.many.is_some();
    if !replaced && !silent && !several && !preview.findings.iter().any(|f| f.code == Code::UndeclaredWrite) {
        assert_eq!(preview.matched, count, "rows matched and rows that the bare statement counts");
    }
    let mut expected = start.to_vec();
    for row in &preview.rows {
        let at = expected.iter().position(|r| *r == row.before).expect("a row that is there");
        expected.remove(at);
    }
    if preview.foreseen.iter().any(|f| f.label != Label::Exact)
        || replaced
        || (preview.matched != count && !several)
    {
        return;
    }
    expected.extend(preview.rows.iter().filter_map(|r| r.after.clone()));
    let bare = bare.to_vec();
    assert_eq!(sorted(expected), bare, "after-values labelled exact");
}

/// How many of the rows that the run changed were edited since; `None` where keys may have been edited, too.
fn named_rows(preview: &Preview, applied: &[Vec<Value>], now: &[Vec<Value>]) -> Option<u64> {
    if preview.target.key.kind == KeyKind::WholeRow {
        return None;
    }
    let key = |row: &[Value]| -> Vec<Value> {
        preview.target.key.columns.iter().filter_map(|&at| row.get(at).cloned()).collect()
    };
    // A row whose key the run changed, edited back under its old key, is not found under the new one: it counts as
    // gone, and here as unclear.
    let moved =
        preview.rows.iter().any(|r| r.after.as_ref().is_some_and(|after| key(after) != key(&r.before)));
    if preview.uncertain() || moved || applied.len() != now.len() {
        return None;
    }
    let mut left = now.to_vec();
    let mut edited = 0;
    for row in preview.rows.iter().filter(|r| r.changes()) {
        // Still as the run left it, or edited back to what it was before; anything else was edited.
        let mut take =
            |image: &Vec<Value>| left.iter().position(|r| r == image).map(|at| left.remove(at)).is_some();
        if !row.after.as_ref().is_some_and(&mut take) && !take(&row.before) {
            edited += 1;
        }
    }
    Some(edited)
}

/// Whether a run was taken back already, over an edit that touched none of its rows.
fn was_undone(run: &str) -> impl FnOnce(&Context<'_>) -> bool {
    move |context| {
        let session = context
            .engine
            .open(context.address, marktwice_port::Intent::Read, context.waits)
            .expect("opened");
        let book = (context.book)(session.database()).expect("a logbook");
        let entries = marktwice_run::history(&*book).expect("a history");
        entries.iter().any(|e| e.receipt.run == run && e.undone_by.is_some())
    }
}
