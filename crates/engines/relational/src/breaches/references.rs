//! Foreign keys: parents that are not there, and rows that hold what would go.

use marktwice_core::breach::{Breach, Rule};
use marktwice_core::mark::StepKind;
use marktwice_port::EngineError;
use marktwice_sql::dialect::ours::{ORDINAL, before};

use super::{Looking, NAMED};
use crate::driver::Driver;
use crate::reach::ForeignKey;
use crate::shell::Tabled;

impl<D: Driver> Looking<'_, D> {
    pub(super) fn references(&mut self) -> Result<(), EngineError> {
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
            // A key that one row gives up and another takes is there again when all are written; only then is it looked at.
            if action == "NO ACTION" {
                let foreseen = &self.held.layout.after;
                let own = |at: usize| {
                    let after = foreseen.iter().find(|(column, _)| *column == at);
                    after.map_or_else(|| before(at), |(_, name)| name.clone())
                };
                let taken = at.iter().map(|at| format!("o.{} = h.{}", own(*at), before(*at)));
                let taken = taken.collect::<Vec<_>>().join(" AND ");
                conditions
                    .push(format!("NOT EXISTS (SELECT 1 FROM {} AS o WHERE {taken})", self.held.name()));
            }
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
