//! The temporary table of held rows: its definition, the statement that fills it, and how it is read.
//!
//! Before-values go into columns without a type, so that nothing is converted. After-values go into columns that
//! have the affinity (or, for STRICT tables, the type) and the collation of the target's, under the target's own
//! column names, so that the engine itself makes of them what it would store, and computes generated columns from
//! them.

use marktwice_core::Value;
use marktwice_core::many::Many;
use marktwice_core::mark::{After, HeldRow, Label, StepKind};
use marktwice_core::table::{KeyKind, Target};
use marktwice_port::engine::{PairSink, RowSink};
use marktwice_port::{EngineError, Plan};
use marktwice_server::layout::fits;
use marktwice_sql::many::{HeldNames, once_each};
use marktwice_sql::row_query::Ask;
use rusqlite::Connection;

use crate::affinity::type_name;
use crate::ask::ask;
use crate::catalog::Table;
use crate::error::engine;
use crate::names::quoted;
use crate::plan::{Detail, is_update};
use crate::values;
use marktwice_sql::ours::{HELD, IS_WANTED, ORDINAL, ROW, THERE, before};

/// Columns that a table, and an answer, of the bundled library has at most.
const MOST_COLUMNS: usize = 2_000;

/// What is in the held table.
#[derive(Debug, Clone)]
pub(crate) struct Shape {
    pub(crate) target: Target,
    pub(crate) kind: StepKind,
    /// Whether the row identity before is held.
    pub(crate) has_row: bool,
    /// Whether each row says if it is there now and if it is wanted: rows that are put back.
    pub(crate) flags: bool,
    /// After-columns: the target's column and its name in the held table, already quoted.
    pub(crate) after: Vec<(usize, String)>,
    /// How a held row `h` is paired with the target's row `t` after the step.
    pub(crate) pair_on: String,
    /// An expression that is not NULL exactly when there is a target row `t`.
    pub(crate) there: String,
}

/// A column of the table that shows whether a joined row is there: the row identity, or a column of the key.
pub(crate) fn presence(table: &Table) -> String {
    let name = table.row.clone().or_else(|| table.target.key.names.first().cloned()).unwrap_or_default();
    format!("t.{}", quoted(&name))
}

/// Makes the held table of a plan and fills it, in one statement. Gives the shape, the
/// number of rows, and which of them a join matches several times.
pub(crate) fn hold(
    connection: &Connection,
    plan: &Plan,
    detail: &Detail,
) -> Result<(Shape, u64, Option<Many>), EngineError> {
    let table = &detail.table;
    let assigned: Vec<(usize, String)> = assigned_values(plan, detail);
    let derives = plan.foreseen.iter().any(|f| f.derived && f.label == Label::Exact);
    let mut columns = vec![format!("{ORDINAL} INTEGER PRIMARY KEY")];
    let mut insert: Vec<String> = Vec::new();
    let mut select: Vec<String> = Vec::new();
    let visible = quoted(&detail.step.table.visible().text);
    let untyped = if table.strict { " ANY" } else { "" };
    if let Some(row) = &table.row {
        columns.push(format!("{ROW}{untyped}"));
        insert.push(ROW.to_string());
        select.push(format!("{visible}.{}", quoted(row)));
    }
    for (at, column) in table.target.columns.iter().enumerate() {
        columns.push(format!("{}{untyped}", before(at)));
        insert.push(before(at));
        select.push(format!("{visible}.{}", quoted(&column.name)));
    }
    let mut after = Vec::new();
    if is_update(detail) {
        for (at, column) in table.target.columns.iter().enumerate() {
            let name = quoted(&column.name);
            let typed = format!(
                "{name} {} COLLATE {}",
                type_name(&column.declared, table.strict),
                quoted(table.collations.get(at).map_or("BINARY", String::as_str))
            );
            let foreseen = plan.foreseen.iter().find(|f| f.column == at && f.label == Label::Exact);
            let expression = assigned.iter().find(|(column, _)| *column == at).map(|(_, e)| e);
            match (column.generated, foreseen, expression) {
                (true, Some(_), _) => {
                    let expression = table.generated.get(at).and_then(Option::as_deref).unwrap_or("(NULL)");
                    columns.push(format!("{typed} GENERATED ALWAYS AS {expression}"));
                    after.push((at, name));
                }
                (false, Some(_), Some(expression)) => {
                    columns.push(typed);
                    insert.push(name.clone());
                    // The line break ends a comment that the user's text may end in.
                    select.push(format!("({expression}\n)"));
                    after.push((at, name));
                }
                // What generated columns are computed from must be there under its own name.
                (false, _, _) if derives => {
                    columns.push(typed);
                    insert.push(name.clone());
                    select.push(format!("{visible}.{name}"));
                }
                _ => {}
            }
        }
    }
    let strict = if table.strict { " STRICT" } else { "" };
    fits(&table.target.table, columns.len(), MOST_COLUMNS, "SQLite")?;
    let create = format!("CREATE TEMP TABLE {HELD} ({}){strict}", columns.join(", "));
    connection.execute_batch(&create).map_err(engine)?;
    let step = &detail.step;
    let joined = step.sources.is_some();
    let identity = identity(table, &visible);
    let order: Vec<&str> = identity.iter().map(|(_, of)| of.as_str()).collect();
    let order = if joined { order.join(", ") } else { String::new() };
    let query = step.row_query(&select, Ask { order: &order, ..Ask::default() });
    let fill = format!("INSERT INTO temp.{HELD} ({})\n{query}", insert.join(", "));
    let mut matched =
        connection.execute(&fill, []).map_err(|e| in_user_words(e, &table.target.table))? as u64;
    if joined && let Some((own, _)) = identity.first() {
        // A join that is summed up gives one row even where nothing matches, and that row is none of the target's.
        let phantom = format!("DELETE FROM temp.{HELD} WHERE {own} IS NULL");
        matched -= connection.execute(&phantom, []).map_err(engine)? as u64;
    }
    texts_are_whole(connection, &table.target)?;
    let names = HeldNames {
        table: format!("temp.{HELD}"),
        ordinal: ORDINAL.to_string(),
        identity,
        after: after.iter().map(|(_, name)| name.clone()).collect(),
        unknown: plan.foreseen.iter().any(|f| !f.derived && f.label != Label::Exact),
    };
    let many = once_each(step, &names, &mut |sql| ask(connection, sql))?;
    let shape = Shape {
        target: plan.target.clone(),
        kind: plan.kind,
        has_row: table.row.is_some(),
        flags: false,
        pair_on: pair_on(table, &after),
        there: presence(table),
        after,
    };
    let many = match many {
        Some((mut many, ordinals)) => {
            matched = count_held(connection)?;
            for (example, ordinal) in many.examples.iter_mut().zip(ordinals) {
                example.key = shape.key_at(connection, ordinal)?;
            }
            Some(many)
        }
        None => None,
    };
    Ok((shape, matched, many))
}

fn count_held(connection: &Connection) -> Result<u64, EngineError> {
    let sql = format!("SELECT count(*) FROM temp.{HELD}");
    connection.query_row(&sql, [], |row| row.get::<_, i64>(0)).map(i64::unsigned_abs).map_err(engine)
}

/// What tells one row of the target from another: columns of the held table, and the target's own.
fn identity(table: &Table, visible: &str) -> Vec<(String, String)> {
    if let Some(row) = &table.row {
        return vec![(ROW.to_string(), format!("{visible}.{}", quoted(row)))];
    }
    let key = table.target.key.columns.iter().zip(&table.target.key.names);
    key.map(|(&at, name)| (before(at), format!("{visible}.{}", quoted(name)))).collect()
}

/// The expressions of the columns that are assigned and foreseen exactly.
fn assigned_values(plan: &Plan, detail: &Detail) -> Vec<(usize, String)> {
    let step = &detail.step;
    let mut all: Vec<(usize, String)> = Vec::new();
    for assignment in &step.assignments {
        for (nth, name) in assignment.columns.iter().enumerate() {
            let Some(at) = detail.table.target.position(&name.text) else { continue };
            let Some((text, _)) = step.value(assignment, nth) else { continue };
            let exact = plan.foreseen.iter().any(|f| f.column == at && f.label == Label::Exact && !f.derived);
            if exact {
                all.retain(|(column, _)| *column != at);
                all.push((at, text));
            }
        }
    }
    all
}

/// Rows keep their identity unless the statement assigns it; then the foreseen key finds them.
fn pair_on(table: &Table, after: &[(usize, String)]) -> String {
    let foreseen = |at: usize| after.iter().find(|(column, _)| *column == at).map(|(_, name)| name.clone());
    if let Some(row) = &table.row {
        let held = table.row_column.and_then(foreseen).unwrap_or_else(|| ROW.to_string());
        return format!("t.{} = h.{held}", quoted(row));
    }
    let terms: Vec<String> = table
        .target
        .key
        .columns
        .iter()
        .zip(&table.target.key.names)
        .map(|(&at, name)| format!("t.{} = h.{}", quoted(name), foreseen(at).unwrap_or_else(|| before(at))))
        .collect();
    terms.join(" AND ")
}

/// A type error in the held table is the one that the statement itself would meet.
fn in_user_words(error: rusqlite::Error, table: &str) -> EngineError {
    match engine(error) {
        EngineError::Constraint { kind, message } => {
            EngineError::Constraint { kind, message: message.replace(&HELD.to_string(), table) }
        }
        other => other,
    }
}

pub(crate) fn drop_held(connection: &Connection) -> Result<(), EngineError> {
    connection.execute_batch(&format!("DROP TABLE IF EXISTS temp.{HELD}")).map_err(engine)
}

impl Shape {
    /// The columns of `h` that make a [`HeldRow`].
    fn select_list(&self) -> String {
        let mut list = vec![format!("h.{ORDINAL}")];
        if self.has_row {
            list.push(format!("h.{ROW}"));
        }
        list.extend((0..self.target.columns.len()).map(|at| format!("h.{}", before(at))));
        list.extend(self.after.iter().map(|(_, name)| format!("h.{name}")));
        if self.flags {
            list.extend([format!("h.{THERE}"), format!("h.{IS_WANTED}")]);
        }
        list.join(", ")
    }

    /// How many columns [`Shape::select_list`] has.
    fn width(&self) -> usize {
        let flags = if self.flags { 2 } else { 0 };
        1 + usize::from(self.has_row) + self.target.columns.len() + self.after.len() + flags
    }

    fn row(&self, row: &rusqlite::Row<'_>, held: &mut HeldRow) -> rusqlite::Result<()> {
        let columns = self.target.columns.len();
        held.ordinal = row.get(0)?;
        held.before.clear();
        values::read(row, 1 + usize::from(self.has_row), columns, &mut held.before)?;
        held.key.clear();
        if self.target.key.kind == KeyKind::RowIdentity {
            values::read(row, 1, 1, &mut held.key)?;
        } else {
            held.key.extend(self.target.key.columns.iter().filter_map(|&at| held.before.get(at).cloned()));
        }
        let (there, wanted) = if self.flags {
            let at = self.width() - 2;
            (row.get(at)?, row.get(at + 1)?)
        } else {
            (true, self.kind != StepKind::Delete)
        };
        if !wanted {
            held.after = After::Gone;
            return Ok(());
        }
        let mut after = held.before.clone();
        let first = 1 + usize::from(self.has_row) + columns;
        for (offset, (at, _)) in self.after.iter().enumerate() {
            if let Some(cell) = after.get_mut(*at) {
                *cell = values::from_ref(row.get_ref(first + offset)?);
            }
        }
        if !there {
            held.before.clear();
            if self.target.key.kind != KeyKind::RowIdentity {
                held.key = self.target.key.columns.iter().filter_map(|&at| after.get(at).cloned()).collect();
            }
        }
        held.after = After::Row(after);
        Ok(())
    }

    /// The key of one held row.
    fn key_at(&self, connection: &Connection, ordinal: i64) -> Result<Vec<Value>, EngineError> {
        let sql =
            format!("SELECT {} FROM temp.{HELD} AS h WHERE h.{ORDINAL} = {ordinal}", self.select_list());
        let mut held = empty_row();
        connection.query_row(&sql, [], |row| self.row(row, &mut held)).map_err(engine)?;
        Ok(held.key)
    }

    /// Hands all held rows over in order.
    pub(crate) fn stream(&self, connection: &Connection, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        let sql = format!("SELECT {} FROM temp.{HELD} AS h ORDER BY h.{ORDINAL}", self.select_list());
        let mut statement = connection.prepare(&sql).map_err(engine)?;
        let mut rows = statement.query([]).map_err(engine)?;
        let mut held = empty_row();
        while let Some(row) = rows.next().map_err(engine)? {
            self.row(row, &mut held).map_err(engine)?;
            sink(&held).map_err(EngineError::Sink)?;
        }
        Ok(())
    }

    /// Hands all held rows over, each with what is there now.
    pub(crate) fn pairs(&self, connection: &Connection, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        if self.width() + self.target.columns.len() >= MOST_COLUMNS {
            return self.wide_pairs(connection, sink);
        }
        let now: Vec<String> = self.target.columns.iter().map(|c| format!("t.{}", quoted(&c.name))).collect();
        let sql = format!(
            "SELECT {}, {} IS NOT NULL, {} FROM temp.{HELD} AS h LEFT JOIN main.{} AS t ON {} ORDER BY h.{ORDINAL}",
            self.select_list(),
            self.there,
            now.join(", "),
            quoted(&self.target.table),
            self.pair_on,
        );
        let mut statement = connection.prepare(&sql).map_err(engine)?;
        let mut rows = statement.query([]).map_err(engine)?;
        let mut held = empty_row();
        let mut actual = Vec::new();
        let width = self.width();
        while let Some(row) = rows.next().map_err(engine)? {
            self.row(row, &mut held).map_err(engine)?;
            let there: bool = row.get(width).map_err(engine)?;
            actual.clear();
            if there {
                values::read(row, width + 1, self.target.columns.len(), &mut actual).map_err(engine)?;
            }
            sink(&held, there.then_some(actual.as_slice())).map_err(EngineError::Sink)?;
        }
        Ok(())
    }
}

impl Shape {
    /// Both images of very wide rows are read side by side.
    fn wide_pairs(&self, connection: &Connection, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        let now: Vec<String> = self.target.columns.iter().map(|c| format!("t.{}", quoted(&c.name))).collect();
        let sql = format!("SELECT {} FROM temp.{HELD} AS h ORDER BY h.{ORDINAL}", self.select_list());
        let mut statement = connection.prepare(&sql).map_err(engine)?;
        let mut rows = statement.query([]).map_err(engine)?;
        let sql = format!(
            "SELECT h.{ORDINAL}, {} IS NOT NULL, {} FROM temp.{HELD} AS h LEFT JOIN main.{} AS t ON {} ORDER BY h.{ORDINAL}",
            self.there,
            now.join(", "),
            quoted(&self.target.table),
            self.pair_on,
        );
        let mut second = connection.prepare(&sql).map_err(engine)?;
        let mut others = second.query([]).map_err(engine)?;
        let mut held = empty_row();
        let mut actual = Vec::new();
        while let Some(row) = rows.next().map_err(engine)? {
            self.row(row, &mut held).map_err(engine)?;
            let other = others.next().map_err(engine)?;
            let Some(other) = other.filter(|o| o.get(0) == Ok(held.ordinal)) else {
                return Err(EngineError::Other("a held row was not read again".to_owned()));
            };
            let there: bool = other.get(1).map_err(engine)?;
            actual.clear();
            if there {
                values::read(other, 2, self.target.columns.len(), &mut actual).map_err(engine)?;
            }
            sink(&held, there.then_some(actual.as_slice())).map_err(EngineError::Sink)?;
        }
        Ok(())
    }
}

/// In a database of the encoding UTF-16 a text may hold half of a pair, which no text here can: such a row cannot be kept
/// as it is. A text goes there and back through UTF-8, and must then be the same bytes.
fn texts_are_whole(connection: &Connection, target: &Target) -> Result<(), EngineError> {
    let encoding: String =
        connection.query_row("PRAGMA main.encoding", [], |row| row.get(0)).map_err(engine)?;
    if encoding == "UTF-8" {
        return Ok(());
    }
    for (at, column) in target.columns.iter().enumerate() {
        let x = before(at);
        let sql = format!(
            "SELECT {ORDINAL} FROM temp.{HELD} WHERE typeof({x}) = 'text' AND instr({x}, char(0)) = 0 \
             AND CAST(printf('%s', {x}) AS BLOB) <> CAST({x} AS BLOB) ORDER BY 1 LIMIT 1"
        );
        match connection.query_row(&sql, [], |row| row.get::<_, i64>(0)) {
            Err(rusqlite::Error::QueryReturnedNoRows) => {}
            Err(error) => return Err(engine(error)),
            Ok(ordinal) => {
                return Err(EngineError::Other(format!(
                    "the text in {} of the matched row number {ordinal} of {} is no valid UTF-16: it could not be kept and \
                     put back as it is",
                    column.name, target.table
                )));
            }
        }
    }
    Ok(())
}

fn empty_row() -> HeldRow {
    HeldRow { ordinal: 0, key: Vec::new(), before: Vec::new(), after: After::Gone }
}
