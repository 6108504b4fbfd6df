//! Random cases of tables that refer to each other, with every action of a foreign key: chains, two ways to one row, tables
//! that refer to themselves and in circles, keys that are references, tables without a key. The same for all engines.

use fastrand::Rng;

use super::hazards::Hazard;
use super::shapes::Throwing;
use super::{Case, Contents};
use crate::stage::On;

/// From this seed on cases are families.
pub const FROM: u64 = 1_000_000_000;

struct Key {
    /// Whether it refers to two columns: its own `a` goes along.
    both: bool,
    child: usize,
    column: String,
    parent: usize,
    actions: String,
}

impl Key {
    fn columns(&self) -> (String, &'static str) {
        let own = if self.both { format!("a, {}", self.column) } else { self.column.clone() };
        (own, if self.both { "a, k" } else { "k" })
    }
}

struct Maker {
    dice: Rng,
    on: On,
    /// How each table is told: by `k` as its primary key, by a unique `k`, or by nothing.
    told: Vec<usize>,
    keys: Vec<Key>,
    /// Whether keys go round in a circle.
    circle: bool,
}

const NAMES: [&str; 4] = ["t", "u", "v", "w"];

/// Makes a case.
pub(super) fn case(seed: u64, on: On) -> Case {
    let mut maker =
        Maker { dice: Rng::with_seed(seed), on, told: Vec::new(), keys: Vec::new(), circle: false };
    maker.case()
}

/// Makes one whose keys go round in a circle, from the first table to the last.
pub(super) fn in_circles(seed: u64, on: On) -> Case {
    let mut maker =
        Maker { dice: Rng::with_seed(seed), on, told: Vec::new(), keys: Vec::new(), circle: true };
    maker.case()
}

impl Throwing for Maker {
    fn dice(&mut self) -> &mut Rng {
        &mut self.dice
    }
}

impl Maker {
    fn action(&mut self, nullable: bool) -> &'static str {
        let all: &[&str] = match (self.on, nullable) {
            (On::Maria, true) => &["CASCADE", "CASCADE", "SET NULL", "RESTRICT", "NO ACTION"],
            (On::Maria, false) => &["CASCADE", "CASCADE", "RESTRICT", "NO ACTION"],
            (_, true) => &[
                "CASCADE",
                "CASCADE",
                "CASCADE",
                "SET NULL",
                "SET NULL",
                "SET DEFAULT",
                "RESTRICT",
                "NO ACTION",
            ],
            (_, false) => &["CASCADE", "CASCADE", "CASCADE", "SET DEFAULT", "RESTRICT", "SET NULL"],
        };
        all[self.dice.usize(..all.len())]
    }

    fn case(&mut self) -> Case {
        let tables = 2 + self.dice.usize(..3);
        // The first one is what statements are about.
        self.told = (0..tables).map(|at| if at == 0 { 0 } else { self.dice.usize(..5) }).collect();
        let mut columns: Vec<Vec<String>> = Vec::new();
        for at in 0..tables {
            let kind = match (self.on, self.dice.u32(..4)) {
                (On::Sqlite, 0) => "INTEGER",
                (On::Sqlite, 1) => "TEXT",
                (On::Postgres, 0) => "bigint",
                _ => "int",
            };
            let loose = self.on == On::Sqlite && self.one_in(3);
            let told = match self.told[at] {
                // There such a key may hold NULL, and the row's own number tells rows apart.
                0 | 1 if loose => format!("k {kind} PRIMARY KEY"),
                0 | 1 => format!("k {kind} NOT NULL PRIMARY KEY"),
                2 | 3 => format!("k {kind} NOT NULL UNIQUE"),
                _ => format!("k {kind}"),
            };
            columns.push(vec![told, "a int".to_owned(), "b varchar(9)".to_owned()]);
        }
        // Two columns together are a key too: a reference to both holds on to `k` by its second half.
        let pair = self.one_in(3);
        for n in 0..1 + self.dice.usize(..5) {
            let child = if self.one_in(5) { 0 } else { self.dice.usize(..tables) };
            let parents: Vec<usize> = (0..tables).filter(|at| self.told[*at] < 4).collect();
            let mut parent = parents[self.dice.usize(..parents.len())];
            if parent > child && !self.one_in(5) {
                parent = 0;
            }
            let on_key = child != parent && self.told[child] < 4 && self.one_in(7);
            let taken = self.keys.iter().any(|k| k.child == child && k.column == "k");
            let (column, nullable) = if on_key && !taken {
                ("k".to_owned(), false)
            } else {
                let nullable = !self.one_in(5);
                let default = if self.one_in(2) { " DEFAULT 2" } else { "" };
                let null = if nullable { "" } else { " NOT NULL" };
                columns[child].push(format!("f{n} int{null}{default}"));
                (format!("f{n}"), nullable)
            };
            if nullable && self.one_in(6) && child > 0 {
                let kind = if self.on == On::Maria { "VIRTUAL" } else { "STORED" };
                columns[child].push(format!("g{n} int GENERATED ALWAYS AS ({column} + 1) {kind}"));
            }
            let (delete, update) = (self.action(nullable), self.action(nullable));
            let waits = self.on != On::Maria && self.one_in(6);
            let waits = if waits { " DEFERRABLE INITIALLY DEFERRED" } else { "" };
            let both = pair && parent == 0 && child > 0 && column != "k" && self.one_in(2);
            self.keys.push(Key {
                both,
                child,
                column,
                parent,
                actions: format!("ON DELETE {delete} ON UPDATE {update}{waits}"),
            });
        }
        let circle = if self.circle { tables } else { 0 };
        for (child, own) in columns.iter_mut().enumerate().take(circle) {
            // Those of the circle act, so that one row takes the next along; not all are told by a key.
            let parents = (1..=tables).map(|by| (child + by) % tables);
            let parent = parents.into_iter().find(|at| self.told[*at] < 4).unwrap_or(0);
            let action = self.pick(&["CASCADE", "CASCADE", "SET NULL"]);
            let waits = self.on != On::Maria && self.one_in(5);
            let waits = if waits { " DEFERRABLE INITIALLY DEFERRED" } else { "" };
            own.push(format!("c{child} int"));
            self.keys.push(Key {
                both: false,
                child,
                column: format!("c{child}"),
                parent,
                actions: format!("ON DELETE {action} ON UPDATE {action}{waits}"),
            });
        }
        for key in self.keys.iter().filter(|key| key.child == key.parent) {
            // Whether a row refers to itself is looked at there without the affinity of its key.
            columns[key.child][0] = columns[key.child][0].replace("TEXT", "int");
        }
        if self.on == On::Maria {
            // Types must be the same on both sides.
            for table in &mut columns {
                table[0] = table[0].replace("TEXT", "int").replace("INTEGER", "int");
            }
        }
        if pair {
            columns[0].push("UNIQUE (a, k)".to_owned());
        }
        let mut script = String::new();
        for (at, columns) in columns.iter().enumerate() {
            let own = self.keys.iter().filter(|key| key.child == at && self.on == On::Sqlite);
            let own = own.map(|key| {
                let (own, other) = key.columns();
                format!("FOREIGN KEY ({own}) REFERENCES {} ({other}) {}", NAMES[key.parent], key.actions)
            });
            let all: Vec<String> = columns.iter().cloned().chain(own).collect();
            script.push_str(&format!("CREATE TABLE {} ({});\n", NAMES[at], all.join(", ")));
        }
        if self.on != On::Sqlite {
            for key in &self.keys {
                // One that this server does not take is not there.
                let (own, other) = key.columns();
                script.push_str(&format!(
                    "ALTER TABLE {} ADD FOREIGN KEY ({own}) REFERENCES {} ({other}) {};\n",
                    NAMES[key.child], NAMES[key.parent], key.actions
                ));
            }
        }
        for (at, columns) in columns.iter().enumerate() {
            self.rows(at, columns, &mut script);
        }
        let statement = self.statement();
        let edit = "UPDATE t SET a = 77 WHERE k = 1".to_owned();
        Case { script, statement, more: Vec::new(), edit, between: false, hazard: Hazard::Family }
    }

    /// Rows of a table; what refers to rows that are not there yet comes in as NULL, and is set once all are there.
    fn rows(&mut self, at: usize, columns: &[String], script: &mut String) {
        let given = |c: &&String| !c.starts_with("UNIQUE") && !c.contains("GENERATED");
        let names: Vec<&str> = columns.iter().filter(given).filter_map(|c| c.split(' ').next()).collect();
        for n in 1..=1 + self.dice.u32(..6) {
            let mut values = vec![n.to_string()];
            values.push(self.pick(&["NULL", "0", "1", "2"]).to_owned());
            values.push(self.pick(&["NULL", "'x'", "'y'", "''"]).to_owned());
            for _ in 3..names.len() {
                values.push(if self.one_in(4) {
                    "NULL".to_owned()
                } else {
                    (1 + self.dice.u32(..5)).to_string()
                });
            }
            let name = NAMES[at];
            script.push_str(&format!(
                "INSERT INTO {name} ({}) VALUES ({});\n",
                names.join(", "),
                values.join(", ")
            ));
            let none: Vec<String> = values
                .iter()
                .take(3)
                .cloned()
                .chain(values.iter().skip(3).map(|_| "NULL".to_owned()))
                .collect();
            script.push_str(&format!(
                "INSERT INTO {name} ({}) VALUES ({});\n",
                names.join(", "),
                none.join(", ")
            ));
        }
        for column in names.iter().skip(3) {
            for _ in 0..2 {
                let (to, row) = (1 + self.dice.u32(..5), 1 + self.dice.u32(..6));
                script.push_str(&format!("UPDATE {} SET {column} = {to} WHERE k = {row};\n", NAMES[at]));
            }
        }
    }

    fn statement(&mut self) -> String {
        let n = 1 + self.dice.u32(..6);
        let filter = match self.dice.u32(..6) {
            0 | 1 => format!("k = {n}"),
            2 => format!("k IN ({n}, {})", 1 + self.dice.u32(..6)),
            3 => format!("k <= {n}"),
            4 => "a = 1".to_owned(),
            _ => "b IS NULL".to_owned(),
        };
        if self.one_in(2) {
            return format!("DELETE FROM t WHERE {filter}");
        }
        let refers: Vec<String> =
            self.keys.iter().filter(|k| k.child == 0).map(|k| k.column.clone()).collect();
        let set = match self.dice.u32(..6) {
            0 | 1 => "k = k + 10".to_owned(),
            2 => format!("k = {n} + 20, a = 3"),
            3 => "k = 7 - k".to_owned(),
            4 if !refers.is_empty() => {
                let column = &refers[self.dice.usize(..refers.len())];
                format!("{column} = {}", self.pick(&["NULL", "1", "2", "9", "k"]))
            }
            _ => "k = k".to_owned(),
        };
        format!("UPDATE t SET {set} WHERE {filter}")
    }
}

/// Rows that are taken along are those that really are, and become what they really become: `start` and `bare` are the
/// contents of the tables by name.
pub(super) fn check_along(
    block: &marktwice_run::Block,
    (names, start, bare): (&[String], &Contents, &Contents),
) {
    use marktwice_core::mark::Label;
    for (at, name) in names.iter().enumerate() {
        let blocks = block.along.iter().chain([block]).filter(|b| b.target.table == *name);
        let blocks: Vec<_> = blocks.collect();
        // What triggers write nobody foretells.
        let watching = ["log", "tally", "other"].contains(&name.as_str());
        if watching || blocks.iter().any(|b| b.foreseen.iter().any(|f| f.label != Label::Exact)) {
            continue;
        }
        let mut expected = start[at].clone();
        for block in blocks {
            assert_eq!(block.rows.len() as u64, block.matched, "all rows of {name} are shown");
            for row in &block.rows {
                let place = expected.iter().position(|r| r == row.image.row());
                let place = place.unwrap_or_else(|| panic!("{name}: {row:?} was not there"));
                expected.remove(place);
                expected.extend(row.image.after().map(<[marktwice_core::Value]>::to_vec));
            }
        }
        // What is foreseen comes in behind; rows are compared without an order.
        assert_eq!(super::sorted(expected), super::sorted(bare[at].clone()), "{name}: what is taken along");
    }
}
