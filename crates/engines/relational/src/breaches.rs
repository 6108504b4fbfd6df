//! Which constraints the held rows of a step would break, by queries of our own over what they hold and what they would become:
//! one set-wise question a constraint, and one more for the rows where there are any.

use std::time::Instant;

use marktwice_core::breach::{Breach, Breaches, Breaker, Rule};
use marktwice_core::mark::{Label, StepKind};
use marktwice_core::table::Target;
use marktwice_port::{EngineError, PATIENCE_IN_ALL, Plan};
use marktwice_sql::dialect::ours::ORDINAL;
use marktwice_sql::query::ask::Texts;
use marktwice_sql::text::names;

use crate::detail::Detail;
use crate::driver::Driver;
use crate::held::Held;
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
            return Some(self.detail.table.kept(at));
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
            let held = self.held;
            let key = self.driver.pinned(|driver| held.key_of(driver, &ordinal))?;
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
}
