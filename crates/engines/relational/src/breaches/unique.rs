//! Values that no two rows may share: what rows would take from others, or from each other.

use marktwice_core::breach::{Breach, Rule};
use marktwice_port::EngineError;
use marktwice_sql::dialect::ours::ORDINAL;

use super::{Looking, NAMED, Rules, Unique};
use crate::driver::Driver;
use crate::shell::Tabled;

/// How values are compared where NULL is like itself.
const NULLS_TOO: &str = "IS NOT DISTINCT FROM";

impl<D: Driver> Looking<'_, D> {
    pub(super) fn unique(&mut self, rules: &Rules) -> Result<(), EngineError> {
        // Rows that nothing but their contents tells are not told from those they might collide with.
        let identity = self.table.identity();
        if identity.is_empty() && !self.held.layout.comes_in() {
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
        let (from, held, width) = (self.table.from(), self.held.name(), unique.terms.len());
        let only = unique.only.as_ref().map_or(String::new(), |only| format!(" WHERE ({only}\n)"));
        let names = |prefix: &str| (0..width).map(|n| format!("{prefix}{n}")).collect::<Vec<_>>();
        let terms = |prefix: &str| {
            let named = unique.terms.iter().zip(names(prefix));
            named.map(|(term, name)| format!("({term}\n) AS {name}")).collect::<Vec<_>>().join(", ")
        };
        let new = format!("SELECT marktwice_o, {} FROM ({images}) AS i{only}", terms("marktwice_n"));
        let keys: Vec<String> =
            identity.iter().enumerate().map(|(n, (_, own))| format!("x.{own} AS marktwice_k{n}")).collect();
        let there = keys.iter().cloned().chain([terms("marktwice_t")]).collect::<Vec<_>>().join(", ");
        let there = format!("SELECT {there} FROM {from} AS x{only}");
        let compared = |n: usize| unique.compared.get(n).map_or("=", String::as_str);
        let plain = |n: usize| compared(n) == "=";
        let same: Vec<String> =
            (0..width).map(|n| format!("t.marktwice_t{n} {} n.marktwice_n{n}", compared(n))).collect();
        let own = |alias: &str| {
            let pairs = identity.iter().enumerate();
            let pairs = pairs.map(|(n, (held, _))| format!("{alias}.{held} = t.marktwice_k{n}"));
            pairs.collect::<Vec<_>>().join(" AND ")
        };
        let holds = names("n.marktwice_n").join(", ");
        // None of the rows that come in is there yet.
        let comes_in = self.held.layout.comes_in();
        let other = match comes_in {
            true => String::new(),
            false => format!(" WHERE NOT EXISTS (SELECT 1 FROM {held} AS m WHERE {})", own("m")),
        };
        let outside = format!("FROM ({new}) AS n JOIN ({there}) AS t ON {}{other}", same.join(" AND "));
        let named_columns = self.target().names(&self.columns_in(&unique.terms.join(" , ")));
        let what = format!("whether {} stays unique", named_columns.join(", "));
        let Some(answer) = self.ask(&what, &format!("SELECT count(*) {outside}"))? else { return Ok(()) };
        if answer.count(0, 0) > 0 {
            let keys =
                (0..identity.len()).map(|n| format!("t.marktwice_k{n}")).collect::<Vec<_>>().join(", ");
            let keys = if keys.is_empty() { String::new() } else { format!(", {keys}") };
            let named = format!("SELECT n.marktwice_o, {holds}{keys} {outside} ORDER BY 1 LIMIT {NAMED}");
            let breach = self.breach(Rule::Unique, named_columns.clone(), answer.count(0, 0));
            self.add(Breach { text: unique.text.clone(), ..breach }, &named, width)?;
        }
        let groups = names("n.marktwice_n").join(", ");
        // NULL is like nothing, except where it is said to be like itself.
        let given =
            (0..width).filter(|n| compared(*n) != NULLS_TOO).map(|n| format!("n.marktwice_n{n} IS NOT NULL"));
        let given = given.chain(["1 = 1".to_owned()]).collect::<Vec<_>>().join(" AND ");
        let twice = format!(
            "SELECT count(*) AS marktwice_c FROM ({new}) AS n WHERE {given} GROUP BY {groups} HAVING count(*) > 1"
        );
        let both: Vec<String> =
            (0..width).map(|n| format!("o.marktwice_n{n} {} n.marktwice_n{n}", compared(n))).collect();
        let sum = if (0..width).all(|n| plain(n) || compared(n) == NULLS_TOO) {
            format!("SELECT coalesce(sum(marktwice_c), 0) FROM ({twice}) AS g")
        } else {
            format!(
                "SELECT count(DISTINCT n.marktwice_o) FROM ({new}) AS n JOIN ({new}) AS o ON {} AND n.marktwice_o <> o.marktwice_o",
                both.join(" AND ")
            )
        };
        let Some(answer) = self.ask(&what, &sum)? else { return Ok(()) };
        if answer.count(0, 0) > 0 {
            let others = match comes_in {
                true => format!("m.{ORDINAL}"),
                false => identity.iter().map(|(held, _)| format!("m.{held}")).collect::<Vec<_>>().join(", "),
            };
            let named = format!(
                "SELECT n.marktwice_o, {holds}, {others} FROM ({new}) AS n JOIN ({new}) AS o ON {} \
                 AND n.marktwice_o < o.marktwice_o JOIN {held} AS m ON m.{ORDINAL} = o.marktwice_o ORDER BY 1 LIMIT {NAMED}",
                both.join(" AND ")
            );
            let breach = self.breach(Rule::Unique, named_columns, answer.count(0, 0));
            return self.add(Breach { among: true, text: unique.text.clone(), ..breach }, &named, width);
        }
        if !comes_in && !self.found.found.iter().any(|b| b.rule == Rule::Unique) && !unique.at_the_end {
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
        let known = self.ordered;
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
}
