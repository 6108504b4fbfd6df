//! A preview for people.

use std::fmt::Write;

use marktwice_core::Value;
use marktwice_core::mark::{Label, StepKind};
use marktwice_core::table::{KeyKind, Pin};
use marktwice_run::{Preview, ShownRow};
use unicode_width::UnicodeWidthStr;

use super::closer;
use super::table::{Text, TextColumn, draw};
use super::{AFTER, BOLD, DIM, WARN, cells, conflicts, number, rows, styled, trouble, verb, width};

/// The whole preview.
pub(crate) fn preview(preview: &Preview, verbose: bool) -> String {
    let mut out = String::new();
    head(&mut out, preview);
    for note in &preview.notes {
        let _ = writeln!(out, "{} {note}", styled(WARN, "note:"));
    }
    if !preview.rows.is_empty() {
        out.push('\n');
        row_table(&mut out, preview);
    }
    totals(&mut out, preview);
    if let Some(found) = &preview.conflicts {
        out.push('\n');
        out.push_str(&conflicts::conflicts(found));
        let ways =
            "--changed skip|overwrite, --gone skip|insert and --only KEY say what to do with such rows";
        let _ = writeln!(out, "  {}", styled(DIM, ways));
    }
    not_put_back(&mut out, preview);
    many(&mut out, preview);
    closer::funnel(&mut out, preview);
    closer::near_misses(&mut out, preview);
    if !preview.findings.is_empty() {
        out.push('\n');
        out.push_str(&trouble::findings(&preview.findings, |f| f.passes(&preview.allowed)));
    }
    closer::pins(&mut out, preview);
    way_back(&mut out, preview);
    unmet(&mut out, preview);
    if let Some(why) = &preview.study.skipped {
        let _ = writeln!(out, "  {}", styled(DIM, &format!("not looked at closer: {why}")));
    }
    if verbose {
        let id = &preview.database;
        let _ = writeln!(out, "\n  {} {} {}", styled(DIM, "database"), id.identity, styled(DIM, &id.version));
        let _ = writeln!(out, "  {} {}", styled(DIM, "table definition"), preview.target.definition);
    }
    out
}

/// Rows that several rows of a join match, with those.
fn many(out: &mut String, preview: &Preview) {
    let Some(many) = &preview.many else { return };
    for example in &many.examples {
        let table = cells::escape(&preview.target.table);
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
fn way_back(out: &mut String, preview: &Preview) {
    if preview.matched == 0 {
        return;
    }
    if preview.undo_of.is_some() {
        let unknown: Vec<_> = preview.foreseen.iter().filter(|f| f.label == Label::Unknown).collect();
        if !unknown.is_empty() {
            let text = format!("only the undo can tell: {}", unknown_columns(preview));
            let _ = writeln!(out, "  {} {}", styled(WARN, "undo"), cells::escape(&text));
        }
        return;
    }
    if let Some(owned) = preview.back.owned_in_words() {
        let text = format!("an undo puts back all but {owned}");
        let _ = writeln!(out, "  {} {}", styled(WARN, "undo"), cells::escape(&text));
    }
    for why in &preview.back.unsure {
        let _ = writeln!(out, "  {} {}", styled(WARN, "undo"), cells::escape(why));
    }
}

/// Rows of the run that an undo leaves as they are.
fn not_put_back(out: &mut String, preview: &Preview) {
    if let Some(found) = &preview.left_alone {
        out.push('\n');
        out.push_str(&conflicts::left_alone(found));
    }
    let counts = [(preview.already_back, "as before the run already"), (preview.not_asked, "not asked for")];
    for (count, what) in counts.iter().filter(|(count, _)| *count > 0) {
        let _ = writeln!(out, "  {} {} {what}", rows(*count), verb(*count, "is", "are"));
    }
}

fn head(out: &mut String, preview: &Preview) {
    let (database, table) = (&preview.database, &preview.target.table);
    let what = match &preview.undo_of {
        Some(run) => format!("undo of {run} on {table}"),
        None => format!("{} {table}", preview.kind.verb()),
    };
    let count = match &preview.undo_of {
        Some(_) => format!(
            "{} to {}",
            rows(preview.matched),
            match preview.kind {
                StepKind::Update => "put back",
                StepKind::Insert => "bring back",
                StepKind::Delete => "take away again",
            }
        ),
        None => format!(
            "{} of {} {}",
            number(preview.matched),
            rows(preview.total),
            verb(preview.matched, "matches", "match")
        ),
    };
    let pinned = match &preview.pin {
        Some(Pin::PrimaryKey(_)) => ", pinned by the primary key".to_owned(),
        Some(Pin::UniqueKey(columns)) => format!(", pinned by the unique key {}", columns.join(", ")),
        Some(Pin::RowIdentity(_)) => ", pinned by the row identity".to_owned(),
        Some(Pin::Nothing) => ", pinned by no key".to_owned(),
        None => String::new(),
    };
    let name = cells::escape(&database.name);
    let _ = writeln!(
        out,
        "{} ({}) · {} · {count}{pinned}",
        styled(BOLD, &name),
        database.engine,
        styled(BOLD, &what)
    );
    if let Some(title) = &preview.title {
        let _ = writeln!(out, "{}", cells::escape(title));
    }
    if preview.undo_of.is_none() && preview.kind == StepKind::Update && preview.matched > 0 {
        let _ = writeln!(out, "{}", change_counts(preview));
        if let Some(why) = computed(preview) {
            let _ = writeln!(out, "values are computed, not stored ({why}): what is stored may differ");
        }
    }
}

/// Why values were only computed, when they were.
fn computed(preview: &Preview) -> Option<&str> {
    let only = preview.foreseen.iter().find(|f| f.label == Label::Computed)?;
    Some(only.why.as_deref().unwrap_or("the engine could not be asked"))
}

/// `2 would change, 1 already holds the new values`.
pub(crate) fn change_counts(preview: &Preview) -> String {
    let already = preview.matched - preview.changes;
    let values = if preview.foreseen.iter().filter(|f| !f.derived).count() == 1 { "value" } else { "values" };
    if preview.uncertain() {
        let known = preview.foreseen.iter().any(|f| f.label == Label::Exact);
        let sure = if known {
            format!("at least {} would change; ", number(preview.changes))
        } else {
            String::new()
        };
        return format!("{sure}what becomes of {} only the run can tell", unknown_columns(preview));
    }
    let (null, operands) = &preview.stays_null;
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
        return format!("{} would change{rest}, {stay}", number(preview.changes));
    }
    match (preview.changes, already) {
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

fn unknown_columns(preview: &Preview) -> String {
    let unknown = preview.foreseen.iter().filter(|f| f.label == Label::Unknown);
    let mut names: Vec<String> = Vec::new();
    for foreseen in unknown {
        let name = preview.target.columns.get(foreseen.column).map_or("", |c| &c.name);
        names.push(match &foreseen.why {
            Some(why) => format!("{name} ({why})"),
            None => name.to_owned(),
        });
    }
    names.join(", ")
}

fn row_table(out: &mut String, preview: &Preview) {
    let (text, left_out) = draw(columns(preview), width());
    out.push_str(&text);
    let more = preview.matched.saturating_sub(preview.rows.len() as u64);
    let mut remarks = Vec::new();
    if more > 0 {
        remarks.push(format!("and {} more (--show all)", rows(more)));
    }
    if !left_out.is_empty() {
        remarks.push(format!("not shown for lack of width: {}", left_out.join(", ")));
    }
    for remark in remarks {
        let _ = writeln!(out, "  {}", styled(DIM, &remark));
    }
}

/// Which columns are shown, in which order: the key, what names the row, what the filter looks at, what changes.
/// Whole rows where rows come or go.
fn columns(preview: &Preview) -> Vec<TextColumn> {
    let target = &preview.target;
    let mut all = Vec::new();
    if target.key.kind == KeyKind::RowIdentity {
        let name = target.key.names.first().cloned().unwrap_or_default();
        let cells = preview.rows.iter().map(|r| Text::plain(cells::key(&r.key))).collect();
        all.push(TextColumn { name, cells, priority: 0, right: true });
    }
    let mut order: Vec<(usize, u8)> = target.key.columns.iter().map(|&c| (c, 0)).collect();
    let add = |order: &mut Vec<(usize, u8)>, column: usize, priority: u8| {
        if !order.iter().any(|(c, _)| *c == column) {
            order.push((column, priority));
        }
    };
    if preview.kind == StepKind::Update {
        let changing = |c: usize| preview.foreseen.iter().any(|f| f.column == c);
        if let Some(naming) = target.naming.filter(|c| !changing(*c)) {
            add(&mut order, naming, 2);
        }
        // Whom a row belongs to says which row it is.
        let refers = preview.study.meanings.iter().map(|(c, ..)| *c).filter(|c| !changing(*c));
        refers.for_each(|c| add(&mut order, c, 3));
        preview.filter.iter().filter(|c| !changing(**c)).for_each(|&c| add(&mut order, c, 3));
        preview.foreseen.iter().for_each(|f| add(&mut order, f.column, 0));
    } else {
        let naming = target.naming;
        for column in 0..target.columns.len() {
            let priority = if Some(column) == naming || preview.filter.contains(&column) { 1 } else { 4 };
            add(&mut order, column, priority);
        }
        order.sort_by_key(|(c, _)| (!target.key.columns.contains(c), *c));
    }
    for (column, priority) in order {
        let name = target.columns.get(column).map_or(String::new(), |c| cells::escape(&c.name));
        let cells = column_cells(preview, column);
        all.push(TextColumn { name, cells, priority, right: numeric(preview, column) });
    }
    if preview.kind == StepKind::Update && !preview.uncertain() && preview.changes < preview.matched {
        let null = |row: &ShownRow| {
            let operands = preview.stays_null.1.iter().filter_map(|name| target.position(name));
            let assigned =
                preview.foreseen.iter().any(|f| row.before.get(f.column).is_some_and(Value::is_null));
            assigned && operands.into_iter().any(|at| row.before.get(at).is_some_and(Value::is_null))
        };
        let state = |row: &ShownRow| match (row.changes(), null(row)) {
            (true, _) => Text::default(),
            (false, true) => Text::default().push(WARN, "stays NULL"),
            (false, false) => Text::default().push(DIM, "already so"),
        };
        let cells = preview.rows.iter().map(state).collect();
        all.push(TextColumn { name: String::new(), cells, priority: 1, right: false });
    }
    all
}

/// Numbers that do not change stand to the right.
fn numeric(preview: &Preview, column: usize) -> bool {
    let changes = preview.kind == StepKind::Update && preview.foreseen.iter().any(|f| f.column == column);
    let is_number = |v: Option<&Value>| {
        matches!(v, Some(Value::Int(_) | Value::Real(_) | Value::Decimal(_) | Value::Null))
    };
    !changes && preview.rows.iter().all(|row| is_number(image(row).get(column)))
}

fn image(row: &ShownRow) -> &[Value] {
    if row.before.is_empty() { row.after.as_deref().unwrap_or(&[]) } else { &row.before }
}

/// All cells of a column; where values change, the arrows stand under each other.
fn column_cells(preview: &Preview, column: usize) -> Vec<Text> {
    let width = |row: &ShownRow| image(row).get(column).map_or(0, |v| meant(preview, column, v).width());
    let changing = preview.kind == StepKind::Update && preview.foreseen.iter().any(|f| f.column == column);
    let widest = if changing { preview.rows.iter().map(width).max().unwrap_or(0) } else { 0 };
    preview.rows.iter().map(|row| cell(preview, row, column, widest)).collect()
}

/// A value, and the name of the row that it refers to: `7 (Bellheather)`.
fn meant(preview: &Preview, column: usize, value: &Value) -> String {
    let shown = cells::value(value);
    let meaning = preview.study.meanings.iter().find(|(of, v, _)| *of == column && v == value);
    match meaning {
        Some((_, _, name)) => format!("{shown} ({})", cells::shortened(name)),
        None => shown,
    }
}

/// A value of at least `width`: numbers to the right, everything else to the left.
fn padded(value: &Value, shown: String, width: usize) -> String {
    let blanks = " ".repeat(width.saturating_sub(shown.width()));
    match value {
        // A number with a name behind it is read from the left.
        Value::Int(_) | Value::Real(_) | Value::Decimal(_) if !shown.ends_with(')') => {
            format!("{blanks}{shown}")
        }
        _ => format!("{shown}{blanks}"),
    }
}

fn cell(preview: &Preview, row: &ShownRow, column: usize, widest: usize) -> Text {
    let Some(before) = image(row).get(column) else { return Text::default() };
    let shown = padded(before, meant(preview, column, before), widest);
    let style = if before.is_null() { DIM } else { anstyle::Style::new() };
    let text = Text::default().push(style, shown);
    if preview.kind != StepKind::Update {
        return text;
    }
    let unknown = preview.foreseen.iter().any(|f| f.column == column && f.label == Label::Unknown);
    if unknown {
        return text.push(DIM, " → ?");
    }
    match row.after.as_ref().and_then(|after| after.get(column)) {
        Some(after) if after != before => text.push(DIM, " → ").push(AFTER, meant(preview, column, after)),
        _ => text,
    }
}

fn totals(out: &mut String, preview: &Preview) {
    if preview.totals.is_empty() || preview.matched < 2 {
        return;
    }
    out.push('\n');
    let show = |json: &serde_json::Value| match json {
        serde_json::Value::String(text) => text.clone(),
        serde_json::Value::Null => "none".to_owned(),
        other => other.to_string(),
    };
    let column = |name: &str, cells: Vec<Text>, right: bool| TextColumn {
        name: name.to_owned(),
        cells,
        priority: 0,
        right,
    };
    let pair = |b: &serde_json::Value, a: &serde_json::Value| {
        if a == b {
            Text::plain(show(b))
        } else {
            Text::plain(show(b)).push(DIM, " → ").push(AFTER, show(a))
        }
    };
    let all = &preview.totals;
    let table = vec![
        column("totals", all.iter().map(|t| Text::plain(cells::escape(&t.column))).collect(), false),
        column("sum", all.iter().map(|t| pair(&t.before.sum, &t.after.sum)).collect(), false),
        column("least", all.iter().map(|t| pair(&t.before.least, &t.after.least)).collect(), false),
        column("greatest", all.iter().map(|t| pair(&t.before.greatest, &t.after.greatest)).collect(), false),
    ];
    out.push_str(&draw(table, None).0);
}

fn unmet(out: &mut String, preview: &Preview) {
    if preview.unmet.is_empty() {
        return;
    }
    out.push('\n');
    for unmet in &preview.unmet {
        let found = match unmet.what {
            "rows" => format!("{} {}", rows(unmet.found), verb(unmet.found, "matches", "match")),
            _ => format!("{} would change", rows(unmet.found)),
        };
        let expected = match unmet.expected {
            marktwice_core::Expect::All => format!("all {} expected", number(preview.total)),
            other => format!("{other} expected"),
        };
        let _ = writeln!(out, "  {}  {found}, {expected}", styled(super::STOP, "count"));
        let already = preview.matched - preview.changes;
        let fits = unmet.what == "rows" && already > 0 && unmet.expected.met(preview.changes, preview.total);
        if let (true, Some(condition)) = (fits, &preview.leave_out) {
            let which = if already == 1 {
                "the row that already holds the values"
            } else {
                "the rows that already hold the values"
            };
            let _ = writeln!(out, "         to leave out {which}, add:  {}", styled(BOLD, condition));
        }
        if unmet.what == "rows" {
            closer::kinds(out, preview);
        }
    }
}
