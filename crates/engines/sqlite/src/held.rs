//! The temporary table of held rows: its definition, and what fills it.
//!
//! Before-values go into columns without a type, so that nothing is converted. After-values go into columns that
//! have the affinity (or, for STRICT tables, the type) and the collation of the target's, under the target's own
//! column names, so that the engine itself makes of them what it would store, and computes generated columns from
//! them.

use marktwice_core::Value;
use marktwice_core::mark::StepKind;
use marktwice_core::param::ParamKind;
use marktwice_core::table::{Key, KeyKind, Target};
use marktwice_port::{Broken, EngineError, PairSink, Plan};
use marktwice_relational::held;
use marktwice_relational::insert;
use marktwice_relational::recipe::{Recipe, Slot};
use marktwice_relational::shell::{Joining, Shell, Tabled};
use marktwice_sql::dialect::ours::{self, ORDINAL, ROW, before};
use marktwice_sql::query::ask::Texts;
use marktwice_sql::query::row_query::Ask;
use marktwice_sql::statement::pins::UniqueKey;
use marktwice_sql::{Language, Step};
use rusqlite::Connection;

use crate::affinity::type_name;
use crate::ask::ask;
use crate::catalog::Table;
use crate::detail::{Detail, Own};
use crate::error::engine;
use crate::names::quoted;
use crate::params::prepared;
use crate::plan::schema_version;
use crate::session::Lite;
use crate::values;

/// Held rows of a file.
pub(crate) type Held = held::Held<Table>;
/// See [`held::Filled`].
pub(crate) type Filled = held::Filled<Table>;

impl Tabled for Table {
    /// A value says itself what it is.
    type Form = ();
    type Own = Own;

    const LANGUAGE: Language = Language::Sqlite;
    const ENGINE: &str = "SQLite";
    const JOINING: Joining = Joining::In;
    const NUMBERED: (&str, &str) = ("INTEGER PRIMARY KEY", "INTEGER");
    const COUNTED: &str = "INTEGER PRIMARY KEY";
    const WHOLE: &str = "INTEGER";
    const MOST_COLUMNS: usize = 2_000;
    const NUMBER: () = ();
    const TRUTH: () = ();

    fn leaves_doubt(&self) -> bool {
        self.doubtful
    }

    fn generated_as(&self, column: usize) -> Option<&str> {
        self.generated.get(column)?.as_deref()
    }

    fn target(&self) -> &Target {
        &self.target
    }

    fn from(&self) -> String {
        format!("main.{}", quoted(&self.target.table))
    }

    fn form(&self, _: usize) {}

    fn shown(&self) -> &str {
        &self.target.table
    }

    fn tell_by(&mut self, key: &Key) {
        self.target.key = key.clone();
    }

    fn lasting_key(&self) -> Key {
        let key = &self.target.key;
        let open = |at: &usize| self.target.columns.get(*at).is_some_and(|column| !column.not_null);
        match &self.row {
            // The column that is the number itself never holds NULL.
            Some(row) if self.row_column.is_none() && key.columns.iter().any(open) => {
                Key { kind: KeyKind::RowIdentity, names: vec![row.clone()], columns: Vec::new() }
            }
            _ => key.clone(),
        }
    }

    fn keys(&self) -> &[UniqueKey] {
        &self.keys
    }

    /// Held columns have no affinity and no collation: the row itself is asked.
    fn kept(&self, column: usize) -> String {
        let Some(name) = self.target.columns.get(column).map(|c| quoted(&c.name)) else {
            return "NULL".to_owned();
        };
        let own: Vec<String> =
            self.identity().iter().map(|(held, own)| format!("marktwice_s.{own} = h.{held}")).collect();
        let collation = self.collations.get(column).map_or_else(|| quoted("BINARY"), |c| quoted(c));
        let (from, own) = (self.from(), own.join(" AND "));
        format!("(SELECT marktwice_s.{name} FROM {from} AS marktwice_s WHERE {own}) COLLATE {collation}")
    }

    /// Without a type nothing is converted.
    fn roomy(&self, _: usize) -> String {
        if self.strict { "ANY".to_owned() } else { String::new() }
    }

    fn stored(&self, column: usize) -> String {
        let declared = self.target.columns.get(column).map_or("", |c| &c.declared);
        type_name(declared, self.strict).to_string()
    }

    fn kind_type(kind: ParamKind) -> &'static str {
        match kind {
            ParamKind::Integer | ParamKind::Boolean => "INTEGER",
            ParamKind::Decimal | ParamKind::Real => "NUMERIC",
            ParamKind::Text | ParamKind::Date | ParamKind::Time | ParamKind::Moment => "TEXT",
        }
    }

    fn beside(&self) -> Vec<String> {
        let of = self.roomy(0);
        self.row.iter().map(|_| format!("{ROW} {of}")).collect()
    }

    fn held_name(&self, step: usize) -> String {
        format!("temp.{}", ours::held(step))
    }

    /// A type error in the held table is the one that the statement itself would meet.
    fn in_user_words(&self, error: EngineError, step: usize) -> EngineError {
        match error {
            EngineError::Constraint(broken) => {
                let message = broken.message.replace(&ours::held(step), &self.target.table);
                EngineError::Constraint(Box::new(Broken { message, ..*broken }))
            }
            other => other,
        }
    }

    fn equals(&self, _: usize) -> &str {
        "="
    }

    fn row_identity(&self) -> Option<&str> {
        self.row.as_deref()
    }

    fn or_abort(&self) -> &'static str {
        if self.conflict_clause.is_some() { " OR ABORT" } else { "" }
    }

    fn row_column(&self) -> Option<usize> {
        self.row_column
    }
}

impl Shell for Lite {
    type Table = Table;

    fn execute(&mut self, sql: &str) -> Result<u64, EngineError> {
        let mut statement = prepared(self.connection()?, sql, &self.params)?;
        statement.raw_execute().map(|n| n as u64).map_err(engine)
    }

    fn number(&mut self, sql: &str) -> Result<u64, EngineError> {
        let mut statement = prepared(self.connection()?, sql, &self.params)?;
        let mut rows = statement.raw_query();
        match rows.next().map_err(engine)? {
            Some(row) => row.get::<_, i64>(0).map(i64::unsigned_abs).map_err(engine),
            None => Err(EngineError::Other("the engine gave no number".to_owned())),
        }
    }

    fn question(&mut self, sql: &str) -> Result<Texts, EngineError> {
        ask(self.connection()?, sql, &self.params)
    }

    fn each(
        &mut self,
        sql: &str,
        forms: &[()],
        give: &mut dyn FnMut(Vec<Value>) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        let mut statement = prepared(self.connection()?, sql, &self.params)?;
        let mut rows = statement.raw_query();
        while let Some(row) = rows.next().map_err(engine)? {
            let mut values = Vec::with_capacity(forms.len());
            values::read(row, 0, forms.len(), &mut values).map_err(engine)?;
            give(values)?;
        }
        Ok(())
    }

    fn filled(&mut self, plan: &Plan, step: &Step, table: &Table, matched: u64) -> Result<u64, EngineError> {
        let kept = table.held_name(plan.step);
        let mut phantoms = 0;
        if let (Some(_), Some((own, _))) = (&step.sources, told_by(table, "").first()) {
            // A join that is summed up gives one row even where nothing matches, and that row is none of the target's.
            phantoms = self.execute(&format!("DELETE FROM {kept} WHERE {own} IS NULL"))?;
        }
        texts_are_whole(self.connection()?, &kept, &table.target, step.inserted.is_some())?;
        Ok(matched - phantoms)
    }

    fn pair_without_key(&mut self, _: &Held, _: &mut PairSink<'_>) -> Result<(), EngineError> {
        // Every table has a key or a row identity here.
        Err(EngineError::Other("the rows cannot be told apart".to_owned()))
    }
}

/// The columns of the held table of a plan, and what fills them.
pub(crate) fn recipe(plan: &Plan, detail: &Detail) -> Recipe {
    let table = &detail.table;
    let visible = quoted(&detail.step.table.visible().text);
    let mut recipe = Recipe::new(format!("{ORDINAL} {}", Table::COUNTED));
    let untyped = if table.strict { "ANY" } else { "" };
    if let Some(row) = &table.row {
        recipe.put(&ROW.to_string(), untyped, format!("{visible}.{}", quoted(row)));
    }
    let slot = |(at, column): (usize, &marktwice_core::table::Column)| {
        let collation = table.collations.get(at).map_or("BINARY", String::as_str);
        Slot {
            name: quoted(&column.name),
            held: untyped.to_owned(),
            own: format!("{} COLLATE {}", type_name(&column.declared, table.strict), quoted(collation)),
            null: "",
            generated: table.generated.get(at).cloned().flatten(),
            comes: " NULL",
            is_generated: column.generated,
        }
    };
    let slots: Vec<Slot> = table.target.columns.iter().enumerate().map(slot).collect();
    if plan.kind == StepKind::Insert {
        return insert::recipe(table, plan, &detail.step, &slots, &detail.defaults);
    }
    recipe.images(plan, &visible, &slots, &detail.values, false);
    recipe
}

/// Fills the held table of a plan, in one statement.
pub(crate) fn fill(lite: &mut Lite, plan: &Plan, detail: &Detail) -> Result<Filled, EngineError> {
    if schema_version(lite.connection()?)? != detail.own.schema + lite.own_definitions {
        return Err(EngineError::redefined(
            "definitions in the database have changed since the preview".to_owned(),
        ));
    }
    let (step, table) = (&detail.step, &detail.table);
    if plan.kind == StepKind::Insert {
        return insert::fill(lite, plan, (step, table), recipe(plan, detail));
    }
    let identity = told_by(table, &quoted(&step.table.visible().text));
    let order: Vec<&str> = identity.iter().map(|(_, of)| of.as_str()).collect();
    let order = if step.sources.is_some() { order.join(", ") } else { String::new() };
    let recipe = recipe(plan, detail);
    let row = identity.first().map(|(_, of)| of.clone());
    let found_by = match row.as_deref().filter(|_| table.row.is_some()) {
        Some(row) if jumps(lite, step, row)? => Some(row),
        Some(_) | None => None,
    };
    let ask = Ask { order: &order, found_by, ..Ask::default() };
    held::fill(lite, plan, (step, table), recipe, ask, identity)
}

/// Whether the rows of a step are found through an index and lie anywhere in the table: then each page would be read again for
/// each of its rows, now and whenever the rows are paired. Sorted by what tells them they are read one page after the other.
fn jumps(lite: &Lite, step: &Step, row: &str) -> Result<bool, EngineError> {
    if step.sources.is_some() || step.tail.is_some() || step.filter.is_none() {
        return Ok(false);
    }
    // Which index is to be taken is said of the filter; rows that are found already need none.
    if step.words(step.table.slice).iter().any(|token| token.is_any(&["indexed"])) {
        return Ok(false);
    }
    let sql = format!("EXPLAIN QUERY PLAN {}", step.query(&format!("{row}, *"), Ask::default()));
    let steps = ask(lite.connection()?, &sql, &lite.params)?;
    let said = |line: &Vec<Option<String>>| line.last().cloned().flatten().unwrap_or_default();
    Ok(steps.rows.iter().map(said).any(|line| {
        let by_index = line.contains("USING INDEX") || line.contains("MULTI-INDEX OR");
        by_index && !line.contains("AUTOMATIC")
    }))
}

/// What tells one row of the target from another: columns of the held table, and the target's own.
fn told_by(table: &Table, visible: &str) -> Vec<(String, String)> {
    if let Some(row) = &table.row {
        return vec![(ROW.to_string(), format!("{visible}.{}", quoted(row)))];
    }
    let key = table.target.key.columns.iter().zip(&table.target.key.names);
    key.map(|(&at, name)| (before(at), format!("{visible}.{}", quoted(name)))).collect()
}

/// In a database of the encoding UTF-16 a text may hold half of a pair, which no text here can: such a row cannot be kept
/// as it is. A text goes there and back through UTF-8, and must then be the same bytes.
fn texts_are_whole(
    connection: &Connection,
    kept: &str,
    target: &Target,
    comes_in: bool,
) -> Result<(), EngineError> {
    let encoding: String =
        connection.query_row("PRAGMA main.encoding", [], |row| row.get(0)).map_err(engine)?;
    if encoding == "UTF-8" {
        return Ok(());
    }
    for (at, column) in target.columns.iter().enumerate() {
        let x = if comes_in { quoted(&column.name) } else { before(at) };
        let sql = format!(
            "SELECT {ORDINAL} FROM {kept} WHERE typeof({x}) = 'text' AND instr({x}, char(0)) = 0 \
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
