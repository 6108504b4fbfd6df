//! Understanding a statement with the engine's help: the compile step speaks first, then the slices and the rules.

use marktwice_core::finding::{Code, Finding};
use marktwice_core::mark::{Label, Parts, StepKind};
use marktwice_core::table::{Key, KeyKind};
use marktwice_core::undo::inverse_kind;
use marktwice_core::way_back::WayBack;
use marktwice_port::{EngineError, Plan, Restore};
use marktwice_sql::assigned::assigned;
use marktwice_sql::language::Language;
use marktwice_sql::leave_out::leave_out;
use marktwice_sql::pins::pin;
use marktwice_sql::rules::{self, Seen};
use marktwice_sql::slicing::{names_in, single_statement, understand};
use marktwice_sql::step::Step;
use rusqlite::Connection;

use crate::catalog::{Sort, Table, describe, find, foreign_keys};
use crate::complaint::{as_base_table, compile_error, quoted_word};
use crate::error::engine;
use crate::exactness::{foresee, reads};
use crate::probe;
use crate::reach::fired;
use crate::way_back::by_definition;
use marktwice_server::reach::{ForeignKey, foresee_own_cascade, referring};
use marktwice_server::statement::with_like_target;

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
    /// Whether the statement sets off a trigger.
    pub(crate) fires: bool,
    /// What definitions say of an undo.
    pub(crate) back: WayBack,
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
    with_like_target(&step)?;
    let mut table = target_of(connection, &step)?;
    tell_by_row_number(&step, &mut table);
    let acts = probe::acts(connection, text).map_err(engine)?;
    let fired = fired(connection, &acts, &table)?;
    let mut foreseen = foresee(connection, &step, &table, &fired)?;
    let foreign_keys = foreign_keys(connection)?;
    foresee_own_cascade(&mut foreseen, &foreign_keys, &table.target, step.kind);
    if let Some(finding) = unpairable(&step, &table, &foreseen) {
        return Err(refused(finding));
    }
    let mut reads = reads(&acts, &table);
    reads.extend(referring(&foreign_keys, &table.target));
    let row_names: Vec<&str> = table.row.as_deref().into_iter().collect();
    let pin = pin(&step, &table.target, &table.keys, &row_names);
    findings.extend(rules::look(Seen {
        step: &step,
        target: &table.target,
        pin: &pin,
        keys: &table.keys,
        counted: &[],
    }));
    let skips = fired.skips.as_ref().map(|t| format!("trigger {t} may skip rows"));
    let takes = fired.takes.as_ref().map(|t| format!("trigger {t} writes {} itself", table.target.table));
    findings.extend(skips.into_iter().chain(takes).map(|why| Finding::new(Code::MaySkip, why)));
    let stored = |at: &usize| table.target.columns.get(*at).is_some_and(|c| !c.generated);
    let restore = Restore {
        target: table.target.clone(),
        kind: inverse_kind(step.kind),
        columns: foreseen.iter().map(|f| f.column).filter(stored).collect(),
        inserts: false,
    };
    let (_, back) = by_definition(connection, &table, &restore)?;
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
            foreign_keys,
            schema: schema_version(connection)?,
            fires: fired.any,
            triggers: fired.writes,
            back,
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

/// A declared key that may hold NULL tells rows apart only while none does; a statement that assigns it may end that, so
/// there the row's own number is the key.
fn tell_by_row_number(step: &Step, table: &mut Table) {
    let key = &table.target.key;
    let open = |at: &usize| table.target.columns.get(*at).is_some_and(|c| !c.not_null);
    let assigned = step.assignments.iter().flat_map(|a| &a.columns);
    let mut assigned = assigned.filter_map(|c| table.target.position(&c.text));
    if let Some(row) = &table.row
        && table.row_column.is_none()
        && key.kind == KeyKind::Primary
        && assigned.any(|at| key.columns.contains(&at) && open(&at))
    {
        table.target.key = Key { kind: KeyKind::RowIdentity, names: vec![row.clone()], columns: Vec::new() };
    }
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

/// The kind of a plan's step, for the statement that holds its rows.
pub(crate) fn is_update(detail: &Detail) -> bool {
    detail.step.kind == StepKind::Update
}
