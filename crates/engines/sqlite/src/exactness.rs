//! The exactness gate: which after-values of an UPDATE the typed temporary table gives exactly, and which only the
//! run can tell.

use marktwice_core::mark::{Foreseen, Label, StepKind};
use marktwice_port::EngineError;
use marktwice_relational::foresee::Extra;
use marktwice_relational::insert::{self, About};
use marktwice_sql::Step;
use marktwice_sql::dialect::volatile::{self, Volatile};
use marktwice_sql::statement::slicing::{names_in, relations_in, subqueries};
use marktwice_sql::text::slices::Slice;
use rusqlite::Connection;

use crate::catalog::{Sort, Table, names};
use crate::probe::{self, Act};
use crate::reach::Fired;

/// Foresees all columns that the statement assigns or that the engine derives from those.
pub(crate) fn foresee(
    connection: &Connection,
    step: &Step,
    (table, defaults): (&Table, &[Option<String>]),
    fired: &Fired,
) -> Result<Vec<Foreseen>, EngineError> {
    if step.kind == StepKind::Delete {
        return Ok(Vec::new());
    }
    let views = names(connection, &[Sort::View])?;
    let mut all: Vec<Foreseen> = Vec::new();
    if step.kind == StepKind::Insert {
        let extra = |of: &Option<String>| Extra { generated: of.clone(), moves: None };
        let extras: Vec<Extra> = table.generated.iter().map(extra).collect();
        let numbers = |at: usize| table.row_column == Some(at);
        let about = About { defaults, extras: &extras, numbers: &numbers, triggers: &[] };
        // Rows that are read of the table itself are read before the first one comes in.
        all = insert::foresee(step, &table.target, &about, &mut |_| Ok(None))?;
    }
    for assignment in &step.assignments {
        for (at, name) in assignment.columns.iter().enumerate() {
            let Some(column) = table.target.position(&name.text) else { continue };
            let why = match step.value(assignment, at) {
                None => Some("its value comes from a row of a subquery".to_owned()),
                Some((_, value)) => unknown(connection, step, table, value, &views),
            };
            // A column assigned twice takes the last value, as the engine does.
            all.retain(|f| f.column != column);
            all.push(label(column, why, false));
        }
    }
    for (column, trigger) in &fired.target_columns {
        all.retain(|f| f.column != *column);
        all.push(label(*column, Some(format!("trigger {trigger} writes it")), true));
    }
    let clause = table
        .conflict_clause
        .as_ref()
        .map(|c| format!("{c} in the table's definition may skip or delete rows"));
    let takes =
        fired.takes.as_ref().map(|trigger| format!("trigger {trigger} writes {} itself", table.target.table));
    let blanket =
        fired.skips.as_ref().map(|trigger| format!("trigger {trigger} may skip rows")).or(takes).or(clause);
    // Of rows that come in, what is derived from which column was looked at already.
    let any_unknown = blanket.is_some()
        || match step.kind {
            StepKind::Insert => !fired.target_columns.is_empty(),
            StepKind::Update | StepKind::Delete => all.iter().any(|f| f.label == Label::Unknown),
        };
    if any_unknown {
        all.retain(|f| !table.target.columns.get(f.column).is_some_and(|c| c.generated));
    }
    for (column, about) in table.target.columns.iter().enumerate() {
        if about.generated && !all.iter().any(|f| f.column == column) {
            let lost = table.generated.get(column).is_none_or(Option::is_none);
            let why = if any_unknown || lost {
                Some("it is derived from a value that is not known".to_owned())
            } else {
                None
            };
            all.push(label(column, why, true));
        }
    }
    if let Some(why) = blanket {
        for foreseen in &mut all {
            *foreseen = label(foreseen.column, Some(why.clone()), foreseen.derived);
        }
    }
    all.sort_by_key(|f| f.column);
    Ok(all)
}

fn label(column: usize, why: Option<String>, derived: bool) -> Foreseen {
    let label = if why.is_some() { Label::Unknown } else { Label::Exact };
    Foreseen { column, label, derived, why }
}

/// Why the value of an expression cannot be told before the run; `None` when it can.
fn unknown(
    connection: &Connection,
    step: &Step,
    table: &Table,
    value: Slice,
    views: &[String],
) -> Option<String> {
    if let Some((kind, place)) = volatile::find(step, value) {
        let word = step.text(place).to_ascii_lowercase();
        return Some(match kind {
            Volatile::Clock => format!("{word} reads the clock"),
            Volatile::Random => format!("{word} is random"),
            Volatile::Session => format!("{word} depends on what ran before"),
        });
    }
    // With joined tables all values are computed before the first row is written.
    if step.sources.is_some() {
        return None;
    }
    let queries = subqueries(step, value);
    let reads_target = |name: &String| {
        name.eq_ignore_ascii_case(&table.target.table) || views.iter().any(|v| v.eq_ignore_ascii_case(name))
    };
    let with_reads = step.with.is_some_and(|w| relations_in(step, w).iter().any(reads_target));
    for query in &queries {
        let itself = relations_in(step, *query).iter().any(reads_target);
        if (itself || with_reads) && !evaluated_once_before_the_first_write(connection, step, value, *query) {
            return Some(format!("its subquery reads {} while rows of it change", table.target.table));
        }
    }
    None
}

/// Whether a subquery that reads the target is evaluated once, before the first row is written: it refers to no
/// column outside itself (it compiles alone), and nothing around it can postpone it.
fn evaluated_once_before_the_first_write(
    connection: &Connection,
    step: &Step,
    value: Slice,
    query: Slice,
) -> bool {
    let with = step.with.map_or("", |w| step.text(w));
    let alone = format!("{with}\nSELECT {}", step.text(query));
    if probe::compiles_strictly(connection, &alone).is_err() {
        return false;
    }
    let around = [Slice { start: value.start, end: query.start }, Slice { start: query.end, end: value.end }];
    let postpones = ["case", "and", "or", "coalesce", "ifnull", "iif", "if", "nullif", "in", "exists"];
    !around.iter().any(|part| names_in(step, *part).iter().any(|word| postpones.contains(&word.as_str())))
}

/// The columns of the target that the statement itself reads.
pub(crate) fn reads(acts: &[probe::Deed], table: &Table) -> Vec<usize> {
    let mut all: Vec<usize> = acts
        .iter()
        .filter_map(|step| match &step.act {
            Act::Read { table: of, column } if of.eq_ignore_ascii_case(&table.target.table) => {
                if column.eq_ignore_ascii_case("rowid") {
                    table.row_column
                } else {
                    table.target.position(column)
                }
            }
            _ => None,
        })
        .collect();
    all.sort_unstable();
    all.dedup();
    all
}
