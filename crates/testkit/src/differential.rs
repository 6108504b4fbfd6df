//! The differential tester: random schemas, data and statements of all shapes. What a preview labels `exact` must be
//! what the bare statement does on a copy; what an application leaves must be the bare result, or the start where the
//! bare statement fails; an undo must bring back the start, value for value; and after somebody else's edit in between
//! it must touch nothing and name exactly the edited rows.

use std::path::{Path, PathBuf};

use marktwice_core::mark::{Label, StepKind};
use marktwice_core::table::KeyKind;
use marktwice_core::{Change, Code, Image, Level, Value};
use marktwice_port::Constraint;
use marktwice_run::{
    Agreement, ApplyOptions, Context, End, Failure, Preview, RunOutcome, Show, StepPreview, UndoOptions,
};

use crate::attempt::{self, Yes};
use crate::faulty::Fuse;
use crate::stage::On;

pub use hazards::Hazard;

mod advice;
pub mod archives;
pub mod families;
mod file;
mod hazards;
pub mod inserts;
mod servers;
mod shapes;
pub mod veiled;
pub mod watchers;

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
    /// Names of the tables whose rows it gives, in that order.
    fn tables(&mut self) -> Vec<String>;
    /// What is in the database under test.
    fn everything(&mut self) -> Contents;
    /// Runs a statement on the other one; gives the rows that it matched.
    fn bare(&mut self, statement: &str) -> Result<u64, String>;
    /// Runs statements on the other one in one transaction, which is rolled back: whether they can be one at all. A row that
    /// one transaction writes twice is not looked at as one that two write.
    fn together(&mut self, statements: &[&str]) -> Result<(), String>;
    /// The one number that a query gives in the database under test.
    fn count(&mut self, query: &str) -> u64;
    /// Runs a statement on the database under test and rolls it back; gives the rows that it matched.
    fn tried(&mut self, statement: &str) -> Result<u64, String>;
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
    /// Filters and statements that were offered, each found to do what was said.
    pub advices: u64,
}

/// One random case, as scripts that anybody can run.
#[derive(Debug, Clone)]
pub struct Case {
    /// Definitions and rows.
    pub script: String,
    /// The first step.
    pub statement: String,
    /// Steps behind it.
    pub more: Vec<String>,
    /// An edit by somebody else, between application and undo.
    pub edit: String,
    /// Whether that edit comes between preview and application as well.
    pub between: bool,
    /// What stands around the table.
    pub hazard: Hazard,
}

impl Case {
    fn steps(&self) -> Vec<&str> {
        std::iter::once(&self.statement).chain(&self.more).map(String::as_str).collect()
    }
}

/// What the bare statements did: rows and contents after each step, or why one of them failed. Each commits by itself, so
/// that its outcome can be looked at; what a failing one leaves of those before it is not compared with anything.
type Bare = Result<Vec<(u64, Contents)>, String>;

fn bare(ring: &mut dyn Ring, case: &Case) -> Bare {
    let steps = case.steps();
    if steps.len() > 1 {
        ring.together(&steps)?;
    }
    let each = steps.into_iter().map(|step| {
        let rows = ring.bare(step).map_err(|said| format!("{ALONE}{said}"))?;
        Ok((rows, ring.bare_contents()))
    });
    each.collect()
}

/// What a step says that is refused when it commits by itself: where a key waits for the end of the transaction, a later step
/// may put right what it breaks, and all of them together are taken.
const ALONE: &str = "by itself: ";

/// Whether the steps are taken together, and one of them is not by itself.
fn only_together(case: &Case, bare: &Bare) -> bool {
    let alone = matches!(bare, Err(said) if said.starts_with(ALONE));
    alone && !case.more.is_empty() && case.script.contains("DEFERRED")
}

/// Makes a case from a seed.
pub fn case(seed: u64, on: On) -> Case {
    if seed >= watchers::KNOTTED {
        return watchers::case(seed, on);
    }
    if seed >= inserts::FROM {
        return inserts::case(seed, on);
    }
    if seed >= archives::FROM {
        return archives::case(seed, on);
    }
    if seed >= watchers::FROM {
        return watchers::case(seed, on);
    }
    if seed >= families::FROM {
        return families::case(seed, on);
    }
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
        On::Maria => crate::servers::family(),
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
                case.script,
                case.steps().join(";\n"),
                case.edit
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
        let options = ApplyOptions {
            agreement: Agreement::Ask,
            mark,
            hold: false,
            show: Show::All,
            copy_database: None,
            keep_copy: None,
            most_rows: None,
            previewed: None,
        };
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
    let bare = bare(ring, case);
    let bare_contents = ring.bare_contents();
    let language = attempt::engine_of(&attempt::address(ring.folder())).language();
    let read = marktwice_change::read(&case.steps().join(";\n"), language).expect("no block is in it");
    let change = Change {
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
        ..read
    };
    assert_eq!(change.steps.len(), case.steps().len());
    let preview = match place.with(|context| marktwice_run::preview(context, &change, Show::All)) {
        Ok(preview) => preview,
        Err(failure) => {
            assert_eq!(ring.everything(), start, "a preview writes nothing");
            // A type that STRICT refuses is found out by the preview already.
            // Where several rows of a join match, the engine may take one that fits, and we see one that does not.
            let steps = case.steps();
            let joined = steps.iter().any(|s| s.contains(" x") && !s.starts_with("DELETE"));
            assert!(bare.is_err() || failure.finding().is_some() || joined, "preview failed: {failure}");
            if let Some(finding) = failure.finding() {
                advice::statement(ring, case, finding, tally);
            }
            if bare.is_ok() {
                tally.refused += 1
            } else {
                tally.failed += 1
            }
            return;
        }
    };
    assert_eq!(ring.everything(), start, "a preview writes nothing");
    if let Ok(done) = &bare {
        // A row that a cascade has taken along before its turn is not counted by every engine; one that is skipped is not.
        if inserts::is_one(case) {
            inserts::check(&preview, &ring.tables(), &start, done);
        } else if matches!(case.hazard, Hazard::Family | Hazard::Watched) {
            if let ([step], [(_, after)]) = (preview.steps.as_slice(), done.as_slice()) {
                let held = step.block.side.iter().all(|write| write.held);
                if step.told && held {
                    families::check_along(&step.block, (&ring.tables(), &start, after));
                }
            }
        } else if !matches!(case.hazard, Hazard::OntoItself | Hazard::Skips) {
            if let ([step], [(count, after)]) = (preview.steps.as_slice(), done.as_slice()) {
                // What the engine answers in two ways nobody can foresee; the closer look says that.
                if step.block.matched > 0 || *count == 0 || !in_two_ways(&place, &change) {
                    check_preview(step, &start[0], &after[0], *count);
                }
            } else {
                check_steps(&preview, &start, done);
            }
        }
    }
    if case.more.is_empty() {
        foretold(case, &place, &change, &bare);
    }
    advice::try_all(ring, case, &place, &change, &preview, tally);
    if case.between {
        between(ring, case, &place, &change, &preview, &start);
        return;
    }
    let outcome = place.apply(&change, None);
    let now = ring.everything();
    let (run, (told, needed)) = match outcome.as_ref().map(|o| &o.end) {
        Ok(End::Committed) => {
            let together = only_together(case, &bare);
            assert!(bare.is_ok() || together, "it committed what the bare statement refuses: {bare:?}");
            if together {
                // What the statements leave together nobody has looked at; that it is taken back is.
            } else if archives::is_one(case) {
                let tables = ring.tables();
                let wanted = archives::expected(&preview, &tables, &bare_contents);
                let found = archives::without_own(&preview, &tables, &now);
                assert_eq!(found, wanted, "after apply");
            } else if inserts::is_one(case) {
                let tables = ring.tables();
                let [now, bare] = [&now, &bare_contents].map(|all| inserts::without_numbers(all, &tables));
                assert!(servers::same(case, &now, &bare), "after apply: {now:?}\n{bare:?}");
            } else {
                assert!(servers::same(case, &now, &bare_contents), "after apply: {now:?}\n{bare_contents:?}");
            }
            let receipt = outcome.expect("committed").receipt.expect("a receipt");
            let back = receipt.back.unwrap_or_default();
            let stays = receipt.triggered.iter().flatten().any(|table| table.unheld.is_some());
            let told = back.allow.is_empty() && back.leaves.is_empty() && !stays;
            (receipt.run, (told, back.allow))
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
    let plain = ring.on() == On::Sqlite || matches!(case.hazard, Hazard::None | Hazard::Settings);
    if plain && case.more.is_empty() && !inserts::is_one(case) {
        over_an_edit(ring, case, &place, &preview, (&run, &applied), tally);
    }
    if place.with(was_undone(&run)) {
        return;
    }
    let held = preview.steps.iter().flat_map(|step| &step.block.side).all(|write| write.held);
    let hazard = case.hazard;
    let watched = hazard == Hazard::Watched && held && told;
    // What the undo will have to be allowed was said before.
    let allow =
        if watched { Vec::new() } else { hazard.allowed(ring.on()).into_iter().chain(needed).collect() };
    let undone = place.undo(&run, allow.clone());
    let committed = matches!(undone.as_ref().map(|o| &o.end), Ok(End::Committed));
    if !committed && case.hazard.may_not_come_back() {
        assert_eq!(ring.everything(), applied, "a refused undo touches nothing");
        return;
    }
    if !held && matches!(&undone, Err(Failure::Usage { .. })) && bare_start(&start, &applied) {
        // Only triggers wrote anything, and it was said that this stays.
        return;
    }
    assert!(committed, "undo: {undone:?}");
    if matches!(hazard, Hazard::Family | Hazard::Watched) && !(held && (told || hazard == Hazard::Family)) {
        // It was said that not all of it comes back.
        return;
    }
    assert_eq!(hazard.promised(ring.everything()), hazard.promised(start.clone()), "after undo");
    if hazard == Hazard::Watched {
        let undo = undone.expect("committed").receipt.expect("a receipt").run;
        let again = place.undo(&undo, allow);
        if matches!(again.as_ref().map(|o| &o.end), Ok(End::Stopped(codes)) if codes == &[Code::UndeclaredWrite])
        {
            // What its own triggers write by then cannot be put right, and it says so.
            return;
        }
        assert!(matches!(again.as_ref().map(|o| &o.end), Ok(End::Committed)), "undo of the undo: {again:?}");
        assert_eq!(ring.everything(), applied, "after the undo of the undo");
    }
}

/// Whether the tables of the statements themselves are as they were.
fn bare_start(start: &Contents, now: &Contents) -> bool {
    let own = start.len().saturating_sub(3);
    start.iter().zip(now).take(own).all(|(a, b)| a == b)
}

/// A preview that says that the statement cannot succeed is right; one that says nothing about a constraint is right too, where
/// everything can be known beforehand.
fn foretold(case: &Case, place: &Place, change: &Change, bare: &Bare) {
    let change = Change { quick: false, ..change.clone() };
    let preview = place.with(|context| marktwice_run::preview(context, &change, Show::First(0)));
    let Ok(preview) = preview else { panic!("the quick preview did not fail: {preview:?}") };
    let [step] = preview.steps.as_slice() else { return };
    let codes =
        [Code::TakenAlready, Code::NullRefused, Code::CheckRefused, Code::NoParent, Code::HasChildren];
    let said: Vec<_> = step.block.findings.iter().filter(|f| codes.contains(&f.code)).collect();
    if let Some(stop) = said.iter().find(|f| f.level == Level::Stop) {
        assert!(bare.is_err(), "it succeeds, and the preview says: {}", stop.message);
    }
    let Err(refusal) = bare else { return };
    let lower = refusal.to_ascii_lowercase();
    let broken = [
        "unique",
        "duplicate",
        "foreign key",
        "not null",
        "null value",
        "cannot be null",
        "check constraint",
    ];
    let known = matches!(case.hazard, Hazard::None | Hazard::Settings | Hazard::Family)
        && step.told
        && step.study.skipped.is_none()
        && step.block.target.key.kind != KeyKind::WholeRow
        && step.block.foreseen.iter().all(|f| f.label == Label::Exact)
        && step.many.is_none();
    // How many tables the server goes along keys is a limit of its own.
    let limit = lower.contains("exceeds max tables limit");
    if known && !limit && broken.iter().any(|word| lower.contains(word)) {
        assert!(!said.is_empty(), "the preview says nothing, and the statement fails: {refusal}");
    }
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
    let Some(step) = preview.steps.first() else { return };
    if edited && after_edit != *applied && step.block.kind == StepKind::Update {
        let touched = named_rows(step, &applied[0], &after_edit[0]);
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
    let [step] = preview.steps.as_slice() else { return };
    let block = &step.block;
    if block.target.key.kind == KeyKind::WholeRow {
        return;
    }
    let target = &block.target;
    let named = block.foreseen.iter().map(|f| f.column).chain(block.filter.iter().copied());
    let columns: Vec<usize> = named.chain(target.key.columns.iter().copied()).chain(target.naming).collect();
    // Every shown row was still there as it was shown when the statement ran.
    let _ = start;
    for row in &block.rows {
        let there = edited[0].iter().any(|r| hazards::still_as_shown(row.image.row(), r, &columns));
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
                Code::ManySources | Code::ManyValues | Code::TwoAnswers => true,
                Code::UndeclaredWrite => child,
                // Rows that come in and hold on to each other, or to themselves.
                Code::NoWayBack if inserts::is_one(case) => {
                    let own = |t: &str| {
                        let key = |line: &str| {
                            line.starts_with(&format!("ALTER TABLE {t} "))
                                && line.contains(&format!("REFERENCES {t} ("))
                        };
                        case.script.lines().any(key)
                    };
                    case.script.contains("ON DELETE SET NULL") || ["t", "u", "v", "w"].into_iter().any(own)
                }
                Code::NoWayBack => case.script.contains("CONSTRAINT older"),
                // A row that comes in is named by the number that it has in the rehearsal.
                Code::GivenNumber => inserts::is_one(case),
                // A text that is put together when it runs may write anything.
                Code::UnmeasuredWrite => case.script.contains("EXECUTE format"),
                _ => false,
            }),
            "{codes:?}"
        ),
        // SQLite: what a foreign key's action sets off meets conflicts with ABORT, whatever the trigger's statement says of them; what
        // came in for the first time is there the second time.
        End::NoUndo(_)
            if case.script.contains("INSERT OR REPLACE") || case.script.contains("INSERT OR IGNORE") => {}
        // A step behind names the number that a row was given in the rehearsal, and the server gives another in the run.
        End::Moved(_) if inserts::is_one(case) && !case.more.is_empty() => {}
        // In which order a join writes rows whose keys change is the server's choice, and may be another each time.
        End::Failed(Failure::Engine(error))
            if error.broken(Constraint::Unique).is_some()
                && case.steps().iter().any(|step| step.contains(" JOIN ")) => {}
        other => panic!("the bare statement runs: {other:?}"),
    }
}

/// Whether the closer look finds that the engine answers in two ways.
fn in_two_ways(place: &Place, change: &Change) -> bool {
    let change = Change { quick: false, ..change.clone() };
    let preview = place.with(|context| marktwice_run::preview(context, &change, Show::First(0)));
    let findings = preview.iter().flat_map(|seen| &seen.steps).flat_map(|step| &step.block.findings);
    findings.into_iter().any(|finding| finding.code == Code::TwoAnswers)
}

/// The rows listed are those that the statement touches, and the after-values are what it stores.
fn check_preview(step: &StepPreview, start: &[Vec<Value>], bare: &[Vec<Value>], count: u64) {
    let block = &step.block;
    assert_eq!(block.rows.len() as u64, block.matched);
    let replaced = start.len() != bare.len() && block.kind == StepKind::Update;
    let silent = block.foreseen.iter().any(|f| f.why.as_ref().is_some_and(|w| w.contains("ON CONFLICT")));
    let several = step.many.is_some();
    if !replaced && !silent && !several && !block.findings.iter().any(|f| f.code == Code::UndeclaredWrite) {
        assert_eq!(block.matched, count, "rows matched and rows that the bare statement counts");
    }
    let mut expected = start.to_vec();
    for row in &block.rows {
        let at = expected.iter().position(|r| *r == row.image.row()).expect("a row that is there");
        expected.remove(at);
    }
    if block.foreseen.iter().any(|f| f.label != Label::Exact)
        || replaced
        || (block.matched != count && !several)
    {
        return;
    }
    expected.extend(block.rows.iter().filter_map(|r| r.image.after().map(<[Value]>::to_vec)));
    let bare = bare.to_vec();
    assert_eq!(sorted(expected), bare, "after-values labelled exact");
}

/// The same for a step among others, where the preview tells its rows: what it reads and what it writes is there as shown
/// when its turn comes, and as foreseen when it is done.
fn check_steps(preview: &Preview, start: &Contents, done: &[(u64, Contents)]) {
    for (at, step) in preview.steps.iter().enumerate().filter(|(_, step)| step.told) {
        let block = &step.block;
        let Some(table) = ["t", "u", "kid"].iter().position(|t| *t == block.target.table) else { continue };
        let (count, after) = &done[at];
        let before = if at == 0 { start } else { &done[at - 1].1 };
        let (Some(before), Some(after)) = (before.get(table), after.get(table)) else { continue };
        let odd = block.findings.iter().any(|f| f.code == Code::UndeclaredWrite)
            || block.foreseen.iter().any(|f| f.label != Label::Exact)
            || before.len() != after.len() && block.kind == StepKind::Update;
        if odd || step.many.is_some() || block.target.key.kind == KeyKind::WholeRow {
            continue;
        }
        assert_eq!(block.matched, *count, "step {}: rows matched and rows that it counts", at + 1);
        let key = &block.target.key.columns;
        let shown: Vec<usize> = block
            .foreseen
            .iter()
            .map(|f| f.column)
            .chain(block.filter.iter().copied())
            .chain(key.iter().copied())
            .collect();
        let part =
            |row: &[Value]| -> Vec<Value> { shown.iter().filter_map(|at| row.get(*at).cloned()).collect() };
        let there = |rows: &[Vec<Value>], row: &[Value]| rows.iter().any(|r| part(r) == part(row));
        for row in &block.rows {
            assert!(there(before, row.image.row()), "step {}: {row:?} was not there", at + 1);
            if let Image::Update { after: foreseen, .. } = &row.image {
                assert!(there(after, foreseen), "step {}: {row:?} is not what was foreseen", at + 1);
            }
        }
    }
}

/// How many of the rows that the run changed were edited since; `None` where keys may have been edited, too.
fn named_rows(step: &StepPreview, applied: &[Vec<Value>], now: &[Vec<Value>]) -> Option<u64> {
    let block = &step.block;
    if block.target.key.kind == KeyKind::WholeRow {
        return None;
    }
    let key = |row: &[Value]| -> Vec<Value> {
        block.target.key.columns.iter().filter_map(|&at| row.get(at).cloned()).collect()
    };
    // A row whose key the run changed, edited back under its old key, is not found under the new one: it counts as
    // gone, and here as unclear.
    let moved = block.rows.iter().any(|r| match &r.image {
        Image::Update { before, after } => key(after) != key(before),
        _ => false,
    });
    if block.uncertain() || moved || applied.len() != now.len() {
        return None;
    }
    let mut left = now.to_vec();
    let mut edited = 0;
    for row in block.rows.iter().filter(|r| r.changes()) {
        // Still as the run left it, or edited back to what it was before; anything else was edited.
        let mut take =
            |image: &[Value]| left.iter().position(|r| r == image).map(|at| left.remove(at)).is_some();
        if !row.image.after().is_some_and(&mut take) && !take(row.image.row()) {
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
