//! How the steps of one change stand to each other: what each reads and writes, and which of them must wait for another
//! before anybody can say what it does.

use serde::Serialize;

use crate::mark::{Foreseen, Label, Parts, StepKind};
use crate::table::{KeyKind, Target};

/// A part of a table.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Part {
    /// Which rows there are.
    Rows,
    /// What one column holds.
    Column(String),
    /// Anything of it.
    All,
}

/// A part of a table that a step reads or writes. Tables and columns are named as the engine's catalogue names them; tables
/// of one name count as one.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Touch {
    /// The table.
    pub table: String,
    /// The part of it.
    pub part: Part,
}

impl Touch {
    /// A column of a table.
    pub fn column(table: &str, column: &str) -> Touch {
        Touch { table: table.to_owned(), part: Part::Column(column.to_owned()) }
    }

    /// The rows of a table.
    pub fn rows(table: &str) -> Touch {
        Touch { table: table.to_owned(), part: Part::Rows }
    }

    /// All of a table.
    pub fn all(table: &str) -> Touch {
        Touch { table: table.to_owned(), part: Part::All }
    }
}

/// What a step reads and writes: through views, subqueries, keys and triggers too.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Touches {
    /// The table that the step itself writes.
    pub target: String,
    /// What it reads. Whoever reads a column reads the rows too.
    pub reads: Vec<Touch>,
    /// What it writes.
    pub writes: Vec<Touch>,
    /// Why nobody can tell all that it reads or writes.
    pub hidden: Option<String>,
    /// The texts of users' routines that it runs.
    pub bodies: Vec<String>,
}

impl Touches {
    /// What the statement itself does to its target.
    pub fn of_target(&mut self, name: &str, kind: StepKind, target: &Target, foreseen: &[Foreseen]) {
        self.target = name.to_owned();
        // What tells the rows is looked at too.
        match target.key.kind {
            KeyKind::WholeRow => self.reads.push(Touch::all(name)),
            KeyKind::Primary | KeyKind::Unique | KeyKind::RowIdentity => {
                let key = target.key.columns.iter().filter_map(|at| target.columns.get(*at));
                self.reads.extend(key.map(|c| Touch::column(name, &c.name)));
            }
        }
        let columns = foreseen.iter().filter_map(|f| target.columns.get(f.column));
        let columns: Vec<Touch> = columns.map(|c| Touch::column(name, &c.name)).collect();
        match kind {
            StepKind::Update => {
                // What a column holds before is part of what is agreed to.
                self.reads.extend(columns.iter().cloned());
                self.writes.extend(columns);
            }
            StepKind::Delete => {
                self.reads.push(Touch::all(name));
                self.writes.push(Touch::rows(name));
            }
            StepKind::Insert => self.writes.push(Touch::rows(name)),
        }
    }
}

/// Why a step must wait for an earlier one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Dependence {
    /// The earlier step, from 0.
    pub step: usize,
    /// What it reads there, such as `reads batch.price_per_kg, which step 1 writes`.
    pub why: String,
    /// Whether that is a value which the earlier step keeps under a name.
    #[serde(skip)]
    pub kept: bool,
}

/// Some catalogues know no letter case in names; where one does, two names that differ by it only count as one.
fn same(a: &str, b: &str) -> bool {
    a.eq_ignore_ascii_case(b)
}

/// Compares a step with an earlier one (number `at`).
pub fn waits(earlier: &Touches, at: usize, later: &Touches) -> Option<Dependence> {
    let n = at + 1;
    let on = |why: String| Some(Dependence { step: at, why, kept: false });
    for write in &earlier.writes {
        for read in later.reads.iter().filter(|read| same(&read.table, &write.table)) {
            let table = &read.table;
            match (&write.part, &read.part) {
                (Part::Rows, _) => {
                    return on(format!("reads {table}, and step {n} changes which rows are there"));
                }
                (Part::All, _) => return on(format!("reads {table}, which step {n} writes")),
                (Part::Column(written), Part::Column(column)) if same(written, column) => {
                    return on(format!("reads {table}.{column}, which step {n} writes"));
                }
                (Part::Column(column), Part::All) => {
                    return on(format!("reads all of {table}, of which step {n} writes {column}"));
                }
                (Part::Column(_), Part::Column(_) | Part::Rows) => {}
            }
        }
    }
    let hidden = later.hidden.as_ref().or(earlier.hidden.as_ref());
    hidden.and_then(|why| on(format!("may read what step {n} writes: {why}")))
}

/// What a step is, seen from its place in the change.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Standing {
    /// Why its rows cannot be told before the earlier steps have run; empty for a step that stands by itself.
    pub waits: Vec<Dependence>,
    /// Columns of its target that earlier steps have written by then.
    pub written: Vec<usize>,
    /// Those of them whose values may be others each time.
    pub unsteady: Vec<usize>,
    /// Whether its own values rest on such a column.
    pub tainted: bool,
    /// Whether such a column tells its rows apart.
    pub loose: bool,
}

/// A step as [`stand`] looks at it.
pub struct Facts<'a> {
    /// What it reads and writes.
    pub touches: &'a Touches,
    /// Its target.
    pub target: &'a Target,
    /// What is foreseen of it.
    pub foreseen: &'a [Foreseen],
    /// Values that it uses of earlier steps, each with the step: keys that rows were given there.
    pub uses: &'a [(usize, String)],
}

/// How each step of a change stands to those before it.
pub fn stand(steps: &[Facts<'_>]) -> Vec<Standing> {
    let mut all: Vec<Standing> = Vec::new();
    // Columns whose values may be others each time, by table.
    let mut unsteady: Vec<(&str, &str)> = Vec::new();
    for (at, step) in steps.iter().enumerate() {
        let mut standing = Standing::default();
        let column = |name: &str| step.target.position(name);
        for (before, earlier) in steps.iter().enumerate().take(at) {
            standing.waits.extend(waits(earlier.touches, before, step.touches));
            let used = step.uses.iter().filter(|(keeper, _)| *keeper == before);
            standing.waits.extend(used.map(|(_, name)| Dependence {
                step: before,
                why: format!("uses :{name}, which step {} is given", before + 1),
                kept: true,
            }));
            let written = earlier.touches.writes.iter().filter(|w| same(&w.table, &step.touches.target));
            for write in written {
                match &write.part {
                    Part::Column(name) => standing.written.extend(column(name)),
                    Part::Rows | Part::All => {}
                }
            }
        }
        let own = unsteady.iter().filter(|(table, _)| same(table, &step.touches.target));
        standing.unsteady = own.filter_map(|(_, name)| column(name)).collect();
        standing.loose = step.target.key.columns.iter().any(|at| standing.unsteady.contains(at));
        // What a row is given may be another number in the run.
        standing.tainted = !step.uses.is_empty()
            || unsteady.iter().any(|(table, name)| {
                step.touches.reads.iter().any(|read| {
                    same(&read.table, table)
                        && match &read.part {
                            Part::Column(column) => same(column, name),
                            Part::All => true,
                            Part::Rows => false,
                        }
                })
            });
        // A key that is made of such a number is another one in the run.
        let comes = step.touches.writes.contains(&Touch::rows(&step.touches.target));
        let given = |at: &usize| step.foreseen.iter().any(|f| f.column == *at);
        standing.loose |= standing.tainted && comes && step.target.key.columns.iter().any(given);
        for foreseen in step.foreseen {
            if let Some(column) = step.target.columns.get(foreseen.column)
                && (standing.tainted || foreseen.label == Label::Unknown)
            {
                unsteady.push((step.touches.target.as_str(), column.name.as_str()));
            }
        }
        standing.written.sort_unstable();
        standing.written.dedup();
        all.push(standing);
    }
    all
}

impl Standing {
    /// Whether only a rehearsal can tell its rows.
    pub fn must_wait(&self) -> bool {
        !self.waits.is_empty()
    }

    /// Takes out of a step's parts what is no evidence of somebody else's change.
    pub fn fit(&self, parts: &mut Parts) {
        parts.loose = self.loose;
        if self.must_wait() {
            // Both marks are then taken behind the earlier steps.
            parts.related.retain(|c| !self.unsteady.contains(c));
            parts.rest.retain(|c| !self.unsteady.contains(c));
        } else {
            parts.related.retain(|c| !self.written.contains(c));
            parts.rest.retain(|c| !self.written.contains(c));
        }
        if self.tainted {
            parts.after.clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::{Column, Key};

    fn target(table: &str, columns: &[&str]) -> Target {
        let column = |name: &&str| Column {
            name: (*name).into(),
            declared: String::new(),
            generated: false,
            not_null: false,
        };
        Target {
            table: table.into(),
            schema: String::new(),
            columns: columns.iter().map(column).collect(),
            key: Key { kind: KeyKind::Primary, names: vec!["id".into()], columns: vec![0] },
            definition: String::new(),
            naming: None,
            refers: Vec::new(),
            hidden: Vec::new(),
            veil: Default::default(),
            family: Vec::new(),
        }
    }

    fn update(table: &Target, column: usize, label: Label, reads: &[Touch]) -> (Touches, Vec<Foreseen>) {
        let foreseen = vec![Foreseen { column, label, derived: false, why: None }];
        let mut touches = Touches { reads: reads.to_vec(), ..Touches::default() };
        touches.of_target(&table.table, StepKind::Update, table, &foreseen);
        (touches, foreseen)
    }

    fn stands(steps: &[(&Target, &(Touches, Vec<Foreseen>))]) -> Vec<Standing> {
        let mut facts: Vec<Facts<'_>> = Vec::new();
        for (target, (touches, foreseen)) in steps {
            facts.push(Facts { touches, target, foreseen, uses: &[] });
        }
        stand(&facts)
    }

    #[test]
    fn by_column() {
        let keeper = target("keeper", &["id", "region", "name"]);
        let hive = target("hive", &["id", "keeper_id", "queen"]);
        let region = update(&keeper, 1, Label::Exact, &[Touch::column("keeper", "id")]);
        let name = update(&keeper, 2, Label::Exact, &[Touch::column("keeper", "id")]);
        let by_region = [Touch::column("keeper", "region"), Touch::rows("keeper")];
        let queen = update(&hive, 2, Label::Exact, &by_region);
        let all = stands(&[(&keeper, &region), (&keeper, &name), (&hive, &queen)]);
        assert!(!all[1].must_wait());
        assert_eq!(all[1].written, [1]);
        assert_eq!(all[2].waits[0].why, "reads keeper.region, which step 1 writes");
        let mut parts = Parts { related: vec![0, 1, 2], rest: vec![], after: vec![2], ..Parts::default() };
        all[1].fit(&mut parts);
        assert_eq!(parts.related, [0, 2]);
    }

    #[test]
    fn rows_that_come_and_go() {
        let hive = target("hive", &["id", "queen"]);
        let mut gone = Touches::default();
        gone.of_target("hive", StepKind::Delete, &hive, &[]);
        let queen = update(&hive, 1, Label::Exact, &[]);
        let all = stands(&[(&hive, &(gone.clone(), vec![])), (&hive, &queen)]);
        assert_eq!(all[1].waits[0].why, "reads hive, and step 1 changes which rows are there");
        let other = stands(&[(&hive, &queen), (&hive, &(gone, vec![]))]);
        assert_eq!(other[1].waits[0].why, "reads all of hive, of which step 1 writes queen");
    }

    #[test]
    fn what_may_be_another_value_each_time_is_no_evidence() {
        let keeper = target("keeper", &["id", "seen", "name"]);
        let hive = target("hive", &["id", "checked"]);
        let clock = update(&keeper, 1, Label::Unknown, &[]);
        let copied = update(&hive, 1, Label::Exact, &[Touch::column("keeper", "seen")]);
        let name = update(&keeper, 2, Label::Exact, &[]);
        let again = update(&hive, 1, Label::Exact, &[]);
        let all = stands(&[(&keeper, &clock), (&hive, &copied), (&keeper, &name), (&hive, &again)]);
        assert!(all[1].tainted && all[1].must_wait());
        assert_eq!((all[2].unsteady.as_slice(), all[2].tainted), ([1].as_slice(), false));
        // The column that a tainted step has written is as unsteady as what it was made of.
        assert_eq!(all[3].unsteady, [1]);
        let mut parts = Parts { related: vec![1], rest: vec![], after: vec![1], ..Parts::default() };
        all[1].fit(&mut parts);
        assert!(parts.after.is_empty());
    }

    #[test]
    fn what_nobody_can_tell_waits() {
        let hive = target("hive", &["id", "queen"]);
        let queen = update(&hive, 1, Label::Exact, &[]);
        let hidden = Touches { hidden: Some("function x() cannot be read".into()), ..Touches::default() };
        let other = target("log", &["id"]);
        let all = stands(&[(&hive, &queen), (&other, &(hidden, vec![]))]);
        assert_eq!(all[1].waits[0].why, "may read what step 1 writes: function x() cannot be read");
    }
}
