//! The corpus: statements of all shapes and dialects with what is expected of them, kept as data in `corpus/`. Every one
//! is previewed on its engine and run bare beside it: what the preview listed must be what the bare statement did.
//!
//! A line that begins with `-- ` is a heading, one that begins with a blank goes on with the statement before, and lines
//! that begin with `-->` say what is expected of it: first its slices, then rows, label and findings. Letters behind the
//! arrow name the engines for which that holds (`s`, `p`, `m`); none means all.

use std::path::{Path, PathBuf};

use marktwice_core::finding::Level;
use marktwice_core::mark::{Label, StepKind};
use marktwice_core::table::Target;
use marktwice_core::{Change, Code, Value};
use marktwice_port::{EngineError, Intent, Limits, Session};
use marktwice_run::{Show, StepPreview};
use marktwice_sql::statement::slicing::understand_with;
use marktwice_sql::{Language, Step};

use crate::attempt::{self, engine_of};
use crate::faulty::Fuse;
use crate::sql::Db;
use crate::stage::{On, Stage};

/// All tables of the corpus; parents first.
const TABLES: &[&str] =
    &["keeper", "apiary", "hive", "hive_season", "inspection", "batch", "sheet_import", "odd names", "doc"];

/// One statement and what is expected of it, line by line as it stands in the file.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Entry {
    /// The heading that it stands under.
    pub heading: String,
    /// The statement.
    pub statement: String,
    /// What is expected: the engines' letters, and the text.
    pub expected: Vec<(String, String)>,
}

/// Reads a file of the corpus.
pub fn read(text: &str) -> Vec<Entry> {
    let mut all: Vec<Entry> = Vec::new();
    let mut heading = String::new();
    for line in text.lines() {
        if let Some(title) = line.strip_prefix("-- ") {
            heading = title.to_owned();
        } else if let (Some(rest), Some(last)) = (line.strip_prefix("-->"), all.last_mut()) {
            let (engines, expected) = rest.split_once(' ').unwrap_or((rest, ""));
            last.expected.push((engines.to_owned(), expected.to_owned()));
        } else if let (true, Some(last)) = (line.starts_with(' '), all.last_mut()) {
            last.statement.push('\n');
            last.statement.push_str(line);
        } else if !line.is_empty() {
            all.push(Entry { heading: heading.clone(), statement: line.to_owned(), ..Entry::default() });
        }
    }
    all
}

/// Writes a file of the corpus.
pub fn write(entries: &[Entry]) -> String {
    let mut out = String::new();
    let mut heading = "";
    for entry in entries {
        if entry.heading != heading {
            heading = &entry.heading;
            out.push_str(&format!("-- {heading}\n"));
        }
        out.push_str(&format!("{}\n", entry.statement));
        for (engines, text) in &entry.expected {
            out.push_str(&format!("-->{engines} {text}\n"));
        }
    }
    out
}

/// The folder of the corpus.
pub fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("corpus")
}

/// The name of an engine's own file, its letter, and its language.
pub fn names(on: On) -> (&'static str, &'static str, Language) {
    match on {
        On::Sqlite => ("sqlite", "s", Language::Sqlite),
        On::Postgres => ("postgres", "p", Language::Postgres),
        On::Maria => ("mysql", "m", Language::Mysql),
    }
}

/// Two databases of the corpus on one engine: one is previewed on, on the other the bare statement runs.
pub struct Pair {
    on: On,
    stages: [Stage; 2],
    sessions: [Box<dyn Session>; 2],
    bare: Db,
    rows: String,
    start: Vec<Vec<Vec<Value>>>,
}

fn open(url: &str) -> Box<dyn Session> {
    let waits = Limits { lock: std::time::Duration::from_secs(5), statement: None };
    engine_of(url).open(url, Intent::Read, waits).expect("opened")
}

fn file(name: &str) -> String {
    std::fs::read_to_string(folder().join(name)).unwrap_or_else(|e| panic!("{name}: {e}"))
}

fn contents(session: &mut dyn Session) -> Vec<Vec<Vec<Value>>> {
    let table = |name: &&str| {
        let target = session.describe("", name).expect("described");
        let mut rows = session.first_rows(&target, u32::MAX / 2).expect("read");
        rows.sort_by_cached_key(|row| format!("{row:?}"));
        rows
    };
    TABLES.iter().map(table).collect()
}

impl Pair {
    /// Makes both databases; `None` where the engine is not there.
    pub fn new(on: On) -> Option<Pair> {
        let (name, ..) = names(on);
        let stages = [Stage::on(on, "no program")?, Stage::on(on, "no program")?];
        let rows = file("rows.sql") + &file(&format!("rows.{name}.sql"));
        for stage in &stages {
            stage.run(&file(&format!("schema.{name}.sql")));
            stage.run(&rows);
        }
        if on != On::Sqlite {
            stages[0].scene.write("address", &stages[0].url);
        }
        let mut sessions = [open(&stages[0].url), open(&stages[1].url)];
        let start = contents(&mut *sessions[0]);
        let bare = stages[1].db();
        Some(Pair { on, stages, sessions, bare, rows, start })
    }

    /// What there is to be said of a statement, in the form of the expectations. The bare statement is run beside it and
    /// compared.
    pub fn look(&mut self, statement: &str) -> Vec<String> {
        let (_, _, language) = names(self.on);
        let session = &mut self.sessions[0];
        let understood = understand_with(statement, language, &mut |of, column| {
            let described = of.table.as_ref().map(|name| session.describe("", &name.text));
            described.and_then(Result::ok).is_some_and(|t| t.position(column).is_some())
        });
        let change = Change::of(statement);
        let (never, folder) = (Fuse::at(0), self.stages[0].scene.path("."));
        let preview = attempt::with(&folder, &never, &never, false, |context| {
            marktwice_run::preview(context, &change, Show::All)
        });
        let preview = match preview {
            Ok(preview) => preview,
            Err(failure) => {
                let code = failure.finding().map_or("error", |f| f.code.as_str());
                let paste = failure.finding().is_some_and(|f| f.paste.is_some());
                return vec![format!(
                    "refused {code}{}",
                    if paste { ", with what to write instead" } else { "" }
                )];
            }
        };
        let preview = &preview.steps[0];
        let step = understood.unwrap_or_else(|f| panic!("{statement}: previewed, and not understood: {f:?}"));
        self.compare(statement, preview);
        vec![slices(&step), results(preview)]
    }

    /// What is said of a broken statement: where, and what is wrong; that it is taken, where it is.
    pub fn complaint(&mut self, statement: &str) -> String {
        let session = &mut self.sessions[0];
        let (finding, said) = match session.plan(statement, &[], &[]) {
            Ok(plan) => {
                (plan.findings.into_iter().find(|f| f.level == Level::Stop), "it is taken".to_owned())
            }
            Err(EngineError::Refused(finding)) => (Some(*finding), String::new()),
            Err(other) => (None, format!("without a place: {other}")),
        };
        let Some(finding) = finding else { return said };
        let place =
            finding.place.as_ref().map_or("nowhere".to_owned(), |p| format!("{}:{}", p.line, p.column));
        let marked: String = finding
            .place
            .as_ref()
            .map_or(String::new(), |p| p.text.chars().skip(p.column - 1).take(p.length).collect());
        format!("{place} `{marked}` {}: {} ({})", finding.code, finding.message, finding.remedy())
    }

    /// Runs the bare statement and compares.
    fn compare(&mut self, statement: &str, preview: &StepPreview) {
        let open_end = [Code::VolatileFilter, Code::UnstableLimit];
        if preview.block.findings.iter().any(|f| open_end.contains(&f.code)) {
            return;
        }
        let Ok(count) = self.bare.execute(statement) else {
            // It fails for the rows it meets (a foreign key, say); nothing was changed.
            return;
        };
        let after = contents(&mut *self.sessions[1]);
        let target =
            TABLES.iter().position(|t| t.eq_ignore_ascii_case(&preview.block.target.table)).expect("a table");
        for (at, table) in TABLES.iter().enumerate().filter(|(at, _)| *at != target) {
            assert_eq!(after[at], self.start[at], "{statement}: {table} changed too");
        }
        let mut expected = self.start[target].clone();
        for row in preview.block.rows.iter().filter(|row| row.image.before().is_some()) {
            let at = expected.iter().position(|r| *r == row.image.row());
            expected
                .remove(at.unwrap_or_else(|| panic!("{statement}: lists a row that is not there: {row:?}")));
        }
        if preview.many.is_none() {
            assert_eq!(
                preview.block.matched, count,
                "{statement}: rows listed and rows that the engine counts"
            );
        }
        if preview.block.foreseen.iter().all(|f| f.label == Label::Exact) {
            expected.extend(preview.block.rows.iter().filter_map(|r| r.image.after().map(<[Value]>::to_vec)));
            expected.sort_by_cached_key(|row| format!("{row:?}"));
            assert_eq!(after[target], expected, "{statement}: what it did and what the preview says");
        } else {
            // Rows that are not listed stay as they are.
            for row in &expected {
                assert!(
                    after[target].contains(row),
                    "{statement}: a row changed that was not listed: {row:?}"
                );
            }
            assert_eq!(after[target].len(), self.start[target].len());
        }
        if after != self.start {
            self.reset();
        }
    }

    fn reset(&mut self) {
        let quote = |name: &str| names(self.on).2.quoted(name);
        let clear: String = TABLES.iter().rev().map(|t| format!("DELETE FROM {};\n", quote(t))).collect();
        // One transaction: one wait for the disk.
        self.bare.run(&format!("BEGIN;\n{clear}{}COMMIT;\n", self.rows));
    }

    /// Whether the database that was previewed on is as it was made.
    pub fn is_untouched(&mut self) -> bool {
        contents(&mut *self.sessions[0]) == self.start
    }
}

fn squeezed(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Target, joined tables, assigned columns and filter, as sliced.
fn slices(step: &Step) -> String {
    let mut out = format!(
        "{} {}",
        if step.kind == StepKind::Update { "update" } else { "delete" },
        step.table.table.text
    );
    let sets: Vec<&str> = step.assignments.iter().flat_map(|a| &a.columns).map(|c| c.text.as_str()).collect();
    if !sets.is_empty() {
        out.push_str(&format!(" | set {}", sets.join(", ")));
    }
    if let Some(sources) = &step.sources {
        let names: Vec<&str> =
            sources.tables.iter().map(|t| t.visible().map_or("-", |v| v.text.as_str())).collect();
        out.push_str(&format!(" | with {}", names.join(", ")));
    }
    if let Some(filter) = &step.filter {
        out.push_str(&format!(" | where {}", squeezed(step.text(filter.slice))));
        if filter.parsed.is_none() {
            out.push_str(" (not parsed)");
        }
    }
    if let Some(tail) = &step.tail {
        out.push_str(&format!(" | {}", squeezed(step.text(tail.slice))));
    }
    out
}

/// Rows, label, what pins them, and findings.
fn results(preview: &StepPreview) -> String {
    let label = if preview.block.kind == StepKind::Delete {
        "gone"
    } else if preview.block.uncertain() {
        "unknown"
    } else {
        "exact"
    };
    let mut codes: Vec<&str> = preview.block.findings.iter().map(|f| f.code.as_str()).collect();
    codes.sort_unstable();
    codes.dedup();
    let target: &Target = &preview.block.target;
    let changes = if preview.block.kind == StepKind::Update && !preview.block.uncertain() {
        format!(", {} would change", preview.block.changes)
    } else {
        String::new()
    };
    if codes.contains(&"volatile-filter") {
        return format!("some of {} {label}: volatile-filter", target.table);
    }
    format!("{} of {} {label}{changes}: {}", preview.block.matched, target.table, codes.join(" "))
        .trim_end()
        .to_owned()
}
