//! Random cases for SQLite, whose values have types of their own, and the files in which they are tried.

use std::path::{Path, PathBuf};

use fastrand::Rng;
use marktwice_core::Value;
use rusqlite::Connection;
use rusqlite::types::ValueRef;

use super::hazards::{Table, draw, sum_of};
use super::shapes::{Making, Parts, Throwing, statement, steps_behind};
use super::{Case, Contents, Ring, sorted};
use crate::stage::On;

/// Makes a case for a SQLite file.
pub(super) fn case(seed: u64) -> Case {
    Maker { dice: Rng::with_seed(seed), columns: Vec::new() }.case()
}

struct Maker {
    dice: Rng,
    columns: Vec<String>,
}

const VALUES: &[&str] = &[
    "NULL",
    "0",
    "1",
    "2",
    "-1",
    "3",
    "9007199254740993",
    "1.0",
    "0.5",
    "-0.0",
    "9e999",
    "'a'",
    "'A'",
    "'b '",
    "'1'",
    "'1.0'",
    "''",
    "'a' || char(0) || 'b'",
    "x''",
    "x'00ff'",
    "CAST(x'c328' AS TEXT)",
    "'é'",
    "x'61'",
    "'12abc'",
];

impl Throwing for Maker {
    fn dice(&mut self) -> &mut Rng {
        &mut self.dice
    }
}

impl Making for Maker {
    fn condition(&mut self) -> String {
        self.filter(1)
    }

    fn assignment(&mut self) -> String {
        let column = self.column();
        format!("{column} = {}", self.expression(1))
    }
}

impl Maker {
    fn column(&mut self) -> String {
        let at = self.dice.usize(..self.columns.len());
        self.columns[at].clone()
    }

    fn case(mut self) -> Case {
        let strict = self.one_in(6);
        let types: &[&str] = if strict {
            &["INT", "INTEGER", "REAL", "TEXT", "BLOB", "ANY"]
        } else {
            &["INT", "INTEGER", "TEXT", "REAL", "BLOB", "NUMERIC", "VARCHAR(5)", "DECIMAL(8,2)", "", "DATE"]
        };
        let mut parts: Vec<String> = Vec::new();
        let mut tail = Vec::new();
        let mut after = Vec::new();
        match self.dice.u32(..8) {
            0 | 1 => parts.push("k INTEGER PRIMARY KEY".into()),
            2 => parts.push(format!("k {} PRIMARY KEY NOT NULL", self.pick(&["TEXT", "INT", "BLOB"]))),
            3 if !strict => parts.push("k TEXT COLLATE NOCASE PRIMARY KEY".into()),
            4 => {
                parts.extend(["k INT".into(), "l TEXT".into()]);
                after.push("PRIMARY KEY (l, k)".into());
                tail.push("WITHOUT ROWID");
            }
            5 if self.one_in(2) => {
                // A declared key that may hold NULL.
                parts.push(format!("k {}", if strict { "ANY" } else { "" }));
                after.push("PRIMARY KEY (k, c0)".into());
            }
            5 => parts.push("k TEXT NOT NULL UNIQUE".into()),
            6 => {
                parts.push("k INTEGER NOT NULL".into());
                tail.push("WITHOUT ROWID");
                after.push("PRIMARY KEY (k)".into());
            }
            _ => parts.push(format!("k {}", if strict { "ANY" } else { "" })),
        }
        if strict {
            tail.push("STRICT");
        }
        self.columns.push("k".into());
        for at in 0..1 + self.dice.usize(..3) {
            let mut column = format!("c{at} {}", self.pick(types));
            if self.one_in(6) {
                column.push_str(" COLLATE NOCASE");
            }
            column.push_str(match self.dice.u32(..14) {
                0 => " UNIQUE",
                1 => " NOT NULL DEFAULT 1",
                2 => " CHECK (c0 IS NOT 3)",
                3 => " UNIQUE ON CONFLICT REPLACE",
                4 => " UNIQUE ON CONFLICT IGNORE",
                _ => "",
            });
            parts.push(column);
            self.columns.push(format!("c{at}"));
        }
        if self.one_in(4) {
            let expr = self.pick(&["c0 || 'x'", "c0 + 1", "typeof(c0)", "c0 = 'A'", "length(k)"]);
            let kind = self.pick(&["VIRTUAL", "STORED"]);
            parts.push(format!("g {} AS ({expr}) {kind}", if strict { "ANY" } else { "" }));
        }
        let plain_key = parts[0] == "k INTEGER PRIMARY KEY" && !parts.iter().any(|p| p.contains("CONFLICT"));
        let hazard = draw(&mut self.dice, &Table { on: On::Sqlite, plain_key });
        parts.extend(hazard.columns(On::Sqlite));
        parts.extend(after);
        parts.extend(hazard.constraints().map(str::to_owned));
        let mut script =
            format!("{}CREATE TABLE t ({}) {};\n", hazard.before(), parts.join(", "), tail.join(", "));
        script.push_str("CREATE TABLE u (a, b TEXT);\nINSERT INTO u VALUES (1, 'a'), (2, 'A'), (NULL, 'x'), ('1', NULL);\n");
        if self.one_in(6) {
            let action = self.pick(&["NO ACTION", "CASCADE", "SET NULL", "RESTRICT"]);
            script.push_str(&format!("CREATE TABLE kid (id INTEGER PRIMARY KEY, p REFERENCES t (k) ON DELETE {action} ON UPDATE {action});\n"));
        }
        let names = self.columns.join(", ");
        let composite = script.contains("l TEXT");
        for n in 0..self.dice.u32(..9) {
            let key = if self.one_in(3) { self.pick(VALUES).to_owned() } else { n.to_string() };
            let mut values = vec![key];
            values.extend((1..self.columns.len()).map(|_| self.pick(VALUES).to_owned()));
            let (more, extra) = if composite { (", l", format!(", '{n}'")) } else { ("", String::new()) };
            script.push_str(&format!(
                "INSERT OR IGNORE INTO t ({names}{more}) VALUES ({}{extra});\n",
                values.join(", ")
            ));
        }
        script.push_str(&hazard.after(On::Sqlite, &mut self.dice));
        let filter = self.filter(2);
        let place = if self.one_in(12) { String::new() } else { format!(" WHERE {filter}") };
        let shaped = if self.one_in(3) { self.shaped() } else { None };
        let statement = if let Some(shaped) = shaped {
            shaped
        } else if self.one_in(3) {
            format!("DELETE FROM t{place}")
        } else {
            let mut sets = Vec::new();
            for _ in 0..1 + self.dice.u32(..2) {
                let column = self.column();
                let value = self.expression(2);
                sets.push(format!("{column} = {value}"));
            }
            format!("UPDATE t SET {}{place}", sets.join(", "))
        };
        let column = self.column();
        let edit =
            format!("UPDATE OR IGNORE t SET {column} = {} WHERE {}", self.pick(VALUES), self.filter(1));
        let between = self.one_in(5);
        let more = steps_behind(&mut self, &script);
        Case { script, statement, more, edit, between, hazard }
    }

    fn shaped(&mut self) -> Option<String> {
        let parts = Parts {
            on: On::Sqlite,
            ints: &self.columns.clone(),
            texts: &self.columns.clone(),
            set: (self.column(), self.expression(1)),
            filter: self.filter(1),
            order: None,
        };
        statement(&mut self.dice, &parts)
    }

    fn expression(&mut self, depth: u32) -> String {
        let column = self.column();
        if depth == 0 || self.one_in(3) {
            return if self.one_in(2) { self.pick(VALUES).to_owned() } else { column };
        }
        let inner = self.expression(depth - 1);
        match self.dice.u32(..13) {
            12 => sum_of(&self.columns, &mut self.dice).unwrap_or(column),
            0 => format!("{column} + 1"),
            1 => format!("{column} || {inner}"),
            2 => format!("-{column}"),
            3 => format!("upper({inner})"),
            4 => format!("CASE WHEN {} THEN {inner} ELSE {column} END", self.filter(depth - 1)),
            5 => format!("coalesce({column}, {inner})"),
            6 => format!("(SELECT max({column}) FROM t)"),
            7 => format!("(SELECT count(*) FROM t AS x WHERE x.{column} >= t.{column})"),
            8 => format!("(SELECT b FROM u WHERE a = t.{column})"),
            9 => format!("({inner}) * 2"),
            10 => format!("CAST({inner} AS {})", self.pick(&["TEXT", "INTEGER", "REAL", "BLOB"])),
            _ => format!("iif({column} IS NULL, {inner}, {column})"),
        }
    }

    fn filter(&mut self, depth: u32) -> String {
        let column = self.column();
        let value = self.pick(VALUES);
        if depth > 0 && self.one_in(2) {
            let (left, right) = (self.filter(depth - 1), self.filter(depth - 1));
            return match self.dice.u32(..4) {
                0 => format!("{left} AND {right}"),
                1 => format!("{left} OR {right}"),
                2 => format!("NOT ({left})"),
                _ => format!("({left}) IS NOT ({right})"),
            };
        }
        match self.dice.u32(..14) {
            0 => format!("{column} = {value}"),
            1 => format!("{column} <> {value}"),
            2 => format!("{column} > {value}"),
            3 => format!("{column} IS {value}"),
            4 => format!("{column} IS NOT {value}"),
            5 => format!("{column} IN (1, 'a', NULL)"),
            6 => format!("{column} NOT IN (SELECT a FROM u WHERE a IS NOT NULL)"),
            7 => format!("{column} LIKE 'a%'"),
            8 => format!("{column} GLOB '*1*'"),
            9 => format!("{column} BETWEEN 0 AND 2"),
            10 => format!("EXISTS (SELECT 1 FROM u WHERE u.b = t.{column})"),
            11 => format!("{column} = (SELECT max({column}) FROM t)"),
            12 => format!("{column} ISNULL"),
            _ => format!("typeof({column}) = 'text'"),
        }
    }
}

fn open(path: &Path) -> Connection {
    let db = Connection::open(path).expect("opened");
    db.execute_batch("PRAGMA synchronous = OFF; PRAGMA foreign_keys = ON").expect("set");
    db
}

/// Rows of a table with all columns, typed, in a fixed order.
fn rows(db: &Connection, table: &str) -> Vec<Vec<Value>> {
    let mut statement = db.prepare(&format!("SELECT * FROM {table}")).expect("prepared");
    let width = statement.column_count();
    let mut cursor = statement.query([]).expect("rows");
    let mut all = Vec::new();
    while let Some(row) = cursor.next().expect("row") {
        let one = (0..width).map(|at| match row.get_ref(at).expect("cell") {
            ValueRef::Null => Value::Null,
            ValueRef::Integer(i) => Value::Int(i),
            ValueRef::Real(r) => Value::Real(r),
            ValueRef::Text(t) => Value::text(t),
            ValueRef::Blob(b) => Value::Bytes(b.to_vec()),
        });
        all.push(one.collect::<Vec<_>>());
    }
    sorted(all)
}

/// The tables, the one that statements are about first.
fn tables(db: &Connection) -> Vec<String> {
    let known = ["t", "u", "kid", "v", "w", "log", "tally", "other", "away"].into_iter();
    known.filter(|t| db.table_exists(Some("main"), t).expect("asked")).map(str::to_owned).collect()
}

fn everything(path: &Path) -> Contents {
    let db = open(path);
    tables(&db).iter().map(|table| rows(&db, table)).collect()
}

/// SQLite files.
pub(super) struct InFile {
    folder: PathBuf,
    saved: Vec<u8>,
}

impl InFile {
    pub(super) fn new(folder: &Path) -> InFile {
        InFile { folder: folder.to_owned(), saved: Vec::new() }
    }

    fn database(&self) -> PathBuf {
        self.folder.join("coop.db")
    }

    fn other(&self) -> PathBuf {
        self.folder.join("bare.db")
    }
}

impl Ring for InFile {
    fn on(&self) -> On {
        On::Sqlite
    }

    fn folder(&self) -> &Path {
        &self.folder
    }

    fn set_up(&mut self, case: &Case) {
        let _ = std::fs::remove_dir_all(&self.folder);
        std::fs::create_dir_all(&self.folder).expect("a folder");
        let db = open(&self.database());
        for line in case.script.split(";\n").filter(|l| !l.trim().is_empty()) {
            let done = db.execute_batch(line);
            // A random row may break a constraint or a type; it is then not there.
            let may_fail = line.starts_with("INSERT") || line.starts_with("UPDATE");
            assert!(done.is_ok() || may_fail, "{line}: {done:?}");
        }
        drop(db);
        std::fs::copy(self.database(), self.other()).expect("copied");
    }

    fn tables(&mut self) -> Vec<String> {
        tables(&open(&self.database()))
    }

    fn everything(&mut self) -> Contents {
        everything(&self.database())
    }

    fn bare(&mut self, statement: &str) -> Result<u64, String> {
        open(&self.other()).execute(statement, []).map(|n| n as u64).map_err(|e| e.to_string())
    }

    fn together(&mut self, statements: &[&str]) -> Result<(), String> {
        let db = open(&self.other());
        db.execute_batch("BEGIN").map_err(|e| e.to_string())?;
        // Closing the connection rolls back.
        statements.iter().try_for_each(|s| db.execute(s, []).map(|_| ())).map_err(|e| e.to_string())
    }

    fn count(&mut self, query: &str) -> u64 {
        let count: rusqlite::Result<i64> = open(&self.database()).query_row(query, [], |row| row.get(0));
        u64::try_from(count.unwrap_or_else(|e| panic!("{query}: {e}"))).expect("a number of rows")
    }

    fn tried(&mut self, statement: &str) -> Result<u64, String> {
        let db = open(&self.database());
        db.execute_batch("BEGIN").map_err(|e| e.to_string())?;
        // Closing the connection rolls back.
        db.execute(statement, []).map(|n| n as u64).map_err(|e| e.to_string())
    }

    fn bare_contents(&mut self) -> Contents {
        everything(&self.other())
    }

    fn save(&mut self) {
        self.saved = std::fs::read(self.database()).expect("read");
    }

    fn edit(&mut self, sql: &str) -> bool {
        open(&self.database()).execute(sql, []).unwrap_or(0) > 0
    }

    fn restore(&mut self) {
        std::fs::write(self.database(), &self.saved).expect("restored");
    }
}
