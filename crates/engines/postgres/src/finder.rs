//! Looking rows up, a chunk at a time: by key, or by their whole contents where there is no key.

use std::collections::HashMap;

use marktwice_core::Value;
use marktwice_core::hash::RowHash;
use marktwice_core::table::KeyKind;
use marktwice_core::undo::RowChange;
use marktwice_port::EngineError;
use marktwice_port::engine::ChangeSource;
use marktwice_sql::ours::FOUND;

use crate::catalog::{Table, ident};
use crate::client::{Pg, TextRow};
use crate::copy::literal;

/// How many rows are looked up at once.
pub(crate) const CHUNK: usize = 500;

/// A row that was found: what it holds, and where it stands (partition and place) if it has no key.
#[derive(Debug, Clone)]
pub(crate) struct Row {
    pub(crate) values: Vec<Value>,
    pub(crate) place: Option<(String, String)>,
}

/// Looks rows up.
pub(crate) struct Finder<'t> {
    table: &'t Table,
    lock: bool,
    /// How often each content was asked for: the nth asks for the nth such row.
    asked: HashMap<u64, u32>,
    /// Whether the contents that are there have been listed.
    listed: bool,
}

impl<'t> Finder<'t> {
    /// A finder that locks what it finds, or not.
    pub(crate) fn new(table: &'t Table, lock: bool) -> Self {
        Finder { table, lock, asked: HashMap::new(), listed: false }
    }

    /// Reads the next chunk of changes and looks their rows up, in order. Empty at the end.
    pub(crate) fn next(
        &mut self,
        pg: &mut Pg,
        source: &mut ChangeSource<'_>,
    ) -> Result<Vec<(RowChange, Option<Row>)>, EngineError> {
        let mut changes = Vec::new();
        while changes.len() < CHUNK
            && let Some(change) = source().map_err(EngineError::Sink)?
        {
            changes.push(change);
        }
        if changes.is_empty() {
            return Ok(Vec::new());
        }
        // What the run took away from a table without a key is not looked for: an equal row is another row.
        let absent = |change: &RowChange| change.before.is_none();
        let by_content = self.table.target.key.kind == KeyKind::WholeRow;
        let sql = if by_content { self.by_content(&changes)? } else { self.by_key(&changes)? };
        let mut found: Vec<Option<Row>> = vec![None; changes.len()];
        for row in pg.rows(&sql)? {
            let (at, row) = self.row(&row, by_content)?;
            if let Some(slot) = found.get_mut(at) {
                *slot = Some(row);
            }
        }
        let found = changes
            .iter()
            .zip(found)
            .map(|(c, row)| row.filter(|_| !by_content || !absent(c)))
            .collect::<Vec<_>>();
        Ok(changes.into_iter().zip(found).collect())
    }

    /// Position in the chunk; place; all columns.
    fn row(&self, row: &TextRow, by_content: bool) -> Result<(usize, Row), EngineError> {
        let text = |at: usize| row.get(at).and_then(Option::as_deref);
        let at = text(0).and_then(|t| t.parse().ok()).unwrap_or(usize::MAX);
        let values = self
            .table
            .types
            .iter()
            .zip(row.iter().skip(3))
            .map(|(of, cell)| of.form.value(cell.as_deref().map(str::as_bytes)))
            .collect::<Result<Vec<_>, _>>()?;
        let place = (text(1).unwrap_or("").to_owned(), text(2).unwrap_or("").to_owned());
        Ok((at, Row { values, place: by_content.then_some(place) }))
    }

    fn columns(&self) -> String {
        let names = self.table.target.columns.iter().map(|c| format!("t.{}", ident(&c.name)));
        names.collect::<Vec<_>>().join(", ")
    }

    fn lock(&self) -> &'static str {
        if self.lock { " FOR UPDATE OF t" } else { "" }
    }

    fn by_key(&self, changes: &[RowChange]) -> Result<String, EngineError> {
        let key = &self.table.target.key;
        let mut rows = Vec::with_capacity(changes.len());
        for (at, change) in changes.iter().enumerate() {
            let mut cells = vec![at.to_string()];
            for (value, &column) in change.key.iter().zip(&key.columns) {
                cells.push(self.typed(value, column)?);
            }
            rows.push(format!("({})", cells.join(", ")));
        }
        let on: Vec<String> = key
            .names
            .iter()
            .zip(&self.table.equals)
            .enumerate()
            .map(|(n, (name, equals))| format!("t.{} {equals} u.k{n}", ident(name)))
            .collect();
        let names: Vec<String> = (0..key.names.len()).map(|n| format!("k{n}")).collect();
        Ok(format!(
            "SELECT u.o, NULL, NULL, {} FROM (VALUES {}) AS u(o, {}) JOIN {} AS t ON {}{}",
            self.columns(),
            rows.join(", "),
            names.join(", "),
            self.table.from,
            on.join(" AND "),
            self.lock(),
        ))
    }

    fn by_content(&mut self, changes: &[RowChange]) -> Result<String, EngineError> {
        let mut rows = Vec::with_capacity(changes.len());
        for (at, change) in changes.iter().enumerate() {
            let count = self.asked.entry(RowHash::of(&change.key).short().0).or_default();
            *count += 1;
            let count = *count;
            let mut cells = Vec::new();
            for (column, value) in change.key.iter().enumerate() {
                cells.push(self.typed(value, column)?);
            }
            rows.push(format!("({at}, {count}, ROW({})::text COLLATE \"C\")", cells.join(", ")));
        }
        // Locking is not allowed beside a window function, so the places found are read again.
        let found = if self.listed { format!("pg_temp.{FOUND}") } else { format!("({})", self.contents()) };
        Ok(format!(
            "SELECT u.o, t.tableoid, t.ctid, {columns} FROM (VALUES {}) AS u(o, n, c) JOIN {found} AS f \
             ON f.c = md5(u.c) AND f.n = u.n JOIN {from} AS t ON t.tableoid = f.part AND t.ctid = f.place \
             WHERE ROW({columns})::text COLLATE \"C\" = u.c{}",
            rows.join(", "),
            self.lock(),
            columns = self.columns(),
            from = self.table.from,
        ))
    }

    /// Every row's contents, shortened to a hash, with its place and its number among its equals.
    fn contents(&self) -> String {
        let content = format!("md5(ROW({})::text COLLATE \"C\")", self.columns());
        format!(
            "SELECT t.tableoid AS part, t.ctid AS place, {content} AS c, \
             row_number() OVER (PARTITION BY {content} ORDER BY t.tableoid, t.ctid) AS n FROM {} AS t",
            self.table.from
        )
    }

    /// Lists the contents of a table without a key once, however many chunks are asked for. Temporary tables must be
    /// allowed here, and settings pinned.
    pub(crate) fn list(&mut self, pg: &mut Pg) -> Result<(), EngineError> {
        if self.table.target.key.kind != KeyKind::WholeRow {
            return Ok(());
        }
        pg.execute_one(&format!("CREATE TEMPORARY TABLE {FOUND} ON COMMIT DROP AS {}", self.contents()))?;
        pg.run(&format!("CREATE INDEX ON pg_temp.{FOUND} (c, n); ANALYZE pg_temp.{FOUND}"))?;
        self.listed = true;
        Ok(())
    }

    fn typed(&self, value: &Value, column: usize) -> Result<String, EngineError> {
        let base = self.table.types.get(column).map_or("text", |t| t.base.as_str());
        Ok(format!("{}::{base}", literal(value)?))
    }
}
