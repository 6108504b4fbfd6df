//! Foreign keys: parents that are not there, and rows that hold what would go.

use marktwice_core::breach::{Breach, Rule};
use marktwice_core::mark::StepKind;
use marktwice_port::EngineError;
use marktwice_sql::dialect::ours::{IS_WANTED, ORDINAL, before};

use super::{Looking, NAMED};
use crate::driver::Driver;
use crate::held::Held;
use crate::reach::ForeignKey;
use crate::shell::Tabled;

impl<D: Driver> Looking<'_, D> {
    pub(super) fn references(&mut self) -> Result<(), EngineError> {
        let target = self.target().clone();
        let [goes, stays] = self.fates;
        for key in self.keys {
            if stays && key.is_of(&target) {
                self.parents(key)?;
            }
            if key.leads_to(&target) {
                if goes {
                    self.children(key, true)?;
                    self.empties(key)?;
                }
                if stays && !self.held.layout.comes_in() {
                    self.children(key, false)?;
                }
            }
        }
        Ok(())
    }

    /// Rows that go, and that another one of them would empty in a column that takes no NULL: where actions do not wait for the end of
    /// the statement that fails, if the other one goes first.
    fn empties(&mut self, key: &ForeignKey) -> Result<(), EngineError> {
        let target = self.target().clone();
        let position = |name: &String| target.position(name);
        let (Some(own), Some(parents)) = (
            key.child_columns.iter().map(position).collect::<Option<Vec<usize>>>(),
            key.parent_columns.iter().map(position).collect::<Option<Vec<usize>>>(),
        ) else {
            return Ok(());
        };
        let closed = own.iter().any(|at| target.columns.get(*at).is_some_and(|column| column.not_null));
        if D::Table::ACTIONS_WAIT
            || self.along
            || !key.is_of(&target)
            || key.on_delete != "SET NULL"
            || !closed
        {
            return Ok(());
        }
        let held = self.held.name();
        let same = own
            .iter()
            .zip(&parents)
            .map(|(own, parent)| format!("m.{} = h.{}", before(*parent), before(*own)));
        let same = same.collect::<Vec<_>>().join(" AND ");
        let from = format!("FROM {held} AS h JOIN {held} AS m ON {same} AND m.{ORDINAL} <> h.{ORDINAL}");
        let names = key.child_columns.clone();
        let what = format!("what becomes of {}", names.join(", "));
        let Some(answer) = self.ask(&what, &format!("SELECT count(DISTINCT h.{ORDINAL}) {from}"))? else {
            return Ok(());
        };
        if answer.count(0, 0) == 0 {
            return Ok(());
        }
        let unless = Some("in which order the rows go only the run can tell".to_owned());
        let breach = Breach { unless, ..self.breach(Rule::NotNull, names, answer.count(0, 0)) };
        self.add(breach, &format!("SELECT DISTINCT h.{ORDINAL} {from} ORDER BY 1 LIMIT {NAMED}"), 0)
    }

    /// References that would be to rows that are not there.
    fn parents(&mut self, key: &ForeignKey) -> Result<(), EngineError> {
        let at: Option<Vec<usize>> = key.child_columns.iter().map(|c| self.target().position(c)).collect();
        let at = at.unwrap_or_default();
        let itself = key.child_target == key.parent_name;
        let comes_in = self.held.layout.comes_in();
        let parents_move = itself
            && !self.along
            && !comes_in
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
        let mut changes: Vec<String> = match self.held.layout.comes_in() {
            true => vec!["1 = 1".to_owned()],
            false => changes.collect(),
        };
        if self.along {
            // What becomes its default may be what it was, and its parent may be what goes.
            let there = key.parent_columns.iter().zip(&after);
            let there = there.map(|(c, after)| format!("n.{} = {after}", self.quoted(c)));
            let there = there.collect::<Vec<_>>().join(" AND ");
            changes.push(format!("EXISTS (SELECT 1 FROM {} AS n WHERE {there})", key.parent_sql));
        }
        let Some(mut missing) = self.missing_at_the_end(key, &after) else { return Ok(()) };
        if itself && comes_in {
            // Its parent may come in with it; where each row is looked at by itself, before it.
            let parents: Option<Vec<String>> = key
                .parent_columns
                .iter()
                .map(|c| self.target().position(c).and_then(|at| self.after(at)))
                .map(|name| name.map(|name| name.replacen("h.", "m.", 1)))
                .collect();
            let Some(parents) = parents else { return Ok(()) };
            let same = parents.iter().zip(&after).map(|(m, h)| format!("{m} = {h}"));
            let before = format!("m.{ORDINAL} <= h.{ORDINAL}");
            let same: Vec<String> = match D::Table::NO_ACTION_WAITS {
                true => same.collect(),
                false => same.chain([before]).collect(),
            };
            missing.push_str(&format!(
                " AND NOT EXISTS (SELECT 1 FROM {} AS m WHERE {})",
                self.held.name(),
                same.join(" AND ")
            ));
        }
        let broken = format!(
            "FROM {} AS h WHERE {} AND ({}) AND {missing}",
            self.rows(false),
            given.collect::<Vec<_>>().join(" AND "),
            changes.join(" OR "),
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

    /// Rows that are written too: those that are taken along, and beside those the step's own.
    fn others(&self) -> impl Iterator<Item = &Held<D::Table>> {
        let root = Some(self.root).filter(|_| self.along);
        root.into_iter().chain(self.beside.iter().map(|(_, held)| *held))
    }

    /// A condition that no row that is referred to will be there when all is written; `None` where only the run can tell.
    fn missing_at_the_end(&self, key: &ForeignKey, after: &[String]) -> Option<String> {
        let there =
            key.parent_columns.iter().zip(after).map(|(c, after)| format!("p.{} = {after}", self.quoted(c)));
        let mut there = vec![there.collect::<Vec<_>>().join(" AND ")];
        let mut later = Vec::new();
        // Rows of the parent that are written too are looked at as they will be.
        for held in self.others().filter(|held| key.leads_to(&held.layout.target)) {
            let (layout, table) = (&held.layout, &held.table);
            let identity = table.identity();
            let own: Vec<String> = identity.iter().map(|(held, own)| format!("m.{held} = p.{own}")).collect();
            if own.is_empty() {
                return None;
            }
            there.push(format!(
                "NOT EXISTS (SELECT 1 FROM {} AS m WHERE {})",
                held.name(),
                own.join(" AND ")
            ));
            if layout.kind == StepKind::Delete {
                continue;
            }
            let mut same: Vec<String> = layout.flags.then(|| format!("m.{IS_WANTED}")).into_iter().collect();
            for (column, after) in key.parent_columns.iter().zip(after) {
                let at = layout.target.position(column)?;
                let foreseen = layout.after.iter().find(|(of, _)| *of == at);
                let will = match foreseen {
                    Some((_, name)) => name.clone(),
                    None if layout.moving.contains(&at) => return None,
                    None => before(at),
                };
                same.push(format!("m.{will} = {after}"));
            }
            later.push(format!(
                "NOT EXISTS (SELECT 1 FROM {} AS m WHERE {})",
                held.name(),
                same.join(" AND ")
            ));
        }
        let now = format!("NOT EXISTS (SELECT 1 FROM {} AS p WHERE {})", key.parent_sql, there.join(" AND "));
        Some(std::iter::once(now).chain(later).collect::<Vec<_>>().join(" AND "))
    }

    /// Rows that refer to what would go, or to a key that would change, and hold it there.
    fn children(&mut self, key: &ForeignKey, goes: bool) -> Result<(), EngineError> {
        let action = if goes { &key.on_delete } else { &key.on_update };
        let at: Option<Vec<usize>> = key.parent_columns.iter().map(|c| self.target().position(c)).collect();
        let Some(at) = at.filter(|at| !at.is_empty() && at.len() == key.child_columns.len()) else {
            return Ok(());
        };
        let holds = ["RESTRICT", "NO ACTION"].contains(&action.as_str()) && key.readable;
        if !holds || (!goes && !at.iter().any(|at| self.moved(*at))) {
            return Ok(());
        }
        // Whether it is looked at only when all rows are written.
        let waits = action == "NO ACTION" && D::Table::NO_ACTION_WAITS;
        let mut conditions: Vec<String> = Vec::new();
        if !goes {
            let after: Option<Vec<String>> = at.iter().map(|at| self.after(*at)).collect();
            let Some(after) = after else { return Ok(()) };
            let pairs = at.iter().zip(&after);
            let changes = pairs.map(|(at, a)| D::Table::LANGUAGE.differs(&format!("h.{}", before(*at)), a));
            conditions.push(format!("({})", changes.collect::<Vec<_>>().join(" OR ")));
            // A key that one row gives up and another takes is there again when all are written; only then is it looked at.
            if waits {
                let foreseen = &self.held.layout.after;
                let own = |at: usize| {
                    let after = foreseen.iter().find(|(column, _)| *column == at);
                    after.map_or_else(|| before(at), |(_, name)| name.clone())
                };
                let taken = at.iter().map(|at| format!("o.{} = h.{}", own(*at), before(*at)));
                let taken = taken.collect::<Vec<_>>().join(" AND ");
                conditions
                    .push(format!("NOT EXISTS (SELECT 1 FROM {} AS o WHERE {taken})", self.rows(false)));
            }
        }
        let itself = key.child_target == key.parent_name;
        let same = |identity: &[(String, String)]| {
            let own = identity.iter().map(|(held, own)| format!("m.{held} = c.{own}"));
            own.collect::<Vec<_>>().join(" AND ")
        };
        let identity = self.table.identity();
        let mut taken = Vec::new();
        let refers = key.child_columns.iter().filter_map(|c| self.target().position(c));
        let moves = refers.into_iter().any(|at| self.moved(at));
        if itself && !self.along && (goes || moves) {
            // What becomes of rows that are written too is another matter.
            if identity.is_empty() {
                return Ok(());
            }
            let written =
                format!("EXISTS (SELECT 1 FROM {} AS m WHERE {})", self.held.name(), same(&identity));
            if !waits && D::Table::RESTRICTS_AT_ONCE {
                taken.push(written);
            } else {
                conditions.push(format!("NOT {written}"));
            }
        }
        // Rows that are written themselves may no longer refer to it in the end, and those that go do not.
        for held in self.others().filter(|held| key.is_of(&held.layout.target)) {
            let layout = &held.layout;
            let identity = held.table.identity();
            if identity.is_empty() {
                // Any of them may be the one.
                taken.push("1 = 1".to_owned());
                continue;
            }
            let (name, same) = (held.name(), same(&identity));
            let gone = match (layout.flags, layout.kind) {
                (true, _) => format!(" AND NOT m.{IS_WANTED}"),
                (false, StepKind::Delete) => String::new(),
                (false, _) => " AND 1 = 0".to_owned(),
            };
            if waits {
                conditions.push(format!("NOT EXISTS (SELECT 1 FROM {name} AS m WHERE {same}{gone})"));
            }
            taken.push(format!("EXISTS (SELECT 1 FROM {name} AS m WHERE {same})"));
        }
        let taken = (!taken.is_empty()).then(|| format!("({})", taken.join(" OR ")));
        let on = at
            .iter()
            .zip(&key.child_columns)
            .map(|(at, c)| format!("c.{} = {}", self.quoted(c), self.table.kept(*at)));
        let on = on.collect::<Vec<_>>().join(" AND ");
        let broken = |more: Option<String>| {
            let all: Vec<String> = conditions.iter().cloned().chain(more).collect();
            let filter = if all.is_empty() { String::new() } else { format!(" WHERE {}", all.join(" AND ")) };
            format!("FROM {} AS h JOIN {} AS c ON {on}{filter}", self.rows(goes), key.child_sql)
        };
        let certain = broken(taken.as_ref().map(|taken| format!("NOT {taken}")));
        let perhaps = taken.map(|taken| broken(Some(taken)));
        let what = format!("whether rows of {} refer to these", key.child);
        let Some(answer) = self.ask(&what, &format!("SELECT count(*) {certain}"))? else { return Ok(()) };
        let mut found = (answer.count(0, 0), certain, None);
        if let (0, Some(perhaps)) = (found.0, perhaps) {
            let Some(answer) = self.ask(&what, &format!("SELECT count(*) {perhaps}"))? else { return Ok(()) };
            let why = format!(
                "those of {} are taken along too, and which comes first only the run can tell",
                key.child
            );
            found = (answer.count(0, 0), perhaps, Some(why));
        }
        let (rows, broken, further) = found;
        if rows == 0 {
            return Ok(());
        }
        // Where not all can be held that is taken along, its own actions may take those rows along on another way.
        let acting = |other: &&ForeignKey| {
            let action = if goes { &other.on_delete } else { &other.on_update };
            other.child == key.child && !["RESTRICT", "NO ACTION"].contains(&action.as_str())
        };
        let unheld = self.beside.is_empty() && self.keys.iter().any(|other| acting(&other));
        let unheld =
            unheld.then(|| format!("other rows that go, or change, may take those of {} along", key.child));
        let (schema, table) = &key.child_target;
        let keys =
            self.driver.described(schema, table).map(|t| t.target().key.names.clone()).unwrap_or_default();
        let keys = keys.iter().map(|k| format!(", c.{}", self.quoted(k))).collect::<String>();
        let named = format!("SELECT h.{ORDINAL}{keys} {broken} ORDER BY 1 LIMIT {NAMED}");
        let breach = self.breach(Rule::Children, key.child_columns.clone(), rows);
        let unless = breach.unless.clone().or(further).or(unheld);
        self.add(Breach { other: Some(key.child.clone()), unless, ..breach }, &named, 0)
    }
}
