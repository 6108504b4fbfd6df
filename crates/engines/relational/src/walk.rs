//! What a routine or a trigger does in the end: through everything that it calls, the triggers of the tables that it
//! writes, and the actions of their foreign keys, to any depth.
//!
//! Nothing is promised on this reading alone: it tells a person beforehand, and decides what a preview may run. What
//! really happened is measured and verified inside the transaction.

use std::collections::HashSet;

use marktwice_port::{EngineError, SideHow, SideWrite};
use marktwice_sql::Language;
use marktwice_sql::statement::routine::{self, Verb, Written};

/// A routine as the catalogue has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Body {
    /// Its name.
    pub name: String,
    /// Its text; `None` where nobody can read it.
    pub text: Option<String>,
    /// Whether it is one of the server's own, or compiled code, that does more than give a value.
    pub acts: bool,
    /// Whether nothing says that it gives the same value again and writes nothing.
    pub volatile: bool,
}

/// What is asked of a catalogue on the way.
pub trait Catalogue {
    /// The language of the texts.
    fn language(&self) -> Language;

    /// Whether a foreign key's action fires the triggers of the table that it writes.
    fn actions_fire_triggers(&self) -> bool;

    /// A written table as the engine tells it from others, however the text names it: with its schema only where its bare name means
    /// something else.
    ///
    /// # Errors
    /// When the engine fails.
    fn identified(&mut self, written: Written) -> Result<Written, EngineError> {
        Ok(written)
    }

    /// What a called name may mean: users' routines, and those of the server's own that do more than give a value.
    ///
    /// # Errors
    /// When the engine fails.
    fn routines(&mut self, name: &str) -> Result<Vec<Body>, EngineError>;

    /// The triggers that writing a table fires.
    ///
    /// # Errors
    /// When the engine fails.
    fn triggers_of(&mut self, written: &Written) -> Result<Vec<Body>, EngineError>;

    /// Tables that foreign keys' actions write when rows of a table go, each with the action.
    ///
    /// # Errors
    /// When the engine fails.
    fn actions_of(&mut self, written: &Written) -> Result<Vec<(Written, String)>, EngineError>;
}

/// What is reached.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Reached {
    /// Tables that are written, and by what.
    pub writes: Vec<(Written, SideHow)>,
    /// What is done beyond rows, and by what.
    pub acts: Vec<(String, SideHow)>,
    /// What runs something that no text shows.
    pub unseen: Vec<String>,
    /// Whether session variables are set.
    pub variables: bool,
    /// The texts that were read.
    pub texts: Vec<String>,
}

impl Reached {
    /// The same as side effects; of what is done beyond rows nobody can say how to measure it, and what cannot be seen through may do
    /// that: counters of rows do not see a right that is granted, or a large object that is written.
    pub fn side_writes(&self) -> Vec<SideWrite> {
        let mut all: Vec<SideWrite> = Vec::new();
        for (written, how) in &self.writes {
            let write = SideWrite::new(shown(written), how.clone(), None);
            if !all.contains(&write) {
                all.push(write);
            }
        }
        for (what, how) in &self.acts {
            let by = by(how);
            let how = SideHow::Unmeasured(format!("{by} does {what}, which nobody can measure or take back"));
            all.push(SideWrite::new(String::new(), how, None));
        }
        for name in &self.unseen {
            let what = format!(
                "{name} runs what cannot be seen through here, and nobody can measure what that writes"
            );
            all.push(SideWrite::new(String::new(), SideHow::Unmeasured(what), None));
        }
        all
    }
}

/// What writes, for people.
pub fn by(how: &SideHow) -> String {
    match how {
        SideHow::Trigger(name) => format!("trigger {name}"),
        SideHow::Routine(name) => format!("function {name}"),
        SideHow::ForeignKey(name) => format!("the foreign key's {name}"),
        SideHow::Measured(name) | SideHow::Unmeasured(name) => name.clone(),
    }
}

/// A written table for people.
pub fn shown(written: &Written) -> String {
    written.schema.iter().chain([&written.table]).cloned().collect::<Vec<_>>().join(".")
}

/// From where it is walked.
#[derive(Debug, Clone)]
pub enum Start {
    /// A trigger or a routine.
    Body(SideHow, Body),
    /// A table of which it is said already that it is written; whether its triggers fire.
    Table(Written, bool),
}

/// Walks from what a statement sets off.
///
/// # Errors
/// When the engine fails.
pub fn walk(catalogue: &mut dyn Catalogue, start: Vec<Start>) -> Result<Reached, EngineError> {
    let mut reached = Reached::default();
    let mut seen: HashSet<String> = HashSet::new();
    let mut open = start;
    while let Some(next) = open.pop() {
        match next {
            Start::Table(written, fires) => {
                if !seen.insert(format!("{}\u{1f}{:?}", shown(&written), written.verb)) {
                    continue;
                }
                let triggers = if fires { catalogue.triggers_of(&written)? } else { Vec::new() };
                for body in triggers {
                    open.push(Start::Body(SideHow::Trigger(body.name.clone()), body));
                }
                if matches!(written.verb, Verb::Delete | Verb::Several) {
                    for (child, action) in catalogue.actions_of(&written)? {
                        reached.writes.push((child.clone(), SideHow::ForeignKey(action)));
                        open.push(Start::Table(child, catalogue.actions_fire_triggers()));
                    }
                }
            }
            Start::Body(how, body) => {
                if body.acts {
                    reached.acts.push((format!("{}()", body.name), how.clone()));
                }
                let Some(text) = &body.text else {
                    if body.volatile && !body.acts {
                        reached.unseen.push(body.name.clone());
                    }
                    continue;
                };
                if !seen.insert(format!("{how:?}\u{1f}{text}")) {
                    continue;
                }
                reached.texts.push(text.clone());
                let read = routine::read(text, catalogue.language());
                reached.variables |= read.variables;
                if read.dynamic {
                    reached.unseen.push(body.name.clone());
                }
                reached.acts.extend(read.acts.into_iter().map(|what| (what, how.clone())));
                for written in read.writes {
                    let written = catalogue.identified(written)?;
                    if written.verb == Verb::Truncate {
                        reached.acts.push((format!("TRUNCATE {}", shown(&written)), how.clone()));
                    }
                    reached.writes.push((written.clone(), how.clone()));
                    open.push(Start::Table(written, true));
                }
                for name in read.calls {
                    for called in catalogue.routines(&name)? {
                        open.push(Start::Body(how.clone(), called));
                    }
                }
            }
        }
    }
    reached.writes.sort_by_key(|(w, how)| (shown(w), format!("{how:?}")));
    reached.writes.dedup();
    reached.acts.sort_by(|a, b| a.0.cmp(&b.0));
    reached.acts.dedup();
    Ok(reached)
}

/// Whether something may be called while rows are only looked at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Judgement {
    /// It may.
    Quiet,
    /// Only when it is asked for by name, for this reason.
    Ask(String),
    /// Never, for this reason.
    Never(String),
}

/// Judges what calling a routine in a filter would do.
///
/// # Errors
/// When the engine fails.
pub fn judge(catalogue: &mut dyn Catalogue, body: &Body) -> Result<Judgement, EngineError> {
    let name = &body.name;
    if body.acts {
        return Ok(Judgement::Never(format!(
            "{name}() does more than give a value, so no preview may run it"
        )));
    }
    let reached = walk(catalogue, vec![Start::Body(SideHow::Routine(name.clone()), body.clone())])?;
    if let Some((written, _)) = reached.writes.first() {
        let message = format!("{name}() writes {}, so no preview may run it", shown(written));
        return Ok(Judgement::Never(message));
    }
    if let Some((what, _)) = reached.acts.first() {
        return Ok(Judgement::Never(format!("{name}() does {what}, so no preview may run it")));
    }
    Ok(if reached.variables {
        Judgement::Ask(format!("{name}() sets variables of the session each time it is read"))
    } else if body.volatile {
        Judgement::Ask(format!(
            "{name}() may do anything and give another value at each call, says the catalogue"
        ))
    } else {
        Judgement::Quiet
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Books;

    impl Catalogue for Books {
        fn language(&self) -> Language {
            Language::Postgres
        }

        fn actions_fire_triggers(&self) -> bool {
            true
        }

        fn routines(&mut self, name: &str) -> Result<Vec<Body>, EngineError> {
            let text = match name {
                "note" => "BEGIN PERFORM deeper(); END",
                "deeper" => "BEGIN INSERT INTO log VALUES (1); PERFORM note(); END",
                "setval" => return Ok(vec![body("setval", None, true)]),
                _ => return Ok(Vec::new()),
            };
            Ok(vec![body(name, Some(text), false)])
        }

        fn triggers_of(&mut self, written: &Written) -> Result<Vec<Body>, EngineError> {
            Ok(match written.table.as_str() {
                "log" => {
                    vec![body("on_log", Some("BEGIN DELETE FROM parent; PERFORM setval('s', 1); END"), false)]
                }
                _ => Vec::new(),
            })
        }

        fn actions_of(&mut self, written: &Written) -> Result<Vec<(Written, String)>, EngineError> {
            let child =
                Written { schema: None, table: "child".to_owned(), verb: Verb::Delete, columns: Vec::new() };
            Ok(if written.table == "parent" {
                vec![(child, "ON DELETE CASCADE".to_owned())]
            } else {
                Vec::new()
            })
        }
    }

    fn body(name: &str, text: Option<&str>, acts: bool) -> Body {
        Body { name: name.to_owned(), text: text.map(str::to_owned), acts, volatile: true }
    }

    #[test]
    fn everything_is_named_to_any_depth_and_circles_end() {
        let start =
            Start::Body(SideHow::Trigger("t".into()), body("t", Some("BEGIN PERFORM note(); END"), false));
        let reached = walk(&mut Books, vec![start]).unwrap();
        let tables: Vec<&str> = reached.writes.iter().map(|(w, _)| w.table.as_str()).collect();
        assert_eq!(tables, ["child", "log", "parent"]);
        assert_eq!(reached.acts, [("setval()".to_owned(), SideHow::Trigger("on_log".into()))]);
    }

    #[test]
    fn what_a_filter_may_call() {
        let verdict = |text: Option<&str>, acts| judge(&mut Books, &body("f", text, acts)).unwrap();
        assert!(
            matches!(verdict(Some("SELECT note()"), false), Judgement::Never(why) if why.contains("child") || why.contains("log"))
        );
        assert!(matches!(verdict(None, true), Judgement::Never(_)));
        assert!(matches!(verdict(Some("SELECT 1"), false), Judgement::Ask(_)));
        let steady = Body { volatile: false, ..body("f", Some("SELECT 1"), false) };
        assert_eq!(judge(&mut Books, &steady).unwrap(), Judgement::Quiet);
    }
}
