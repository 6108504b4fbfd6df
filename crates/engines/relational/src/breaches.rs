//! Which constraints the held rows of a step would break, by queries of our own over what they hold and what they would become:
//! one set-wise question a constraint, and one more for the rows where there are any.

use std::time::Instant;

use marktwice_core::Value;
use marktwice_core::along::number;
use marktwice_core::archive::Archive;
use marktwice_core::breach::{Breach, Breaches, Breaker, Rule};
use marktwice_core::mark::{Foreseen, Label, StepKind};
use marktwice_core::table::Target;
use marktwice_port::{EngineError, PATIENCE_IN_ALL, Plan};
use marktwice_sql::dialect::ours::{IS_WANTED, ORDINAL, before};
use marktwice_sql::query::ask::Texts;
use marktwice_sql::statement::terms::conditions;
use marktwice_sql::text::names;

use crate::along::Node;
use crate::detail::Detail;
use crate::driver::Driver;
use crate::held::Held;
use crate::reach::ForeignKey;
use crate::shell::Tabled;

mod references;
mod unique;

/// Rows that are named for each constraint.
const NAMED: usize = 5;

/// A key that no two rows may share, as its index has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unique {
    /// What is unique: expressions over the columns' bare names.
    pub terms: Vec<String>,
    /// How each of them is compared with another row's, where that is not `=`: what all of these say yes to is excluded.
    pub compared: Vec<String>,
    /// The definition, where it is no plain key.
    pub text: Option<String>,
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

/// Rows that a step takes along, by table.
pub type Beside<'a, T> = [(&'a Node<T>, &'a Held<T>)];

/// What is looked at: the step's own rows, or those of a table that it takes along.
struct Looking<'a, D: Driver> {
    driver: &'a mut D,
    table: &'a D::Table,
    held: &'a Held<D::Table>,
    /// The step's own rows.
    root: &'a Held<D::Table>,
    /// Whether rows of it go, and whether rows of it stay and are written.
    fates: [bool; 2],
    foreseen: &'a [Foreseen],
    keys: &'a [ForeignKey],
    beside: &'a Beside<'a, D::Table>,
    /// Whether the rows are those that are taken along.
    along: bool,
    /// Whether they are written in a known order.
    ordered: bool,
    /// Whether a trigger may make it come otherwise.
    fires: bool,
    until: Instant,
    found: Breaches,
}

/// Rows that a step takes along, as `held` has them by their number.
pub fn beside<'a, T: Tabled>(
    detail: &'a Detail<T>,
    step: usize,
    held: impl Fn(usize) -> Option<&'a Held<T>>,
) -> Vec<(&'a Node<T>, &'a Held<T>)> {
    let nodes = detail.along.iter().flat_map(|graph| &graph.nodes).enumerate();
    nodes.filter_map(|(nth, node)| Some((node, held(number(step, nth))?))).collect()
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
    beside: &Beside<'_, D::Table>,
) -> Result<Breaches, EngineError> {
    let until = Instant::now() + PATIENCE_IN_ALL;
    let goes = plan.kind == StepKind::Delete;
    let own = Looking {
        driver,
        table: &detail.table,
        held,
        root: held,
        fates: [goes, !goes],
        foreseen: &plan.foreseen,
        keys: &detail.foreign_keys,
        beside,
        along: false,
        // Held rows are numbered in the order that the statement asks for, where it does.
        ordered: D::Table::IN_ORDER && detail.step.tail.as_ref().is_some_and(|tail| !tail.order.is_empty()),
        fires: detail.fires.for_rows || detail.fires.for_statement,
        until,
        found: Breaches::default(),
    };
    let mut found = own.all(plan.archive.as_ref())?;
    let root = held;
    for (node, held) in beside {
        let fires = D::Table::ACTIONS_FIRE && !driver.declared(&node.table)?.triggers.is_empty();
        let looking = Looking {
            driver,
            table: &node.table,
            held,
            root,
            fates: [true, node.along.kind == StepKind::Update],
            foreseen: &node.along.foreseen,
            keys: &detail.foreign_keys,
            beside,
            along: true,
            ordered: false,
            fires: fires || detail.fires.for_rows,
            until,
            found: Breaches::default(),
        };
        let more = looking.all(None)?;
        found.open.extend(more.open);
        let table = || Some(node.along.target.table.clone());
        found.found.extend(more.found.into_iter().map(|breach| Breach { table: table(), ..breach }));
    }
    Ok(found)
}

impl<D: Driver> Looking<'_, D> {
    /// Asks about everything.
    fn all(mut self, archive: Option<&Archive>) -> Result<Breaches, EngineError> {
        let rules = self.driver.rules(self.table)?;
        if self.fates[1] {
            self.not_null(&rules)?;
            self.checks(&rules)?;
            self.unique(&rules)?;
        }
        if rules.references {
            self.references()?;
        }
        if self.held.layout.comes_in() && self.found.found.is_empty() {
            self.twins()?;
        }
        // A table that is not there yet holds no row that could be in the way.
        if let Some(archive) = archive.filter(|archive| archive.making.is_none()) {
            self.there_already(archive)?;
        }
        Ok(self.found)
    }

    /// Rows that come in and are there already, in everything that is known of them.
    fn twins(&mut self) -> Result<(), EngineError> {
        let target = self.target().clone();
        let known = |at: &usize| {
            let foreseen = self.foreseen.iter().find(|f| f.column == *at);
            foreseen.is_some_and(|f| {
                f.label != Label::Unknown && target.columns.get(*at).is_some_and(|c| !c.generated)
            })
        };
        let columns: Vec<usize> = (0..target.columns.len()).filter(known).collect();
        let identity = self.table.identity();
        if columns.is_empty() {
            return Ok(());
        }
        let same = columns.iter().filter_map(|at| {
            let (own, held) = (format!("t.{}", self.table.column(*at)), self.after(*at)?);
            let never = target.columns.get(*at).is_some_and(|c| c.not_null);
            let differs = D::Table::LANGUAGE.differs(&own, &held);
            Some(if never { format!("{own} = {held}") } else { format!("NOT ({differs})") })
        });
        let same = same.collect::<Vec<_>>().join(" AND ");
        let from = format!("FROM {} AS h JOIN {} AS t ON {same}", self.held.name(), self.table.from());
        // It is no more than a hint: where it takes too long, or a type has no equality, nothing is said.
        let sql = format!("SELECT count(DISTINCT h.{ORDINAL}) {from}");
        let Ok(answer) = self.driver.ask_here(&sql, self.until) else { return Ok(()) };
        if answer.count(0, 0) == 0 {
            return Ok(());
        }
        let own: Vec<String> = identity.iter().map(|(_, own)| format!("min(t.{own})")).collect();
        let own = if own.len() == 1 { format!(", {}", own.join(", ")) } else { String::new() };
        let named = format!("SELECT h.{ORDINAL}{own} {from} GROUP BY h.{ORDINAL} ORDER BY 1 LIMIT {NAMED}");
        let breach = self.breach(Rule::Twins, target.names(&columns), answer.count(0, 0));
        self.add(Breach { unless: None, ..breach }, &named, 0)
    }

    /// Rows that go where they are put away under keys that are taken there.
    fn there_already(&mut self, archive: &Archive) -> Result<(), EngineError> {
        let own = |place: &usize| archive.columns.iter().find(|(_, to)| to == place).map(|(own, _)| *own);
        let key = &archive.target.key.columns;
        let Some(columns) = key.iter().map(own).collect::<Option<Vec<usize>>>().filter(|c| !c.is_empty())
        else {
            return Ok(());
        };
        let table = self.driver.described(&archive.target.schema, &archive.target.table)?;
        let quoted = |at: &usize| archive.target.columns.get(*at).map(|c| D::Table::LANGUAGE.quoted(&c.name));
        let there: Vec<String> = key.iter().filter_map(quoted).map(|name| format!("t.{name}")).collect();
        let held: Vec<String> = columns.iter().map(|at| format!("h.{}", before(*at))).collect();
        let same: Vec<String> = there.iter().zip(&held).map(|(t, h)| format!("{t} = {h}")).collect();
        let from =
            format!("FROM {} AS h JOIN {} AS t ON {}", self.held.name(), table.from(), same.join(" AND "));
        let what = format!("what is in {} already", archive.target.table);
        let Some(answer) = self.ask(&what, &format!("SELECT count(*) {from}"))? else { return Ok(()) };
        if answer.count(0, 0) == 0 {
            return Ok(());
        }
        let (held, there) = (held.join(", "), there.join(", "));
        let named = format!("SELECT h.{ORDINAL}, {held}, {there} {from} ORDER BY 1 LIMIT {NAMED}");
        let names = archive.target.names(key);
        let breach = self.breach(Rule::Unique, names, answer.count(0, 0));
        let other = Some(archive.target.table.clone());
        self.add(Breach { other, ..breach }, &named, columns.len())
    }

    fn target(&self) -> &Target {
        self.table.target()
    }

    /// The held rows that stay, or those that go, as they stand behind FROM.
    fn rows(&self, goes: bool) -> String {
        let held = self.held.name();
        match (self.along, goes) {
            (false, _) => held,
            (true, false) => format!("(SELECT * FROM {held} WHERE {IS_WANTED})"),
            (true, true) => format!("(SELECT * FROM {held} WHERE NOT {IS_WANTED})"),
        }
    }

    fn quoted(&self, name: &str) -> String {
        D::Table::LANGUAGE.quoted(name)
    }

    /// Columns that the statement may change.
    fn moved(&self, at: usize) -> bool {
        self.foreseen.iter().any(|f| f.column == at)
    }

    /// What a held row would hold in a column; `None` where only the run can tell.
    fn after(&self, at: usize) -> Option<String> {
        let Some(foreseen) = self.foreseen.iter().find(|f| f.column == at) else {
            return Some(self.table.kept(at));
        };
        let after = self.held.layout.after.iter().find(|(column, _)| *column == at);
        after.filter(|_| foreseen.label != Label::Unknown).map(|(_, name)| format!("h.{name}"))
    }

    /// What may still make it come otherwise.
    fn unless(&self) -> Option<String> {
        self.fires.then(|| "a trigger may still change that".to_owned())
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
        Some(format!("SELECT {} FROM {} AS h", list.join(", "), self.rows(false)))
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
            let held = self.held;
            let key = match breach.comes {
                true => vec![Value::Int(ordinal.parse().unwrap_or_default())],
                false => self.driver.pinned(|driver| held.key_of(driver, &ordinal))?,
            };
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
            let name = column.name.clone();
            let on_the_way = self.along.then_some(true);
            for goes in std::iter::once(false).chain(on_the_way) {
                let broken = format!("FROM {} AS h WHERE {after} IS NULL", self.rows(goes));
                let what = format!("whether {name} would be NULL");
                let Some(answer) = self.ask(&what, &format!("SELECT count(*) {broken}"))? else { continue };
                if answer.count(0, 0) == 0 {
                    continue;
                }
                let breach = self.breach(Rule::NotNull, vec![name.clone()], answer.count(0, 0));
                let why = "these go in the end, and which comes first only the run can tell".to_owned();
                let unless = breach.unless.clone().or(goes.then_some(why));
                let named = format!("SELECT h.{ORDINAL} {broken} ORDER BY h.{ORDINAL} LIMIT {NAMED}");
                self.add(Breach { unless, ..breach }, &named, 0)?;
            }
        }
        Ok(())
    }

    /// The conditions of a check, of several, that are false for some of the rows that break it.
    fn false_parts(&mut self, check: &str, broken: &str) -> Result<Vec<String>, EngineError> {
        let parts = conditions(check, D::Table::LANGUAGE);
        if parts.len() < 2 {
            return Ok(Vec::new());
        }
        let counts = parts.iter().map(|part| format!("count(CASE WHEN NOT ({part}\n) THEN 1 END)"));
        let sql = format!("SELECT {} {broken}", counts.collect::<Vec<_>>().join(", "));
        let answer = self.ask("which part of the check is false", &sql)?.unwrap_or_default();
        let each = parts.into_iter().enumerate();
        Ok(each.filter(|(nth, _)| answer.count(0, *nth) > 0).map(|(_, part)| part).collect())
    }

    fn breach(&self, rule: Rule, columns: Vec<String>, rows: u64) -> Breach {
        let unless = self.unless();
        Breach {
            rule,
            columns,
            table: None,
            other: None,
            text: None,
            parts: Vec::new(),
            among: false,
            comes: self.held.layout.comes_in(),
            rows,
            first: Vec::new(),
            unless,
        }
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
                let parts = self.false_parts(check, &broken)?;
                self.add(Breach { text: Some(check.clone()), parts, ..breach }, &named, list.len())?;
            }
        }
        Ok(())
    }
}
