//! Understanding a statement with the engine's help: the compile step speaks first, then the slices and the rules.

use marktwice_core::finding::{Code, Finding};
use marktwice_core::image::Place;
use marktwice_core::mark::{Foreseen, Label, StepKind};
use marktwice_core::table::{Key, KeyKind};
use marktwice_core::undo::inverse_kind;
use marktwice_port::{Batch, EngineError, Plan};
use marktwice_sql::dialect::language::Language;
use marktwice_sql::statement::slicing::{single_statement, understand};
use marktwice_sql::statement::step::Step;
use rusqlite::Connection;

use crate::catalog::{Sort, Table, describe, find, foreign_keys};
use crate::complaint::{as_base_table, compile_error, limited_by_key, quoted_word};
use crate::detail::{Detail, Own};
use crate::error::engine;
use crate::exactness::{foresee, reads};
use crate::look::defaults;
use crate::probe;
use crate::reach::fired;
use crate::way_back::by_definition;
use marktwice_relational::insert;
use marktwice_relational::reach::foresee_own_cascade;
use marktwice_relational::statement::{Fires, with_like_target};
use marktwice_relational::understood::Understood;

/// The text of a plan's statement as this library compiles it.
pub(crate) fn sent(plan: &Plan) -> &str {
    let other = plan.sent.as_deref().filter(|_| plan.kind != StepKind::Insert);
    other.unwrap_or(&plan.statement)
}

/// Makes the plan of a change.
pub(crate) fn plan(connection: &mut Connection, source: &str, earlier: &[Plan]) -> Result<Plan, EngineError> {
    let refused = |finding: Finding| EngineError::Refused(Box::new(finding));
    let statement = single_statement(source, Language::Sqlite).map_err(refused)?;
    let text = statement.of(source);
    let (mut findings, mut limited) = (Vec::new(), None);
    if let Err(strict) = probe::compiles_strictly(connection, text) {
        // What fails only while double quotes are names is a text in double quotes.
        match connection.prepare(text).map(|_| ()) {
            Ok(()) => findings.push(quoted_word(connection, source, statement, &strict)),
            Err(error) => {
                // Sent as the choice of keys that it means: this library reads ORDER BY and LIMIT only behind a SELECT.
                limited = limited_by_key(connection, source, statement, &error);
                if limited.is_none() {
                    return Err(compile_error(connection, source, statement, error));
                }
            }
        }
    }
    let mut step = understand(source, Language::Sqlite).map_err(refused)?;
    with_like_target(&step)?;
    let mut table = target_of(connection, &mut step)?;
    let unnamed = insert::settle_columns(&mut step, &table, &mut |query| {
        connection.prepare(query).ok().map(|known| known.column_count())
    })?;
    let defaults = match step.inserted {
        Some(_) => defaults(connection, &table.target.table)?,
        None => Vec::new(),
    };
    tell_by_row_number(&step, &mut table, earlier);
    let acts = probe::acts(connection, limited.as_deref().unwrap_or(text)).map_err(engine)?;
    let fired = fired(connection, &acts, &table)?;
    let mut foreseen = foresee(connection, &step, (&table, &defaults), &fired)?;
    let foreign_keys = foreign_keys(connection)?;
    foresee_own_cascade(&mut foreseen, &foreign_keys, &table.target, step.kind);
    if let Some(finding) = unpairable(&step, &table, &foreseen) {
        return Err(refused(finding));
    }
    let skips = fired.skips.as_ref().map(|t| format!("trigger {t} may skip rows"));
    let takes = fired.takes.as_ref().map(|t| format!("trigger {t} writes {} itself", table.target.table));
    let stored = |at: &usize| table.target.columns.get(*at).is_some_and(|c| !c.generated);
    let batch = Batch {
        step: 0,
        of: Place::default(),
        target: table.target.clone(),
        kind: inverse_kind(step.kind),
        columns: foreseen.iter().map(|f| f.column).filter(stored).collect(),
        inserts: false,
        narrow: None,
    };
    let (_, back) = by_definition(connection, &table, &batch)?;
    let mut plan = Understood {
        text: text.to_owned(),
        reads: reads(&acts, &table),
        findings: [findings, unnamed.into_iter().collect()],
        filter_calls: None,
        skips: skips.into_iter().chain(takes).collect(),
        settings: vec!["foreign keys: enforced".to_owned()],
        detail: Detail {
            foreign_keys,
            along: None,
            // The engine's compile step has looked through everything that the statement sets off.
            reached: Default::default(),
            fires: Fires { for_rows: fired.any, for_statement: false },
            writes: fired.writes,
            back,
            quiet: true,
            defaults,
            values: assigned_values(&step, &table, &foreseen),
            own: Own { schema: schema_version(connection)? },
            step,
            table,
        },
        foreseen,
    }
    .plan();
    plan.sent = plan.sent.or(limited);
    Ok(plan)
}

/// Counts up with every change of any definition.
pub(crate) fn schema_version(connection: &Connection) -> Result<i64, EngineError> {
    connection.query_row("PRAGMA main.schema_version", [], |row| row.get(0)).map_err(engine)
}

/// The table that a step writes, when it is one that can be promised anything about.
fn target_of(connection: &Connection, step: &mut Step) -> Result<Table, EngineError> {
    let (name, step) = (step.table.table.clone(), &mut *step);
    let at = step.place(name.slice);
    let refuse = |message: String, hint: &str| {
        let finding = Finding::new(Code::NotUnderstood, message).at(at.clone()).hint(hint);
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
            let message = format!("{table} is a view; what a write to it does is up to its triggers");
            return Err(EngineError::Refused(Box::new(Finding::new(Code::AView, message).at(at)))
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
    let described = describe(connection, &table)?;
    // The row's number under another name is the column that it is kept in, where there is one.
    let numbers = described.row_column.and_then(|at| described.target.columns.get(at)).map(|c| &c.name);
    for column in step.assignments.iter_mut().flat_map(|a| &mut a.columns) {
        if let Some(name) = numbers.filter(|_| described.target.position(&column.text).is_none()) {
            column.text.clone_from(name);
        }
    }
    for column in step.assignments.iter().flat_map(|a| &a.columns) {
        if described.target.position(&column.text).is_none() {
            let finding = Finding::new(
                Code::NotUnderstood,
                format!("{} is the hidden number of the row, which no column keeps", column.text),
            )
            .at(step.place(column.slice))
            .hint("assign columns; where the number matters it should be a column (INTEGER PRIMARY KEY)");
            return Err(EngineError::Refused(Box::new(finding)));
        }
    }
    Ok(described)
}

/// A declared key that may hold NULL tells rows apart only while none does; a statement that assigns it, or an earlier step
/// that does, may end that, so there the row's own number is the key.
fn tell_by_row_number(step: &Step, table: &mut Table, earlier: &[Plan]) {
    let key = &table.target.key;
    let open = |at: &usize| table.target.columns.get(*at).is_some_and(|c| !c.not_null);
    let assigned = step.assignments.iter().flat_map(|a| &a.columns);
    let same = earlier.iter().filter(|plan| plan.target.table == table.target.table);
    let before = same.flat_map(|plan| plan.foreseen.iter().map(|f| f.column));
    let mut assigned = assigned.filter_map(|c| table.target.position(&c.text)).chain(before);
    if let Some(row) = &table.row
        && table.row_column.is_none()
        && key.kind == KeyKind::Primary
        && (assigned.any(|at| key.columns.contains(&at) && open(&at))
            || (step.inserted.is_some() && key.columns.iter().any(open)))
    {
        table.target.key = Key { kind: KeyKind::RowIdentity, names: vec![row.clone()], columns: Vec::new() };
    }
}

/// A change of the very column by which before and after are paired, to a value that nobody knows beforehand.
fn unpairable(step: &Step, table: &Table, foreseen: &[Foreseen]) -> Option<Finding> {
    let pairs = match (&table.row, table.row_column) {
        (_, Some(column)) => vec![column],
        (Some(_), None) => Vec::new(),
        (None, None) => table.target.key.columns.clone(),
    };
    if step.inserted.is_some() {
        return insert::unpairable(step, table, foreseen);
    }
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

/// The expressions of the columns that are assigned and foreseen exactly.
fn assigned_values(step: &Step, table: &Table, foreseen: &[Foreseen]) -> Vec<(usize, String)> {
    let mut all: Vec<(usize, String)> = Vec::new();
    for assignment in &step.assignments {
        for (nth, name) in assignment.columns.iter().enumerate() {
            let Some(at) = table.target.position(&name.text) else { continue };
            let Some((text, _)) = step.value(assignment, nth) else { continue };
            let exact = foreseen.iter().any(|f| f.column == at && f.label == Label::Exact && !f.derived);
            if exact {
                all.retain(|(column, _)| *column != at);
                all.push((at, text));
            }
        }
    }
    all
}
