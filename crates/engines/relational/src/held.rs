//! Rows that are held in a temporary table: how it is filled, read, and paired with what is there now.

use marktwice_core::Value;
use marktwice_core::along::number;
use marktwice_core::many::Many;
use marktwice_core::mark::HeldRow;
use marktwice_core::table::KeyKind;
use marktwice_port::{EngineError, PairSink, Plan, RowSink};
use marktwice_sql::Step;
use marktwice_sql::dialect::ours::{IS_WANTED, ORDINAL, REST, ROW, before};
use marktwice_sql::query::many::{HeldNames, once_each};
use marktwice_sql::query::row_query::Ask;

use crate::along;
use crate::detail::Detail;
use crate::driver::Driver;
use crate::layout::{Layout, fits};
use crate::recipe::Recipe;
use crate::shell::{Shell, Tabled};
use crate::statement::{detail, in_place, unknown_values};

/// Rows that are paired at once where both images do not fit into one answer.
const PAIRS: i64 = 500;

/// Held rows and how they are read and paired.
#[derive(Debug, Clone)]
pub struct Held<T: Tabled> {
    /// Which columns their table has.
    pub layout: Layout,
    /// The table that they are rows of.
    pub table: T,
    /// How the values of a held row come.
    pub forms: Vec<T::Form>,
}

/// Held rows, how many they are, and which of them a join matches several times.
#[derive(Debug)]
pub struct Filled<T: Tabled> {
    /// The rows.
    pub held: Held<T>,
    /// How many.
    pub matched: u64,
    /// Those that a join matches several times.
    pub many: Option<Many>,
}

/// Makes the held table of a plan, while that is allowed.
///
/// # Errors
/// [`EngineError::Refused`] for rows that are too wide, or what the engine says.
pub fn create<D: Driver>(driver: &mut D, plan: &Plan, detail: &Detail<D::Table>) -> Result<(), EngineError> {
    let columns = driver.recipe(plan, detail).columns;
    fits(&plan.target.table, columns.len(), D::Table::MOST_COLUMNS, D::Table::ENGINE)?;
    driver.define(&detail.table, plan.step, &columns)?;
    detail.along.as_ref().map_or(Ok(()), |graph| along::define(driver, graph, plan.step))
}

/// The held tables of a plan.
///
/// # Errors
/// When the plan is another engine's.
pub fn names<T: Tabled>(plan: &Plan) -> Result<Vec<String>, EngineError> {
    let detail = detail::<T>(plan)?;
    let mut all = vec![detail.table.held_name(plan.step)];
    let nodes = detail.along.iter().flat_map(|graph| &graph.nodes).enumerate();
    all.extend(nodes.map(|(nth, node)| node.table.held_name(number(plan.step, nth))));
    Ok(all)
}

/// Streams the matched rows and the values that can be told without a temporary table, in the order of their identity; gives
/// their number.
///
/// # Errors
/// What the engine says, or the sink does.
pub fn stream_plainly<D: Driver>(
    driver: &mut D,
    plan: &Plan,
    detail: &Detail<D::Table>,
    limit: Option<u64>,
    sink: &mut RowSink<'_>,
) -> Result<u64, EngineError> {
    let (step, table) = (&detail.step, &detail.table);
    let visible = D::Table::LANGUAGE.quoted(&step.table.visible().text);
    let by_row = table.row_identity().filter(|_| plan.target.key.kind == KeyKind::RowIdentity);
    let quoted = |name: &str| format!("{visible}.{}", D::Table::LANGUAGE.quoted(name));
    let mut select = vec!["0".to_owned()];
    select.extend(by_row.map(quoted));
    select.extend(plan.target.columns.iter().map(|c| quoted(&c.name)));
    select.extend(detail.values.iter().map(|(at, expression)| table.computed(*at, expression)));
    let layout = Layout {
        step: plan.step,
        target: plan.target.clone(),
        kind: plan.kind,
        row: by_row.is_some(),
        flags: false,
        rest: None,
        moving: plan.foreseen.iter().map(|f| f.column).collect(),
        after: detail.values.iter().map(|(at, _)| (*at, String::new())).collect(),
    };
    let held = Held::new(layout, table);
    let order: Vec<String> = match by_row {
        Some(row) => vec![quoted(row)],
        None => plan.target.key.names.iter().map(|k| quoted(k)).collect(),
    };
    let end = limit.map_or(String::new(), |n| format!("LIMIT {n}"));
    let sql = step.row_query(&select, Ask { order: &order.join(", "), end: &end, ..Ask::default() });
    let mut ordinal = 0;
    driver.each(&sql, &held.forms, &mut |values| {
        ordinal += 1;
        let row = HeldRow { ordinal, ..held.layout.row(values) };
        sink(&row).map_err(EngineError::Sink)
    })?;
    Ok(u64::try_from(ordinal).unwrap_or(0))
}

/// Fills the held table of a plan, under the user's own settings. `identity` is what tells one row of the target from another:
/// columns of the held table, and the target's own.
///
/// # Errors
/// What the engine says.
pub fn fill<S: Shell>(
    shell: &mut S,
    plan: &Plan,
    (step, table): (&Step, &S::Table),
    recipe: Recipe,
    ask: Ask<'_>,
    identity: Vec<(String, String)>,
) -> Result<Filled<S::Table>, EngineError> {
    let name = table.held_name(plan.step);
    let query = step.row_query(&recipe.select, ask);
    let sql = format!("INSERT INTO {name} ({})\n{query}", recipe.insert.join(", "));
    let said = |error| in_place(step, table.in_user_words(error, plan.step));
    let matched = shell.execute(&sql).map_err(said)?;
    let mut matched = shell.filled(plan, step, table, matched)?;
    let names = HeldNames {
        table: name.clone(),
        ordinal: ORDINAL.to_string(),
        identity,
        after: recipe.after.iter().map(|(_, name)| name.clone()).collect(),
        unknown: unknown_values(plan),
    };
    let found = once_each(step, &names, &mut |sql| shell.question(sql))?;
    let layout = Layout {
        step: plan.step,
        target: plan.target.clone(),
        kind: plan.kind,
        row: table.row_identity().is_some(),
        flags: false,
        rest: None,
        moving: plan.foreseen.iter().map(|f| f.column).collect(),
        after: recipe.after,
    };
    let held = Held::new(layout, table);
    let mut many = None;
    if let Some((mut found, ordinals)) = found {
        matched = shell.number(&format!("SELECT count(*) FROM {name}"))?;
        for (example, ordinal) in found.examples.iter_mut().zip(ordinals) {
            example.key = held.key_of(shell, &ordinal.to_string())?;
        }
        many = Some(found);
    }
    Ok(Filled { held, matched, many })
}

impl<T: Tabled> Held<T> {
    /// Held rows of a layout.
    pub fn new(layout: Layout, table: &T) -> Held<T> {
        let mut forms = vec![T::NUMBER];
        if layout.row {
            forms.push(T::NUMBER);
        }
        forms.extend(layout.befores().into_iter().map(|at| table.form(at)));
        if layout.rest.is_some() {
            forms.extend(REST.map(|_| T::NUMBER));
        }
        forms.extend(layout.after.iter().map(|(at, _)| table.form(*at)));
        if layout.flags {
            forms.extend([T::TRUTH, T::TRUTH]);
        }
        Held { layout, table: table.clone(), forms }
    }

    /// Whether a column may become something else.
    pub fn may_change(&self, at: usize) -> bool {
        self.layout.moving.contains(&at)
    }

    /// The held table, as it stands in a statement.
    pub fn name(&self) -> String {
        self.table.held_name(self.layout.step)
    }

    fn rows<S: Shell<Table = T>>(
        &self,
        shell: &mut S,
        range: &str,
        sink: &mut RowSink<'_>,
    ) -> Result<(), EngineError> {
        let (columns, name) = (self.layout.columns().join(", "), self.name());
        let sql = format!("SELECT {columns} FROM {name} AS h {range} ORDER BY h.{ORDINAL}");
        shell.each(&sql, &self.forms, &mut |values| sink(&self.layout.row(values)).map_err(EngineError::Sink))
    }

    /// The key of the held row of an ordinal. Settings must be pinned.
    ///
    /// # Errors
    /// What the engine says.
    pub fn key_of<S: Shell<Table = T>>(
        &self,
        shell: &mut S,
        ordinal: &str,
    ) -> Result<Vec<Value>, EngineError> {
        let mut key = Vec::new();
        self.rows(shell, &format!("WHERE h.{ORDINAL} = {ordinal}"), &mut |row| {
            key.clone_from(&row.key);
            Ok(())
        })?;
        Ok(key)
    }

    /// Hands all held rows over in order. Settings must be pinned.
    ///
    /// # Errors
    /// What the engine says, or the sink does.
    pub fn stream<S: Shell<Table = T>>(
        &self,
        shell: &mut S,
        sink: &mut RowSink<'_>,
    ) -> Result<(), EngineError> {
        self.rows(shell, "", sink)
    }

    /// Hands all held rows over, each with what is there now. Settings must be pinned.
    ///
    /// # Errors
    /// What the engine says, or the sink does.
    pub fn pairs<S: Shell<Table = T>>(
        &self,
        shell: &mut S,
        sink: &mut PairSink<'_>,
    ) -> Result<(), EngineError> {
        if self.layout.target.key.kind == KeyKind::WholeRow {
            return shell.pair_without_key(self, sink);
        }
        self.pair_by(shell, &|held, range| self.keyed(held, range), sink)
    }

    /// The same for held rows of which a condition (`WHERE …`) is true, of tables with a key that are narrow enough.
    ///
    /// # Errors
    /// What the engine says, or the sink does.
    pub fn pairs_in<S: Shell<Table = T>>(
        &self,
        shell: &mut S,
        range: &str,
        sink: &mut PairSink<'_>,
    ) -> Result<(), EngineError> {
        let width = self.layout.width();
        let now = (0..self.layout.target.columns.len()).map(|at| self.table.form(at));
        let forms: Vec<_> = self.forms.iter().copied().chain([T::TRUTH]).chain(now).collect();
        let sql = self.keyed(&self.layout.columns().join(", "), range);
        shell.each(&sql, &forms, &mut |mut values| {
            let rest = values.split_off(width.min(values.len()));
            sink(&self.layout.row(values), there(&rest)).map_err(EngineError::Sink)
        })
    }

    /// Pairs rows by a query: `make` gives it for what is selected of a held row, and for a condition over those that are
    /// paired. It gives that, whether there is a row now, and its columns.
    ///
    /// # Errors
    /// What the engine says, or the sink does.
    pub fn pair_by<S: Shell<Table = T>>(
        &self,
        shell: &mut S,
        make: &dyn Fn(&str, &str) -> String,
        sink: &mut PairSink<'_>,
    ) -> Result<(), EngineError> {
        let (width, columns) = (self.layout.width(), self.layout.target.columns.len());
        let now = (0..columns).map(|at| self.table.form(at));
        if width + columns < T::MOST_COLUMNS {
            let forms: Vec<_> = self.forms.iter().copied().chain([T::TRUTH]).chain(now).collect();
            return shell.each(&make(&self.layout.columns().join(", "), ""), &forms, &mut |mut values| {
                let rest = values.split_off(width.min(values.len()));
                let row = self.layout.row(values);
                sink(&row, there(&rest)).map_err(EngineError::Sink)
            });
        }
        // Both images of very wide rows are asked for one after the other, some rows at a time.
        let last = shell.number(&format!("SELECT coalesce(max({ORDINAL}), 0) FROM {}", self.name()))?;
        let last = i64::try_from(last).unwrap_or(i64::MAX);
        let forms: Vec<_> = [T::NUMBER, T::TRUTH].into_iter().chain(now).collect();
        let mut from = 0;
        while from <= last {
            let range = format!("WHERE h.{ORDINAL} > {from} AND h.{ORDINAL} <= {}", from + PAIRS);
            let mut rows = Vec::new();
            self.rows(shell, &range, &mut |row| {
                rows.push(row.clone());
                Ok(())
            })?;
            let mut rows = rows.iter();
            shell.each(&make(&format!("h.{ORDINAL}"), &range), &forms, &mut |values| {
                let row = rows.next().filter(|row| values.first() == Some(&Value::Int(row.ordinal)));
                let Some(row) = row else {
                    return Err(EngineError::Other("held rows were read in another order".to_owned()));
                };
                sink(row, there(values.get(1..).unwrap_or_default())).map_err(EngineError::Sink)
            })?;
            if rows.next().is_some() {
                return Err(EngineError::Other("a held row was not read again".to_owned()));
            }
            from += PAIRS;
        }
        Ok(())
    }

    /// The columns of the target's row `alias`.
    pub fn now(&self, alias: &str) -> String {
        let columns = self.layout.target.columns.iter();
        let columns = columns.map(|c| format!("{alias}.{}", T::LANGUAGE.quoted(&c.name)));
        columns.collect::<Vec<_>>().join(", ")
    }

    fn keyed(&self, held: &str, range: &str) -> String {
        let row = self.table.row_identity();
        let there = row.or(self.layout.target.key.names.first().map(String::as_str)).unwrap_or_default();
        format!(
            "SELECT {held}, t.{} IS NOT NULL, {} FROM {} AS h LEFT JOIN {} AS t ON {} {range} ORDER BY h.{ORDINAL}",
            T::LANGUAGE.quoted(there),
            self.now("t"),
            self.name(),
            self.table.from(),
            self.pair_on(),
        )
    }

    /// How a held row is paired with the target's row by key. A row keeps its key unless the statement assigns it; then
    /// the foreseen key finds it.
    pub fn pair_on(&self) -> String {
        let key = &self.layout.target.key;
        let foreseen = |at: usize| {
            let after = self.layout.after.iter().find(|(c, _)| *c == at);
            after.map_or_else(|| before(at), |(_, name)| name.clone())
        };
        let side = |at: usize| {
            if self.layout.flags {
                // After the undo a wanted row has its wanted key; one that is not wanted is looked for under its
                // present key.
                format!("CASE WHEN h.{IS_WANTED} THEN h.{} ELSE h.{} END", foreseen(at), before(at))
            } else {
                format!("h.{}", foreseen(at))
            }
        };
        if let Some(row) = self.table.row_identity().filter(|_| self.by_row()) {
            let column = self.table.row_column().filter(|at| self.layout.after.iter().any(|(c, _)| c == at));
            let own = column.filter(|_| !self.layout.flags).map_or_else(|| format!("h.{ROW}"), side);
            return format!("t.{} = {own}", T::LANGUAGE.quoted(row));
        }
        let keys = key.columns.iter().zip(&key.names).enumerate();
        let term = |(nth, (at, name)): (usize, (&usize, &String))| {
            format!("t.{} {} {}", T::LANGUAGE.quoted(name), self.table.equals(nth), side(*at))
        };
        keys.map(term).collect::<Vec<_>>().join(" AND ")
    }

    /// Whether rows are paired by the engine's own identity: they keep it whatever becomes of their key. Rows that are put
    /// back may not have it yet.
    fn by_row(&self) -> bool {
        self.layout.row && (!self.layout.flags || self.layout.target.key.kind == KeyKind::RowIdentity)
    }
}

/// What is there now: a truth, and the columns.
fn there(rest: &[Value]) -> Option<&[Value]> {
    match rest.split_first() {
        Some((Value::Bool(true) | Value::Int(1), now)) => Some(now),
        _ => None,
    }
}
