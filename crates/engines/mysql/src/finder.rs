//! Looking rows up, a chunk at a time: by key, or by their whole contents where there is no key.

use std::collections::HashMap;

use marktwice_core::Value;
use marktwice_core::hash::RowHash;
use marktwice_core::table::KeyKind;
use marktwice_core::undo::RowChange;
use marktwice_port::EngineError;
use marktwice_port::engine::ChangeSource;
use marktwice_server::layout::{key_of};
use marktwice_sql::ours::{ASKED, before};

use crate::catalog::{Table, ident};
use crate::client::My;
use crate::content::content;
use crate::values::Form;

/// How many rows are looked up at once.
const CHUNK: usize = 200;

/// A change and what is there now.
pub(crate) type Answer = (RowChange, Option<Vec<Value>>);

/// Looks rows up.
pub(crate) struct Finder<'t> {
    table: &'t Table,
    lock: bool,
    /// How often each content was asked for: the nth asks for the nth such row.
    asked: HashMap<u64, i64>,
}

impl<'t> Finder<'t> {
    /// A finder that locks what it finds, or not. What it needs is made here, so not inside a transaction that only
    /// reads.
    pub(crate) fn new(my: &mut My, table: &'t Table, lock: bool) -> Result<Self, EngineError> {
        if table.target.key.kind == KeyKind::WholeRow {
            let columns: Vec<String> = table
                .types
                .iter()
                .enumerate()
                .map(|(at, of)| format!("{} {}", before(at), of.roomy))
                .collect();
            let name = asked(table);
            my.run(&format!("DROP TEMPORARY TABLE IF EXISTS {name}"))?;
            my.run(&format!(
                "CREATE TEMPORARY TABLE {name} (o bigint, n bigint, {}) ENGINE=InnoDB",
                columns.join(", ")
            ))?;
        }
        Ok(Finder { table, lock, asked: HashMap::new() })
    }

    /// Reads the next chunk of changes and looks their rows up, in order. Empty at the end. Settings must be pinned.
    pub(crate) fn next(
        &mut self,
        my: &mut My,
        source: &mut ChangeSource<'_>,
    ) -> Result<Vec<Answer>, EngineError> {
        let mut changes = Vec::new();
        while changes.len() < CHUNK
            && let Some(change) = source().map_err(EngineError::Sink)?
        {
            changes.push(change);
        }
        if changes.is_empty() {
            return Ok(Vec::new());
        }
        let found = if self.table.target.key.kind == KeyKind::WholeRow {
            self.by_content(my, &changes)?
        } else {
            self.by_key(my, &changes)?
        };
        Ok(changes.into_iter().zip(found).collect())
    }

    fn columns(&self) -> String {
        self.table.target.columns.iter().map(|c| ident(&c.name)).collect::<Vec<_>>().join(", ")
    }

    fn read(&self, my: &mut My, changes: &[&RowChange]) -> Result<Vec<Vec<Value>>, EngineError> {
        let key = &self.table.target.key;
        let one: Vec<String> = key.names.iter().map(|k| format!("{} = ?", ident(k))).collect();
        let filter = match key.names.as_slice() {
            [only] => format!("{} IN ({})", ident(only), vec!["?"; changes.len()].join(", ")),
            _ => vec![format!("({})", one.join(" AND ")); changes.len()].join(" OR "),
        };
        let lock = if self.lock { " FOR UPDATE" } else { "" };
        let sql = format!("SELECT {} FROM {} WHERE {filter}{lock}", self.columns(), self.table.name);
        let keys: Vec<Value> = changes.iter().flat_map(|c| c.key.iter().cloned()).collect();
        let mut rows = Vec::new();
        my.stream(&sql, &keys, &self.table.forms(), &mut |row| {
            rows.push(row.to_vec());
            Ok(())
        })?;
        Ok(rows)
    }

    fn by_key(&self, my: &mut My, changes: &[RowChange]) -> Result<Vec<Option<Vec<Value>>>, EngineError> {
        let mut rows: HashMap<u64, Vec<Value>> = self
            .read(my, &changes.iter().collect::<Vec<_>>())?
            .into_iter()
            .map(|row| (RowHash::of(&key_of(&self.table.target, &row)).short().0, row))
            .collect();
        let mut found: Vec<Option<Vec<Value>>> =
            changes.iter().map(|change| rows.remove(&RowHash::of(&change.key).short().0)).collect();
        if !rows.is_empty() {
            // The same key by the collation, in other letters: such rows are asked for one by one.
            for (change, slot) in changes.iter().zip(&mut found).filter(|(_, slot)| slot.is_none()) {
                *slot = self.read(my, &[change])?.into_iter().next();
            }
        }
        Ok(found)
    }

    fn by_content(
        &mut self,
        my: &mut My,
        changes: &[RowChange],
    ) -> Result<Vec<Option<Vec<Value>>>, EngineError> {
        let name = asked(self.table);
        my.run(&format!("DELETE FROM {name}"))?;
        let marks = vec!["?"; 2 + self.table.types.len()].join(", ");
        for (at, change) in (0i64..).zip(changes) {
            if change.before.is_none() {
                // What the run took away is not looked for: an equal row is another row.
                continue;
            }
            let count = self.asked.entry(RowHash::of(&change.key).short().0).or_default();
            *count += 1;
            let mut values = vec![Value::Int(at), Value::Int(*count)];
            values.extend(change.key.iter().cloned());
            my.execute_one(&format!("INSERT INTO {name} VALUES ({marks})"), &values)?;
        }
        let there = content(self.table, |at| {
            self.table.target.columns.get(at).map_or(String::new(), |c| format!("t.{}", ident(&c.name)))
        });
        let wanted = content(self.table, |at| format!("a.{}", before(at)));
        let lock = if self.lock { " FOR UPDATE" } else { "" };
        let sql = format!(
            "SELECT a.o, a.n <= f.n FROM {name} AS a JOIN \
             (SELECT {there} AS marktwice_c, count(*) AS n FROM {} AS t GROUP BY marktwice_c{lock}) AS f ON f.marktwice_c = {wanted}",
            self.table.name
        );
        let mut found = vec![None; changes.len()];
        my.stream(&sql, &[], &[Form::Number, Form::Number], &mut |row| {
            if let [Value::Int(at), Value::Int(1)] = row {
                let at = usize::try_from(*at).unwrap_or(usize::MAX);
                if let (Some(slot), Some(change)) = (found.get_mut(at), changes.get(at)) {
                    *slot = Some(change.key.clone());
                }
            }
            Ok(())
        })?;
        Ok(found)
    }
}

fn asked(table: &Table) -> String {
    format!("{}.{ASKED}", ident(&table.target.schema))
}
