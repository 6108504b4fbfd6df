//! What the tests share: a scene (a temporary folder with the demo database and a logbook of its own), the built
//! program run in it in a hermetic environment, and a terminal to answer its questions at.
//!
//! A test that cannot be set up panics here: that is what a test is to do then.

pub mod attempt;
pub mod corpus;
pub mod differential;
pub mod documents;
mod faulty;
pub mod memory;
pub mod servers;
pub mod sql;
pub mod stage;
mod terminal;

use std::io::Read;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use marktwice_sqlite::load;
use rusqlite::Connection;

pub use faulty::{FaultyBook, FaultyEngine, Fuse};
pub use terminal::Terminal;

/// What the program answered.
#[derive(Debug, Clone)]
pub struct Answer {
    /// Exit status; `None` after a signal.
    pub status: Option<i32>,
    /// Standard output.
    pub out: String,
    /// Standard error.
    pub err: String,
}

impl Answer {
    /// Asserts the exit status and gives the answer back.
    #[track_caller]
    pub fn expect(self, status: i32) -> Answer {
        assert_eq!(self.status, Some(status), "\n--- out\n{}\n--- err\n{}", self.out, self.err);
        self
    }

    /// Asserts that either output has `part`.
    #[track_caller]
    pub fn says(self, part: &str) -> Answer {
        assert!(
            self.out.contains(part) || self.err.contains(part),
            "no {part:?} in\n{}\n---\n{}",
            self.out,
            self.err
        );
        self
    }

    /// Asserts that neither output has `part`.
    #[track_caller]
    pub fn says_not(self, part: &str) -> Answer {
        assert!(
            !self.out.contains(part) && !self.err.contains(part),
            "{part:?} in\n{}\n---\n{}",
            self.out,
            self.err
        );
        self
    }

    /// The JSON document on standard output, which is what its schema says.
    #[track_caller]
    pub fn json(&self) -> serde_json::Value {
        let document = serde_json::from_str(&self.out)
            .unwrap_or_else(|e| panic!("{e}:\n{}\n---\n{}", self.out, self.err));
        if let Err(error) = documents::fits(&document) {
            panic!("{error}:\n{}", self.out);
        }
        document
    }

    /// The only step of a preview in a JSON answer.
    #[track_caller]
    pub fn step(&self) -> serde_json::Value {
        let mut document = self.json();
        let steps = document["steps"].as_array_mut().expect("steps");
        assert_eq!(steps.len(), 1);
        steps.remove(0)
    }

    /// The run's name in a JSON answer.
    #[track_caller]
    pub fn run(&self) -> String {
        self.json()["run"].as_str().expect("a run").to_owned()
    }
}

/// What stands for the newest application that can be undone, among the arguments of [`Scene::run`].
pub const LAST: &str = "@last";

/// Runs a command in which [`LAST`] may stand for a run.
pub fn with_last(args: &[&str], run: &dyn Fn(&[&str]) -> Answer) -> Answer {
    if !args.contains(&LAST) {
        return run(args);
    }
    let place = args.iter().position(|arg| ["--on", "--logbook"].contains(arg));
    let place = place.and_then(|at| args.get(at..at + 2)).unwrap_or_default();
    let history = run(&[&["history", "--format", "json"], place].concat()).json();
    let runs = history["runs"].as_array().cloned().unwrap_or_default();
    let last = runs.iter().find(|run| run["can_undo"] == true && run["receipt"]["kind"] == "apply");
    let last = last.and_then(|run| run["receipt"]["run"].as_str()).unwrap_or("none");
    run(&args.iter().map(|arg| if *arg == LAST { last } else { *arg }).collect::<Vec<_>>())
}

/// How an encrypted file begins.
const ENCRYPTED: &[u8] = b"age-encryption.org";

/// Whatever is in the files of a folder, unpacked where it can be; of what is encrypted only that it is.
pub fn kept(folder: &Path) -> String {
    let mut all = String::new();
    for entry in std::fs::read_dir(folder).expect("a folder").flatten() {
        let path = entry.path();
        if path.is_dir() {
            all += &kept(&path);
            continue;
        }
        let bytes = std::fs::read(&path).expect("read");
        if bytes.starts_with(ENCRYPTED) {
            all += &String::from_utf8_lossy(ENCRYPTED);
            continue;
        }
        let mut plain = Vec::new();
        let packed = zstd::Decoder::new(bytes.as_slice()).and_then(|mut d| d.read_to_end(&mut plain)).is_ok();
        all += &String::from_utf8_lossy(if packed { &plain } else { &bytes });
    }
    all
}

/// A temporary folder with a database and a logbook.
#[derive(Debug)]
pub struct Scene {
    folder: tempfile::TempDir,
    program: PathBuf,
}

impl Scene {
    /// An empty scene for the built program at `program`.
    pub fn empty(program: &str) -> Scene {
        let folder =
            tempfile::Builder::new().prefix("marktwice-scene-").tempdir().expect("a temporary folder");
        std::fs::write(folder.path().join("marktwice.toml"), "on = \"coop.db\"\nlogbook = \"book\"\n")
            .expect("written");
        Scene { folder, program: program.into() }
    }

    /// A scene with the demo database in `coop.db`.
    pub fn demo(program: &str) -> Scene {
        let scene = Scene::empty(program);
        let (definitions, after) = marktwice_demo::schema(marktwice_demo::Engine::Sqlite);
        load::create(&scene.path("coop.db"), definitions, &marktwice_demo::tables(), after)
            .expect("the demo database");
        scene
    }

    /// A scene whose `coop.db` is made by `script`.
    pub fn with(program: &str, script: &str) -> Scene {
        let scene = Scene::empty(program);
        scene.db().execute_batch(script).expect("the script");
        scene
    }

    /// A scene whose database is at `url` on a server.
    pub fn on(program: &str, url: &str) -> Scene {
        let scene = Scene::empty(program);
        let config = format!("on = \"{url}\"\nlogbook = \"book\"\n");
        std::fs::write(scene.folder.path().join("marktwice.toml"), config).expect("written");
        scene
    }

    /// A path in the scene.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Writes a file.
    pub fn write(&self, name: &str, text: impl AsRef<[u8]>) -> PathBuf {
        let path = self.path(name);
        std::fs::write(&path, text).expect("written");
        path
    }

    /// Another connection to the database, with foreign keys off, as a colleague's shell would have it.
    pub fn db(&self) -> Connection {
        let db = Connection::open(self.path("coop.db")).expect("opened");
        db.pragma_update(None, "foreign_keys", false).expect("set");
        db
    }

    /// Runs a script on another connection.
    pub fn sql(&self, script: &str) {
        self.db().execute_batch(script).expect(script);
    }

    /// One value, as text with its storage class: `integer:42`.
    pub fn value(&self, query: &str) -> String {
        let sql = format!("SELECT typeof(v) || ':' || quote(v) FROM (SELECT ({query}) AS v)");
        self.db().query_row(&sql, [], |r| r.get(0)).unwrap_or_else(|e| panic!("{query}: {e}"))
    }

    /// Every row of every table, by storage class and content: equal dumps are equal databases.
    pub fn dump(&self) -> Vec<String> {
        let db = self.db();
        // The row identity of a table with a key of its own is the engine's business, as VACUUM shows.
        let names = "SELECT name, wr OR EXISTS (SELECT 1 FROM pragma_index_list(l.name) WHERE \"unique\") \
                     FROM pragma_table_list AS l WHERE schema = 'main' AND type = 'table' \
                     AND name NOT LIKE 'sqlite_%' ORDER BY name";
        let mut statement = db.prepare(names).expect("names");
        let tables: Vec<(String, bool)> = statement
            .query_map([], |r| Ok((r.get(0)?, r.get(1)?)))
            .expect("names")
            .map(|r| r.expect("name"))
            .collect();
        let mut all = Vec::new();
        for (table, keyed) in tables {
            let first = if keyed { "" } else { "rowid, " };
            let mut rows = db
                .prepare(&format!("SELECT {first}* FROM \"{}\"", table.replace('"', "\"\"")))
                .expect("table");
            let width = rows.column_count();
            let mut lines: Vec<String> = Vec::new();
            let mut cursor = rows.query([]).expect("rows");
            while let Some(row) = cursor.next().expect("row") {
                let cells: Vec<String> =
                    (0..width).map(|i| format!("{:?}", row.get_ref(i).expect("cell"))).collect();
                lines.push(format!("{table}: {}", cells.join(" | ")));
            }
            lines.sort();
            all.extend(lines);
        }
        all
    }

    /// The program, ready to be given arguments, in a hermetic environment.
    pub fn command(&self) -> Command {
        let mut command = Command::new(&self.program);
        self.hermetic(&mut command);
        command
    }

    fn hermetic(&self, command: &mut Command) {
        command.current_dir(self.folder.path()).env_clear().envs(self.environment()).stdin(Stdio::null());
    }

    pub(crate) fn environment(&self) -> Vec<(&'static str, String)> {
        let home = self.folder.path().display().to_string();
        vec![
            ("HOME", home),
            ("USER", "tester".to_owned()),
            ("NO_COLOR", "1".to_owned()),
            ("TERM", "xterm".to_owned()),
            ("PATH", std::env::var("PATH").unwrap_or_default()),
        ]
    }

    /// Runs the program to its end. [`LAST`] among the arguments stands for the newest application that can be undone.
    pub fn run(&self, args: &[&str]) -> Answer {
        with_last(args, &|args| finished(self.command().args(args)))
    }

    /// Runs the program with a text on its standard input.
    pub fn run_with_input(&self, args: &[&str], input: &str) -> Answer {
        let file = self.write("standard-input", input);
        finished(self.command().args(args).stdin(std::fs::File::open(file).expect("input")))
    }

    /// Runs the program in a terminal.
    pub fn terminal(&self, args: &[&str]) -> Terminal {
        Terminal::open(&self.program, args, self.folder.path(), &self.environment())
    }

    /// The same, with variables of the environment.
    pub fn terminal_with(&self, args: &[&str], variables: &[(&'static str, &str)]) -> Terminal {
        let mut environment = self.environment();
        environment.extend(variables.iter().map(|(name, value)| (*name, (*value).to_owned())));
        Terminal::open(&self.program, args, self.folder.path(), &environment)
    }

    /// The same, with this script for an editor: it is run with the file's path as `$1`.
    pub fn terminal_with_editor(&self, args: &[&str], script: &str) -> Terminal {
        let editor = self.write("editor.sh", script);
        let mut environment = self.environment();
        environment.push(("VISUAL", format!("sh {}", editor.display())));
        Terminal::open(&self.program, args, self.folder.path(), &environment)
    }

    /// The only folder of a database in the logbook.
    pub fn shelf(&self) -> PathBuf {
        let mut folders = std::fs::read_dir(self.path("book")).expect("a logbook");
        folders.find_map(|e| Some(e.ok()?.path()).filter(|p| p.is_dir())).expect("a database in the logbook")
    }

    /// Folders of runs, oldest first.
    pub fn runs(&self) -> Vec<PathBuf> {
        let Ok(entries) = std::fs::read_dir(self.shelf().join("runs")) else { return Vec::new() };
        let mut all: Vec<PathBuf> = entries.map(|e| e.expect("entry").path()).collect();
        all.sort();
        all
    }

    /// The receipt in a run's folder.
    pub fn receipt(&self, run: &Path) -> serde_json::Value {
        let text = std::fs::read_to_string(run.join("receipt.json")).expect("a receipt");
        serde_json::from_str(&text).expect("JSON")
    }
}

/// Runs a command to its end.
pub fn finished(command: &mut Command) -> Answer {
    let output = command.output().expect("the program starts");
    Answer {
        status: output.status.code(),
        out: String::from_utf8(output.stdout).expect("UTF-8"),
        err: String::from_utf8(output.stderr).expect("UTF-8"),
    }
}
