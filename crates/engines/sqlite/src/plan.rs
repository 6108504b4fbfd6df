//! Understanding a statement with the engine's help: the compile step speaks first, then the slices and the rules.

use marktwice_core::finding::{Code, Finding, Level};
use marktwice_core::mark::{Label, Parts, StepKind};
use marktwice_port::{EngineError, Plan};
use marktwice_sql::assigned::assigned;
use marktwice_sql::instead;
use marktwice_sql::language::Language;
use marktwice_sql::leave_out::leave_out;
use marktwice_sql::near::nearest;
use marktwice_sql::pins::pin;
use marktwice_sql::rules::{self, Seen};
use marktwice_sql::slices::Slice;
use marktwice_sql::slicing::{names_in, single_statement, understand};
use marktwice_sql::slips::{slip, typographic};
use marktwice_sql::step::Step;
use marktwice_sql::text::{tokenize, within};
use rusqlite::Connection;
use sqlparser::dialect::SQLiteDialect;

use crate::catalog::{ForeignKey, Sort, Table, describe, find, foreign_keys, names};
use crate::error::{engine, message};
use crate::exactness::{foresee, reads};
use crate::probe;
use crate::reach::fired;

/// What the engine itself remembers of a plan.
#[derive(Debug)]
pub(crate) struct Detail {
    pub(crate) step: Step,
    pub(crate) table: Table,
    pub(crate) foreign_keys: Vec<ForeignKey>,
    /// The engine's count of schema changes when the plan was made.
    pub(crate) schema: i64,
    /// Writes by triggers, known from the compile step.
    pub(crate) triggers: Vec<marktwice_port::SideWrite>,
}

/// Makes the plan of a change.
pub(crate) fn plan(connection: &mut Connection, source: &str) -> Result<Plan, EngineError> {
    let refused = |finding: Finding| EngineError::Refused(Box::new(finding));
    let statement = single_statement(source, Language::Sqlite).map_err(refused)?;
    let text = statement.of(source);
    let mut findings = Vec::new();
    if let Err(strict) = probe::compiles_strictly(connection, text) {
        // What fails only while double quotes are names is a text in double quotes.
        match connection.prepare(text).map(|_| ()) {
            Ok(()) => findings.push(quoted_word(connection, source, statement, &strict)),
            Err(error) => return Err(compile_error(connection, source, statement, error)),
        }
    }
    let step = understand(source, Language::Sqlite).map_err(refused)?;
    let table = target_of(connection, &step)?;
    let acts = probe::acts(connection, text).map_err(engine)?;
    let fired = fired(connection, &acts, &table)?;
    let foreseen = foresee(connection, &step, &table, &fired)?;
    if let Some(finding) = unpairable(&step, &table, &foreseen) {
        return Err(refused(finding));
    }
    let reads = reads(&acts, &table);
    let row_names: Vec<&str> = table.row.as_deref().into_iter().collect();
    let pin = pin(&step, &table.target, &table.keys, &row_names);
    findings.extend(rules::look(Seen {
        step: &step,
        target: &table.target,
        pin: &pin,
        keys: &table.keys,
        counted: &[],
    }));
    let leave_out = leave_out(&step, &foreseen);
    let filter_columns = filter_columns(&step, &table);
    Ok(Plan {
        kind: step.kind,
        target: table.target.clone(),
        limit: step.limit(),
        assigned: assigned(&step, &table.target),
        statement: text.to_owned(),
        statement_hash: step.token_hash.clone(),
        parts: Parts::new(&table.target, step.kind, &reads, &foreseen),
        foreseen,
        reads: filter_columns,
        pin,
        findings,
        leave_out,
        settings: vec!["foreign keys: enforced".to_owned()],
        detail: Box::new(Detail {
            foreign_keys: foreign_keys(connection)?,
            schema: schema_version(connection)?,
            triggers: fired.writes,
            step,
            table,
        }),
    })
}

/// Counts up with every change of any definition.
pub(crate) fn schema_version(connection: &Connection) -> Result<i64, EngineError> {
    connection.query_row("PRAGMA main.schema_version", [], |row| row.get(0)).map_err(engine)
}

/// The table that a step writes, when it is one that can be promised anything about.
fn target_of(connection: &Connection, step: &Step) -> Result<Table, EngineError> {
    let name = &step.table.table;
    let refuse = |message: String, hint: &str| {
        let finding = Finding::new(Code::NotUnderstood, message).at(step.place(name.slice)).hint(hint);
        EngineError::Refused(Box::new(finding))
    };
    if let Some(schema) = step.table.schema.as_ref().filter(|s| !s.text.eq_ignore_ascii_case("main")) {
        return Err(refuse(
            format!("only tables of the database file itself are written, not of {}", schema.text),
            "open the other file with --on",
        ));
    }
    let (table, sort, ..) = find(connection, &name.text)?
        .ok_or_else(|| refuse(format!("there is no table {}", name.text), "correct the name"))?;
    match sort {
        Sort::Table => {}
        Sort::View => {
            return Err(refuse(
                format!("{table} is a view; what a write to it does is up to its triggers"),
                "write the change for the view's base table",
            )
            .with_paste(as_base_table(connection, &step.source, &table)));
        }
        Sort::Virtual => {
            return Err(refuse(
                format!("{table} is a virtual table; its writes are its module's own business"),
                "change the tables that it stands for",
            ));
        }
        Sort::Shadow | Sort::System => {
            return Err(refuse(
                format!("{table} is a table of SQLite's own"),
                "change the tables that are yours",
            ));
        }
    }
    let assigned = step.assignments.iter().flat_map(|a| &a.columns);
    let described = describe(connection, &table)?;
    for column in assigned {
        if described.target.position(&column.text).is_none() {
            let finding = Finding::new(
                Code::NotUnderstood,
                format!("{} is the engine's own row identity", column.text),
            )
            .at(step.place(column.slice))
            .hint("assign columns only");
            return Err(EngineError::Refused(Box::new(finding)));
        }
    }
    Ok(described)
}

/// A change of the very column by which before and after are paired, to a value that nobody knows beforehand.
fn unpairable(step: &Step, table: &Table, foreseen: &[marktwice_core::mark::Foreseen]) -> Option<Finding> {
    let pairs = match (&table.row, table.row_column) {
        (_, Some(column)) => vec![column],
        (Some(_), None) => Vec::new(),
        (None, None) => table.target.key.columns.clone(),
    };
    let unknown = foreseen.iter().find(|f| f.label != Label::Exact && pairs.contains(&f.column))?;
    let name = &table.target.columns.get(unknown.column)?.name;
    let slice =
        step.assignments.iter().flat_map(|a| &a.columns).find(|c| c.text.eq_ignore_ascii_case(name))?.slice;
    Some(
        Finding::new(
            Code::NotUnderstood,
            format!("the key {name} becomes a value that only the run can tell"),
        )
        .at(step.place(slice))
        .hint("assign a value that can be told beforehand"),
    )
}

/// Columns of the target that the filter names, for showing.
fn filter_columns(step: &Step, table: &Table) -> Vec<usize> {
    let Some(filter) = &step.filter else { return Vec::new() };
    let mut all: Vec<usize> =
        names_in(step, filter.slice).iter().filter_map(|name| table.target.position(name)).collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// The engine's complaint about a text in double quotes.
fn quoted_word(connection: &Connection, source: &str, statement: Slice, error: &rusqlite::Error) -> Finding {
    let text = message(error);
    let word = text.strip_prefix("no such column: \"").and_then(|rest| rest.split('"').next()).unwrap_or("");
    let slice = offset_of(error).map(|at| statement.start + at);
    let start = slice.or_else(|| source.find(&format!("\"{word}\""))).unwrap_or(statement.start);
    let finding = Finding::new(
        Code::QuotedWord,
        format!("\"{word}\" is no column here; SQLite would take it as the text '{word}'"),
    )
    .at(marktwice_core::Place::in_source(source, start, start + word.len() + 2));
    match nearest(word, known_names(connection).iter().map(String::as_str)) {
        Some(near) if !near.eq_ignore_ascii_case(word) => {
            finding.hint(format!("did you mean the column {near}? If a text is meant, write '{word}'"))
        }
        _ => finding.hint(format!("if a text is meant, write '{word}'")),
    }
}

fn offset_of(error: &rusqlite::Error) -> Option<usize> {
    match error {
        rusqlite::Error::SqlInputError { offset, .. } => usize::try_from(*offset).ok(),
        _ => None,
    }
}

/// The names of all tables, views and columns.
fn known_names(connection: &Connection) -> Vec<String> {
    let mut all = names(connection, &[Sort::Table, Sort::View]).unwrap_or_default();
    for table in all.clone() {
        if let Ok(described) = describe(connection, &table) {
            all.extend(described.target.columns.into_iter().map(|c| c.name));
        }
    }
    all
}

/// Says what the engine did not compile, where, and what may have been meant.
fn compile_error(
    connection: &Connection,
    source: &str,
    statement: Slice,
    error: rusqlite::Error,
) -> EngineError {
    let text = message(&error);
    let missing = [
        ("no such column: ", "column"),
        ("no such table: ", "table"),
        ("no such function: ", "function"),
        ("no such collation sequence: ", "collation"),
        ("no such index: ", "index"),
    ];
    for (prefix, what) in missing {
        if let Some(name) = text.strip_prefix(prefix) {
            return unknown_name(connection, source, statement, name.trim(), what, offset_of(&error));
        }
    }
    if let Some(name) = text.strip_prefix("ambiguous column name: ") {
        let of = offset_of(&error).map(|at| statement.start + at);
        return ambiguous(source, statement, name, of);
    }
    if let Some(name) = text.strip_prefix("cannot UPDATE generated column ") {
        let name = name.trim_matches('"');
        return EngineError::Refused(Box::new(
            Finding::new(
                Code::EngineColumn,
                format!("{name} is computed by the engine and cannot be assigned"),
            )
            .at(place_of(source, statement, name))
            .weighing(Level::Stop)
            .hint("assign the columns that it is computed from"),
        ));
    }
    if text.ends_with("because it is a view") || text.ends_with("may not be modified") {
        return not_writable(connection, source, statement, &text);
    }
    let at = offset_of(&error);
    let near_word = text.strip_prefix("near \"").and_then(|rest| rest.split('"').next());
    let (start, end) = match (at, near_word) {
        (Some(at), Some(word)) => (statement.start + at, statement.start + at + word.len()),
        (Some(at), None) => (statement.start + at, statement.start + at + 1),
        (None, _) => (statement.end, statement.end),
    };
    let (start, end) =
        if text.contains("incomplete input") { (statement.end, statement.end) } else { (start, end) };
    let said = match near_word {
        Some(word) => format!("the statement is not understood from {word} on"),
        None if text.contains("incomplete input") => "the statement ends too early".to_owned(),
        None => text.clone(),
    };
    let limited =
        near_word.is_some_and(|w| w.eq_ignore_ascii_case("order") || w.eq_ignore_ascii_case("limit"));
    let found = slip(source, statement, Language::Sqlite, start);
    let hint = match found {
        _ if limited => "this SQLite has no ORDER BY or LIMIT here; pick the rows by key:".to_owned(),
        Some(found) => found.hint,
        None => "correct the statement here, or just before".to_owned(),
    };
    let mut finding = Finding::new(Code::NotUnderstood, said)
        .at(marktwice_core::Place::in_source(source, start, end))
        .hint(hint);
    if limited {
        let tokens = tokenize(source, &SQLiteDialect {}).unwrap_or_default();
        let words = within(&tokens, statement);
        let mut key_of = |_: Option<&str>, name: &str| {
            describe(connection, name).map_or_else(|_| Vec::new(), |t| t.target.key.names)
        };
        finding.paste = instead::limited(source, &words, Language::Sqlite, &mut key_of).map(Into::into);
    }
    EngineError::Syntax(Box::new(finding))
}

/// Where a name stands first in the statement.
fn place_of(source: &str, statement: Slice, name: &str) -> marktwice_core::Place {
    let last = name.rsplit('.').next().unwrap_or(name);
    let tokens = tokenize(source, &SQLiteDialect {}).unwrap_or_default();
    let found = within(&tokens, statement)
        .into_iter()
        .find(|t| t.name().is_some_and(|n| n.eq_ignore_ascii_case(last)))
        .map_or(statement, |t| t.slice);
    marktwice_core::Place::in_source(source, found.start, found.end)
}

fn ambiguous(source: &str, statement: Slice, name: &str, at: Option<usize>) -> EngineError {
    let place = match at {
        Some(at) => marktwice_core::Place::in_source(source, at, at + name.len()),
        None => place_of(source, statement, name),
    };
    let message = format!("{name} is a column of several of these tables");
    EngineError::Refused(Box::new(
        Finding::new(Code::AmbiguousName, message)
            .at(place)
            .hint(format!("write the table or its alias before it: table.{name}")),
    ))
}

/// A view, or a table of the engine's own.
fn not_writable(connection: &Connection, source: &str, statement: Slice, text: &str) -> EngineError {
    let view = text.ends_with("because it is a view");
    let name = text
        .trim_start_matches("cannot modify ")
        .trim_start_matches("table ")
        .split(' ')
        .next()
        .unwrap_or("");
    let tokens = tokenize(source, &SQLiteDialect {}).unwrap_or_default();
    let slice = tokens.iter().find(|t| t.name() == Some(name)).map_or(statement, |t| t.slice);
    let (what, hint) = if view {
        ("is a view and has no rows of its own", "write the change for the view's base table")
    } else {
        ("is a table of SQLite's own", "change the tables that are yours")
    };
    let finding = Finding::new(Code::NotUnderstood, format!("{name} {what}"))
        .at(marktwice_core::Place::in_source(source, slice.start, slice.end))
        .hint(hint);
    let paste = if view { as_base_table(connection, source, name) } else { None };
    EngineError::Refused(Box::new(match paste {
        Some(paste) => finding.hint("write the change for the view's base table:").paste(paste),
        None => finding,
    }))
}

/// The same change for the table that a view shows, where the view is plain.
fn as_base_table(connection: &Connection, source: &str, view: &str) -> Option<String> {
    let sql = "SELECT sql FROM main.sqlite_schema WHERE type = 'view' AND name = ?1 COLLATE NOCASE";
    let definition: String = connection.query_row(sql, [view], |row| row.get(0)).ok()?;
    instead::base_table(&understand(source, Language::Sqlite).ok()?, &definition)
}

fn unknown_name(
    connection: &Connection,
    source: &str,
    statement: Slice,
    name: &str,
    what: &str,
    at: Option<usize>,
) -> EngineError {
    let bare = name.split(" - should this").next().unwrap_or(name).trim_matches('"');
    let last = bare.rsplit('.').next().unwrap_or(bare);
    let tokens = tokenize(source, &SQLiteDialect {}).unwrap_or_default();
    let slice = match at {
        Some(at) => Some(Slice { start: statement.start + at, end: statement.start + at + bare.len() }),
        None => {
            tokens.iter().find(|t| t.name().is_some_and(|n| n.eq_ignore_ascii_case(last))).map(|t| t.slice)
        }
    };
    let slice = slice.unwrap_or(statement);
    // The columns of the tables that the statement names come before those of others.
    let mentioned: Vec<String> = tokens.iter().filter_map(|t| t.name().map(str::to_owned)).collect();
    let mut first: Vec<String> = Vec::new();
    if what == "column" {
        for table in names(connection, &[Sort::Table]).unwrap_or_default() {
            if mentioned.iter().any(|m| m.eq_ignore_ascii_case(&table))
                && let Ok(described) = describe(connection, &table)
            {
                first.extend(described.target.columns.into_iter().map(|c| c.name));
            }
        }
    } else if what == "table" {
        first = names(connection, &[Sort::Table, Sort::View]).unwrap_or_default();
    }
    let others = if first.is_empty() && what == "column" { known_names(connection) } else { Vec::new() };
    let near = nearest(last, first.iter().map(String::as_str))
        .or_else(|| nearest(last, others.iter().map(String::as_str)))
        .map(str::to_owned);
    let hint = match (near, what) {
        _ if typographic(bare).is_some() => typographic(bare).unwrap_or_default(),
        (Some(near), _) => format!("did you mean {near}?"),
        (None, "column" | "table") if !first.is_empty() => format!("there are: {}", first.join(", ")),
        _ => "correct the name".to_owned(),
    };
    let finding = Finding::new(Code::UnknownName, format!("there is no {what} {bare}"))
        .at(marktwice_core::Place::in_source(source, slice.start, slice.end))
        .hint(hint);
    EngineError::Refused(Box::new(finding))
}

/// The kind of a plan's step, for the statement that holds its rows.
pub(crate) fn is_update(detail: &Detail) -> bool {
    detail.step.kind == StepKind::Update
}
