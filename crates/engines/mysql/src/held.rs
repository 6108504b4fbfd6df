//! The temporary table of held rows: its definition, the statement that fills it, and how it is read.
//!
//! Before-values stand in columns that hold the same values and take little of a row's room. After-values stand in
//! columns of the target's own types, character sets and collations, under its own column names, so that the server
//! makes of them what it would store, and computes generated columns from them. Where an assignment reads a column
//! that an earlier one has set, the assignments themselves are run on that table, in their order.

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
use marktwice_sql::ours::{HELD, IS_WANTED, LEFT, MADE, ORDINAL, Ours, THERE, WAS, WILL, before};
use marktwice_sql::row_query::Ask;

use crate::catalog::{Table, held_name, ident};
use crate::client::My;
use crate::content::content;
use crate::plan::Detail;
use crate::values::Form;

/// Columns that a table of this server has at most.
const MOST_COLUMNS: usize = 1_017;

/// Held rows and how they are read and paired.
#[derive(Debug, Clone)]
pub(crate) struct Held {
    pub(crate) layout: Layout,
    pub(crate) table: Table,
    forms: Vec<Form>,
}

impl Held {
    pub(crate) fn new(layout: Layout, table: &Table) -> Held {
        let mut forms = vec![Form::Number];
        forms.extend(table.forms());
        forms.extend(layout.after.iter().map(|(at, _)| table.types.get(*at).map_or(Form::Bytes, |t| t.form)));
        if layout.flags {
            forms.extend([Form::Number, Form::Number]);
        }
        Held { layout, table: table.clone(), forms }
    }
}

fn recipe(plan: &Plan, detail: &Detail) -> Recipe {
    let (step, table) = (&detail.step, &detail.table);
    let visible = ident(&step.table.visible().text);
    let mut recipe = Recipe::new(format!("{ORDINAL} bigint AUTO_INCREMENT PRIMARY KEY"));
    let columns = table.target.columns.iter().zip(&table.types).zip(&table.extras);
    let slots: Vec<Slot> = columns
        .map(|((column, of), extra)| Slot {
            name: ident(&column.name),
            held: format!("{} NULL", of.roomy),
            own: of.declared.clone(),
            null: if column.not_null { " NOT NULL" } else { " NULL" },
            generated: extra.generated.clone(),
            is_generated: column.generated,
        })
        .collect();
    recipe.images(plan, &visible, &slots, &detail.values, detail.trial);
    if table.target.key.kind == KeyKind::WholeRow {
        recipe.columns.extend(content_columns());
    }
    recipe
}

/// Definitions of the columns for rows without a key.
pub(crate) fn content_columns() -> Vec<String> {
    let hashes =
        [WAS, WILL].map(|n| format!("{n} char(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin, KEY ({n})"));
    hashes.into_iter().chain([LEFT, MADE].map(|n| format!("{n} bigint"))).collect()
}

/// Makes the held table of a plan; in a transaction that only reads this is not allowed any more.
pub(crate) fn create(my: &mut My, plan: &Plan, detail: &Detail) -> Result<(), EngineError> {
    let columns = recipe(plan, detail).columns;
    fits(&plan.target.table, columns.len(), MOST_COLUMNS, "MariaDB")?;
    define(my, &detail.table, &columns)
}

/// Makes a held table of these columns. Temporary tables do not end a transaction.
pub(crate) fn define(my: &mut My, table: &Table, columns: &[String]) -> Result<(), EngineError> {
    let name = held_name(table);
    my.run(&format!("DROP TEMPORARY TABLE IF EXISTS {name}"))?;
    my.run(&format!("CREATE TEMPORARY TABLE {name} ({}) ENGINE=InnoDB", columns.join(", "))).map_err(
        |error| match error {
            EngineError::Denied(said) => EngineError::Denied(format!(
                "CREATE TEMPORARY TABLES on {} is missing, and rows are held in one: {said}",
                table.target.schema
            )),
            other => other,
        },
    )
}

/// A value that does not fit the held table is one that the statement itself would meet.
fn in_user_words(error: EngineError, table: &Table) -> EngineError {
    match error {
        EngineError::Constraint { kind, message } => {
            let own = format!("{}.{}", ident(&table.target.schema), ident(&HELD.to_string()));
            let said = message
                .replace(&own, &ident(&table.target.table))
                .replace(&HELD.to_string(), &table.target.table);
            // The number of the row in our own statement tells nobody anything.
            let said = said.split(" at row ").next().unwrap_or(&said).to_owned();
            EngineError::Constraint { kind, message: said }
        }
        other => other,
    }
}

/// Streams the matched rows and the computed values without a temporary table, for a user that may not make one.
pub(crate) fn stream_plainly(
    my: &mut My,
    plan: &Plan,
    detail: &Detail,
    limit: Option<u64>,
    sink: &mut RowSink<'_>,
) -> Result<u64, EngineError> {
    let step = &detail.step;
    let visible = ident(&step.table.visible().text);
    let mut select = vec!["0".to_owned()];
    select.extend(plan.target.columns.iter().map(|c| format!("{visible}.{}", ident(&c.name))));
    select.extend(detail.values.iter().map(|(_, expression)| format!("({expression}\n)")));
    let after = detail.values.iter().map(|(at, _)| (*at, String::new())).collect();
    let layout = Layout { target: plan.target.clone(), kind: plan.kind, flags: false, after };
    let held = Held::new(layout, &detail.table);
    let keys: Vec<String> = plan.target.key.names.iter().map(|k| format!("{visible}.{}", ident(k))).collect();
    let end = limit.map_or(String::new(), |n| format!("LIMIT {n}"));
    let sql = step.row_query(&select, Ask { also: None, order: &keys.join(", "), end: &end });
    let mut ordinal = 0;
    my.stream(&sql, &[], &held.forms, &mut |values| {
        ordinal += 1;
        let row = HeldRow { ordinal, ..held.layout.row(values) };
        sink(&row).map_err(EngineError::Sink)
    })?;
    Ok(u64::try_from(ordinal).unwrap_or(0))
}

/// Held rows, how many they are, and which of them a join matches several times.
pub(crate) struct Filled {
    pub(crate) held: Held,
    pub(crate) matched: u64,
    pub(crate) many: Option<Many>,
}

/// Fills the held table, under the user's own settings.
pub(crate) fn fill(my: &mut My, plan: &Plan, detail: &Detail, lock: bool) -> Result<Filled, EngineError> {
    let recipe = recipe(plan, detail);
    let step = &detail.step;
    let name = held_name(&detail.table);
    // In the order of the key: that is how people read rows, and two runs that lock in one order do not deadlock.
    let visible = ident(&step.table.visible().text);
    let key = &detail.table.target.key;
    let keys: Vec<String> = key.names.iter().map(|k| format!("{visible}.{}", ident(k))).collect();
    // An outer join may have no row of the target beside a row of another table.
    let there: Vec<String> = keys.iter().map(|k| format!("{k} IS NOT NULL")).collect();
    let there = step.sources.as_ref().filter(|_| !there.is_empty()).map(|_| there.join(" AND "));
    let ask =
        Ask { also: there.as_deref(), order: &keys.join(", "), end: if lock { "FOR UPDATE" } else { "" } };
    let sql =
        format!("INSERT INTO {name} ({})\n{}", recipe.insert.join(", "), step.row_query(&recipe.select, ask));
    let user_words = |error| in_user_words(error, &detail.table);
    let mut matched = my.execute_one(&sql, &[]).map_err(user_words).map_err(|e| in_place(step, e))?;
    let names = HeldNames {
        table: name.clone(),
        ordinal: ORDINAL.to_string(),
        identity: key.columns.iter().zip(&keys).map(|(&at, of)| (before(at), of.clone())).collect(),
        after: recipe.after.iter().map(|(_, name)| name.clone()).collect(),
        unknown: unknown_values(plan),
    };
    let found = once_each(step, &names, &mut |sql| my.ask(sql))?;
    if detail.trial
        && let (Some(first), Some(last)) = (step.assignments.first(), step.assignments.last())
        && let Some(start) = first.columns.first()
    {
        let assignments = step.text(start.slice.to(last.value));
        my.execute_one(
            &format!("UPDATE {name} AS {} SET {assignments}", ident(&step.table.visible().text)),
            &[],
        )
        .map_err(user_words)?;
    }
    let layout = Layout { target: plan.target.clone(), kind: plan.kind, flags: false, after: recipe.after };
    let held = Held::new(layout, &detail.table);
    let mut many = None;
    if let Some((mut found, ordinals)) = found {
        matched = my.count(&format!("SELECT count(*) FROM {name}"))?;
        for (example, ordinal) in found.examples.iter_mut().zip(ordinals) {
            let columns = held.layout.columns().join(", ");
            let sql = format!("SELECT {columns} FROM {name} AS h WHERE h.{ORDINAL} = {ordinal}");
            my.stream(&sql, &[], &held.forms, &mut |values| {
                example.key = held.layout.row(values).key;
                Ok(())
            })?;
        }
        many = Some(found);
    }
    Ok(Filled { held, matched, many })
}

impl Held {
    fn name(&self) -> String {
        held_name(&self.table)
    }

    /// Hands all held rows over in order. Settings must be pinned.
    pub(crate) fn stream(&self, my: &mut My, sink: &mut RowSink<'_>) -> Result<(), EngineError> {
        let columns = self.layout.columns().join(", ");
        let sql = format!("SELECT {columns} FROM {} AS h ORDER BY h.{ORDINAL}", self.name());
        my.stream(&sql, &[], &self.forms, &mut |values| {
            sink(&self.layout.row(values)).map_err(EngineError::Sink)
        })
    }

    fn by_content(&self) -> bool {
        self.layout.target.key.kind == KeyKind::WholeRow
    }

    /// For rows without a key: notes the contents before and after, and how many rows of each there must be in the
    /// table once all is done. Settings must be pinned.
    pub(crate) fn expect_contents(&self, my: &mut My) -> Result<(), EngineError> {
        if !self.by_content() {
            return Ok(());
        }
        let name = self.name();
        let was = content(&self.table, |at| format!("h.{}", before(at)));
        let will = content(&self.table, |at| {
            let after = self.layout.after.iter().find(|(c, _)| *c == at);
            after.map_or_else(|| format!("h.{}", before(at)), |(_, name)| format!("h.{name}"))
        });
        let (was, will) = if self.layout.flags {
            (format!("IF(h.{THERE}, {was}, NULL)"), format!("IF(h.{IS_WANTED}, {will}, NULL)"))
        } else if self.layout.kind == StepKind::Delete {
            (was, "NULL".to_owned())
        } else {
            (was, will)
        };
        my.run(&format!("UPDATE {name} AS h SET h.{WAS} = {was}, h.{WILL} = {will}"))?;
        let table = self.count_by_content();
        let held = |column: Ours| {
            format!("(SELECT {column} AS marktwice_c, count(*) AS n FROM {name} GROUP BY {column})")
        };
        for (column, into) in [(WAS, LEFT), (WILL, MADE)] {
            my.run(&format!(
                "UPDATE {name} AS h LEFT JOIN {table} AS x ON x.marktwice_c = h.{column} LEFT JOIN {} AS o ON o.marktwice_c = h.{column} \
                 LEFT JOIN {} AS i ON i.marktwice_c = h.{column} SET h.{into} = IFNULL(x.n, 0) - IFNULL(o.n, 0) + IFNULL(i.n, 0)",
                held(WAS),
                held(WILL),
            ))?;
        }
        Ok(())
    }

    fn count_by_content(&self) -> String {
        let there = content(&self.table, |at| {
            self.layout.target.columns.get(at).map_or(String::new(), |c| format!("t.{}", ident(&c.name)))
        });
        format!(
            "(SELECT {there} AS marktwice_c, count(*) AS n FROM {} AS t GROUP BY marktwice_c)",
            self.table.name
        )
    }

    /// Hands all held rows over, each with what is there now. Settings must be pinned.
    pub(crate) fn pairs(&self, my: &mut My, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        let width = self.layout.width();
        let mut forms = self.forms.clone();
        forms.push(Form::Number);
        if !self.by_content() {
            forms.extend(self.table.forms());
        }
        my.stream(&self.pair_query(), &[], &forms, &mut |values| {
            let (held, rest) = values.split_at_checked(width).unwrap_or_default();
            let row = self.layout.row(held);
            let fits = matches!(rest.first(), Some(Value::Int(1)));
            let now = if self.by_content() {
                // When the numbers are right the row is as it should be; when they are not it counts as not done.
                match (&row.after, fits) {
                    (marktwice_core::mark::After::Row(after), true) => Some(after.clone()),
                    (marktwice_core::mark::After::Gone, false) => Some(row.before.clone()),
                    _ => None,
                }
            } else {
                fits.then(|| rest.get(1..).unwrap_or_default().to_vec())
            };
            sink(&row, now.as_deref()).map_err(EngineError::Sink)
        })
    }

    fn pair_query(&self) -> String {
        let held = self.layout.columns().join(", ");
        let name = self.name();
        if self.by_content() {
            let counts = self.count_by_content();
            return format!(
                "SELECT {held}, (h.{WAS} IS NULL OR IFNULL(a.n, 0) = h.{LEFT}) AND (h.{WILL} IS NULL OR \
                 IFNULL(b.n, 0) = h.{MADE}) FROM {name} AS h LEFT JOIN {counts} AS a ON a.marktwice_c = h.{WAS} \
                 LEFT JOIN {counts} AS b ON b.marktwice_c = h.{WILL} ORDER BY h.{ORDINAL}"
            );
        }
        let target = &self.layout.target;
        let now: Vec<String> = target.columns.iter().map(|c| format!("t.{}", ident(&c.name))).collect();
        let there = target.key.names.first().map_or(String::new(), |k| format!("t.{}", ident(k)));
        format!(
            "SELECT {held}, {there} IS NOT NULL, {} FROM {name} AS h LEFT JOIN {} AS t ON {} ORDER BY h.{ORDINAL}",
            now.join(", "),
            self.table.name,
            self.pair_on(),
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
        let term = |(&at, name): (&usize, &String)| {
            let side = if self.layout.flags {
                format!("IF(h.{IS_WANTED}, h.{}, h.{})", foreseen(at), before(at))
            } else {
                format!("h.{}", foreseen(at))
            };
            format!("t.{} = {side}", ident(name))
        };
        key.columns.iter().zip(&key.names).map(term).collect::<Vec<_>>().join(" AND ")
    }
}
