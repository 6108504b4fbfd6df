//! Which constraints the held rows of a step would break, by queries of our own over what they hold and what they would become:
//! one set-wise question a constraint, and one more for the rows where there are any.

use std::time::Instant;

use marktwice_core::breach::{Breach, Breaches, Breaker, Rule};
use marktwice_core::mark::{Label, StepKind};
use marktwice_core::table::Target;
use marktwice_port::{EngineError, PATIENCE_IN_ALL, Plan};
use marktwice_sql::dialect::ours::{ORDINAL, before};
use marktwice_sql::query::ask::Texts;
use marktwice_sql::text::names;

use crate::detail::Detail;
use crate::driver::Driver;
use crate::held::Held;
use crate::reach::ForeignKey;
use crate::shell::Tabled;

/// Rows that are named for each constraint.
const NAMED: usize = 5;

/// A key that no two rows may share, as its index has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unique {
    /// What is unique: expressions over the columns' bare names.
    pub terms: Vec<String>,
    /// For which rows it is, where not for all.
    pub only: Option<String>,
    /// Whether it is looked at behind the statement, when all rows are written.
    pub at_the_end: bool,
}

/// What a table demands of its rows beyond foreign keys.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Rules {
    /// Unique keys.
    pub unique: Vec<Unique>,
    /// Columns that refuse NULL whatever the settings are.
    pub not_null: Vec<usize>,
    /// Conditions over the columns' bare names.
    pub checks: Vec<String>,
    /// Whether all conditions are looked at, and not only those on a column that is written.
    pub every_check: bool,
    /// Whether foreign keys are looked at in this session.
    pub references: bool,
}

/// What a question gave: nothing where it was not answered in time.
type Answered = Result<Option<Texts>, EngineError>;

struct Looking<'a, D: Driver> {
    driver: &'a mut D,
    plan: &'a Plan,
    detail: &'a Detail<D::Table>,
    held: &'a Held<D::Table>,
    until: Instant,
    found: Breaches,
}

/// Asks about all constraints that a step may break.
///
/// # Errors
/// When the connection fails.
pub fn breaches<D: Driver>(
    driver: &mut D,
    plan: &Plan,
    detail: &Detail<D::Table>,
    held: &Held<D::Table>,
) -> Result<Breaches, EngineError> {
    let rules = driver.rules(&detail.table)?;
    let until = Instant::now() + PATIENCE_IN_ALL;
    let mut looking = Looking { driver, plan, detail, held, until, found: Breaches::default() };
    if plan.kind == StepKind::Update {
        looking.not_null(&rules)?;
        looking.checks(&rules)?;
        looking.unique(&rules)?;
    }
    if rules.references {
        looking.references()?;
    }
    let found = looking.found;
    driver.unhurried();
    Ok(found)
}

impl<D: Driver> Looking<'_, D> {
    fn target(&self) -> &Target {
        self.detail.table.target()
    }

    fn quoted(&self, name: &str) -> String {
        D::Table::LANGUAGE.quoted(name)
    }

    /// Columns that the statement may change.
    fn moved(&self, at: usize) -> bool {
        self.plan.foreseen.iter().any(|f| f.column == at)
    }

    /// What a held row would hold in a column; `None` where only the run can tell.
    fn after(&self, at: usize) -> Option<String> {
        let Some(foreseen) = self.plan.foreseen.iter().find(|f| f.column == at) else {
            return Some(format!("h.{}", before(at)));
        };
        let after = self.held.layout.after.iter().find(|(column, _)| *column == at);
        after.filter(|_| foreseen.label != Label::Unknown).map(|(_, name)| format!("h.{name}"))
    }

    /// What may still make it come otherwise.
    fn unless(&self) -> Option<String> {
        let fires = self.detail.fires.for_rows || self.detail.fires.for_statement;
        fires.then(|| "a trigger may still change that".to_owned())
    }

    /// A question in the time that is left; what is not answered is noted as open.
    fn ask(&mut self, what: &str, sql: &str) -> Answered {
        match self.driver.ask_here(sql, self.until) {
            Ok(answer) => Ok(Some(answer)),
            Err(_) => {
                self.found.open.push(what.to_owned());
                Ok(None)
            }
        }
    }

    /// Rows as they would be, under the columns' own names: `marktwice_o` is the number of the held row.
    fn images(&self, columns: &[usize]) -> Option<String> {
        let mut list = vec![format!("h.{ORDINAL} AS marktwice_o")];
        for &at in columns {
            let name = &self.target().columns.get(at)?.name;
            list.push(format!("{} AS {}", self.after(at)?, self.quoted(name)));
        }
        Some(format!("SELECT {} FROM {} AS h", list.join(", "), self.held.name()))
    }

    /// The columns of the target that an expression names, in order.
    fn columns_in(&self, text: &str) -> Vec<usize> {
        let mut all: Vec<usize> =
            names(text, D::Table::LANGUAGE).iter().filter_map(|name| self.target().position(name)).collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// Adds a breach with the rows that a query names: the number of the held row, what it would hold, and the key of another
    /// row behind that.
    fn add(&mut self, breach: Breach, named: &str, width: usize) -> Result<(), EngineError> {
        let answer = self.ask("which rows these are", named)?.unwrap_or_default();
        let mut first = Vec::new();
        for row in answer.rows.into_iter().take(NAMED) {
            let mut cells = row.into_iter();
            let Some(ordinal) = cells.next().flatten().filter(|o| o.bytes().all(|b| b.is_ascii_digit()))
            else {
                continue;
            };
            let holds: Vec<Option<String>> = cells.by_ref().take(width).collect();
            let other: Vec<String> = cells.map(Option::unwrap_or_default).collect();
            let (mut key, held) = (Vec::new(), self.held);
            self.driver.pinned(|driver| {
                held.of(driver, &ordinal, &mut |row| {
                    key.clone_from(&row.key);
                    Ok(())
                })
            })?;
            let with = (!other.is_empty()).then(|| other.join(","));
            first.push(Breaker { key, holds, with });
        }
        self.found.found.push(Breach { first, ..breach });
        Ok(())
    }

    fn not_null(&mut self, rules: &Rules) -> Result<(), EngineError> {
        for &at in rules.not_null.iter().filter(|at| self.moved(**at)).collect::<Vec<_>>() {
            let (Some(after), Some(column)) = (self.after(at), self.target().columns.get(at)) else {
                continue;
            };
            let (name, held) = (column.name.clone(), self.held.name());
            let broken = format!("FROM {held} AS h WHERE {after} IS NULL");
            let Some(answer) =
                self.ask(&format!("whether {name} would be NULL"), &format!("SELECT count(*) {broken}"))?
            else {
                continue;
            };
            if answer.count(0, 0) > 0 {
                let breach = self.breach(Rule::NotNull, vec![name], answer.count(0, 0));
                let named = format!("SELECT h.{ORDINAL} {broken} ORDER BY h.{ORDINAL} LIMIT {NAMED}");
                self.add(breach, &named, 0)?;
            }
        }
        Ok(())
    }

    fn breach(&self, rule: Rule, columns: Vec<String>, rows: u64) -> Breach {
        let unless = self.unless();
        Breach { rule, columns, other: None, text: None, among: false, rows, first: Vec::new(), unless }
    }

    fn checks(&mut self, rules: &Rules) -> Result<(), EngineError> {
        for check in &rules.checks {
            let columns = self.columns_in(check);
            if !rules.every_check && !columns.iter().any(|at| self.moved(*at)) {
                continue;
            }
            let Some(images) = self.images(&columns) else { continue };
            // What the definition qualifies is qualified by the table's own name.
            let alias = self.quoted(&self.target().table);
            let broken = format!("FROM ({images}) AS {alias} WHERE NOT ({check}\n)");
            let what = format!("the check {check}");
            let Some(answer) = self.ask(&what, &format!("SELECT count(*) {broken}"))? else { continue };
            if answer.count(0, 0) > 0 {
                let names: Vec<String> = self.target().names(&columns);
                let list: Vec<String> = names.iter().map(|name| self.quoted(name)).collect();
                let named = format!(
                    "SELECT marktwice_o, {} {broken} ORDER BY marktwice_o LIMIT {NAMED}",
                    list.join(", ")
                );
                let breach = self.breach(Rule::Check, names, answer.count(0, 0));
                self.add(Breach { text: Some(check.clone()), ..breach }, &named, list.len())?;
            }
        }
        Ok(())
    }

    fn unique(&mut self, rules: &Rules) -> Result<(), EngineError> {
        // Rows that nothing but their contents tells are not told from those they might collide with.
        let identity = self.detail.table.identity();
        if identity.is_empty() {
            return Ok(());
        }
        for unique in &rules.unique {
            let text = unique.terms.iter().chain(&unique.only).cloned().collect::<Vec<_>>().join(" , ");
            let columns = self.columns_in(&text);
            if columns.iter().any(|at| self.moved(*at)) {
                self.collisions(unique, &columns, &identity)?;
            }
        }
        Ok(())
    }

    /// Rows that would hold what another one does, and rows of which two would.
    fn collisions(
        &mut self,
        unique: &Unique,
        columns: &[usize],
        identity: &[(String, String)],
    ) -> Result<(), EngineError> {
        let Some(images) = self.images(columns) else { return Ok(()) };
        let (from, held, width) = (self.detail.table.from(), self.held.name(), unique.terms.len());
        let only = unique.only.as_ref().map_or(String::new(), |only| format!(" WHERE ({only}\n)"));
        let names = |prefix: &str| (0..width).map(|n| format!("{prefix}{n}")).collect::<Vec<_>>();
        let terms = |prefix: &str| {
            let named = unique.terms.iter().zip(names(prefix));
            named.map(|(term, name)| format!("({term}\n) AS {name}")).collect::<Vec<_>>().join(", ")
        };
        let new = format!("SELECT marktwice_o, {} FROM ({images}) AS i{only}", terms("marktwice_n"));
        let keys: Vec<String> =
            identity.iter().enumerate().map(|(n, (_, own))| format!("x.{own} AS marktwice_k{n}")).collect();
        let there = format!("SELECT {}, {} FROM {from} AS x{only}", keys.join(", "), terms("marktwice_t"));
        let same: Vec<String> = (0..width).map(|n| format!("t.marktwice_t{n} = n.marktwice_n{n}")).collect();
        let own = |alias: &str| {
            let pairs = identity.iter().enumerate();
            let pairs = pairs.map(|(n, (held, _))| format!("{alias}.{held} = t.marktwice_k{n}"));
            pairs.collect::<Vec<_>>().join(" AND ")
        };
        let holds = names("n.marktwice_n").join(", ");
        let outside = format!(
            "FROM ({new}) AS n JOIN ({there}) AS t ON {} WHERE NOT EXISTS (SELECT 1 FROM {held} AS m WHERE {})",
            same.join(" AND "),
            own("m")
        );
        let named_columns = self.target().names(&self.columns_in(&unique.terms.join(" , ")));
        let what = format!("whether {} stays unique", named_columns.join(", "));
        let Some(answer) = self.ask(&what, &format!("SELECT count(*) {outside}"))? else { return Ok(()) };
        if answer.count(0, 0) > 0 {
            let keys =
                (0..identity.len()).map(|n| format!("t.marktwice_k{n}")).collect::<Vec<_>>().join(", ");
            let named = format!("SELECT n.marktwice_o, {holds}, {keys} {outside} ORDER BY 1 LIMIT {NAMED}");
            let breach = self.breach(Rule::Unique, named_columns.clone(), answer.count(0, 0));
            self.add(breach, &named, width)?;
        }
        let groups = names("n.marktwice_n").join(", ");
        let given = names("n.marktwice_n")
            .iter()
            .map(|n| format!("{n} IS NOT NULL"))
            .collect::<Vec<_>>()
            .join(" AND ");
        let twice = format!(
            "SELECT count(*) AS marktwice_c FROM ({new}) AS n WHERE {given} GROUP BY {groups} HAVING count(*) > 1"
        );
        let sum = format!("SELECT coalesce(sum(marktwice_c), 0) FROM ({twice}) AS g");
        let Some(answer) = self.ask(&what, &sum)? else { return Ok(()) };
        if answer.count(0, 0) > 0 {
            let both: Vec<String> =
                (0..width).map(|n| format!("o.marktwice_n{n} = n.marktwice_n{n}")).collect();
            let others = identity.iter().map(|(held, _)| format!("m.{held}")).collect::<Vec<_>>().join(", ");
            let named = format!(
                "SELECT n.marktwice_o, {holds}, {others} FROM ({new}) AS n JOIN ({new}) AS o ON {} \
                 AND n.marktwice_o < o.marktwice_o JOIN {held} AS m ON m.{ORDINAL} = o.marktwice_o ORDER BY 1 LIMIT {NAMED}",
                both.join(" AND ")
            );
            let breach = self.breach(Rule::Unique, named_columns, answer.count(0, 0));
            return self.add(Breach { among: true, ..breach }, &named, width);
        }
        if !self.found.found.iter().any(|b| b.rule == Rule::Unique) && !unique.at_the_end {
            self.shifted(&new, (&there, &same.join(" AND ")), &own("m"), named_columns)?;
        }
        Ok(())
    }

    /// Values that one row gives up as another takes them: whether the engine meets a collision hangs on the order in which
    /// it writes the rows.
    fn shifted(
        &mut self,
        new: &str,
        (there, same): (&str, &str),
        own: &str,
        columns: Vec<String>,
    ) -> Result<(), EngineError> {
        let held = self.held.name();
        // Held rows are numbered in the order that the statement asks for, where it does.
        let ordered = self.detail.step.tail.as_ref().is_some_and(|tail| !tail.order.is_empty());
        let known = ordered && D::Table::IN_ORDER;
        let later = if known { ">" } else { "<>" };
        let broken = format!(
            "FROM ({new}) AS n JOIN ({there}) AS t ON {same} JOIN {held} AS m ON {own} WHERE m.{ORDINAL} {later} n.marktwice_o"
        );
        let what = format!("whether {} collides on the way", columns.join(", "));
        let Some(answer) = self.ask(&what, &format!("SELECT count(*) {broken}"))? else { return Ok(()) };
        if answer.count(0, 0) > 0 {
            let breach = self.breach(Rule::Unique, columns, answer.count(0, 0));
            if known {
                self.found.found.push(breach);
                return Ok(());
            }
            let unless = "rows take what others of them give up: in which order they are written only the run can tell";
            self.found.found.push(Breach { unless: Some(unless.to_owned()), ..breach });
        }
        Ok(())
    }

    fn references(&mut self) -> Result<(), EngineError> {
        let (target, kind) = (self.target().clone(), self.plan.kind);
        let own = |schema: &str, table: &str| schema == target.schema && table == target.table;
        for key in &self.detail.foreign_keys {
            if kind == StepKind::Update && own(&key.child_target.0, &key.child_target.1) {
                self.parents(key)?;
            }
            if own(&key.parent_name.0, &key.parent_name.1) {
                self.children(key)?;
            }
        }
        Ok(())
    }

    /// References that would be to rows that are not there.
    fn parents(&mut self, key: &ForeignKey) -> Result<(), EngineError> {
        let at: Option<Vec<usize>> = key.child_columns.iter().map(|c| self.target().position(c)).collect();
        let at = at.unwrap_or_default();
        let itself = key.child_target == key.parent_name;
        let parents_move = itself
            && key.parent_columns.iter().any(|c| self.target().position(c).is_some_and(|at| self.moved(at)));
        if !key.parent_readable || parents_move || !at.iter().any(|at| self.moved(*at)) {
            return Ok(());
        }
        let after: Option<Vec<String>> = at.iter().map(|at| self.after(*at)).collect();
        let Some(after) = after else { return Ok(()) };
        let given = after.iter().map(|a| format!("{a} IS NOT NULL"));
        let changes = at
            .iter()
            .zip(&after)
            .map(|(at, after)| D::Table::LANGUAGE.differs(&format!("h.{}", before(*at)), after));
        let there =
            key.parent_columns.iter().zip(&after).map(|(c, after)| format!("p.{} = {after}", self.quoted(c)));
        let broken = format!(
            "FROM {} AS h WHERE {} AND ({}) AND NOT EXISTS (SELECT 1 FROM {} AS p WHERE {})",
            self.held.name(),
            given.collect::<Vec<_>>().join(" AND "),
            changes.collect::<Vec<_>>().join(" OR "),
            key.parent_sql,
            there.collect::<Vec<_>>().join(" AND "),
        );
        let what = format!("whether {} has what {} refers to", key.parent, key.child_columns.join(", "));
        let Some(answer) = self.ask(&what, &format!("SELECT count(*) {broken}"))? else { return Ok(()) };
        if answer.count(0, 0) > 0 {
            let named = format!(
                "SELECT h.{ORDINAL}, {} {broken} ORDER BY h.{ORDINAL} LIMIT {NAMED}",
                after.join(", ")
            );
            let breach = self.breach(Rule::Parent, key.child_columns.clone(), answer.count(0, 0));
            self.add(Breach { other: Some(key.parent.clone()), ..breach }, &named, after.len())?;
        }
        Ok(())
    }

    /// Rows that refer to what would go, or to a key that would change, and hold it there.
    fn children(&mut self, key: &ForeignKey) -> Result<(), EngineError> {
        let kind = self.plan.kind;
        let action = if kind == StepKind::Delete { &key.on_delete } else { &key.on_update };
        let at: Option<Vec<usize>> = key.parent_columns.iter().map(|c| self.target().position(c)).collect();
        let Some(at) = at.filter(|at| !at.is_empty() && at.len() == key.child_columns.len()) else {
            return Ok(());
        };
        let holds = ["RESTRICT", "NO ACTION"].contains(&action.as_str()) && key.readable;
        if !holds || (kind == StepKind::Update && !at.iter().any(|at| self.moved(*at))) {
            return Ok(());
        }
        let mut conditions: Vec<String> = Vec::new();
        if kind == StepKind::Update {
            let after: Option<Vec<String>> = at.iter().map(|at| self.after(*at)).collect();
            let Some(after) = after else { return Ok(()) };
            let pairs = at.iter().zip(&after);
            let changes = pairs.map(|(at, a)| D::Table::LANGUAGE.differs(&format!("h.{}", before(*at)), a));
            conditions.push(format!("({})", changes.collect::<Vec<_>>().join(" OR ")));
        }
        let itself = key.child_target == key.parent_name;
        let identity = self.detail.table.identity();
        if itself {
            // What becomes of rows that are written too is another matter.
            if identity.is_empty() {
                return Ok(());
            }
            let own = identity.iter().map(|(held, own)| format!("m.{held} = c.{own}"));
            let own = own.collect::<Vec<_>>().join(" AND ");
            conditions.push(format!("NOT EXISTS (SELECT 1 FROM {} AS m WHERE {own})", self.held.name()));
        }
        let on = at
            .iter()
            .zip(&key.child_columns)
            .map(|(at, c)| format!("c.{} = h.{}", self.quoted(c), before(*at)));
        let filter = if conditions.is_empty() {
            String::new()
        } else {
            format!(" WHERE {}", conditions.join(" AND "))
        };
        let broken = format!(
            "FROM {} AS h JOIN {} AS c ON {}{filter}",
            self.held.name(),
            key.child_sql,
            on.collect::<Vec<_>>().join(" AND "),
        );
        let what = format!("whether rows of {} refer to these", key.child);
        let Some(answer) = self.ask(&what, &format!("SELECT count(*) {broken}"))? else { return Ok(()) };
        let rows = answer.count(0, 0);
        if rows == 0 {
            return Ok(());
        }
        // Its own actions may take those rows along on another way.
        let acting = |other: &&ForeignKey| {
            let action = if kind == StepKind::Delete { &other.on_delete } else { &other.on_update };
            other.child == key.child && !["RESTRICT", "NO ACTION"].contains(&action.as_str())
        };
        let further = self
            .detail
            .foreign_keys
            .iter()
            .find(acting)
            .map(|_| format!("other rows that go, or change, may take those of {} along", key.child));
        let (schema, table) = &key.child_target;
        let keys =
            self.driver.described(schema, table).map(|t| t.target().key.names.clone()).unwrap_or_default();
        let keys = keys.iter().map(|k| format!(", c.{}", self.quoted(k))).collect::<String>();
        let named = format!("SELECT h.{ORDINAL}{keys} {broken} ORDER BY 1 LIMIT {NAMED}");
        let breach = self.breach(Rule::Children, key.child_columns.clone(), rows);
        let unless = breach.unless.clone().or(further);
        self.add(Breach { other: Some(key.child.clone()), unless, ..breach }, &named, 0)
    }
}
