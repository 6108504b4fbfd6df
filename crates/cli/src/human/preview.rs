//! A preview for people.

use std::fmt::Write;

use marktwice_core::Expect;
use marktwice_core::Value;
use marktwice_core::mark::{Label, StepKind};
use marktwice_core::param::{Param, ParamKind};
use marktwice_core::receipt::DatabaseId;
use marktwice_core::secret::HIDDEN;
use marktwice_core::table::{Extent, Pin};
use marktwice_run::{BatchPreview, Block, Preview, StepPreview, UndoPreview, Unmet};

use super::shown::{row_table, totals};
use super::{BOLD, DIM, WARN, cells, conflicts, database, number, rows, styled, trouble, verb};
use super::{beside, closer};

/// The whole preview of a change.
pub(crate) fn preview(preview: &Preview, verbose: bool) -> String {
    let mut out = String::new();
    let several = preview.steps.len() > 1;
    if several {
        let open = preview.open().len() as u64;
        let how = if preview.rehearsed {
            ", rehearsed and rolled back".to_owned()
        } else if open > 0 {
            format!(", {} of which only a rehearsal can tell", number(open))
        } else {
            String::new()
        };
        let steps = format!("{} steps", preview.steps.len());
        let _ = writeln!(out, "{} · {}{how}", database(&preview.database), styled(BOLD, &steps));
        title(&mut out, preview.title.as_deref());
        given(&mut out, preview);
    }
    for note in preview.notes.iter().filter(|_| several) {
        let _ = writeln!(out, "{} {note}", styled(WARN, "note:"));
    }
    for (at, step) in preview.steps.iter().enumerate() {
        if several {
            out.push('\n');
        }
        head(&mut out, preview, at, step);
        for note in preview.notes.iter().filter(|_| !several) {
            let _ = writeln!(out, "{} {note}", styled(WARN, "note:"));
        }
        body(&mut out, step);
        let block = &step.block;
        let goes = block.stops().is_empty() && block.unmet.is_empty() && block.failing().is_empty();
        if let Some(others) = step.out_of_reach().filter(|_| goes && !several) {
            let table = cells::escape(&step.block.target.table);
            let (rows, are) = (extent(others), verb(others.rows, "is", "are"));
            let which = match block.kind {
                StepKind::Insert => format!("the {rows} of {table} that {are} there {are}"),
                StepKind::Update | StepKind::Delete => format!("the other {rows} of {table} {are}"),
            };
            let text = format!("{which} out of reach: no trigger and no key's action writes it");
            let _ = writeln!(out, "\n  {}", styled(DIM, &text));
        }
        if verbose {
            about(&mut out, &preview.database, &step.block);
            if let Some(sent) = &step.sent {
                let _ = writeln!(out, "  {}", styled(DIM, "sent as"));
                for line in sent.lines() {
                    let _ = writeln!(out, "    {}", cells::escape(line));
                }
            }
        }
    }
    for written in &preview.triggered {
        let mut archives = preview.steps.iter().filter_map(|step| step.archive.as_ref());
        let away = archives.any(|archive| archive.target.same_table(&written.target));
        let by = if away { ", put away there" } else { ", by a trigger" };
        beside::by_triggers(&mut out, written, done_word(written.kind), by);
    }
    beside::queries(&mut out, &preview.checks);
    for all in preview.in_all() {
        let are_equal = |n: u64| format!("{} {} equal already", number(n), verb(n, "is", "are"));
        let equal = all.equal.map_or_else(|| "which are equal is not known".to_owned(), are_equal);
        let twice = match all.twice {
            0 => "none is there twice in the source".to_owned(),
            n => format!("{} {} there twice in the source", number(n), verb(n, "is", "are")),
        };
        let (table, updated) = (cells::escape(&all.table), rows(all.updated));
        let inserted = number(all.inserted);
        let text = format!("{table} in all: {updated} updated, {inserted} inserted, {equal}; {twice}");
        let _ = writeln!(out, "\n  {}", styled(BOLD, &text));
    }
    out
}

/// What a step's rows are, and what was noticed about them.
fn body(out: &mut String, step: &StepPreview) {
    let block = &step.block;
    row_table(out, block, &step.stays_null.1);
    totals(out, block);
    beside::put_away(out, step);
    beside::along(out, block);
    many(out, step);
    closer::funnel(out, step);
    closer::partners(out, step);
    closer::near_misses(out, step);
    findings(out, block);
    closer::unbroken(out, step);
    closer::pins(out, step);
    way_back(out, step);
    unmet(out, step);
    beside::checks(out, block);
    if let Some(why) = &step.study.skipped {
        let _ = writeln!(out, "  {}", styled(DIM, &format!("not looked at closer: {why}")));
    }
}

/// The whole preview of an undo.
pub(crate) fn undo(preview: &UndoPreview, verbose: bool) -> String {
    let mut out = String::new();
    let several = preview.batches.len() > 1;
    if several {
        let how = if preview.rehearsed { ", rehearsed and rolled back" } else { "" };
        let places = preview.batches.iter().map(|batch| batch.block.target.table.as_str());
        let what = format!("undo of {} in {}", preview.run, super::steps_or_tables(places));
        let count = format!("{} to put back", rows(preview.matched()));
        let _ = writeln!(out, "{} · {} · {count}{how}", database(&preview.database), styled(BOLD, &what));
        title(&mut out, preview.title.as_deref());
    }
    let notes = || preview.notes.iter().map(|note| format!("{} {note}\n", styled(WARN, "note:")));
    out.extend(notes().filter(|_| several));
    for batch in &preview.batches {
        let block = &batch.block;
        let table = &block.target.table;
        let count = format!("{} to {}", rows(block.matched), back_word(block.kind));
        if several {
            let step = format!("Step {}", batch.step + 1);
            let _ = writeln!(out, "\n{} · {} · {count}", styled(BOLD, &step), styled(BOLD, table));
        } else {
            let what = format!("undo of {} on {table}", preview.run);
            let _ = writeln!(out, "{} · {} · {count}", database(&preview.database), styled(BOLD, &what));
            title(&mut out, preview.title.as_deref());
            out.extend(notes());
        }
        row_table(&mut out, block, &[]);
        totals(&mut out, block);
        if let Some(found) = &batch.conflicts {
            out.push('\n');
            out.push_str(&conflicts::conflicts(found));
            let ways =
                "--changed skip|overwrite, --gone skip|insert and --only KEY say what to do with such rows";
            let _ = writeln!(out, "  {}", styled(DIM, ways));
        }
        not_put_back(&mut out, batch);
        findings(&mut out, block);
        if block.matched > 0 && block.uncertain() {
            let text = format!("only the undo can tell: {}", unknown_columns(block));
            let _ = writeln!(out, "  {} {}", styled(WARN, "undo"), cells::escape(&text));
        }
        if verbose {
            about(&mut out, &preview.database, block);
        }
    }
    for batch in &preview.triggered {
        for block in &batch.block.along {
            let what = format!("to {}", back_word(block.kind));
            beside::by_triggers(&mut out, block, &what, "; the run wrote them beside its own");
        }
        if let Some(found) = &batch.left_alone {
            out.push('\n');
            out.push_str(&conflicts::left_alone(found));
        }
    }
    for (table, why) in &preview.standing {
        let text = format!("{table} is left to what triggers make of it: {why}");
        let _ = writeln!(out, "\n  {} {}", styled(WARN, "undo"), cells::escape(&text));
    }
    if let Some(unmet) = &preview.unmet {
        out.push('\n');
        let expected = expected(unmet, preview.matched());
        let found = format!("{} {}", rows(unmet.found), verb(unmet.found, "matches", "match"));
        let _ = writeln!(out, "  {}  {found}, {expected}", styled(super::STOP, "count"));
    }
    out
}

fn title(out: &mut String, title: Option<&str>) {
    if let Some(title) = title {
        let _ = writeln!(out, "{}", cells::escape(title));
    }
}

/// The values of its parameters.
fn given(out: &mut String, preview: &Preview) {
    if !preview.session.is_empty() {
        let all: Vec<String> = preview.session.iter().map(ToString::to_string).collect();
        let _ = writeln!(out, "under {}", cells::escape(&all.join(", ")));
    }
    if !preview.params.is_empty() {
        let all: Vec<String> = preview.params.iter().map(param).collect();
        let _ = writeln!(out, "with {}", cells::escape(&all.join(", ")));
        let secret: Vec<String> =
            preview.params.iter().filter(|p| p.secret).map(|p| format!(":{}", p.name)).collect();
        if !secret.is_empty() {
            let text = format!(
                "what {} gives is shown nowhere; only the snapshot of a run will hold it, as it holds the rows",
                secret.join(", ")
            );
            let _ = writeln!(out, "{}", styled(DIM, &cells::escape(&text)));
        }
    }
}

/// A parameter with its value, and what it means.
pub(crate) fn param(param: &Param) -> String {
    let value = match (&param.value, param.kind) {
        _ if param.secret => HIDDEN.to_owned(),
        (Value::Text(text), ParamKind::Text) => format!("'{}'", text.replace('\'', "''")),
        (value, _) => cells::value(value),
    };
    let meaning = param.meaning.as_ref().map_or(String::new(), |meaning| format!(" ({meaning})"));
    format!("{} = {value}{meaning}", param.name)
}

fn findings(out: &mut String, block: &Block) {
    if !block.findings.is_empty() {
        out.push('\n');
        out.push_str(&trouble::findings(&block.findings, |f| f.passes(&block.allowed)));
    }
}

fn about(out: &mut String, id: &DatabaseId, block: &Block) {
    let _ = writeln!(out, "\n  {} {} {}", styled(DIM, "database"), id.identity, styled(DIM, &id.version));
    let _ = writeln!(out, "  {} {}", styled(DIM, "table definition"), block.target.definition);
}

/// What was done to rows.
pub(crate) fn done_word(kind: StepKind) -> &'static str {
    match kind {
        StepKind::Update => "changed",
        StepKind::Insert => "inserted",
        StepKind::Delete => "deleted",
    }
}

/// What an undo does to rows.
fn back_word(kind: StepKind) -> &'static str {
    match kind {
        StepKind::Update => "put back",
        StepKind::Insert => "bring back",
        StepKind::Delete => "take away again",
    }
}

/// Rows that several rows of a join match, with those.
fn many(out: &mut String, step: &StepPreview) {
    let Some(many) = &step.many else { return };
    for example in &many.examples {
        let table = cells::escape(&step.block.target.table);
        let _ = writeln!(out, "\n  {table} {} is matched by", styled(BOLD, &cells::key(&example.key)));
        for source in &example.sources {
            let shown: Vec<String> = source
                .iter()
                .take(8)
                .map(|(name, value)| {
                    let value = value.as_deref().map_or("NULL".to_owned(), cells::shortened);
                    format!("{} {value}", styled(DIM, &cells::escape(name)))
                })
                .collect();
            let _ = writeln!(out, "    {}", shown.join("  "));
        }
    }
}

/// What an undo will not put back, before anybody agrees to the run.
fn way_back(out: &mut String, step: &StepPreview) {
    if step.block.matched == 0 {
        return;
    }
    if let Some(owned) = step.back.owned_in_words() {
        let text = format!("an undo puts back all but {owned}");
        let _ = writeln!(out, "  {} {}", styled(WARN, "undo"), cells::escape(&text));
    }
    for why in step.back.leaves.iter().chain(&step.back.unsure) {
        let _ = writeln!(out, "  {} {}", styled(WARN, "undo"), cells::escape(why));
    }
}

/// Rows of the run that an undo leaves as they are.
fn not_put_back(out: &mut String, batch: &BatchPreview) {
    if let Some(found) = &batch.left_alone {
        out.push('\n');
        out.push_str(&conflicts::left_alone(found));
    }
    if batch.renumbered > 0 {
        let name = batch.block.target.key.names.first().map_or("row number", String::as_str);
        let name = cells::escape(name);
        let text = match batch.renumbered {
            1 => format!("1 row comes back under a new {name}: another row has its old one now"),
            many => {
                format!("{many} rows come back under a new {name} each: other rows have their old ones now")
            }
        };
        let _ = writeln!(out, "  {text}");
    }
    let already = if batch.follows { "back with those above" } else { "as before the run already" };
    let counts = [(batch.already_back, already), (batch.not_asked, "not asked for")];
    for (count, what) in counts.iter().filter(|(count, _)| *count > 0) {
        let _ = writeln!(out, "  {} {} {what}", rows(*count), verb(*count, "is", "are"));
    }
}

/// Before columns whose values a rehearsal has shown.
const REHEARSED: &str = "as the rehearsal had it, and the run may have it otherwise:";

/// What a step's rows are in numbers, and what pins them.
pub(crate) fn about_step(out: &mut String, step: &StepPreview) {
    let _ = writeln!(out, "{}", counted(step));
    in_numbers(out, step);
}

/// What stands beside a step's rows, and what a closer look has found of them.
pub(crate) fn beside_step(out: &mut String, step: &StepPreview) {
    beside::put_away(out, step);
    many(out, step);
    closer::partners(out, step);
    closer::near_misses(out, step);
    closer::unbroken(out, step);
    closer::pins(out, step);
    way_back(out, step);
    unmet(out, step);
}

/// `3 of 60 rows match, pinned by the primary key`.
fn counted(step: &StepPreview) -> String {
    let block = &step.block;
    let comes = block.kind == StepKind::Insert;
    let count = if step.told && comes {
        let there = match step.total {
            Extent { rows: 0, .. } => "none is there".to_owned(),
            Extent { rows, about: true } => format!("about {} are there", number(rows)),
            Extent { rows, .. } => format!("{} {} there", number(rows), verb(rows, "is", "are")),
        };
        format!("{} would come in, {there}", rows(block.matched))
    } else if step.told {
        let matches = verb(block.matched, "matches", "match");
        format!("{} of {} {matches}", number(block.matched), extent(step.total))
    } else {
        "only a rehearsal can tell its rows".to_owned()
    };
    let pinned = match &step.pin {
        Pin::PrimaryKey(_) => ", pinned by the primary key".to_owned(),
        Pin::UniqueKey(columns) => format!(", pinned by the unique key {}", columns.join(", ")),
        Pin::RowIdentity(_) => ", pinned by the row identity".to_owned(),
        Pin::Nothing => ", pinned by no key".to_owned(),
    };
    let pinned = if step.told && !comes { pinned } else { String::new() };
    format!("{count}{pinned}")
}

fn head(out: &mut String, preview: &Preview, at: usize, step: &StepPreview) {
    let block = &step.block;
    let what = format!("{} {}", block.kind.verb(), block.target.table);
    let count = counted(step);
    if preview.steps.len() > 1 {
        let name = step.name.as_ref().map_or(String::new(), |name| format!(" · {}", cells::escape(name)));
        let number = format!("Step {}", at + 1);
        let _ = writeln!(out, "{} · {}{name} · {count}", styled(BOLD, &number), styled(BOLD, &what));
    } else {
        let how = if preview.rehearsed { ", rehearsed and rolled back" } else { "" };
        let _ = writeln!(out, "{} · {} · {count}{how}", database(&preview.database), styled(BOLD, &what));
        title(out, preview.title.as_deref());
        given(out, preview);
    }
    for wait in &step.waits {
        let _ = writeln!(out, "  {}", styled(if step.told { DIM } else { WARN }, &cells::escape(&wait.why)));
    }
    in_numbers(out, step);
}

/// What is known of a step's rows since its last preview, and of how many of them change.
fn in_numbers(out: &mut String, step: &StepPreview) {
    let block = &step.block;
    let comes = block.kind == StepKind::Insert;
    if let Some(since) = &step.since {
        let _ = writeln!(out, "{}", super::compare::since(since, &block.target.table));
    }
    if comes && block.matched > 0 {
        for (label, what) in
            [(Label::Unknown, "? is what only the run can tell:"), (Label::Rehearsed, REHEARSED)]
        {
            let columns = columns_that(block, label);
            if !columns.is_empty() {
                let _ = writeln!(out, "{what} {}", cells::escape(&columns));
            }
        }
    }
    if block.kind == StepKind::Update && block.matched > 0 {
        let _ = writeln!(out, "{}", change_counts(step));
        let rehearsed = columns_that(block, Label::Rehearsed);
        if !rehearsed.is_empty() {
            let _ = writeln!(out, "{REHEARSED} {rehearsed}");
        }
        if let Some(why) = computed(block) {
            let _ = writeln!(out, "values are computed, not stored ({why}): what is stored may differ");
        }
    }
}

/// Why values were only computed, when they were.
fn computed(block: &Block) -> Option<&str> {
    let only = block.foreseen.iter().find(|f| f.label == Label::Computed)?;
    Some(only.why.as_deref().unwrap_or("the engine could not be asked"))
}

/// `2 would change, 1 already holds the new values`.
fn change_counts(step: &StepPreview) -> String {
    let block = &step.block;
    let already = block.matched - block.changes;
    let values = if block.foreseen.iter().filter(|f| !f.derived).count() == 1 { "value" } else { "values" };
    if block.uncertain() {
        let known = block.foreseen.iter().any(|f| f.label == Label::Exact);
        let sure =
            if known { format!("at least {} would change; ", number(block.changes)) } else { String::new() };
        return format!("{sure}what becomes of {} only the run can tell", unknown_columns(block));
    }
    let (null, operands) = &step.stays_null;
    if *null > 0 {
        let operands = cells::escape(&operands.join(", "));
        let stay =
            format!("{} {} NULL: {operands} is NULL there", number(*null), verb(*null, "stays", "stay"));
        let rest = already - null;
        let rest = if rest == 0 {
            String::new()
        } else {
            format!(", {} already {} the new {values}", number(rest), verb(rest, "holds", "hold"))
        };
        return format!("{} would change{rest}, {stay}", number(block.changes));
    }
    match (block.changes, already) {
        (0, 1) => format!("it already holds the new {values}: nothing would change"),
        (0, _) => format!("all of them already hold the new {values}: nothing would change"),
        (changes, 0) => format!("{} would change", number(changes)),
        (changes, already) => format!(
            "{} would change, {} already {} the new {values}",
            number(changes),
            number(already),
            verb(already, "holds", "hold")
        ),
    }
}

fn unknown_columns(block: &Block) -> String {
    columns_that(block, Label::Unknown)
}

/// The columns whose values are known in one way, each with the reason for it.
fn columns_that(block: &Block, label: Label) -> String {
    let mut names: Vec<String> = Vec::new();
    for foreseen in block.foreseen.iter().filter(|f| f.label == label) {
        let name = block.target.columns.get(foreseen.column).map_or("", |c| &c.name);
        names.push(match &foreseen.why {
            Some(why) => format!("{name} ({why})"),
            None => name.to_owned(),
        });
    }
    names.join(", ")
}

/// `about 900 000 rows`.
fn extent(extent: Extent) -> String {
    if extent.about { format!("about {}", rows(extent.rows)) } else { rows(extent.rows) }
}

/// What was expected, in words; `all` stands for so many.
fn expected(unmet: &Unmet, all: u64) -> String {
    match unmet.expected {
        Expect::All => format!("all {} expected", number(all)),
        other => format!("{other} expected"),
    }
}

fn unmet(out: &mut String, step: &StepPreview) {
    let block = &step.block;
    if block.unmet.is_empty() {
        return;
    }
    out.push('\n');
    for unmet in &block.unmet {
        let found = match unmet.what {
            "rows" if block.kind == StepKind::Insert => format!("{} would come in", rows(unmet.found)),
            "rows" => format!("{} {}", rows(unmet.found), verb(unmet.found, "matches", "match")),
            _ => format!("{} would change", rows(unmet.found)),
        };
        let expected = expected(unmet, step.total.rows);
        let _ = writeln!(out, "  {}  {found}, {expected}", styled(super::STOP, "count"));
        let already = block.matched - block.changes;
        if let (true, Some(filter)) = (unmet.what == "rows", &step.study.leave_out) {
            let which = if already == 1 {
                "the row that already holds the values"
            } else {
                "the rows that already hold the values"
            };
            let _ = writeln!(out, "         to leave out {which}, write:");
            trouble::to_paste(out, filter, "           ");
        }
        if unmet.what == "rows" {
            closer::kinds(out, step);
        }
    }
}
