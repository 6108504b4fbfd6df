//! Looking rows up by key, and putting them back. Never by replacing rows: a row is updated, inserted or deleted by
//! its key after what is there was compared.

use marktwice_core::Value;
use marktwice_core::mark::StepKind;
use marktwice_core::table::{KeyKind, Target};
use marktwice_port::engine::{ChangeSource, KeepSink};
use marktwice_port::{Constraint, EngineError, Keep, Restore};
use marktwice_server::layout::{image, images, twice};
use rusqlite::{Connection, Statement, params_from_iter};

use crate::catalog::describe;
use crate::error::engine;
use crate::names::quoted;
use crate::shape::{Shape, drop_held, presence};
use crate::values::{self, Bind};
use marktwice_sql::ours::{HELD, IS_WANTED, ORDINAL, ROW, THERE, before, wanted};

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

/// The columns that a statement of this kind writes.
fn written(restore: &Restore, kind: StepKind) -> Vec<usize> {
    let stored = |at: &usize| restore.target.columns.get(*at).is_some_and(|c| !c.generated);
    match kind {
        StepKind::Update => restore.columns.iter().copied().filter(stored).collect(),
        StepKind::Insert => (0..restore.target.columns.len()).filter(stored).collect(),
        StepKind::Delete => Vec::new(),
    }
}

/// The statement that puts one row back: first the values of the written columns, then the key. OR ABORT overrides
/// a conflict clause in the table's definition, which might delete another row or skip this one.
pub(crate) fn put_statement(restore: &Restore, kind: StepKind) -> String {
    let target = &restore.target;
    let table = quoted(&target.table);
    let names: Vec<String> = target.names(&written(restore, kind)).iter().map(|n| quoted(n)).collect();
    match kind {
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
    sink: &mut KeepSink<'_>,
) -> Result<(Shape, u64), EngineError> {
    let target = &restore.target;
    let width = target.columns.len();
    let described = describe(connection, &target.table)?;
    if described.target.definition != target.definition {
        return Err(EngineError::SchemaChanged(format!("the definition of {} has changed", target.table)));
    }
    drop_held(connection)?;
    let mut columns = vec![format!("{ORDINAL} INTEGER PRIMARY KEY"), ROW.to_string()];
    columns.extend((0..width).map(before));
    let twice = twice(restore);
    columns.extend(twice.iter().map(|at| wanted(*at)));
    columns.extend([THERE.to_string(), IS_WANTED.to_string()]);
    connection
        .execute_batch(&format!("CREATE TEMP TABLE {HELD} ({})", columns.join(", ")))
        .map_err(engine)?;
    let marks = vec!["?"; columns.len()].join(", ");
    let mut insert =
        connection.prepare(&format!("INSERT INTO temp.{HELD} VALUES ({marks})")).map_err(engine)?;
    let mut finder = Finder::new(connection, target)?;
    let by_row = target.key.kind == KeyKind::RowIdentity;
    let mut held = 0;
    while let Some(change) = source().map_err(EngineError::Sink)? {
        let now = finder.find(&change.key)?;
        let wanted = match sink(&change, now).map_err(EngineError::Sink)? {
            Keep::Hold(wanted) => wanted,
            Keep::Leave => continue,
        };
        let row = if by_row { change.key.first().cloned().unwrap_or(Value::Null) } else { Value::Null };
        let first = [Value::Int(change.ordinal), row];
        let flags = [Value::Int(i64::from(now.is_some())), Value::Int(i64::from(wanted.is_some()))];
        let images = images(&twice, now, wanted.as_deref());
        let all = first.iter().chain(images).chain(&flags).map(Bind);
        insert.execute(params_from_iter(all)).map_err(engine)?;
        held += 1;
    }
    let pair_on = if by_row {
        format!("t.{} = h.{ROW}", target.key.names.first().map_or(String::new(), |n| quoted(n)))
    } else {
        // After the undo a wanted row has its wanted key; one that is not wanted is looked for under its present key.
        let side = |at: usize| {
            format!("CASE WHEN h.{IS_WANTED} THEN h.{} ELSE h.{} END", image(&twice, at), before(at))
        };
        let pairs = target.key.columns.iter().zip(&target.key.names);
        pairs
            .map(|(&at, name)| format!("t.{} = {}", quoted(name), side(at)))
            .collect::<Vec<_>>()
            .join(" AND ")
    };
    let shape = Shape {
        target: target.clone(),
        kind: restore.kind,
        has_row: true,
        flags: true,
        after: twice.iter().map(|at| (*at, wanted(*at))).collect(),
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
    let mut put = Put::new(connection, restore);
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

/// One prepared statement and where its values stand in the held table.
struct Writer<'c> {
    statement: Statement<'c>,
    positions: Vec<usize>,
}

impl<'c> Writer<'c> {
    fn new(connection: &'c Connection, restore: &Restore, kind: StepKind) -> Result<Self, EngineError> {
        let target = &restore.target;
        let by_row = target.key.kind == KeyKind::RowIdentity;
        let twice = twice(restore);
        let wanted = written(restore, kind).into_iter().map(|at| {
            twice.iter().position(|t| *t == at).map_or(2 + at, |nth| 2 + target.columns.len() + nth)
        });
        let located: Vec<usize> = match (by_row, kind) {
            (true, _) => vec![1],
            (false, StepKind::Insert) => Vec::new(),
            (false, _) => target.key.columns.iter().map(|at| 2 + at).collect(),
        };
        let positions = wanted.chain(located).collect();
        Ok(Writer {
            statement: connection.prepare(&put_statement(restore, kind)).map_err(engine)?,
            positions,
        })
    }

    fn write(&mut self, row: &rusqlite::Row<'_>) -> Result<Result<(), EngineError>, EngineError> {
        let mut bound = Vec::with_capacity(self.positions.len());
        for &at in &self.positions {
            bound.push(values::from_ref(row.get_ref(at).map_err(engine)?));
        }
        match self.statement.execute(params_from_iter(bound.iter().map(Bind))) {
            Ok(1) => Ok(Ok(())),
            Ok(other) => Err(EngineError::Other(format!("{other} rows answered where one was put back"))),
            Err(error) => match engine(error) {
                error @ EngineError::Constraint { kind: Constraint::Unique, .. } => Ok(Err(error)),
                error => Err(error),
            },
        }
    }
}

/// The writers, each prepared when the first row needs it: a statement that no row needs is not even compiled.
struct Put<'c> {
    connection: &'c Connection,
    restore: &'c Restore,
    update: Option<Writer<'c>>,
    insert: Option<Writer<'c>>,
    delete: Option<Writer<'c>>,
    flags: usize,
    done: u64,
}

impl<'c> Put<'c> {
    fn new(connection: &'c Connection, restore: &'c Restore) -> Self {
        let flags = 2 + restore.target.columns.len() + twice(restore).len();
        Put { connection, restore, update: None, insert: None, delete: None, flags, done: 0 }
    }

    /// Puts one row back; the inner error says that another row stands in the way.
    fn row(&mut self, row: &rusqlite::Row<'_>) -> Result<Result<(), EngineError>, EngineError> {
        let there: bool = row.get(self.flags).map_err(engine)?;
        let wanted: bool = row.get(self.flags + 1).map_err(engine)?;
        let (slot, kind) = match (there, wanted) {
            (true, true) => (&mut self.update, StepKind::Update),
            (false, true) => (&mut self.insert, StepKind::Insert),
            (true, false) => (&mut self.delete, StepKind::Delete),
            (false, false) => {
                return Err(EngineError::Other("a row that is neither there nor wanted".to_owned()));
            }
        };
        let writer = match slot {
            Some(writer) => writer,
            None => slot.insert(Writer::new(self.connection, self.restore, kind)?),
        };
        let written = writer.write(row)?;
        self.done += u64::from(written.is_ok());
        Ok(written)
    }
}
