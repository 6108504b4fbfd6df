//! A scene on each engine: the same story is played on SQLite, PostgreSQL and MariaDB.

use crate::servers::{self, Server};
use crate::sql::Db;
use crate::{Answer, Scene};

/// Which engine a stage is on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum On {
    /// SQLite.
    Sqlite,
    /// PostgreSQL.
    Postgres,
    /// MariaDB, and MySQL, which speaks its language; the stage's server says which.
    Maria,
}

/// Whether an engine is among those that a run is for; without a word of it all are.
fn is_wanted(name: &str) -> bool {
    let wanted = std::env::var("MARKTWICE_TEST_ENGINES").unwrap_or_default();
    wanted.is_empty() || wanted.split(',').any(|wanted| wanted.eq_ignore_ascii_case(name))
}

/// A scene on one engine.
pub struct Stage {
    /// Which engine.
    pub on: On,
    /// The scene.
    pub scene: Scene,
    /// The address of its database.
    pub url: String,
    /// The server, where there is one.
    pub server: Option<&'static Server>,
}

impl Stage {
    /// A stage with an empty database.
    pub fn on(on: On, program: &str) -> Option<Stage> {
        // A run for one engine's sake leaves the others out.
        if !is_wanted(&format!("{on:?}")) {
            return None;
        }
        let server = match on {
            On::Sqlite => {
                let scene = Scene::empty(program);
                let url = scene.path("coop.db").display().to_string();
                let stage = Stage { on, scene, url, server: None };
                stage.run("CREATE TABLE started (x int); DROP TABLE started;");
                return Some(stage);
            }
            On::Postgres => servers::postgres(),
            On::Maria => servers::family(),
        }?;
        Some(Stage::of(on, server, program))
    }

    fn of(on: On, server: &'static Server, program: &str) -> Stage {
        let url = server.database();
        Stage { on, scene: Scene::on(program, &url), url, server: Some(server) }
    }

    /// A stage on MySQL, where it is there.
    pub fn on_mysql(program: &str) -> Option<Stage> {
        let server = if is_wanted("mysql") { servers::mysql() } else { None };
        server.map(|server| Stage::of(On::Maria, server, program))
    }

    /// Plays a story on every server that speaks a language.
    pub fn only(on: On, program: &str, story: impl Fn(&Stage)) {
        let mysql = if on == On::Maria { Stage::on_mysql(program) } else { None };
        for stage in Stage::on(on, program).into_iter().chain(mysql) {
            story(&stage);
        }
    }

    /// Plays a story on every engine that is there.
    pub fn each(program: &str, story: impl Fn(&Stage)) {
        for on in [On::Sqlite, On::Postgres, On::Maria] {
            Stage::only(on, program, &story);
        }
    }

    /// Plays a story on all servers.
    pub fn servers(program: &str, story: impl Fn(&Stage)) {
        for on in [On::Postgres, On::Maria] {
            Stage::only(on, program, &story);
        }
    }

    /// Whether it is MySQL.
    pub fn is_mysql(&self) -> bool {
        self.server.is_some_and(|server| server.brand == servers::Brand::Mysql)
    }

    /// Another connection.
    pub fn db(&self) -> Db {
        Db::open(&self.url)
    }

    /// Runs a script on another connection.
    pub fn run(&self, script: &str) {
        self.db().run(script);
    }

    /// Every row of every table.
    pub fn dump(&self) -> Vec<String> {
        self.db().dump()
    }

    /// One value on another connection.
    pub fn value(&self, query: &str) -> String {
        self.db().value(query)
    }

    /// One of three texts, by engine.
    pub fn by<'t>(&self, sqlite: &'t str, postgres: &'t str, maria: &'t str) -> &'t str {
        match self.on {
            On::Sqlite => sqlite,
            On::Postgres => postgres,
            On::Maria => maria,
        }
    }

    /// Applies a statement that is agreed to with its expected count, and asserts the exit status.
    #[track_caller]
    pub fn apply(&self, sql: &str, rows: &str, status: i32) -> Answer {
        let answer = self.scene.run(&["apply", "--sql", sql, "--rows", rows, "--yes"]);
        assert_eq!(answer.status, Some(status), "{:?} {sql}\n{}\n{}", self.on, answer.out, answer.err);
        answer
    }

    /// The same with an allowed finding.
    #[track_caller]
    pub fn apply_allowing(&self, sql: &str, rows: &str, allow: &str, status: i32) -> Answer {
        let answer = self.scene.run(&["apply", "--sql", sql, "--rows", rows, "--yes", "--allow", allow]);
        assert_eq!(answer.status, Some(status), "{:?} {sql}\n{}\n{}", self.on, answer.out, answer.err);
        answer
    }

    /// Takes the last application back and asserts the exit status.
    #[track_caller]
    pub fn undo(&self, more: &[&str], status: i32) -> Answer {
        let mut args = vec!["undo", "@last", "--yes", "--rows", "0+"];
        args.extend(more);
        let answer = self.scene.run(&args);
        assert_eq!(answer.status, Some(status), "{:?}\n{}\n{}", self.on, answer.out, answer.err);
        answer
    }

    /// Applies a statement and takes it back: afterwards everything is as it was, and in between it was not.
    #[track_caller]
    pub fn there_and_back(&self, sql: &str, rows: &str) {
        self.there_and_back_with(sql, &[], rows);
    }

    /// The same with more arguments.
    #[track_caller]
    pub fn there_and_back_with(&self, sql: &str, more: &[&str], rows: &str) {
        let before = self.dump();
        let mut args = vec!["apply", "--sql", sql, "--rows", rows, "--yes"];
        args.extend(more);
        let answer = self.scene.run(&args);
        assert_eq!(answer.status, Some(0), "{:?} {sql}\n{}\n{}", self.on, answer.out, answer.err);
        assert_ne!(self.dump(), before, "{:?} {sql} did something", self.on);
        self.undo(&[], 0);
        assert_eq!(self.dump(), before, "{:?} {sql}", self.on);
    }
}
