//! The temporary table of held rows: its definition, the statement that fills it, and how it is read.
//!
//! Before-values stand in columns that hold the same values and take little of a row's room. After-values stand in
//! columns of the target's own types, character sets and collations, under its own column names, so that the server
//! makes of them what it would store, and computes generated columns from them. Where an assignment reads a column
//! that an earlier one has set, the assignments themselves are run on that table, in their order.

use marktwice_core::Value;
use marktwice_core::image::Image;
use marktwice_core::mark::StepKind;
use marktwice_core::param::ParamKind;
use marktwice_core::table::{Key, KeyKind, Target};
use marktwice_port::{Broken, EngineError, PairSink, Plan, SheetTable, Unusable};
use marktwice_relational::held;
use marktwice_relational::insert;
use marktwice_relational::recipe::{Recipe, Slot};
use marktwice_relational::shell::{Joining, Shell, Tabled};
use marktwice_sql::Language;
use marktwice_sql::dialect::ours::{self, IS_WANTED, LEFT, MADE, ORDINAL, Ours, THERE, WAS, WILL, before};
use marktwice_sql::query::ask::Texts;
use marktwice_sql::query::row_query::Ask;
use marktwice_sql::statement::pins::UniqueKey;

use crate::catalog::{Table, held_name, ident};
use crate::client::{My, literal};
use crate::content::{content, known_content};
use crate::detail::{Detail, Own};
use crate::half_known::{note_earlier, open, pairs};
use crate::values::Form;

/// Held rows of this server.
pub(crate) type Held = held::Held<Table>;
/// See [`held::Filled`].
pub(crate) type Filled = held::Filled<Table>;

impl Tabled for Table {
    type Form = Form;
    type Own = Own;

    const LANGUAGE: Language = Language::Mysql;
    const IN_ORDER: bool = true;
    const ENGINE: &str = "MariaDB";
    const JOINING: Joining = Joining::Join;
    const NUMBERED: (&str, &str) = ("bigint PRIMARY KEY", "tinyint");
    const COUNTED: &str = "bigint AUTO_INCREMENT PRIMARY KEY";
    const WHOLE: &str = "bigint";
    const LOCKS: &str = "FOR UPDATE";
    const NO_ACTION_WAITS: bool = false;
    /// The storage engine writes the rows, and nobody above it sees that.
    const ACTIONS_FIRE: bool = false;
    const MOST_COLUMNS: usize = 1_017;
    const TELLS_WRITTEN: bool = true;
    const NUMBER: Form = Form::Number;
    const TRUTH: Form = Form::Number;

    fn leaves_doubt(&self) -> bool {
        self.checked || !self.triggers.is_empty()
    }

    fn is_invisible(&self, column: usize) -> bool {
        self.types.get(column).is_some_and(|of| of.invisible)
    }

    fn generated_as(&self, column: usize) -> Option<&str> {
        self.extras.get(column)?.generated.as_deref()
    }

    fn target(&self) -> &Target {
        &self.target
    }

    fn from(&self) -> String {
        self.name.clone()
    }

    fn shown(&self) -> &str {
        &self.shown
    }

    fn tell_by(&mut self, key: &Key) {
        self.target.key = key.clone();
    }

    fn keys(&self) -> &[UniqueKey] {
        &self.keys
    }

    fn counts(&self, column: usize) -> bool {
        self.types.get(column).is_some_and(|t| t.auto)
    }

    fn roomy(&self, column: usize) -> String {
        self.types.get(column).map_or(String::new(), |t| format!("{} NULL", t.roomy))
    }

    fn kind_type(kind: ParamKind) -> &'static str {
        match kind {
            ParamKind::Text => "longtext",
            ParamKind::Integer => "bigint",
            ParamKind::Decimal => "decimal(65,30)",
            ParamKind::Real => "double",
            ParamKind::Boolean => "tinyint",
            ParamKind::Date => "date",
            ParamKind::Time => "time(6)",
            ParamKind::Moment => "datetime(6)",
        }
    }

    fn sheet_keys(sheet: &SheetTable) -> Vec<String> {
        let compared = sheet.columns.iter().filter(|c| c.compared && c.kind != ParamKind::Text);
        compared.map(|c| format!("KEY ({})", ident(&c.name))).collect()
    }

    fn form(&self, column: usize) -> Form {
        self.types.get(column).map_or(Form::Bytes, |t| t.form)
    }

    fn held_name(&self, step: usize) -> String {
        held_name(self, step)
    }

    /// The number of the row in our own statement tells nobody anything.
    fn in_user_words(&self, error: EngineError, step: usize) -> EngineError {
        let EngineError::Constraint(broken) = error else { return error };
        let (kept, target) = (ours::held(step), &self.target);
        let own = format!("{}.{}", ident(&target.schema), ident(&kept));
        let said = broken.message.replace(&own, &ident(&target.table)).replace(&kept, &target.table);
        let said = said.split(" at row ").next().unwrap_or(&said).to_owned();
        EngineError::Constraint(Box::new(Broken { message: said, ..*broken }))
    }

    fn equals(&self, _: usize) -> &str {
        "="
    }
}

impl Shell for My {
    type Table = Table;

    fn execute(&mut self, sql: &str) -> Result<u64, EngineError> {
        self.execute_one(sql, &[])
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
        self.stream(sql, &[], forms, give)
    }

    /// When the numbers of rows of each content are right the row is as it should be; when they are not it counts as not
    /// done.
    fn pair_without_key(&mut self, held: &Held, sink: &mut PairSink<'_>) -> Result<(), EngineError> {
        if !open(held).is_empty() {
            return held.pair_by(self, &|columns, range| pairs(held, columns, range), sink);
        }
        let mut forms = held.forms.clone();
        forms.push(Form::Number);
        let (name, counts) = (held.name(), count_by_content(held));
        let sql = format!(
            "SELECT {}, (h.{WAS} IS NULL OR IFNULL(a.n, 0) = h.{LEFT}) AND (h.{WILL} IS NULL OR \
             IFNULL(b.n, 0) = h.{MADE}) FROM {name} AS h LEFT JOIN {counts} AS a ON a.marktwice_c = h.{WAS} \
             LEFT JOIN {counts} AS b ON b.marktwice_c = h.{WILL} ORDER BY h.{ORDINAL}",
            held.layout.columns().join(", ")
        );
        self.stream(&sql, &[], &forms, &mut |mut values| {
            let fits = values.pop() == Some(Value::Int(1));
            let row = held.layout.row(values);
            let now = match (&row.image, fits) {
                (Image::Update { after, .. } | Image::Insert { after }, true) => Some(after.as_slice()),
                (Image::Delete { before }, false) => Some(before.as_slice()),
                _ => None,
            };
            sink(&row, now).map_err(EngineError::Sink)
        })
    }
}

/// How many rows of each content are there, as a subquery.
fn count_by_content(held: &Held) -> String {
    let there = content(&held.table, |at| {
        held.layout.target.columns.get(at).map_or(String::new(), |c| format!("t.{}", ident(&c.name)))
    });
    format!(
        "(SELECT {there} AS marktwice_c, count(*) AS n FROM {} AS t GROUP BY marktwice_c)",
        held.table.name
    )
}

/// The columns of the held table of a plan, and what fills them.
pub(crate) fn recipe(plan: &Plan, detail: &Detail) -> Recipe {
    let (step, table) = (&detail.step, &detail.table);
    let visible = ident(&step.table.visible().text);
    let mut recipe = Recipe::new(format!("{ORDINAL} {}", Table::COUNTED));
    let columns = table.target.columns.iter().zip(&table.types).zip(&table.extras);
    let slots: Vec<Slot> = columns
        .map(|((column, of), extra)| Slot {
            name: ident(&column.name),
            held: format!("{} NULL", of.roomy),
            own: of.declared.clone(),
            null: if column.not_null { " NOT NULL" } else { " NULL" },
            generated: extra.generated.clone(),
            comes: if detail.own.bends && column.not_null { " NOT NULL" } else { " NULL" },
            is_generated: column.generated,
        })
        .collect();
    if plan.kind == StepKind::Insert {
        recipe = insert::recipe(table, plan, step, &slots, &detail.defaults);
    } else {
        recipe.images(plan, &visible, &slots, &detail.values, detail.own.trial);
    }
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

/// Makes a held table of these columns. Temporary tables do not end a transaction.
pub(crate) fn define(my: &mut My, step: usize, table: &Table, columns: &[String]) -> Result<(), EngineError> {
    let name = held_name(table, step);
    my.later(&format!("DROP TEMPORARY TABLE IF EXISTS {name}"))?;
    my.run(&format!("CREATE TEMPORARY TABLE {name} ({}) ENGINE=InnoDB", columns.join(", "))).map_err(
        |error| match error {
            EngineError::Unusable(Unusable::Denied, said) => EngineError::denied(format!(
                "CREATE TEMPORARY TABLES on {} is missing, and rows are held in one: {said}",
                table.target.schema
            )),
            other => other,
        },
    )
}

/// Fills the held table, under the user's own settings.
pub(crate) fn fill(my: &mut My, plan: &Plan, detail: &Detail, lock: bool) -> Result<Filled, EngineError> {
    let step = &detail.step;
    if plan.kind == StepKind::Insert {
        return insert::fill(my, plan, (step, &detail.table), recipe(plan, detail));
    }
    // In the order of the key: that is how people read rows, and two runs that lock in one order do not deadlock.
    let visible = ident(&step.table.visible().text);
    let key = &detail.table.target.key;
    let keys: Vec<String> = key.names.iter().map(|k| format!("{visible}.{}", ident(k))).collect();
    // An outer join may have no row of the target beside a row of another table.
    let there: Vec<String> = keys.iter().map(|k| format!("{k} IS NOT NULL")).collect();
    let there = step.sources.as_ref().filter(|_| !there.is_empty()).map(|_| there.join(" AND "));
    let ask = Ask {
        also: there.as_deref(),
        order: &keys.join(", "),
        end: if lock { "FOR UPDATE" } else { "" },
        ..Ask::default()
    };
    let identity: Vec<_> = key.columns.iter().zip(&keys).map(|(&at, of)| (before(at), of.clone())).collect();
    let filled = held::fill(my, plan, (step, &detail.table), recipe(plan, detail), ask, identity.clone());
    let filled = match filled {
        Err(error) if holds_zero_dates(my, &error) => {
            // They are there, and are only looked at; what the statement itself assigns the run will judge.
            let mode: Vec<&str> = my.own.0.split(',').filter(|mode| !ZERO_DATES.contains(mode)).collect();
            let lenient = literal(&mode.join(","));
            my.run(&format!("SET SESSION sql_mode = {lenient}"))?;
            let filled = held::fill(my, plan, (step, &detail.table), recipe(plan, detail), ask, identity);
            my.run(&format!("SET SESSION sql_mode = {}", literal(&my.own.0)))?;
            filled
        }
        filled => filled,
    }?;
    if detail.own.trial
        && let (Some(first), Some(last)) = (step.assignments.first(), step.assignments.last())
        && let Some(start) = first.columns.first()
    {
        let (name, assignments) = (filled.held.name(), step.text(start.slice.to(last.value)));
        let sql = format!("UPDATE {name} AS {} SET {assignments}", ident(&step.table.visible().text));
        my.execute_one(&sql, &[]).map_err(|error| detail.table.in_user_words(error, plan.step))?;
    }
    Ok(filled)
}

/// Modes under which a date of zeros cannot be stored, also where it is stored already; and one that sets them.
const ZERO_DATES: [&str; 3] = ["NO_ZERO_DATE", "NO_ZERO_IN_DATE", "TRADITIONAL"];

/// Whether rows could not be held for a date of zeros that is in them.
fn holds_zero_dates(my: &My, error: &EngineError) -> bool {
    let text = error.to_string();
    my.own.0.contains("NO_ZERO") && text.starts_with("Incorrect date") && text.contains("-00")
}

/// For rows without a key: notes the contents before and after, and how many rows of each there must be in the table once
/// all is done. Settings must be pinned.
pub(crate) fn expect_contents(held: &Held, my: &mut My) -> Result<(), EngineError> {
    if held.layout.target.key.kind != KeyKind::WholeRow {
        return Ok(());
    }
    let name = held.name();
    let was = content(&held.table, |at| format!("h.{}", before(at)));
    let open = open(held);
    let will = known_content(&held.table, &open, |at| {
        let after = held.layout.after.iter().find(|(c, _)| *c == at);
        after.map_or_else(|| format!("h.{}", before(at)), |(_, name)| format!("h.{name}"))
    });
    let (was, will) = if held.layout.flags {
        (format!("IF(h.{THERE}, {was}, NULL)"), format!("IF(h.{IS_WANTED}, {will}, NULL)"))
    } else if held.layout.comes_in() {
        ("NULL".to_owned(), will)
    } else if held.layout.kind == StepKind::Delete {
        (was, "NULL".to_owned())
    } else {
        (was, will)
    };
    my.run(&format!("UPDATE {name} AS h SET h.{WAS} = {was}, h.{WILL} = {will}"))?;
    if !open.is_empty() {
        return note_earlier(held, my);
    }
    let table = count_by_content(held);
    let of = |column: Ours| {
        format!("(SELECT {column} AS marktwice_c, count(*) AS n FROM {name} GROUP BY {column})")
    };
    for (column, into) in [(WAS, LEFT), (WILL, MADE)] {
        my.run(&format!(
            "UPDATE {name} AS h LEFT JOIN {table} AS x ON x.marktwice_c = h.{column} LEFT JOIN {} AS o ON o.marktwice_c = h.{column} \
             LEFT JOIN {} AS i ON i.marktwice_c = h.{column} SET h.{into} = IFNULL(x.n, 0) - IFNULL(o.n, 0) + IFNULL(i.n, 0)",
            of(WAS),
            of(WILL),
        ))?;
    }
    Ok(())
}
