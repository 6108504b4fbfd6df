//! The temporary table of held rows: its definition, the statement that fills it, and how it is read.
//!
//! Before-values stand in columns of the base types. After-values stand in columns of the target's own types and
//! collations, under its own column names, so that the server's assignment makes of them what it would store, and
//! computes generated columns from them.

use marktwice_core::Value;
use marktwice_core::mark::StepKind;
use marktwice_core::param::ParamKind;
use marktwice_core::table::{Key, KeyKind, Target};
use marktwice_port::{EngineError, PairSink, Plan};
use marktwice_relational::finder::Found;
use marktwice_relational::held;
use marktwice_relational::insert;
use marktwice_relational::recipe::{Recipe, Slot};
use marktwice_relational::shell::{Joining, Shell, Tabled};
use marktwice_sql::dialect::ours::{self, IS_WANTED, ORDINAL, PART, PLACE, before};
use marktwice_sql::query::ask::Texts;
use marktwice_sql::query::row_query::Ask;
use marktwice_sql::statement::pins::UniqueKey;
use marktwice_sql::{Language, Step};

use crate::catalog::{Table, equals, ident};
use crate::client::Pg;
use crate::copy::Form;
use crate::detail::{Detail, Own};

/// From how many held rows on the planner is told about them.
const MANY: u64 = 1_000;

/// Held rows of this server.
pub(crate) type Held = held::Held<Table>;
/// See [`held::Filled`].
pub(crate) type Filled = held::Filled<Table>;

impl Tabled for Table {
    type Form = Form;
    type Own = Own;

    const ACTIONS_WAIT: bool = true;
    const LANGUAGE: Language = Language::Postgres;
    const ENGINE: &str = "PostgreSQL";
    const JOINING: Joining = Joining::From;
    const NUMBERED: (&str, &str) = ("bigint", "boolean");
    const COUNTED: &str = "bigint GENERATED ALWAYS AS IDENTITY";
    const WHOLE: &str = "bigint";
    const RESTRICTS_AT_ONCE: bool = false;
    const TELLS_WRITTEN: bool = true;
    const MOST_COLUMNS: usize = 1_600;
    const NUMBER: Form = Form::Int;
    const TRUTH: Form = Form::Bool;

    fn leaves_doubt(&self) -> bool {
        self.doubtful
    }

    fn generated_as(&self, column: usize) -> Option<&str> {
        self.extras.get(column)?.generated.as_deref()
    }

    fn target(&self) -> &Target {
        &self.target
    }

    fn from(&self) -> String {
        self.from.clone()
    }

    fn inserted_name(&self) -> String {
        self.name.clone()
    }

    fn shown(&self) -> &str {
        &self.shown
    }

    fn tell_by(&mut self, key: &Key) {
        self.equals = equals(&self.keys, &self.operators, key);
        self.target.key = key.clone();
    }

    fn keys(&self) -> &[UniqueKey] {
        &self.keys
    }

    fn roomy(&self, column: usize) -> String {
        self.types.get(column).map_or(String::new(), |t| t.base.clone())
    }

    fn kind_type(kind: ParamKind) -> &'static str {
        match kind {
            ParamKind::Text => "text",
            ParamKind::Integer => "bigint",
            ParamKind::Decimal => "numeric",
            ParamKind::Real => "double precision",
            ParamKind::Boolean => "boolean",
            ParamKind::Date => "date",
            ParamKind::Time => "time",
            ParamKind::Moment => "timestamp",
        }
    }

    fn writable(&self, column: usize) -> bool {
        self.target.columns.get(column).is_some_and(|c| !c.generated)
            && !self.types.get(column).is_some_and(|t| t.identity_always)
    }

    fn counts(&self, column: usize) -> bool {
        self.types.get(column).is_some_and(|t| t.identity)
    }

    fn computed(&self, column: usize, expression: &str) -> String {
        let declared = self.types.get(column).map_or("text", |t| t.declared.as_str());
        format!("CAST(({expression}\n) AS {declared})")
    }

    fn flag(flag: bool) -> Value {
        Value::Bool(flag)
    }

    fn beside(&self) -> Vec<String> {
        vec![format!("{PART} oid"), format!("{PLACE} tid")]
    }

    fn beside_of(&self, _: &[Value], found: Option<&Found>) -> Vec<Value> {
        let place = found.map(|f| f.place.clone()).filter(|place| !place.is_empty());
        place.unwrap_or_else(|| vec![Value::Null; 2])
    }

    /// A row without a key is told by its partition and its place.
    fn identity(&self) -> Vec<(String, String)> {
        if self.target.key.kind == KeyKind::WholeRow {
            return vec![(PART.to_string(), "tableoid".to_owned()), (PLACE.to_string(), "ctid".to_owned())];
        }
        let key = self.target.key.columns.iter().zip(&self.target.key.names);
        key.map(|(&at, name)| (before(at), ident(name))).collect()
    }

    fn form(&self, column: usize) -> Form {
        self.types.get(column).map_or(Form::Text, |t| t.form)
    }

    fn held_name(&self, step: usize) -> String {
        format!("pg_temp.{}", ours::held(step))
    }

    fn equals(&self, nth: usize) -> &str {
        self.equals.get(nth).map_or("=", String::as_str)
    }
}

impl Shell for Pg {
    type Table = Table;

    fn execute(&mut self, sql: &str) -> Result<u64, EngineError> {
        self.execute_one(sql)
    }

    fn number(&mut self, sql: &str) -> Result<u64, EngineError> {
        self.count(sql)
    }

    fn question(&mut self, sql: &str) -> Result<Texts, EngineError> {
        self.ask(sql)
    }

    fn each(
        &mut self,
        sql: &str,
        forms: &[Form],
        give: &mut dyn FnMut(Vec<Value>) -> Result<(), EngineError>,
    ) -> Result<(), EngineError> {
        self.stream(sql, forms, give)
    }

    fn filled(&mut self, plan: &Plan, _: &Step, _: &Table, matched: u64) -> Result<u64, EngineError> {
        if matched >= MANY {
            // How many they are is all that the planner has to know.
            self.run(&format!("ANALYZE pg_temp.{} ({ORDINAL})", ours::held(plan.step)))?;
        }
        Ok(matched)
    }

    fn pair_without_key(&mut self, held: &Held, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        held.pair_by(self, &|columns, range| by_content(held, columns, range), sink)
    }
}

/// Pairs rows without a key. A deleted row's place is not used again before the transaction ends. Otherwise the nth row of
/// one content that this transaction wrote belongs to the nth held row that should have that content: rows that are seen
/// here and are no older than this transaction are its own, those behind its savepoints too, since others that began later
/// are not seen. What an earlier step wrote was written before these rows were held. Columns that only the run knows are left
/// out: of rows that are alike in all others, which became which makes no difference to a table without a key.
fn by_content(held: &Held, columns: &str, range: &str) -> String {
    let (from, kept) = (held.table.from(), held.name());
    let now = held.now("t");
    let by_place = |kept: &str| {
        format!(
            "SELECT {columns}, t.ctid IS NOT NULL, {now} FROM {kept} AS h LEFT JOIN {from} AS t \
             ON t.tableoid = h.{PART} AND t.ctid = h.{PLACE} {range}"
        )
    };
    if held.layout.kind == StepKind::Delete {
        return format!("{} ORDER BY h.{ORDINAL}", by_place(&kept));
    }
    // Of rows that are taken along some may go, and others stay and are written.
    let gone = held.layout.flags.then(|| by_place(&format!("(SELECT * FROM {kept} WHERE NOT {IS_WANTED})")));
    let kept = if held.layout.flags { format!("(SELECT * FROM {kept} WHERE {IS_WANTED})") } else { kept };
    let (mut expected, mut told) = (Vec::new(), Vec::new());
    for (at, column) in held.layout.target.columns.iter().enumerate() {
        match held.layout.after.iter().find(|(c, _)| *c == at) {
            Some((_, name)) => expected.push(format!("h.{name}")),
            None if held.layout.is_open(at) => continue,
            None => expected.push(format!("h.{}", before(at))),
        }
        told.push(format!("t.{}", ident(&column.name)));
    }
    let content = |cells: &str| format!("ROW({cells})::text COLLATE \"C\"");
    let written = format!(
        "SELECT {columns}, t.marktwice_n IS NOT NULL, {now} FROM (SELECT h.*, {wanted} AS marktwice_c, \
         row_number() OVER (PARTITION BY {wanted} ORDER BY h.{ORDINAL}) AS marktwice_n FROM {kept} AS h) AS h \
         LEFT JOIN (SELECT t.*, {found} AS marktwice_c, row_number() OVER (PARTITION BY {found}) AS marktwice_n \
         FROM {from} AS t WHERE age(t.xmin) <= age(pg_catalog.pg_current_xact_id()::xid) \
         AND t.cmin::text::bigint > (SELECT coalesce(max(o.cmin::text::bigint), -1) FROM {all} AS o)) AS t \
         ON t.marktwice_c = h.marktwice_c AND t.marktwice_n = h.marktwice_n {range}",
        all = held.name(),
        wanted = content(&expected.join(", ")),
        found = content(&told.join(", ")),
    );
    match gone {
        Some(gone) => format!("({written}) UNION ALL ({gone}) ORDER BY 1"),
        None => format!("{written} ORDER BY h.{ORDINAL}"),
    }
}

/// The columns of the held table of a plan, and what fills them.
pub(crate) fn recipe(plan: &Plan, detail: &Detail) -> Recipe {
    let (step, table) = (&detail.step, &detail.table);
    let visible = ident(&step.table.visible().text);
    let mut recipe = Recipe::new(format!("{ORDINAL} {}", Table::COUNTED));
    if table.target.key.kind == KeyKind::WholeRow {
        recipe.put(&PART.to_string(), "oid", format!("{visible}.tableoid"));
        recipe.put(&PLACE.to_string(), "tid", format!("{visible}.ctid"));
    }
    let columns = table.target.columns.iter().zip(&table.types).zip(&table.extras);
    let slots: Vec<Slot> = columns
        .map(|((column, of), extra)| Slot {
            name: ident(&column.name),
            held: of.base.clone(),
            own: match &of.collation {
                Some(collation) => format!("{} COLLATE {collation}", of.declared),
                None => of.declared.clone(),
            },
            null: "",
            generated: extra.generated.clone(),
            comes: " NULL",
            is_generated: column.generated,
        })
        .collect();
    if plan.kind == StepKind::Insert {
        return insert::recipe(table, plan, step, &slots, &detail.defaults);
    }
    recipe.images(plan, &visible, &slots, &detail.values, false);
    recipe
}

/// Makes a held table of these columns, for as long as the transaction lasts.
pub(crate) fn define(pg: &mut Pg, step: usize, columns: &[String]) -> Result<(), EngineError> {
    let kept = ours::held(step);
    pg.run(&format!("CREATE TEMPORARY TABLE {kept} ({}) ON COMMIT DROP", columns.join(", ")))
}

/// Fills the held table, under the user's own settings. In the order of the key: that is how people read rows, and two runs
/// that lock in one order do not deadlock.
pub(crate) fn fill(pg: &mut Pg, plan: &Plan, detail: &Detail, lock: bool) -> Result<Filled, EngineError> {
    let (step, table) = (&detail.step, &detail.table);
    if plan.kind == StepKind::Insert {
        return insert::fill(pg, plan, (step, table), recipe(plan, detail));
    }
    let visible = ident(&step.table.visible().text);
    let keys = table.target.key.names.iter().map(|k| format!("{visible}.{}", ident(k)));
    let order = keys.collect::<Vec<_>>().join(", ");
    let end = if lock { format!("FOR UPDATE OF {visible}") } else { String::new() };
    let identity = table.identity().into_iter().map(|(held, own)| (held, format!("{visible}.{own}")));
    let ask = Ask { order: &order, end: &end, ..Ask::default() };
    held::fill(pg, plan, (step, table), recipe(plan, detail), ask, identity.collect())
}
