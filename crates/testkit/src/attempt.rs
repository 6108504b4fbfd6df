//! One application and one undo on a small database, with a logbook and an engine that fail, or end the process, as
//! their fuses say.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use marktwice_core::asked::{QueryCheck, Wanted, Wants};
use marktwice_core::receipt::DatabaseId;
use marktwice_core::side::AlsoWrites;
use marktwice_core::table::NamedBy;
use marktwice_core::undo::Policy;
use marktwice_core::{Change, ChangeStep, Expect, Terms};
use marktwice_logbook::Shelf;
use marktwice_mysql::Mysql;
use marktwice_port::{Ambient, Engine, Limits, LogError, Logbook, Phase, Stamp, Stopper};
use marktwice_postgres::Postgres;
use marktwice_run::{
    Agreement, Answer, ApplyOptions, Context, Failure, Question, RunOutcome, Show, Shown, Talk, UndoOptions,
    apply, undo,
};
use marktwice_sqlite::Sqlite;

use crate::faulty::{FaultyBook, FaultyEngine, Fuse};
use crate::stage::{On, Stage};

/// The database of an attempt.
pub const SCRIPT: &str =
    "CREATE TABLE t (id INTEGER PRIMARY KEY, a INT);\nINSERT INTO t VALUES (1, 1), (2, 2), (3, 3);
CREATE TABLE c (id INTEGER PRIMARY KEY, t INT, FOREIGN KEY (t) REFERENCES t (id) ON DELETE CASCADE);\nINSERT INTO c VALUES (7, 2), (8, 1);
CREATE TABLE g (id INTEGER PRIMARY KEY, n INT);\nINSERT INTO g VALUES (1, 0), (2, 9);
CREATE TABLE k (id INTEGER PRIMARY KEY, a INT, n INT);\nINSERT INTO k VALUES (9, 9, 9);";

/// Surroundings without a clock, a terminal or anybody who stops.
pub struct Quiet;

impl Ambient for Quiet {
    fn now(&self) -> Stamp {
        Stamp { rfc3339: "2026-05-11T08:30:00Z".into(), compact: "20260511T083000.000000Z".into() }
    }

    fn stopper(&self) -> Stopper {
        Arc::new(|| false)
    }

    fn silent(&self) -> marktwice_port::Silent {
        Arc::new(|_| {})
    }

    fn progress(&self, _: Phase, _: u64, _: Option<u64>) {}
}

/// Somebody who always says yes.
pub struct Yes;

impl Talk for Yes {
    fn tell(&mut self, _text: &str) {}

    fn show(&mut self, _: &Shown<'_>) {}

    fn ask(&mut self, _: &Question<'_>) -> Answer {
        Answer::Yes
    }
}

/// The address of the database of the attempts in a folder: what the file `address` in it says, else `coop.db`.
pub fn address(folder: &Path) -> String {
    let said = std::fs::read_to_string(folder.join("address"));
    said.unwrap_or_else(|_| folder.join("coop.db").display().to_string())
}

/// The engine of an address.
pub fn engine_of(address: &str) -> &'static dyn Engine {
    if Postgres::takes(address) {
        &Postgres
    } else if Mysql::takes(address) {
        &Mysql
    } else {
        &Sqlite
    }
}

/// Where attempts are made: a database and a logbook that can be made anew.
pub struct Ground {
    stage: Stage,
}

impl Ground {
    /// A ground on every engine that is there.
    pub fn all() -> Vec<Ground> {
        [On::Sqlite, On::Postgres, On::Maria].into_iter().filter_map(Ground::on).collect()
    }

    /// A ground on one engine.
    pub fn on(on: On) -> Option<Ground> {
        let ground = Ground { stage: Stage::on(on, "no program")? };
        if on != On::Sqlite {
            ground.stage.scene.write("address", &ground.stage.url);
        }
        ground.reset();
        Some(ground)
    }

    /// Makes the database and the logbook new.
    pub fn reset(&self) {
        let _ = std::fs::remove_dir_all(self.stage.scene.path("book"));
        self.stage.run(
            "DROP TABLE IF EXISTS c; DROP TABLE IF EXISTS t; DROP TABLE IF EXISTS g; DROP TABLE IF EXISTS k;",
        );
        self.stage.run(SCRIPT);
        // A trigger writes a third table.
        self.stage.run(self.stage.by(
            "CREATE TRIGGER counts AFTER UPDATE ON t BEGIN UPDATE g SET n = n + 1 WHERE id = 1; END;",
            "CREATE OR REPLACE FUNCTION counts() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN UPDATE g SET n = n + 1 WHERE id = 1; RETURN NULL; END $$; CREATE TRIGGER counts AFTER UPDATE ON t FOR EACH ROW EXECUTE FUNCTION counts();",
            "CREATE TRIGGER counts AFTER UPDATE ON t FOR EACH ROW UPDATE g SET n = n + 1 WHERE id = 1;",
        ));
    }

    /// Every row of every table.
    pub fn dump(&self) -> Vec<String> {
        self.stage.dump()
    }

    /// The folder.
    pub fn path(&self) -> std::path::PathBuf {
        self.stage.scene.path(".")
    }

    /// See [`with`].
    pub fn with<T>(
        &self,
        book: &Fuse,
        engine: &Fuse,
        goes_through: bool,
        work: impl FnOnce(&Context<'_>) -> T,
    ) -> T {
        with(&self.path(), book, engine, goes_through, work)
    }

    /// The same on a healthy machine.
    pub fn healthy<T>(&self, work: impl FnOnce(&Context<'_>) -> T) -> T {
        self.with(&Fuse::at(0), &Fuse::at(0), false, work)
    }

    /// Which engine it is on.
    pub fn engine(&self) -> On {
        self.stage.on
    }
}

/// Does `work` in `folder` (with `coop.db` and `book` in it) with a logbook and an engine on their fuses. With
/// `goes_through` a COMMIT whose fuse blows is carried out, and only its answer is lost.
pub fn with<T>(
    folder: &Path,
    book: &Fuse,
    engine: &Fuse,
    goes_through: bool,
    work: impl FnOnce(&Context<'_>) -> T,
) -> T {
    let open = |id: &DatabaseId| -> Result<Box<dyn Logbook>, LogError> {
        let inner = Box::new(Shelf::open(&folder.join("book"), id)?);
        Ok(Box::new(FaultyBook { inner, fuse: book.clone() }))
    };
    let address = address(folder);
    let engine = FaultyEngine { inner: engine_of(&address), fuse: engine.clone(), after: goes_through };
    // A server may need a moment to notice that a client died.
    let wait = Duration::from_millis(if address.contains("://") { 5_000 } else { 200 });
    work(&Context {
        engine: &engine,
        address: &address,
        book: &open,
        ambient: &Quiet,
        waits: Limits { lock: wait, statement: None },
        named_by: &NamedBy::default(),
        user: None,
    })
}

/// The change of an attempt: two steps on one table, of which the second rests on the first, so that every attempt begins
/// with a rehearsal, and takes a row of another table along; a trigger of its table writes a third.
pub fn change() -> Change {
    let steps = [("UPDATE t SET a = a * 10 WHERE id < 3", 2), ("DELETE FROM t WHERE a = 20", 1)];
    let mut change = Change::default();
    for (sql, rows) in steps {
        let start = change.source.len();
        change.source.push_str(sql);
        let also_writes = ["c", "g"].map(|table| AlsoWrites { table: table.to_owned(), rows: None }).to_vec();
        // What goes is put away first.
        let archive_to = sql.starts_with("DELETE").then(|| "k".to_owned());
        let rows = Some(Expect::Range(rows, Some(rows)));
        let terms = Terms { rows, also_writes, archive_to, ..Terms::default() };
        change.steps.push(ChangeStep { terms, range: start..change.source.len() });
        change.source.push_str(";\n");
    }
    let check = |sql: &str, wants: Wants| QueryCheck { name: None, sql: sql.to_owned(), wants };
    change.checks.push(check("SELECT count(*) FROM t", Wants::ChangesBy(Wanted::Number((-1).into()))));
    change.checks.push(check("SELECT a FROM t WHERE id = 1", Wants::Gives(Wanted::Number(10.into()))));
    change
}

/// Applies it.
///
/// # Errors
/// As [`apply`].
pub fn apply_once(context: &Context<'_>) -> Result<RunOutcome, Failure> {
    let options = ApplyOptions {
        agreement: Agreement::Given,
        mark: None,
        hold: false,
        show: Show::First(5),
        copy_database: None,
        keep_copy: None,
    };
    apply(context, &change(), &options, &mut Yes)
}

/// Takes the last application back, asking inside the open transaction.
///
/// # Errors
/// As [`undo`].
pub fn undo_once(context: &Context<'_>) -> Result<RunOutcome, Failure> {
    let options = UndoOptions {
        run: None,
        agreement: Agreement::Ask,
        allow: vec![],
        rows: None,
        policy: Policy::default(),
        only: vec![],
        hold: true,
        show: Show::First(5),
    };
    undo(context, &options, &mut Yes)
}
