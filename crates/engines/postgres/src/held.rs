//! The temporary table of held rows: its definition, the statement that fills it, and how it is read.
//!
//! Before-values stand in columns of the base types. After-values stand in columns of the target's own types and
//! collations, under its own column names, so that the server's assignment makes of them what it would store, and
//! computes generated columns from them.

use marktwice_core::Value;
use marktwice_core::many::Many;
use marktwice_core::mark::{HeldRow, StepKind};
use marktwice_core::table::KeyKind;
use marktwice_port::engine::{PairSink, RowSink};
use marktwice_port::{EngineError, Plan};
use marktwice_server::layout::{Layout, fits};
use marktwice_server::recipe::{Recipe, Slot};
use marktwice_server::statement::{in_place, unknown_values};
use marktwice_sql::many::{HeldNames, once_each};
use marktwice_sql::ours::{HELD, IS_WANTED, ORDINAL, PART, PLACE, before};
use marktwice_sql::row_query::Ask;

use crate::catalog::{Table, ident};
use crate::client::Pg;
use crate::copy::Form;
use crate::plan::Detail;

/// Columns that a table of this server has at most.
const MOST_COLUMNS: usize = 1_600;
/// Rows that are paired at once where both images do not fit into one answer.
const PAIRS: i64 = 500;

/// From how many held rows on the planner is told about them.
const MANY: u64 = 1_000;

/// Held rows and how they are read and paired.
#[derive(Debug, Clone)]
pub(crate) struct Held {
    pub(crate) layout: Layout,
    pub(crate) table: Table,
    forms: Vec<Form>,
}

impl Held {
    pub(crate) fn new(layout: Layout, table: &Table) -> Held {
        let mut forms = vec![Form::Int];
        forms.extend(table.forms());
        forms.extend(layout.after.iter().map(|(at, _)| table.types.get(*at).map_or(Form::Text, |t| t.form)));
        if layout.flags {
            forms.extend([Form::Bool, Form::Bool]);
        }
        Held { layout, table: table.clone(), forms }
    }
}

fn recipe(plan: &Plan, detail: &Detail) -> Recipe {
    let (step, table) = (&detail.step, &detail.table);
    let visible = ident(&step.table.visible().text);
    let mut recipe = Recipe::new(format!("{ORDINAL} bigint GENERATED ALWAYS AS IDENTITY"));
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
            is_generated: column.generated,
        })
        .collect();
    recipe.images(plan, &visible, &slots, &detail.values, false);
    recipe
}

fn row_query(detail: &Detail, select: &[String], lock: bool) -> String {
    let step = &detail.step;
    let visible = ident(&step.table.visible().text);
    let lock = if lock { format!("FOR UPDATE OF {visible}") } else { String::new() };
    // In the order of the key: that is how people read rows, and two runs that lock in one order do not deadlock.
    let keys = detail.table.target.key.names.iter().map(|k| format!("{visible}.{}", ident(k)));
    let order = keys.collect::<Vec<_>>().join(", ");
    step.row_query(select, Ask { order: &order, end: &lock, also: None })
}

/// What tells one row of the target from another: columns of the held table, and the target's own.
pub(crate) fn identity(table: &Table, visible: &str) -> Vec<(String, String)> {
    if table.target.key.kind == KeyKind::WholeRow {
        return vec![
            (PART.to_string(), format!("{visible}.tableoid")),
            (PLACE.to_string(), format!("{visible}.ctid")),
        ];
    }
    let key = table.target.key.columns.iter().zip(&table.target.key.names);
    key.map(|(&at, name)| (before(at), format!("{visible}.{}", ident(name)))).collect()
}

/// Makes the held table of a plan, in a transaction that may still write.
pub(crate) fn create(pg: &mut Pg, plan: &Plan, detail: &Detail) -> Result<(), EngineError> {
    let columns = recipe(plan, detail).columns;
    fits(&plan.target.table, columns.len(), MOST_COLUMNS, "PostgreSQL")?;
    define(pg, &columns.join(", "))
}

/// Makes a held table of these columns, for as long as the transaction lasts.
pub(crate) fn define(pg: &mut Pg, columns: &str) -> Result<(), EngineError> {
    pg.run(&format!("CREATE TEMPORARY TABLE {HELD} ({columns}) ON COMMIT DROP"))
}

/// Held rows, how many they are, and which of them a join matches several times.
pub(crate) struct Filled {
    pub(crate) held: Held,
    pub(crate) matched: u64,
    pub(crate) many: Option<Many>,
}

/// Fills the held table, under the user's own settings.
pub(crate) fn fill(pg: &mut Pg, plan: &Plan, detail: &Detail, lock: bool) -> Result<Filled, EngineError> {
    let recipe = recipe(plan, detail);
    let sql = format!(
        "INSERT INTO pg_temp.{HELD} ({})\n{}",
        recipe.insert.join(", "),
        row_query(detail, &recipe.select, lock)
    );
    let mut matched = pg.execute_one(&sql).map_err(|e| in_place(&detail.step, e))?;
    if matched >= MANY {
        pg.run(&format!("ANALYZE pg_temp.{HELD}"))?;
    }
    let names = HeldNames {
        table: format!("pg_temp.{HELD}"),
        ordinal: ORDINAL.to_string(),
        identity: identity(&detail.table, &ident(&detail.step.table.visible().text)),
        after: recipe.after.iter().map(|(_, name)| name.clone()).collect(),
        unknown: unknown_values(plan),
    };
    let found = once_each(&detail.step, &names, &mut |sql| pg.ask(sql))?;
    let layout = Layout { target: plan.target.clone(), kind: plan.kind, flags: false, after: recipe.after };
    let held = Held::new(layout, &detail.table);
    let mut many = None;
    if let Some((mut found, ordinals)) = found {
        matched = pg.count(&format!("SELECT count(*) FROM pg_temp.{HELD}"))?;
        for (example, ordinal) in found.examples.iter_mut().zip(ordinals) {
            let columns = held.layout.columns().join(", ");
            let sql = format!("SELECT {columns} FROM pg_temp.{HELD} AS h WHERE h.{ORDINAL} = {ordinal}");
            pg.stream(&sql, &held.forms, &mut |values| {
                example.key = held.layout.row(values).key;
                Ok(())
            })?;
        }
        many = Some(found);
    }
    Ok(Filled { held, matched, many })
}

/// Streams the matched rows and the computed values without a temporary table, for a role that may not make one.
pub(crate) fn stream_plainly(
    pg: &mut Pg,
    plan: &Plan,
    detail: &Detail,
    limit: Option<u64>,
    sink: &mut RowSink<'_>,
) -> Result<u64, EngineError> {
    let recipe = recipe(plan, detail);
    let columns = plan.target.columns.len();
    let skip = usize::from(plan.target.key.kind == KeyKind::WholeRow) * 2;
    let mut select: Vec<String> = vec!["0".to_owned()];
    select.extend(recipe.select.iter().skip(skip).take(columns).cloned());
    let mut after = Vec::new();
    for (at, _) in &recipe.after {
        if let Some((_, expression)) = detail.values.iter().find(|(c, _)| c == at) {
            let declared = detail.table.types.get(*at).map_or("text", |t| t.declared.as_str());
            select.push(format!("CAST(({expression}\n) AS {declared})"));
            after.push((*at, String::new()));
        }
    }
    let layout = Layout { target: plan.target.clone(), kind: plan.kind, flags: false, after };
    let held = Held::new(layout, &detail.table);
    let mut ordinal = 0;
    let end = limit.map_or(String::new(), |n| format!("\nLIMIT {n}"));
    pg.stream(&format!("{}{end}", row_query(detail, &select, false)), &held.forms, &mut |values| {
        ordinal += 1;
        let row = HeldRow { ordinal, ..held.layout.row(values) };
        sink(&row).map_err(EngineError::Sink)
    })?;
    Ok(u64::try_from(ordinal).unwrap_or(0))
}

impl Held {
    /// Hands all held rows over in order. Settings must be pinned.
    pub(crate) fn stream(&self, pg: &mut Pg, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        let columns = self.layout.columns().join(", ");
        let sql = format!("SELECT {columns} FROM pg_temp.{HELD} AS h ORDER BY h.{ORDINAL}");
        pg.stream(&sql, &self.forms, &mut |values| sink(&self.layout.row(values)).map_err(EngineError::Sink))
    }

    /// Hands all held rows over, each with what is there now. Settings must be pinned.
    pub(crate) fn pairs(&self, pg: &mut Pg, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        let width = self.layout.width();
        if width + self.table.types.len() >= MOST_COLUMNS {
            return self.wide_pairs(pg, sink);
        }
        let mut forms = self.forms.clone();
        forms.push(Form::Bool);
        forms.extend(self.table.forms());
        let held = self.layout.columns().join(", ");
        pg.stream(&self.pair_query(&held, ""), &forms, &mut |values| {
            let (held, rest) = values.split_at_checked(width).unwrap_or_default();
            let row = self.layout.row(held);
            let (there, now) = match rest.split_first() {
                Some((Value::Bool(there), now)) => (*there, now),
                _ => (false, rest),
            };
            sink(&row, there.then_some(now)).map_err(EngineError::Sink)
        })
    }

    /// Both images of very wide rows are asked for one after the other, some rows at a time.
    fn wide_pairs(&self, pg: &mut Pg, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        let columns = self.layout.columns().join(", ");
        let last = pg.one(&format!("SELECT max({ORDINAL}) FROM pg_temp.{HELD}"))?;
        let last: i64 = last.and_then(|n| n.parse().ok()).unwrap_or(0);
        let mut forms = vec![Form::Int, Form::Bool];
        forms.extend(self.table.forms());
        let mut from = 0;
        while from <= last {
            let range = format!("WHERE h.{ORDINAL} > {from} AND h.{ORDINAL} <= {}", from + PAIRS);
            let mut rows = Vec::new();
            let sql = format!("SELECT {columns} FROM pg_temp.{HELD} AS h {range} ORDER BY h.{ORDINAL}");
            pg.stream(&sql, &self.forms, &mut |values| {
                rows.push(self.layout.row(values));
                Ok(())
            })?;
            let mut rows = rows.iter();
            pg.stream(&self.pair_query(&format!("h.{ORDINAL}"), &range), &forms, &mut |values| {
                let Some(row) = rows.next().filter(|row| values.first() == Some(&Value::Int(row.ordinal)))
                else {
                    return Err(EngineError::Other("held rows were read in another order".to_owned()));
                };
                let there = values.get(1) == Some(&Value::Bool(true));
                let now = values.get(2..).unwrap_or_default();
                sink(row, there.then_some(now)).map_err(EngineError::Sink)
            })?;
            if rows.next().is_some() {
                return Err(EngineError::Other("a held row was not read again".to_owned()));
            }
            from += PAIRS;
        }
        Ok(())
    }

    /// `held` is what is selected of a held row, `range` a condition over those that are paired.
    fn pair_query(&self, held: &str, range: &str) -> String {
        let target = &self.layout.target;
        let now = |alias: &str| {
            target
                .columns
                .iter()
                .map(|c| format!("{alias}.{}", ident(&c.name)))
                .collect::<Vec<_>>()
                .join(", ")
        };
        let from = &self.table.from;
        if target.key.kind != KeyKind::WholeRow {
            let there = target.key.names.first().map_or(String::new(), |k| format!("t.{}", ident(k)));
            return format!(
                "SELECT {held}, {there} IS NOT NULL, {} FROM pg_temp.{HELD} AS h LEFT JOIN {from} AS t ON {} \
                 {range} ORDER BY h.{ORDINAL}",
                now("t"),
                self.pair_on(),
            );
        }
        if self.layout.kind == StepKind::Delete {
            // A deleted row's place is not used again before the transaction ends.
            return format!(
                "SELECT {held}, t.ctid IS NOT NULL, {} FROM pg_temp.{HELD} AS h LEFT JOIN {from} AS t \
                 ON t.tableoid = h.{PART} AND t.ctid = h.{PLACE} {range} ORDER BY h.{ORDINAL}",
                now("t"),
            );
        }
        // Rows without a key: the nth row of one content that this transaction wrote belongs to the nth held row that
        // should have that content.
        // Rows that are seen here and are no older than this transaction are its own, those behind its savepoints too:
        // others that began later are not seen.
        let expected: Vec<String> = (0..target.columns.len())
            .map(|at| {
                let after = self.layout.after.iter().find(|(c, _)| *c == at);
                after.map_or_else(|| format!("h.{}", before(at)), |(_, name)| format!("h.{name}"))
            })
            .collect();
        let content = |cells: &str| format!("ROW({cells})::text COLLATE \"C\"");
        format!(
            "SELECT {held}, t.marktwice_n IS NOT NULL, {} FROM (SELECT h.*, {wanted} AS marktwice_c, \
             row_number() OVER (PARTITION BY {wanted} ORDER BY h.{ORDINAL}) AS marktwice_n FROM pg_temp.{HELD} AS h) AS h \
             LEFT JOIN (SELECT t.*, {found} AS marktwice_c, row_number() OVER (PARTITION BY {found}) AS marktwice_n \
             FROM {from} AS t WHERE age(t.xmin) <= age(pg_current_xact_id()::xid)) AS t \
             ON t.marktwice_c = h.marktwice_c AND t.marktwice_n = h.marktwice_n {range} ORDER BY h.{ORDINAL}",
            now("t"),
            wanted = content(&expected.join(", ")),
            found = content(&now("t")),
        )
    }

    /// How a held row is paired with the target's row by key. A row keeps its key unless the statement assigns it; then
    /// the foreseen key finds it.
    fn pair_on(&self) -> String {
        let key = &self.layout.target.key;
        let foreseen = |at: usize| {
            self.layout
                .after
                .iter()
                .find(|(c, _)| *c == at)
                .map_or_else(|| before(at), |(_, name)| name.clone())
        };
        let term = |((&at, name), equals): ((&usize, &String), &String)| {
            let side = if self.layout.flags {
                // After the undo a wanted row has its wanted key; one that is not wanted is looked for under its
                // present key.
                format!("CASE WHEN h.{IS_WANTED} THEN h.{} ELSE h.{} END", foreseen(at), before(at))
            } else {
                format!("h.{}", foreseen(at))
            };
            format!("t.{} {equals} {side}", ident(name))
        };
        key.columns.iter().zip(&key.names).zip(&self.table.equals).map(term).collect::<Vec<_>>().join(" AND ")
    }
}
