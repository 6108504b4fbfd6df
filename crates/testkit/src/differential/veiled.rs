//! Random databases with columns that are hidden, and views, generated columns, routines and triggers over them; every command of
//! the built program is run, and nothing that it prints or keeps may hold anything that came from such a column. What reads
//! plain columns only must be shown. What is hidden holds letters and numbers that stand nowhere else, so that a part is enough.

use std::path::Path;

use fastrand::Rng;

use super::Tally;
use super::shapes::Throwing;
use crate::stage::{On, Stage};
use crate::{Answer, kept};

/// From this seed on no case reads a hidden column.
pub const PLAIN: u64 = 1_000_000;

/// Letters of the hidden texts, their capitals, and how JSON would escape them.
const LETTERS: &str = "жщюэфцчЖЩЮЭФЦЧ";
const ESCAPED: [&str; 2] = ["\\u04", "\\u{4"];
/// The hidden numbers begin with the first; sums of a few begin with the others.
const NUMBERS: [&str; 5] = ["7355618400", "14711236800", "22066855200", "29422473600", "36778092"];

#[derive(Clone, Copy, PartialEq)]
enum Kind {
    Text,
    Number,
}

/// What rows can be taken from: its name, the columns that it has, and the one that tells the rows.
#[derive(Clone)]
struct Source {
    name: String,
    id: String,
    columns: Vec<(String, Kind)>,
}

struct Maker {
    dice: Rng,
    on: On,
    /// Whether nothing hidden is to be read.
    plain: bool,
    script: String,
    sources: Vec<Source>,
    routine: bool,
}

impl Throwing for Maker {
    fn dice(&mut self) -> &mut Rng {
        &mut self.dice
    }
}

struct Case {
    script: String,
    sources: Vec<Source>,
    statement: String,
    check: String,
    filter: String,
}

impl Maker {
    fn line(&mut self, text: &str) {
        self.script.push_str(text);
        self.script.push_str(";\n");
    }

    fn column(&mut self, of: &Source, kind: Kind, as_part: &str) -> String {
        let all: Vec<&str> =
            of.columns.iter().filter(|(_, k)| *k == kind).map(|(name, _)| name.as_str()).collect();
        match (all.is_empty(), kind) {
            (false, _) => format!("{as_part}{}", self.pick(&all)),
            (true, Kind::Text) => "'none'".to_owned(),
            (true, Kind::Number) => "0".to_owned(),
        }
    }

    fn joined(&self, one: &str, two: &str) -> String {
        if self.on == On::Maria { format!("concat({one}, {two})") } else { format!("{one} || {two}") }
    }

    /// An expression over the columns of `of`, which are written with `part` before them.
    fn text(&mut self, of: &Source, part: &str, depth: u32) -> String {
        if depth == 0 {
            return self.column(of, Kind::Text, part);
        }
        let inner = self.text(of, part, depth - 1);
        let chars = if self.on == On::Maria { "char(30)" } else { "varchar(30)" };
        match self.dice.u32(..14) {
            0 => format!("upper({inner})"),
            1 => format!("substr({inner}, {}, 2)", 1 + self.dice.u32(..3)),
            2 => {
                let other = self.text(of, part, depth - 1);
                self.joined(&inner, &other)
            }
            3 => format!("replace({inner}, 'a', 'b')"),
            4 => format!("coalesce({inner}, 'none')"),
            5 => {
                let (test, other) = (self.condition(of, part), self.text(of, part, 0));
                format!("CASE WHEN {test} THEN {inner} ELSE {other} END")
            }
            6 => {
                let number = self.number(of, part, depth - 1);
                format!("CAST({number} AS {chars})")
            }
            7 => {
                let from = self.source();
                let value = self.text(&from, "q.", 0);
                format!("(SELECT max({value}) FROM {} AS q)", from.name)
            }
            8 => {
                let from = self.source();
                let value = self.text(&from, "q.", depth - 1);
                format!(
                    "(SELECT min({value}) FROM {} AS q WHERE q.{} >= {part}{})",
                    from.name, from.id, of.id
                )
            }
            9 => {
                let from = self.source();
                let value = self.text(&from, "q.", 0);
                let list = if self.on == On::Postgres { "string_agg" } else { "group_concat" };
                let more = if self.on == On::Maria { "" } else { ", '-'" };
                format!("(SELECT {list}({value}{more}) FROM {} AS q)", from.name)
            }
            10 if self.routine => format!("mail_of({part}{})", of.id),
            11 if self.on != On::Sqlite => format!("reverse({inner})"),
            12 if self.on == On::Postgres => {
                let value = self.text(of, part, 0);
                format!("CAST(json_build_object('x', {value}) AS text)")
            }
            _ => inner,
        }
    }

    fn number(&mut self, of: &Source, part: &str, depth: u32) -> String {
        if depth == 0 {
            return self.column(of, Kind::Number, part);
        }
        let inner = self.number(of, part, depth - 1);
        match self.dice.u32(..8) {
            0 => format!("{inner} + {}", self.dice.u32(..5)),
            1 => format!("coalesce({inner}, 0)"),
            2 => format!("abs({inner})"),
            3 | 4 => {
                let from = self.source();
                let value = self.number(&from, "q.", 0);
                let sum = self.pick(&["sum", "max", "min"]);
                format!("(SELECT {sum}({value}) FROM {} AS q)", from.name)
            }
            5 if self.on != On::Sqlite => {
                // A text that is no number is told by the engine, with the text.
                let text = self.text(of, part, 0);
                let kind = if self.on == On::Maria { "signed" } else { "bigint" };
                format!("CAST({text} AS {kind})")
            }
            _ => inner,
        }
    }

    fn condition(&mut self, of: &Source, part: &str) -> String {
        let n = self.dice.u32(..4);
        match self.dice.u32(..4) {
            0 => format!("{part}{} > {n}", of.id),
            1 => format!("{} IS NOT NULL", self.text(of, part, 0)),
            2 => format!("{} > {n}", self.number(of, part, 0)),
            _ => format!("{part}{} <= {n}", of.id),
        }
    }

    fn source(&mut self) -> Source {
        let at = self.dice.usize(..self.sources.len());
        self.sources[at].clone()
    }

    fn make(mut self) -> Case {
        let kind = if self.on == On::Maria { "VIRTUAL" } else { "STORED" };
        let (mut parts, mut columns) =
            (Vec::new(), vec![("name".to_owned(), Kind::Text), ("age".to_owned(), Kind::Number)]);
        if !self.plain {
            columns.extend([("mail".to_owned(), Kind::Text), ("pin".to_owned(), Kind::Number)]);
        }
        for n in 0..self.dice.u32(..3) {
            let made = match self.dice.u32(..5) {
                0 => "upper(mail)",
                1 => "substr(mail, 2, 3)",
                2 => "replace(name, 'A', mail)",
                3 => "coalesce(mail, name)",
                _ => "upper(name)",
            };
            parts.push(format!(", g{n} varchar(90) GENERATED ALWAYS AS ({made}) {kind}"));
            if !self.plain || made == "upper(name)" {
                columns.push((format!("g{n}"), Kind::Text));
            }
        }
        let unique = if self.one_in(3) { " UNIQUE" } else { "" };
        self.line(&format!(
            "CREATE TABLE person (id integer PRIMARY KEY, mail varchar(60){unique}, name varchar(60), pin bigint, age integer{})",
            parts.concat()
        ));
        let refers = if self.one_in(2) {
            ", FOREIGN KEY (owner) REFERENCES person (id) ON DELETE CASCADE"
        } else {
            ""
        };
        self.line(&format!("CREATE TABLE note (id integer PRIMARY KEY, owner integer, body varchar(900), total bigint{refers})"));
        self.line("CREATE TABLE copy (id integer PRIMARY KEY, a varchar(900), b varchar(900), n bigint)");
        for (n, (mail, name)) in
            [("жщ-ю", "Ada"), ("эфцч", "Bram"), ("ЖЮцщ", "Orla"), ("щщ", "Tam")].iter().enumerate()
        {
            self.line(&format!("INSERT INTO person (id, mail, name, pin, age) VALUES ({n}, '{mail}', '{name}', 735561840000{n}, {})", 30 + n));
            self.line(&format!("INSERT INTO note VALUES ({n}, {n}, 'x{n}', {n})"));
        }
        self.line("INSERT INTO copy VALUES (0, 'old', 'old', 1)");
        self.sources.push(Source { name: "person".into(), id: "id".into(), columns });
        let plain = vec![("body".to_owned(), Kind::Text), ("total".to_owned(), Kind::Number)];
        self.sources.push(Source { name: "note".into(), id: "id".into(), columns: plain });
        self.routines();
        for n in 0..self.dice.u32(..4) {
            self.view(n);
        }
        self.watch();
        let statement = self.statement();
        let check = {
            let from = self.source();
            let value = self.text(&from, "", 1);
            format!("SELECT max({value}) FROM {} = 'x'", from.name)
        };
        let filter = {
            let from = self.sources[0].clone();
            self.condition(&from, "")
        };
        Case { script: self.script, sources: self.sources, statement, check, filter }
    }

    fn routines(&mut self) {
        if self.plain || self.on == On::Sqlite || !self.one_in(2) {
            return;
        }
        self.routine = true;
        let text = match self.on {
            On::Postgres => {
                "CREATE FUNCTION mail_of(n integer) RETURNS varchar STABLE LANGUAGE sql AS $$ SELECT mail FROM person WHERE id = n $$"
            }
            _ => {
                "CREATE FUNCTION mail_of(n integer) RETURNS varchar(60) READS SQL DATA RETURN (SELECT mail FROM person WHERE id = n)"
            }
        };
        self.line(text);
    }

    fn view(&mut self, n: u32) {
        let from = self.source();
        let mut columns = Vec::new();
        let mut list = vec!["f.".to_owned() + &from.id + " AS n"];
        for at in 0..1 + self.dice.u32(..3) {
            let kind = if self.one_in(3) { Kind::Number } else { Kind::Text };
            let deep = self.dice.u32(..3);
            let value = match kind {
                Kind::Text => self.text(&from, "f.", deep),
                Kind::Number => self.number(&from, "f.", deep),
            };
            list.push(format!("{value} AS c{at}"));
            columns.push((format!("c{at}"), kind));
        }
        let distinct = self.pick(&["", "", "DISTINCT "]);
        let list = list.join(", ");
        let name = &from.name;
        let text = match self.dice.u32(..5) {
            0 => {
                format!("SELECT {distinct}{list} FROM {name} AS f JOIN note AS j ON j.owner = f.{}", from.id)
            }
            1 => format!(
                "SELECT {list} FROM {name} AS f UNION ALL SELECT {list} FROM {name} AS f WHERE f.{} > 2",
                from.id
            ),
            // With all columns of the table it would read the hidden ones.
            2 if !self.plain => format!("WITH f AS (SELECT * FROM {name}) SELECT {list} FROM f"),
            3 if !self.plain => format!("SELECT {list} FROM (SELECT * FROM {name}) AS f"),
            _ => format!("SELECT {distinct}{list} FROM {name} AS f"),
        };
        self.line(&format!("CREATE VIEW v{n} AS {text}"));
        self.sources.push(Source { name: format!("v{n}"), id: "n".into(), columns });
    }

    fn watch(&mut self) {
        if self.plain || !self.one_in(4) {
            return;
        }
        let table = self.pick(&["note", "person"]);
        let whose = if table == "note" { "NEW.owner" } else { "NEW.id" };
        let action = match self.dice.u32(..3) {
            0 => format!("INSERT INTO copy (id, a) SELECT 50 + NEW.id, mail FROM person WHERE id = {whose}"),
            1 => format!("UPDATE copy SET b = (SELECT max(mail) FROM person WHERE id = {whose})"),
            _ => format!("UPDATE copy SET n = (SELECT sum(pin) FROM person WHERE id <= {whose})"),
        };
        match self.on {
            On::Sqlite => self.line(&format!("CREATE TRIGGER w AFTER UPDATE ON {table} BEGIN {action}; END")),
            On::Maria => {
                self.line(&format!("CREATE TRIGGER w AFTER UPDATE ON {table} FOR EACH ROW {action}"))
            }
            On::Postgres => {
                self.line(&format!("CREATE FUNCTION w() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN {action}; RETURN NULL; END $$"));
                self.line(&format!(
                    "CREATE TRIGGER w AFTER UPDATE ON {table} FOR EACH ROW EXECUTE FUNCTION w()"
                ));
            }
        }
    }

    fn statement(&mut self) -> String {
        let from = self.source();
        let person = self.sources[0].clone();
        let deep = self.dice.u32(..3);
        let test = self.condition(&from, "s.");
        let (text, number) = (self.text(&from, "s.", deep), self.number(&from, "s.", deep));
        let (name, id) = (&from.name, &from.id);
        match self.dice.u32(..if self.plain { 4 } else { 10 }) {
            0 => format!(
                "UPDATE note SET body = (SELECT max({text}) FROM {name} AS s WHERE s.{id} = note.owner AND {test}) WHERE id < 3"
            ),
            1 if self.on == On::Maria => format!(
                "UPDATE note JOIN {name} AS s ON s.{id} = note.owner SET note.body = {text} WHERE note.id = 2"
            ),
            1 => format!(
                "UPDATE note SET body = {text} FROM {name} AS s WHERE s.{id} = note.owner AND note.id = 2"
            ),
            2 => format!(
                "INSERT INTO copy (id, a, n) SELECT 90 + s.{id}, max({text}), max({number}) FROM {name} AS s WHERE {test} GROUP BY s.{id}"
            ),
            3 => format!(
                "UPDATE note SET total = (SELECT max({number}) FROM {name} AS s WHERE s.{id} = note.owner)"
            ),
            4 => {
                let value = self.text(&person, "", deep);
                format!("UPDATE person SET name = {value} WHERE id > 0")
            }
            5 => {
                let value = self.text(&person, "", deep);
                format!("UPDATE person SET mail = {value}, age = age + 1 WHERE id = 1")
            }
            6 => "UPDATE person SET pin = pin + 1".to_owned(),
            7 => format!("DELETE FROM note WHERE owner IN (SELECT s.{id} FROM {name} AS s WHERE {test})"),
            8 => "DELETE FROM person WHERE id >= 2".to_owned(),
            _ => {
                let value = self.text(&person, "", 1);
                format!(
                    "UPDATE person SET name = {value} WHERE id = 1;\nUPDATE note SET body = (SELECT name FROM person WHERE id = 1) WHERE id = 1"
                )
            }
        }
    }
}

/// Runs the cases of the seeds `from..from + count` with the built program; none where the engine's server is not installed.
///
/// # Panics
/// At the first case that shows or keeps what is hidden, with its seed and its scripts.
pub fn run(on: On, program: &str, from: u64, count: u64) -> Tally {
    let mut tally = Tally::default();
    let stage = if crate::servers::is_mysql() { Stage::on_mysql(program) } else { Stage::on(on, program) };
    let Some(stage) = stage else { return tally };
    stage.scene.run(&["key", "live.key"]).expect(0);
    let config = format!(
        "on = \"live\"\n[logbook]\nfolder = \"book\"\nkey_file = \"live.key\"\n[database.live]\nurl = \"{}\"\nhide = [\"person.mail\", \"person.pin\"]\n",
        stage.url
    );
    stage.scene.write("marktwice.toml", config);
    for seed in from..from + count {
        let maker = Maker {
            dice: Rng::with_seed(seed),
            on,
            plain: seed >= PLAIN,
            script: String::new(),
            sources: Vec::new(),
            routine: false,
        };
        let plain = maker.plain;
        let case = maker.make();
        let attempt = std::panic::AssertUnwindSafe(|| one(&stage, &case, plain, &mut tally));
        if let Err(panic) = std::panic::catch_unwind(attempt) {
            eprintln!("{on:?}, seed {seed}:\n{}\n{}", case.script, case.statement);
            std::panic::resume_unwind(panic);
        }
    }
    tally
}

/// Makes the tables anew; a view that the engine does not take is not there.
fn set_up(stage: &Stage, case: &Case) -> Vec<String> {
    let mut db = stage.db();
    for view in ["v3", "v2", "v1", "v0"] {
        db.run(&format!("DROP VIEW IF EXISTS {view};"));
    }
    db.run("DROP TABLE IF EXISTS copy; DROP TABLE IF EXISTS note; DROP TABLE IF EXISTS person;");
    match stage.on {
        On::Sqlite => {}
        On::Postgres => db.run("DROP FUNCTION IF EXISTS w(); DROP FUNCTION IF EXISTS mail_of(integer);"),
        On::Maria => db.run("DROP FUNCTION IF EXISTS mail_of;"),
    }
    let mut there = Vec::new();
    for line in case.script.split(";\n").filter(|line| !line.is_empty()) {
        let done = db.try_run(&format!("{line};"));
        let view = line.strip_prefix("CREATE VIEW ").and_then(|rest| rest.split(' ').next());
        assert!(done.is_ok() || view.is_some(), "{line}: {done:?}");
        // One that cannot be read is of no use.
        let read = view
            .is_some_and(|view| done.is_ok() && db.try_run(&format!("SELECT count(*) FROM {view};")).is_ok());
        there.extend(view.filter(|_| read).map(str::to_owned));
    }
    let _ = std::fs::remove_dir_all(stage.scene.path("book"));
    there
}

fn silent(what: &str, text: &str) {
    let found = text.chars().any(|c| LETTERS.contains(c))
        || ESCAPED.iter().any(|part| text.contains(part))
        || NUMBERS.iter().any(|part| text.contains(part));
    assert!(!found, "hidden values in {what}:\n{text}");
}

/// Runs a command, and finds nothing hidden in what it says.
fn says(stage: &Stage, args: &[&str]) -> Answer {
    let answer = stage.scene.run(args);
    silent(&format!("{args:?}"), &format!("{}{}", answer.out, answer.err));
    assert!(answer.status.is_some_and(|status| status < 100), "{args:?}: {}", answer.err);
    answer
}

fn one(stage: &Stage, case: &Case, plain: bool, tally: &mut Tally) {
    tally.cases += 1;
    let views = set_up(stage, case);
    let start = stage.dump();
    let sql: [&str; 2] = ["--sql", &case.statement];
    let shown = says(stage, &[&["preview"], &sql[..]].concat());
    if plain && shown.status == Some(0) {
        assert!(!shown.out.contains("(hidden)"), "nothing hidden is read:\n{}", shown.out);
    }
    says(stage, &[&["preview", "--format", "json", "--check", &case.check], &sql[..]].concat());
    let page = stage.scene.path("page.html").display().to_string();
    says(stage, &[&["preview", "--show", "all", "--html", &page], &sql[..]].concat());
    for view in views.iter().map(String::as_str).chain(["person"]) {
        says(stage, &["look", view]);
        says(stage, &["look", view, "--csv"]);
        let column = case.sources.iter().find(|s| s.name == view).and_then(|s| s.columns.last());
        if let Some((column, _)) = column {
            says(stage, &["look", view, "--values", column]);
        }
    }
    says(stage, &["look", "person", "--where", &case.filter, "--format", "json"]);
    let format = if tally.cases.is_multiple_of(2) { "json" } else { "human" };
    let allow =
        ["--yes", "--rows", "0+", "--format", format, "--allow", "undeclared-write", "--allow", "no-filter"];
    let done = says(stage, &[&["apply"], &sql[..], &allow[..]].concat());
    let _ = says(stage, &["history", "--format", "json"]);
    if done.status == Some(0) && stage.dump() != start {
        tally.applied += 1;
        says(stage, &["look", "--run", "@last"]);
        says(stage, &["receipt", "@last", "--format", "json"]);
        let undone = says(stage, &["undo", "@last", "--yes", "--rows", "0+", "--format", format]);
        if undone.status == Some(0) {
            assert_eq!(stage.dump(), start, "after undo");
            tally.advices += 1;
        }
    } else {
        tally.refused += 1;
    }
    everything_kept(&stage.scene.path("book"));
    silent("the page", &std::fs::read_to_string(&page).unwrap_or_default());
}

fn everything_kept(folder: &Path) {
    if folder.is_dir() {
        silent("the logbook", &kept(folder));
    }
}
