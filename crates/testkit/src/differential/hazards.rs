//! What stands around the table of a random case: triggers that stamp, or skip rows, a key of the table onto itself, rows
//! that are older than a constraint, settings of the session.

use fastrand::Rng;
use marktwice_core::{Code, Value};
use marktwice_run::End;

use super::Contents;
use crate::stage::On;

/// What stands around the table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Hazard {
    /// Nothing.
    #[default]
    None,
    /// A trigger sets the last column, `v`, whenever a row is written.
    Stamps,
    /// A trigger skips some rows.
    Skips,
    /// The column `o` refers to the table itself, with cascades.
    OntoItself,
    /// Rows that a constraint would not let in are there.
    Older,
    /// The session begins with settings that break questions.
    Settings,
    /// Other tables refer to it, and it to others.
    Family,
    /// So they do, and triggers write others still.
    Watched,
}

/// What is known of the table that is made.
pub(super) struct Table {
    pub(super) on: On,
    /// Whether `k` alone is a key of numbers.
    pub(super) plain_key: bool,
}

/// Draws a hazard that fits the table.
pub(super) fn draw(dice: &mut Rng, table: &Table) -> Hazard {
    match dice.u32(..24) {
        0 | 1 if table.plain_key => Hazard::Stamps,
        2 if table.on != On::Maria && table.plain_key => Hazard::Skips,
        3 | 4 if table.plain_key => Hazard::OntoItself,
        5 if table.plain_key => Hazard::Older,
        6 if table.on != On::Sqlite => Hazard::Settings,
        _ => Hazard::None,
    }
}

impl Hazard {
    /// Columns behind all others.
    pub(super) fn columns(self, on: On) -> Vec<String> {
        let number = if on == On::Sqlite { "INTEGER" } else { "int" };
        match self {
            Hazard::Stamps => vec![format!("v {number} DEFAULT 0")],
            Hazard::OntoItself => vec![format!("o {number}")],
            Hazard::Older => vec![format!("f {number}")],
            _ => Vec::new(),
        }
    }

    /// Constraints behind all columns.
    pub(super) fn constraints(self) -> Option<&'static str> {
        match self {
            Hazard::OntoItself => {
                Some("FOREIGN KEY (o) REFERENCES t (k) ON DELETE CASCADE ON UPDATE CASCADE")
            }
            Hazard::Older => Some("CONSTRAINT older FOREIGN KEY (f) REFERENCES w (a)"),
            _ => None,
        }
    }

    /// What comes before the table.
    pub(super) fn before(self) -> &'static str {
        match self {
            Hazard::Older => "CREATE TABLE w (a int PRIMARY KEY);\nINSERT INTO w VALUES (1), (2);\n",
            _ => "",
        }
    }

    /// What comes once the rows are there.
    pub(super) fn after(self, on: On, dice: &mut Rng) -> String {
        let (low, high) = (dice.u32(..4), dice.u32(..9));
        let text = match (self, on) {
            (Hazard::Stamps, On::Sqlite) => {
                "CREATE TRIGGER s1 AFTER UPDATE ON t BEGIN UPDATE t SET v = coalesce(old.v, 0) + 1 WHERE k = new.k; END;\nCREATE TRIGGER s2 AFTER INSERT ON t BEGIN UPDATE t SET v = 99 WHERE k = new.k; END;\n".to_owned()
            }
            (Hazard::Stamps, On::Postgres) => {
                "CREATE OR REPLACE FUNCTION stamp() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF TG_OP = 'UPDATE' THEN NEW.v := OLD.v + 1; ELSE NEW.v := 99; END IF; RETURN NEW; END $$;\nCREATE TRIGGER s1 BEFORE UPDATE OR INSERT ON t FOR EACH ROW EXECUTE FUNCTION stamp();\n".to_owned()
            }
            (Hazard::Stamps, On::Maria) => {
                "CREATE TRIGGER s1 BEFORE UPDATE ON t FOR EACH ROW SET NEW.v = OLD.v + 1;\nCREATE TRIGGER s2 BEFORE INSERT ON t FOR EACH ROW SET NEW.v = 99;\n".to_owned()
            }
            (Hazard::Skips, On::Sqlite) => format!(
                "CREATE TRIGGER s1 BEFORE UPDATE ON t WHEN old.k = {low} BEGIN SELECT RAISE(IGNORE); END;\nCREATE TRIGGER s2 BEFORE DELETE ON t WHEN old.k = {high} BEGIN SELECT RAISE(IGNORE); END;\n"
            ),
            (Hazard::Skips, _) => format!(
                "CREATE OR REPLACE FUNCTION skip() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF OLD.k IN ({low}, {high}) THEN RETURN NULL; END IF; IF TG_OP = 'DELETE' THEN RETURN OLD; END IF; RETURN NEW; END $$;\nCREATE TRIGGER s1 BEFORE UPDATE OR DELETE ON t FOR EACH ROW EXECUTE FUNCTION skip();\n"
            ),
            (Hazard::OntoItself, _) => (0..3)
                .map(|n| format!("INSERT INTO t (k, o) VALUES ({}, {});\n", 50 + n, if n == 0 { low } else { 50 + dice.u32(..=n) }))
                .collect(),
            (Hazard::Older, On::Postgres) => format!(
                "ALTER TABLE t DROP CONSTRAINT older;\nINSERT INTO t (k, f) VALUES (60, 1), (61, 77);\nALTER TABLE t ADD CONSTRAINT older FOREIGN KEY (f) REFERENCES w (a) NOT VALID;\nALTER TABLE t ADD CHECK (k <> {low}) NOT VALID;\n"
            ),
            (Hazard::Older, On::Maria) => {
                "SET foreign_key_checks = 0;\nINSERT INTO t (k, f) VALUES (60, 1), (61, 77);\nSET foreign_key_checks = 1;\n".to_owned()
            }
            (Hazard::Older, On::Sqlite) => {
                "PRAGMA foreign_keys = OFF;\nINSERT INTO t (k, f) VALUES (60, 1), (61, 77);\nPRAGMA foreign_keys = ON;\n".to_owned()
            }
            (Hazard::Settings, On::Postgres) => {
                let setting = ["array_nulls = off", "DateStyle = ''SQL, DMY''", "TimeZone = ''Asia/Kolkata''", "statement_timeout = 300"];
                let setting = setting[dice.usize(..setting.len())];
                format!("DO $$ BEGIN EXECUTE format('ALTER DATABASE %I SET {setting}', current_database()); END $$;\n")
            }
            (Hazard::Settings, _) => "SET GLOBAL sql_select_limit = 1;\nSET GLOBAL completion_type = 1;\n".to_owned(),
            (Hazard::None | Hazard::Family | Hazard::Watched, _) => String::new(),
        };
        // A case is made line by line.
        text
    }

    /// Findings that are let pass in an application and an undo.
    pub(super) fn allowed(self, on: On) -> Vec<Code> {
        match self {
            Hazard::Stamps if on == On::Sqlite => vec![Code::UndeclaredWrite],
            Hazard::Family | Hazard::Watched => vec![Code::UndeclaredWrite],
            _ => Vec::new(),
        }
    }

    /// Why the program may refuse what the engine would run.
    pub(super) fn explains(self, end: &End) -> bool {
        match (self, end) {
            (Hazard::Older, End::Stopped(codes)) => codes == &[Code::NoWayBack],
            (Hazard::OntoItself, End::Stopped(codes)) => codes == &[Code::UndeclaredWrite],
            (Hazard::Skips, End::Verification(_)) => true,
            // Found out by trying the undo, where nothing told it before.
            (Hazard::Older, End::NoUndo(_)) => true,
            _ => false,
        }
    }

    /// Whether an undo may fail after all, since only it can tell.
    pub(super) fn may_not_come_back(self) -> bool {
        self == Hazard::Skips
    }

    /// The rows without what no undo promises.
    pub(super) fn promised(self, mut all: Contents) -> Contents {
        if self == Hazard::Stamps
            && let Some(t) = all.first_mut()
        {
            for row in t.iter_mut() {
                row.pop();
            }
            let rows = std::mem::take(t);
            *t = super::sorted(rows);
        }
        all
    }
}

/// Whether a value is NULL in an expression that adds two columns: how rows come to stay NULL.
pub(super) fn sum_of(columns: &[String], dice: &mut Rng) -> Option<String> {
    let one = columns.get(dice.usize(..columns.len().max(1)))?;
    let two = columns.get(dice.usize(..columns.len()))?;
    Some(format!("{one} + {two}"))
}

/// Whether the columns of a shown row that its preview names hold now what they held.
pub(super) fn still_as_shown(shown: &[Value], now: &[Value], columns: &[usize]) -> bool {
    columns.iter().all(|at| shown.get(*at) == now.get(*at))
}
