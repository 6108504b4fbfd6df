//! Looking rows up by key, and putting them back. Never by replacing rows: a row is updated, inserted or deleted by
//! its key after what is there was compared.

use marktwice_core::Value;
use marktwice_core::mark::StepKind;
use marktwice_core::table::{KeyKind, Target};
use marktwice_port::engine::{ChangeSource, FoundSink};
use marktwice_port::{Constraint, EngineError, Restore};
use rusqlite::{Connection, Statement, params_from_iter};

use crate::catalog::describe;
use crate::error::engine;
use crate::names::{HELD, ORDINAL, ROW, before, quoted, wanted};
use crate::shape::{Shape, drop_held, presence};
use crate::values::{self, Bind};

/// Numbers of held rows that wait for another row to move.
type Ordinals = Vec<i64>;

/// Looks rows up by key.
pub(crate) struct Finder<'c> {
    statement: Statement<'c>,
    width: usize,
    row: Vec<Value>,
}

impl<'c> Finder<'c> {
    pub(crate) fn new(connection: &'c Connection, target: &Target) -> Result<Self, EngineError> {
        let columns: Vec<String> = target.columns.iter().map(|c| quoted(&c.name)).collect();
        let terms: Vec<String> = target.key.names.iter().map(|k| format!("{} = ?", quoted(k))).collect();
        let sql = format!(
            "SELECT {} FROM main.{} WHERE {}",
            columns.join(", "),
            quoted(&target.table),
            terms.join(" AND ")
        );
        let statement = connection.prepare(&sql).map_err(engine)?;
        Ok(Finder { statement, width: columns.len(), row: Vec::new() })
    }

    pub(crate) fn find(&mut self, key: &[Value]) -> Result<Option<&[Value]>, EngineError> {
        let mut rows = self.statement.query(params_from_iter(key.iter().map(Bind))).map_err(engine)?;
        match rows.next().map_err(engine)? {
            None => Ok(None),
            Some(row) => {
                self.row.clear();
                values::read(row, 0, self.width, &mut self.row).map_err(engine)?;
                Ok(Some(&self.row))
            }
        }
    }
}

fn keyed(target: &Target) -> String {
    let terms: Vec<String> = target.key.names.iter().map(|k| format!("{} = ?", quoted(k))).collect();
    terms.join(" AND ")
}

/// The columns that a restore writes.
fn written(restore: &Restore) -> Vec<usize> {
    let stored = |at: &usize| restore.target.columns.get(*at).is_some_and(|c| !c.generated);
    match restore.kind {
        StepKind::Update => restore.columns.iter().copied().filter(stored).collect(),
        StepKind::Insert => (0..restore.target.columns.len()).filter(stored).collect(),
        StepKind::Delete => Vec::new(),
    }
}

/// The statement that puts one row back: first the values of the written columns, then the key. OR ABORT overrides
/// a conflict clause in the table's definition, which might delete another row or skip this one.
pub(crate) fn put_statement(restore: &Restore) -> String {
    let target = &restore.target;
    let table = quoted(&target.table);
    let names: Vec<String> = target.names(&written(restore)).iter().map(|n| quoted(n)).collect();
    match restore.kind {
        StepKind::Update => {
            let sets: Vec<String> = names.iter().map(|n| format!("{n} = ?")).collect();
            format!("UPDATE OR ABORT main.{table} SET {} WHERE {}", sets.join(", "), keyed(target))
        }
        StepKind::Delete => format!("DELETE FROM main.{table} WHERE {}", keyed(target)),
        StepKind::Insert => {
            let mut names = names;
            if target.key.kind == KeyKind::RowIdentity {
                names.extend(target.key.names.iter().map(|n| quoted(n)));
            }
            let marks = vec!["?"; names.len()].join(", ");
            format!("INSERT OR ABORT INTO main.{table} ({}) VALUES ({marks})", names.join(", "))
        }
    }
}

/// Makes the held table of rows that are to be put back, and fills it with what is there and what is wanted.
pub(crate) fn hold_rows(
    connection: &Connection,
    restore: &Restore,
    source: &mut ChangeSource<'_>,
    sink: &mut FoundSink<'_>,
) -> Result<(Shape, u64), EngineError> {
    let target = &restore.target;
    let width = target.columns.len();
    let described = describe(connection, &target.table)?;
    if described.target.definition != target.definition {
        return Err(EngineError::SchemaChanged(format!("the definition of {} has changed", target.table)));
    }
    drop_held(connection)?;
    let mut columns = vec![format!("{ORDINAL} INTEGER PRIMARY KEY"), ROW.to_owned()];
    columns.extend((0..width).map(before));
    columns.extend((0..width).map(wanted));
    connection
        .execute_batch(&format!("CREATE TEMP TABLE {HELD} ({})", columns.join(", ")))
        .map_err(engine)?;
    let marks = vec!["?"; 2 + 2 * width].join(", ");
    let mut insert =
        connection.prepare(&format!("INSERT INTO temp.{HELD} VALUES ({marks})")).map_err(engine)?;
    let mut finder = Finder::new(connection, target)?;
    let by_row = target.key.kind == KeyKind::RowIdentity;
    let nothing = vec![Value::Null; width];
    let mut held = 0;
    while let Some(change) = source().map_err(EngineError::Sink)? {
        let now = finder.find(&change.key)?;
        sink(&change, now).map_err(EngineError::Sink)?;
        let ordinal = Value::Int(change.ordinal);
        let row = if by_row { change.key.first().cloned().unwrap_or(Value::Null) } else { Value::Null };
        let wanted = change.after.as_deref().unwrap_or(&nothing);
        let all = [&ordinal, &row].into_iter().chain(now.unwrap_or(&nothing)).chain(wanted).map(Bind);
        insert.execute(params_from_iter(all)).map_err(engine)?;
        held += 1;
    }
    let side = |at: usize| if restore.kind == StepKind::Delete { before(at) } else { wanted(at) };
    let pair_on = if by_row {
        format!("t.{} = h.{ROW}", target.key.names.first().map_or(String::new(), |n| quoted(n)))
    } else {
        let pairs = target.key.columns.iter().zip(&target.key.names);
        pairs
            .map(|(&at, name)| format!("t.{} = h.{}", quoted(name), side(at)))
            .collect::<Vec<_>>()
            .join(" AND ")
    };
    let shape = Shape {
        target: target.clone(),
        kind: restore.kind,
        has_row: true,
        after: (0..width).map(|at| (at, wanted(at))).collect(),
        pair_on,
        there: presence(&described),
    };
    Ok((shape, held))
}

/// Puts all held rows back. A row that another still stands in the way of (a unique value that is handed on) waits
/// until that one has moved; since the run itself got from there to here one row at a time, there is an order that
/// works, and when no row can move any more there is a real conflict.
pub(crate) fn put(connection: &Connection, restore: &Restore) -> Result<u64, EngineError> {
    connection.pragma_update(None, "defer_foreign_keys", true).map_err(engine)?;
    let order = if restore.kind == StepKind::Update { "DESC" } else { "ASC" };
    let mut put = Put::new(connection, restore)?;
    let mut waiting: Ordinals = Vec::new();
    let mut last = None;
    let sql = format!("SELECT * FROM temp.{HELD} ORDER BY {ORDINAL} {order}");
    let mut statement = connection.prepare(&sql).map_err(engine)?;
    let mut rows = statement.query([]).map_err(engine)?;
    while let Some(row) = rows.next().map_err(engine)? {
        if let Err(error) = put.row(row)? {
            waiting.push(row.get(0).map_err(engine)?);
            last = Some(error);
        }
    }
    let mut again =
        connection.prepare(&format!("SELECT * FROM temp.{HELD} WHERE {ORDINAL} = ?")).map_err(engine)?;
    while !waiting.is_empty() {
        let before = waiting.len();
        let mut still: Ordinals = Vec::new();
        for ordinal in waiting.into_iter().rev() {
            let mut rows = again.query([ordinal]).map_err(engine)?;
            if let Some(row) = rows.next().map_err(engine)?
                && let Err(error) = put.row(row)?
            {
                still.push(ordinal);
                last = Some(error);
            }
        }
        if still.len() == before {
            return Err(
                last.unwrap_or_else(|| EngineError::Other("rows stand in each other's way".to_owned()))
            );
        }
        still.reverse();
        waiting = still;
    }
    Ok(put.done)
}

struct Put<'c> {
    statement: Statement<'c>,
    kind: StepKind,
    written: Vec<usize>,
    key: Vec<usize>,
    by_row: bool,
    width: usize,
    done: u64,
}

impl<'c> Put<'c> {
    fn new(connection: &'c Connection, restore: &Restore) -> Result<Self, EngineError> {
        Ok(Put {
            statement: connection.prepare(&put_statement(restore)).map_err(engine)?,
            kind: restore.kind,
            written: written(restore),
            key: restore.target.key.columns.clone(),
            by_row: restore.target.key.kind == KeyKind::RowIdentity,
            width: restore.target.columns.len(),
            done: 0,
        })
    }

    /// Puts one row back; the inner error says that another row stands in the way.
    fn row(&mut self, row: &rusqlite::Row<'_>) -> Result<Result<(), EngineError>, EngineError> {
        let (width, key, by_row) = (self.width, &self.key, self.by_row);
        let wanted = self.written.iter().map(|at| 2 + width + at);
        let located: Vec<usize> = match (by_row, self.kind) {
            (true, _) => vec![1],
            (false, StepKind::Insert) => Vec::new(),
            (false, _) => key.iter().map(|at| 2 + at).collect(),
        };
        let positions: Vec<usize> = wanted.chain(located).collect();
        let mut bound = Vec::with_capacity(positions.len());
        for at in positions {
            bound.push(values::from_ref(row.get_ref(at).map_err(engine)?));
        }
        match self.statement.execute(params_from_iter(bound.iter().map(Bind))) {
            Ok(1) => {
                self.done += 1;
                Ok(Ok(()))
            }
            Ok(other) => Err(EngineError::Other(format!("{other} rows answered where one was put back"))),
            Err(error) => match engine(error) {
                error @ EngineError::Constraint { kind: Constraint::Unique, .. } => Ok(Err(error)),
                error => Err(error),
            },
        }
    }
}
