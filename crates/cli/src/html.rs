//! A report for a second person: one page without network and scripts, of a preview, a rehearsal, or a run.

use std::fmt::Write as _;
use std::io::Write as _;
use std::path::Path;

use marktwice_core::cell::diff;
use marktwice_core::finding::{Finding, Level};
use marktwice_core::mark::StepKind;
use marktwice_core::receipt::{DatabaseId, RunKind, RunState};
use marktwice_core::secret::hide_image;
use marktwice_core::table::KeyKind;
use marktwice_core::totals::{ColumnTotals, Figures};
use marktwice_core::{Code, Image, Value};
use marktwice_run::{Block, Entry, Kept, Preview, Rehearsal, Show, StepPreview, UndoPreview};
use minijinja::Environment;
use serde::Serialize;

use crate::human::{self, number, rows};
use crate::out::new_file;
use crate::report::Trouble;

mod plot;

/// Rows that a page shows of each step: more is nobody's to read.
pub(crate) const MOST: usize = 2_000;
/// Rows that are shown where nothing was said.
const FIRST: usize = 500;

/// How many rows are gathered for a page, where so many are shown beside it.
pub(crate) fn gathered(show: Show) -> Show {
    Show::First(show.most().clamp(FIRST, MOST))
}

/// Shows no more rows beside the page than was said.
pub(crate) fn cut(preview: &mut Preview, show: Show) {
    let most = show.most();
    let of_many = most.div_ceil(4);
    let along = |block: &mut Block| block.along.iter_mut().for_each(|b| b.rows.truncate(of_many));
    for step in &mut preview.steps {
        step.block.rows.truncate(most);
        along(&mut step.block);
    }
    preview.triggered.iter_mut().for_each(|block| block.rows.truncate(of_many));
}

/// The same of an undo.
pub(crate) fn cut_undo(preview: &mut UndoPreview, show: Show) {
    let of_many = show.most().div_ceil(4);
    preview.batches.iter_mut().for_each(|batch| batch.block.rows.truncate(show.most()));
    let along = preview.triggered.iter_mut().flat_map(|batch| &mut batch.block.along);
    along.for_each(|block| block.rows.truncate(of_many));
}

/// How many rows are gathered where somebody may want to see all of them, and what is shown at first.
pub(crate) fn for_a_question(show: Show, asks: bool) -> (Show, Option<Show>) {
    match show {
        Show::First(most) if asks => (Show::First(most.max(MOST)), Some(show)),
        show => (show, None),
    }
}

/// One name and what stands behind it.
#[derive(Serialize)]
struct Fact {
    name: &'static str,
    text: String,
}

/// A line with a word in front that says how it stands.
#[derive(Serialize)]
struct Said {
    word: &'static str,
    text: String,
}

/// Which of the two marks are made.
#[derive(Serialize)]
struct Marks {
    first: bool,
    second: bool,
    said: &'static str,
}

#[derive(Serialize)]
struct Page {
    title: String,
    kind: String,
    marks: Marks,
    reason: Option<String>,
    told: String,
    database: DatabaseId,
    facts: Vec<Fact>,
    notes: Vec<String>,
    steps: Vec<Step>,
    also: Vec<Rows>,
    checks: Vec<Said>,
    back: Vec<String>,
    commands: Vec<Command>,
    version: &'static str,
    made: String,
    hidden: String,
}

#[derive(Serialize)]
struct Command {
    what: &'static str,
    text: String,
}

#[derive(Serialize, Default)]
struct Step {
    title: String,
    statement: String,
    said: Vec<String>,
    share: Option<Share>,
    funnel: Vec<Left>,
    tables: Vec<Rows>,
    totals: Vec<Total>,
    findings: Vec<Noticed>,
    beside: Vec<String>,
    along: Vec<Rows>,
    checks: Vec<Said>,
}

/// How much of the table it is.
#[derive(Serialize)]
struct Share {
    text: String,
    percent: f64,
}

/// What a condition leaves.
#[derive(Serialize)]
struct Left {
    condition: String,
    rows: String,
    alone: String,
    percent: f64,
}

#[derive(Serialize)]
struct Rows {
    title: String,
    caption: String,
    columns: Vec<String>,
    rows: Vec<Vec<Cell>>,
}

#[derive(Serialize)]
struct Cell {
    before: String,
    after: String,
    changed: bool,
}

#[derive(Serialize)]
struct Total {
    column: String,
    before: [String; 3],
    after: [String; 3],
    plot: Option<String>,
    caption: String,
}

#[derive(Serialize)]
struct Noticed {
    word: &'static str,
    code: &'static str,
    message: String,
    place: Option<Place>,
    hint: Option<String>,
}

#[derive(Serialize)]
struct Place {
    line: usize,
    column: usize,
    text: String,
}

/// What a page needs to know that its subject does not say.
pub(crate) struct About<'a> {
    /// The reason for the change.
    pub(crate) reason: Option<&'a str>,
    /// What else stands in a command for the same database.
    pub(crate) again: &'a str,
    /// When the page is made.
    pub(crate) now: String,
}

/// Writes a page into a new file.
///
/// # Errors
/// Where it is there already, or cannot be written.
fn write(file: &Path, page: &Page) -> Result<(), Trouble> {
    let failed = |what: String| Trouble::usage(what, "name another file; nothing is overwritten");
    // What is never written is taken out before it is escaped, and would be written otherwise.
    let page = serde_json::to_value(page).map(crate::out::clean_document);
    let page = page.map_err(|e| failed(format!("the page cannot be made: {e}")))?;
    let text = render(&page).map_err(|e| failed(format!("the page cannot be made: {e}")))?;
    let name = file.display();
    let mut out = new_file(file).map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => failed(format!("{name} is there already")),
        _ => failed(format!("cannot write {name}: {error}")),
    })?;
    out.write_all(text.as_bytes()).map_err(|error| failed(format!("cannot write {name}: {error}")))
}

/// Makes sure that a file is not there yet, before anything is done for it.
///
/// # Errors
/// Where it is.
pub(crate) fn is_new(file: &Path) -> Result<(), Trouble> {
    match file.try_exists() {
        Ok(true) => Err(Trouble::usage(
            format!("{} is there already", file.display()),
            "name another file; nothing is overwritten",
        )),
        Ok(false) | Err(_) => Ok(()),
    }
}

fn render(page: &serde_json::Value) -> Result<String, minijinja::Error> {
    let mut pages = Environment::new();
    pages.set_trim_blocks(true);
    pages.set_lstrip_blocks(true);
    pages.set_auto_escape_callback(|_| minijinja::AutoEscape::Html);
    pages.add_template("page.html", include_str!("html/page.html"))?;
    pages.add_template("rows.html", include_str!("html/rows.html"))?;
    pages.get_template("page.html")?.render(minijinja::Value::from_serialize(page))
}

/// A page about a preview.
///
/// # Errors
/// See [`write`].
pub(crate) fn preview(file: &Path, preview: &Preview, about: &About<'_>) -> Result<(), Trouble> {
    let next = plain(&human::next_step(preview, about.again));
    write(file, &of_preview(preview, about, ("Preview", next.join(" "))))
}

/// A page about a rehearsal.
///
/// # Errors
/// See [`write`].
pub(crate) fn rehearsal(file: &Path, seen: &Rehearsal, about: &About<'_>, name: &str) -> Result<(), Trouble> {
    let next = plain(&human::rehearsed(seen, name, about.again));
    write(file, &of_preview(&seen.preview, about, ("Rehearsal", next.join(" "))))
}

/// A page about a run.
///
/// # Errors
/// See [`write`].
pub(crate) fn receipt(
    file: &Path,
    entry: &Entry,
    kept: &Result<Kept, String>,
    about: &About<'_>,
) -> Result<(), Trouble> {
    write(file, &of_run(entry, kept, about))
}

/// A text for people without its styles, line by line; what is set in belongs to the line before.
fn plain(text: &str) -> Vec<String> {
    let bare = anstream::adapter::strip_str(text).to_string().replace(human::KEPT, "");
    let mut lines: Vec<String> = Vec::new();
    for line in bare.lines().filter(|line| !line.trim().is_empty()) {
        match lines.last_mut() {
            Some(last) if line.starts_with("     ") => {
                last.push(' ');
                last.push_str(line.trim());
            }
            _ => lines.push(line.split_whitespace().collect::<Vec<_>>().join(" ")),
        }
    }
    lines
}

fn collected(work: impl FnOnce(&mut String)) -> Vec<String> {
    let mut out = String::new();
    work(&mut out);
    plain(&out)
}

fn of_preview(preview: &Preview, about: &About<'_>, (kind, told): (&str, String)) -> Page {
    let several = preview.steps.len() > 1;
    let mut facts = Vec::new();
    let mut fact = |name, text: String| {
        if !text.is_empty() {
            facts.push(Fact { name, text });
        }
    };
    fact("mark", preview.mark.clone().unwrap_or_default());
    let given: Vec<String> = preview.params.iter().map(human::param).collect();
    fact("with", given.join(", "));
    let settings: Vec<String> = preview.session.iter().map(ToString::to_string).collect();
    fact("under", settings.join(", "));
    let stops: Vec<&str> = preview.stops().iter().map(|code| code.as_str()).collect();
    fact("stopped by", stops.join(", "));
    let sum = |of: fn(&Block) -> u64| preview.steps.iter().map(|step| of(&step.block)).sum::<u64>();
    if several {
        fact("steps", preview.steps.len().to_string());
        fact("rows", format!("{} in all", number(sum(|block| block.matched))));
    }
    let way = preview.back();
    let mut back = vec![format!("Once it is applied, it {}.", way.in_words())];
    back.extend(way.obstacles.iter().chain(&way.leaves).chain(&way.unsure).map(|why| format!("{why}.")));
    let hidden: Vec<String> =
        preview.steps.iter().flat_map(|step| step.block.target.hidden_names()).collect();
    Page {
        title: preview.title.clone().unwrap_or_else(|| {
            let what = |step: &StepPreview| format!("{} {}", step.block.kind.verb(), step.block.target.table);
            preview.steps.iter().map(what).collect::<Vec<_>>().join(", ")
        }),
        kind: kind.to_owned(),
        marks: Marks {
            first: preview.mark.is_some(),
            second: false,
            said: if preview.mark.is_some() { "the first of two marks is taken" } else { "no mark is taken" },
        },
        reason: about.reason.map(str::to_owned),
        told,
        database: preview.database.clone(),
        facts,
        notes: preview.notes.clone(),
        steps: preview
            .steps
            .iter()
            .enumerate()
            .map(|(at, step)| of_step(step, several.then_some(at)))
            .collect(),
        also: preview.triggered.iter().map(|block| table(block, "by a trigger")).collect(),
        checks: preview
            .checks
            .iter()
            .map(|found| Said { word: holds(found.holds), text: found.told() })
            .collect(),
        back,
        commands: vec![Command {
            what: "The command that takes an application back; the run's name is told once it is committed:",
            text: format!("marktwice undo RUN{}", about.again_plainly()),
        }],
        version: env!("CARGO_PKG_VERSION"),
        made: about.now.clone(),
        hidden: hidden.join(", "),
    }
}

impl<'a> About<'a> {
    /// What is known now.
    pub(crate) fn of(reason: Option<&'a str>, again: &'a str) -> About<'a> {
        let now = jiff::Timestamp::now().strftime("%Y-%m-%d %H:%M UTC").to_string();
        About { reason, again, now }
    }

    /// What else stands in a command that takes nothing but the database.
    fn again_plainly(&self) -> &str {
        self.again.split(" --allow").next().unwrap_or_default()
    }
}

fn holds(holds: Option<bool>) -> &'static str {
    match holds {
        Some(true) => "holds",
        Some(false) => "stop",
        None => "open",
    }
}

fn percent(part: u64, whole: u64) -> f64 {
    if whole == 0 { 0.0 } else { (part as f64 * 1000.0 / whole as f64).round() / 10.0 }
}

fn of_step(step: &StepPreview, nth: Option<usize>) -> Step {
    let block = &step.block;
    let name = step.name.as_ref().map_or(String::new(), |name| format!(": {name}"));
    let what = format!("{} {}", block.kind.verb(), block.target.table);
    let mut said = collected(|out| human::about_step(out, step));
    said.extend(step.waits.iter().map(|wait| wait.why.clone()));
    let whole = step.total;
    let share = (step.told && block.kind != StepKind::Insert && whole.rows > 0).then(|| Share {
        text: format!(
            "{} % of {}",
            percent(block.matched, whole.rows),
            if whole.about { "the table, as far as its size is known" } else { "the table" }
        ),
        percent: percent(block.matched, whole.rows),
    });
    let every = Left {
        condition: "every row".to_owned(),
        rows: format!("{}{}", if whole.about { "about " } else { "" }, number(whole.rows)),
        alone: String::new(),
        percent: 100.0,
    };
    let each = step.study.funnel.iter().enumerate().map(|(at, left)| Left {
        condition: format!("{} {}", if at == 0 { "WHERE" } else { "AND" }, left.condition),
        rows: number(left.rows),
        alone: left.alone.filter(|_| at > 0).map_or(String::new(), number),
        percent: percent(left.rows, whole.rows),
    });
    let funnel =
        if step.study.funnel.is_empty() { Vec::new() } else { std::iter::once(every).chain(each).collect() };
    let beside = collected(|out| human::beside_step(out, step));
    let checks = block.checks.iter().map(|found| Said {
        word: match (&found.open, found.failing) {
            (Some(_), _) => "open",
            (None, 0) => "holds",
            _ => "stop",
        },
        text: found.told(&block.target.table),
    });
    Step {
        title: nth.map_or_else(|| what.clone(), |at| format!("Step {}{name} · {what}", at + 1)),
        statement: step.statement.clone(),
        said,
        share,
        funnel,
        tables: if block.rows.is_empty() { Vec::new() } else { vec![table(block, "")] },
        totals: block.totals.iter().map(total).collect(),
        findings: block.findings.iter().map(|finding| noticed(finding, &block.allowed)).collect(),
        beside,
        along: block.along.iter().map(|block| table(block, "by a foreign key's action")).collect(),
        checks: checks.collect(),
    }
}

fn noticed(finding: &Finding, allowed: &[Code]) -> Noticed {
    let passed = finding.level == Level::Stop && finding.passes(allowed);
    let word = match finding.level {
        Level::Stop if passed => "pass",
        Level::Stop => "stop",
        Level::Warn => "warn",
        Level::Note => "note",
    };
    let place = finding.place.as_ref().map(|place| Place {
        line: place.line,
        column: place.column,
        text: place.text.clone(),
    });
    let hint = (finding.level > Level::Note && !passed).then(|| finding.remedy().to_owned());
    Noticed { word, code: finding.code.as_str(), message: finding.message.clone(), place, hint }
}

fn total(of: &ColumnTotals) -> Total {
    let figure = |value: &serde_json::Value| match value {
        serde_json::Value::Null => "none".to_owned(),
        serde_json::Value::String(text) => text.clone(),
        other => other.to_string(),
    };
    let figures = |f: &Figures| [figure(&f.sum), figure(&f.least), figure(&f.greatest)];
    let drawn = of.spread.pairs.len() as u64;
    let among = match drawn < of.spread.of {
        true => format!("{} of {} that change, evenly chosen", number(drawn), rows(of.spread.of)),
        false => format!("{} that change", rows(drawn)),
    };
    Total {
        column: of.column.clone(),
        before: figures(&of.before),
        after: figures(&of.after),
        plot: plot::spread(&of.spread, &of.column),
        caption: format!("{}: how its values are spread, before and after. {among}.", of.column),
    }
}

/// The rows of a block: the key first, then what changes, then all other columns that are known to matter; whole rows where rows
/// come or go.
fn table(block: &Block, by: &str) -> Rows {
    let target = &block.target;
    let mut order: Vec<usize> = target.key.columns.clone();
    let add = |order: &mut Vec<usize>, at: usize| {
        if !order.contains(&at) {
            order.push(at);
        }
    };
    target.naming.iter().for_each(|at| add(&mut order, *at));
    block.foreseen.iter().for_each(|f| add(&mut order, f.column));
    match &block.chosen {
        Some(chosen) => chosen.iter().for_each(|at| add(&mut order, *at)),
        None => (0..target.columns.len()).for_each(|at| add(&mut order, at)),
    }
    let by_number = target.key.kind == KeyKind::RowIdentity;
    let mut columns: Vec<String> = target.key.names.iter().take(usize::from(by_number)).cloned().collect();
    let name = |at: &usize| target.columns.get(*at).map_or(String::new(), |c| c.name.clone());
    columns.extend(order.iter().map(name));
    let shown = block.rows.iter().take(MOST).map(|row| {
        let image = hide_image(target, row.image.clone());
        let mut cells: Vec<Cell> = Vec::new();
        if by_number {
            cells.push(Cell { before: human::keys(&row.key), after: String::new(), changed: false });
        }
        cells.extend(order.iter().map(|&at| cell(block, &image, at)));
        cells
    });
    let shown: Vec<Vec<Cell>> = shown.collect();
    let what = match block.kind {
        StepKind::Update => ", before and after",
        StepKind::Insert => " that come in",
        StepKind::Delete => " that go",
    };
    let more = block.matched.saturating_sub(shown.len() as u64);
    let caption = match more {
        0 => format!("{}, all of them shown", rows(block.matched)),
        more => format!(
            "the first {} of {}; {} more are counted and not shown",
            number(shown.len() as u64),
            number(block.matched),
            number(more)
        ),
    };
    let by = if by.is_empty() { String::new() } else { format!(", {by}") };
    Rows { title: format!("Rows of {}{what}{by}", target.table), caption, columns, rows: shown }
}

fn cell(block: &Block, image: &Image, at: usize) -> Cell {
    let shown = |value: Option<&Value>| match value {
        // A page has room.
        Some(Value::Text(text)) if text.chars().count() > 40 => human::one_line(text),
        Some(value) => human::cell(value),
        None => String::new(),
    };
    let unknown = |at: usize| {
        block.foreseen.iter().any(|f| f.column == at && f.label == marktwice_core::mark::Label::Unknown)
    };
    match image {
        Image::Update { before, after } if unknown(at) && before.get(at) == after.get(at) => {
            Cell { before: shown(before.get(at)), after: "only the run can tell".to_owned(), changed: true }
        }
        Image::Update { before, after } => {
            let changed = diff(before, after).iter().any(|cell| cell.column == at);
            Cell { before: shown(before.get(at)), after: shown(after.get(at)), changed }
        }
        other if unknown(at) && other.before().is_none() => {
            Cell { before: "only the run can tell".to_owned(), after: String::new(), changed: false }
        }
        other => Cell { before: shown(other.row().get(at)), after: String::new(), changed: false },
    }
}

fn of_run(entry: &Entry, kept: &Result<Kept, String>, about: &About<'_>) -> Page {
    let receipt = &entry.receipt;
    let several = receipt.steps.len() > 1;
    let facts = human::facts(entry)
        .into_iter()
        .filter(|(name, _)| *name != "check")
        .map(|(name, text)| Fact { name, text })
        .collect();
    let blocks = kept.as_ref().map_or(&[][..], |kept| kept.rows.as_slice());
    let mut hidden: Vec<String> = blocks.iter().flat_map(|rows| rows.block.target.hidden_names()).collect();
    hidden.dedup();
    let steps = receipt.steps.iter().enumerate().map(|(at, step)| {
        let own = blocks.iter().filter(|rows| rows.place.step == at);
        let (tables, along): (Vec<_>, Vec<_>) =
            own.partition(|rows| rows.place.role == marktwice_core::Role::Target);
        let by = |role| match role {
            marktwice_core::Role::Target => "",
            marktwice_core::Role::Cascade => "by a foreign key's action",
            marktwice_core::Role::Trigger => "by a trigger, or put away there",
            marktwice_core::Role::Archive => "put away",
        };
        let what = format!("{} {}", step.kind.verb(), step.table);
        let name = step.terms.name.as_ref().map_or(String::new(), |name| format!(": {name}"));
        Step {
            title: if several { format!("Step {}{name} · {what}", at + 1) } else { what },
            statement: step.statement.clone(),
            said: if several { human::step_facts(step) } else { Vec::new() },
            tables: tables.iter().map(|rows| table(&rows.block, "")).collect(),
            along: along.iter().map(|rows| table(&rows.block, by(rows.place.role))).collect(),
            findings: if at == 0 {
                receipt.findings.iter().map(|finding| noticed(finding, &receipt.allowed)).collect()
            } else {
                Vec::new()
            },
            checks: step
                .checks
                .iter()
                .map(|found| Said { word: holds(Some(found.failing == 0)), text: found.told(&step.table) })
                .collect(),
            ..Step::default()
        }
    });
    let steps = steps.collect();
    let mut told = String::new();
    let (matched, changed) = receipt.rows();
    let _ = write!(told, "Run {}: {}. ", receipt.run, human::outcome_in_words(entry));
    let _ = write!(told, "{} matched, {} changed.", rows(matched), number(changed));
    let committed = receipt.state == RunState::Committed;
    let mut back = Vec::new();
    let mut commands = Vec::new();
    if entry.can_undo {
        back.push(format!("It {}.", entry.in_words()));
        commands.push(Command {
            what: "The command that takes it back:",
            text: format!("marktwice undo {}{}", receipt.run, about.again),
        });
    } else {
        back.push(match &entry.undone_by {
            Some(by) => format!("It was taken back, by {by}."),
            None if committed => "It cannot be taken back.".to_owned(),
            None => "Nothing of it stands, so that there is nothing to take back.".to_owned(),
        });
    }
    if let Err(why) = kept {
        back.push(format!("Its rows cannot be shown: {why}."));
    }
    Page {
        title: receipt.title.clone().unwrap_or_else(|| {
            let what = receipt.steps.iter().map(|step| format!("{} {}", step.kind.verb(), step.table));
            what.collect::<Vec<_>>().join(", ")
        }),
        kind: if receipt.kind == RunKind::Undo { "Undo" } else { "Run" }.to_owned(),
        marks: Marks {
            first: receipt.mark.is_some() || receipt.kind == RunKind::Undo,
            second: committed,
            said: if committed { "both marks agreed" } else { "not committed" },
        },
        reason: receipt.reason.clone(),
        told,
        database: receipt.database.clone(),
        facts,
        notes: receipt.warnings.iter().chain(&receipt.changed_elsewhere).cloned().collect(),
        steps,
        also: Vec::new(),
        checks: receipt
            .checks
            .iter()
            .map(|found| Said { word: holds(found.holds), text: found.told() })
            .collect(),
        back,
        commands,
        version: env!("CARGO_PKG_VERSION"),
        made: about.now.clone(),
        hidden: hidden.join(", "),
    }
}
