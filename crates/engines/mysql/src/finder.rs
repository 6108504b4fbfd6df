//! Looking rows up, a chunk at a time: by key, or by their whole contents where there is no key.

use std::collections::HashMap;

use marktwice_core::Value;
use marktwice_core::hash::RowHash;
use marktwice_core::table::KeyKind;
use marktwice_core::undo::RowChange;
use marktwice_port::EngineError;
use marktwice_port::engine::ChangeSource;
use marktwice_server::layout::key_of;
use marktwice_sql::ours::{ASKED, FOUND, before};

use crate::catalog::{Table, ident};
use crate::client::My;
use crate::content::content;
use crate::values::Form;

/// How many rows are looked up at once.
const CHUNK: usize = 200;

/// How rows that are found are locked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Lock {
    /// Not at all.
    None,
    /// So that nobody is still writing them.
    Shared,
    /// So that they can be written.
    Update,
}

impl Lock {
    fn clause(self) -> &'static str {
        match self {
            Lock::None => "",
            Lock::Shared => " LOCK IN SHARE MODE",
            Lock::Update => " FOR UPDATE",
        }
    }
}

/// A change and what is there now.
pub(crate) type Answer = (RowChange, Option<Vec<Value>>);

/// Looks rows up.
pub(crate) struct Finder<'t> {
    table: &'t Table,
    lock: Lock,
    /// How often each content was asked for: the nth asks for the nth such row.
    asked: HashMap<u64, i64>,
    /// Whether the contents that are there have been counted.
    counted: bool,
}

impl<'t> Finder<'t> {
    /// A finder that locks what it finds, or not. What it needs is made here, so not inside a transaction that only
    /// reads.
    pub(crate) fn new(my: &mut My, table: &'t Table, lock: Lock) -> Result<Self, EngineError> {
        if table.target.key.kind == KeyKind::WholeRow {
            let columns: Vec<String> = table
                .types
                .iter()
                .enumerate()
                .map(|(at, of)| format!("{} {} NULL", before(at), of.roomy))
                .collect();
            let hash = "char(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin";
            for (name, columns) in [
                (asked(table), format!("o bigint, n bigint, {}", columns.join(", "))),
                (found_name(table), format!("c {hash} PRIMARY KEY, n bigint")),
            ] {
                my.run(&format!("DROP TEMPORARY TABLE IF EXISTS {name}"))?;
                my.run(&format!("CREATE TEMPORARY TABLE {name} ({columns}) ENGINE=InnoDB"))?;
            }
        }
        Ok(Finder { table, lock, asked: HashMap::new(), counted: false })
    }

    /// Counts the rows of each content that is there: the table is read once, however many chunks are asked for.
    fn count_contents(&mut self, my: &mut My) -> Result<(), EngineError> {
        let there = content(self.table, |at| {
            self.table.target.columns.get(at).map_or(String::new(), |c| format!("t.{}", ident(&c.name)))
        });
        let lock = self.lock.clause();
        my.execute_one(
            &format!(
                "INSERT INTO {} SELECT {there} AS marktwice_c, count(*) FROM {} AS t GROUP BY marktwice_c{lock}",
                found_name(self.table),
                self.table.name
            ),
            &[],
        )?;
        self.counted = true;
        Ok(())
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
        let bit = |at: &usize| self.table.types.get(*at).is_some_and(|t| t.kind == "bit");
        // A BIT is compared as the number that it is; as a text it equals nothing.
        let mark = |at: &usize| if bit(at) { "CAST(CONV(HEX(?), 16, 10) AS UNSIGNED)" } else { "?" };
        let one: Vec<String> = key
            .names
            .iter()
            .zip(&key.columns)
            .map(|(k, at)| format!("{} = {}", ident(k), mark(at)))
            .collect();
        let filter = match (key.names.as_slice(), key.columns.as_slice()) {
            ([only], [at]) => format!("{} IN ({})", ident(only), vec![mark(at); changes.len()].join(", ")),
            _ => vec![format!("({})", one.join(" AND ")); changes.len()].join(" OR "),
        };
        let lock = self.lock.clause();
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
        if !self.counted {
            self.count_contents(my)?;
        }
        let name = asked(self.table);
        my.run(&format!("DELETE FROM {name}"))?;
        let marks = vec!["?"; 2 + self.table.types.len()].join(", ");
        let mut rows = Vec::new();
        for (at, change) in (0i64..).zip(changes) {
            if change.before.is_none() {
                // What the run took away is not looked for: an equal row is another row.
                continue;
            }
            let count = self.asked.entry(RowHash::of(&change.key).short().0).or_default();
            *count += 1;
            let mut values = vec![Value::Int(at), Value::Int(*count)];
            values.extend(change.key.iter().cloned());
            rows.push(values);
        }
        if rows.is_empty() {
            return Ok(vec![None; changes.len()]);
        }
        my.execute_many(&format!("INSERT INTO {name} VALUES ({marks})"), &rows)?;
        let wanted = content(self.table, |at| format!("a.{}", before(at)));
        let sql = format!(
            "SELECT a.o, a.n <= f.n FROM {name} AS a JOIN {} AS f ON f.c = {wanted}",
            found_name(self.table)
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

/// The temporary table of the contents that are there, with how many rows have each.
pub(crate) fn found_name(table: &Table) -> String {
    format!("{}.{FOUND}", ident(&table.target.schema))
}

fn asked(table: &Table) -> String {
    format!("{}.{ASKED}", ident(&table.target.schema))
}
