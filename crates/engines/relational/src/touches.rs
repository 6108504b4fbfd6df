//! What a step reads and writes beyond what its text says at first sight: other tables that it names, views and what they
//! are made of, what routines and triggers do, and what foreign keys look at and take along.
//!
//! Tables are told by their bare names: two of one name in different schemas count as one, which may make a step wait that
//! need not, and never the other way round.

use std::collections::HashSet;

use marktwice_core::mark::{Foreseen, StepKind};
use marktwice_core::steps::{Part, Touch, Touches};
use marktwice_core::table::Target;
use marktwice_port::{EngineError, Plan};
use marktwice_sql::query::check::Question;
use marktwice_sql::statement::routine::Verb;
use marktwice_sql::text::{Tok, tokenize};
use marktwice_sql::{Language, Step};
use sqlparser::tokenizer::Token;

use crate::foresee::reads as own_reads;
use crate::reach::ForeignKey;
use crate::walk::Reached;

/// A table or view that a text may name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Relation {
    /// Its bare name.
    pub name: String,
    /// Its columns.
    pub columns: Vec<String>,
    /// Other tables that its rows stand in: what it is a part of, and its parts.
    pub family: Vec<String>,
    /// Whether it is a view.
    pub view: bool,
    /// The query of a view, where it may be read.
    pub query: Option<String>,
}

/// Gives the tables and views of some names, given in lower case.
pub type Relations<'a> = dyn FnMut(&[String]) -> Result<Vec<Relation>, EngineError> + 'a;

/// What a step reads and writes, all in all. `reached` is what its functions and triggers do.
///
/// # Errors
/// What `relations` answers.
pub fn of_step(
    step: &Step,
    plan: &Plan,
    foreign_keys: &[ForeignKey],
    reached: &[Reached],
    relations: &mut Relations<'_>,
) -> Result<Touches, EngineError> {
    let target = &plan.target;
    let mut touches = Touches::default();
    touches.of_target(&target.table, plan.kind, target, &plan.foreseen);
    if let Some(inserted) = &step.inserted {
        // The columns that it fills it does not read; its own table it reads where its source does.
        let with = step.with.map_or("", |with| step.text(with));
        let source = format!("{with} {}", step.text(inserted.source));
        texts(&mut touches, step.language, [source], relations)?;
        for reached in reached {
            routines(&mut touches, reached);
            texts(&mut touches, step.language, reached.texts.iter().cloned(), relations)?;
        }
        keys(&mut touches, foreign_keys, target, plan.kind, &plan.foreseen);
        return Ok(touches);
    }
    touches.reads.push(Touch::rows(&target.table));
    let own = own_reads(step, target).into_iter().filter_map(|at| target.columns.get(at));
    touches.reads.extend(own.map(|column| Touch::column(&target.table, &column.name)));
    let mut elsewhere = Touches::default();
    texts(&mut elsewhere, step.language, [plan.statement.clone()], relations)?;
    // The target's own columns are known already, and what is assigned is not what is read; unless it is named again.
    let words = step.words(step.statement);
    let named = words.iter().filter(|t| t.name().is_some_and(|n| same(n, &target.table))).count();
    let qualified = words.windows(2).filter(|pair| {
        let [name, dot] = pair else { return false };
        name.name().is_some_and(|n| same(n, &target.table)) && dot.is(&Token::Period)
    });
    let again = named > 1 + qualified.count();
    elsewhere.reads.retain(|read| again || !same(&read.table, &target.table));
    for reached in reached {
        routines(&mut touches, reached);
        texts(&mut elsewhere, step.language, reached.texts.iter().cloned(), relations)?;
    }
    touches.reads.extend(elsewhere.reads);
    touches.hidden = touches.hidden.or(elsewhere.hidden);
    keys(&mut touches, foreign_keys, target, plan.kind, &plan.foreseen);
    Ok(touches)
}

/// What a query of somebody's reads. `reached` is what its functions do.
///
/// # Errors
/// What `relations` answers.
pub fn of_query(
    question: &Question,
    reached: &[Reached],
    relations: &mut Relations<'_>,
) -> Result<Touches, EngineError> {
    let mut touches = Touches::default();
    let language = question.step.language;
    texts(&mut touches, language, [question.text.clone()], relations)?;
    for reached in reached {
        routines(&mut touches, reached);
        texts(&mut touches, language, reached.texts.iter().cloned(), relations)?;
    }
    Ok(touches)
}

/// Adds what texts read: the statement, the bodies of routines and triggers, and the queries of views that any of them
/// names.
///
/// # Errors
/// What `relations` answers.
fn texts(
    touches: &mut Touches,
    language: Language,
    texts: impl IntoIterator<Item = String>,
    relations: &mut Relations<'_>,
) -> Result<(), EngineError> {
    let mut open: Vec<String> = texts.into_iter().collect();
    let mut seen: HashSet<String> = HashSet::new();
    while let Some(text) = open.pop() {
        if !seen.insert(text.clone()) {
            continue;
        }
        let Ok(tokens) = tokenize(&text, language.dialect()) else {
            touches.hidden = Some("a text that it runs cannot be understood".to_owned());
            continue;
        };
        let tokens: Vec<&Tok> = tokens.iter().filter(|t| !t.is_blank()).collect();
        let mut words: Vec<String> =
            tokens.iter().filter_map(|t| t.name().map(str::to_ascii_lowercase)).collect();
        words.sort_unstable();
        words.dedup();
        for relation in relations(&words)? {
            let named_as = named_as(&tokens, &relation.name);
            if named_as == Named::Alias {
                continue;
            }
            let whole = takes_whole_rows(&tokens, &relation.name);
            let called = called(&tokens, &relation.name);
            let named = |column: &&String| names_column(&tokens, &called, column);
            let family = relation.family.iter().filter(|_| named_as == Named::Whole);
            for name in family.chain([&relation.name]) {
                touches.reads.push(Touch::rows(name));
                if whole {
                    touches.reads.push(Touch::all(name));
                } else {
                    let columns = relation.columns.iter().filter(named);
                    touches.reads.extend(columns.map(|column| Touch::column(name, column)));
                }
            }
            match relation.query {
                Some(query) => open.push(query),
                None if relation.view => {
                    touches.hidden = Some(format!("what the view {} reads may not be seen", relation.name));
                }
                None => {}
            }
        }
    }
    Ok(())
}

/// How a text names a table.
#[derive(PartialEq)]
enum Named {
    /// As the table, with those that inherit from it.
    Whole,
    /// Each time behind ONLY, which leaves those out.
    Only,
    /// Not at all: the name is another table's alias.
    Alias,
}

fn named_as(tokens: &[&Tok], table: &str) -> Named {
    let word =
        |at: Option<usize>, word: &str| at.and_then(|at| tokens.get(at)).is_some_and(|t| t.is_word(word));
    let dot = |at: Option<usize>| at.and_then(|at| tokens.get(at)).is_some_and(|t| t.is(&Token::Period));
    let mut found = Named::Alias;
    let mut alias = false;
    for (at, token) in tokens.iter().enumerate() {
        if token.name().is_none_or(|name| !name.eq_ignore_ascii_case(table)) || dot(Some(at + 1)) {
            continue;
        }
        let start = if dot(at.checked_sub(1)) { at.checked_sub(2) } else { Some(at) };
        let ahead = start.and_then(|start| start.checked_sub(1));
        if word(ahead, "as") {
            alias = true;
        } else if word(ahead, "only") {
            found = Named::Only;
        } else {
            return Named::Whole;
        }
    }
    if found == Named::Alias && !alias { Named::Whole } else { found }
}

/// Whether a text may take all columns of a table without naming them: by a star, by a NATURAL join, or by the row as one
/// value.
fn takes_whole_rows(tokens: &[&Tok], table: &str) -> bool {
    let before = |at: usize| at.checked_sub(1).and_then(|at| tokens.get(at));
    let dot = |at: usize| tokens.get(at).is_some_and(|t| t.is(&Token::Period));
    let star = tokens.iter().enumerate().any(|(at, t)| {
        let first = before(at).is_some_and(|b| {
            b.is(&Token::Comma) || b.is(&Token::Period) || b.is_any(&["select", "distinct", "all"])
        });
        t.is(&Token::Mul) && first
    });
    if star || tokens.iter().any(|t| t.is_word("natural")) {
        return true;
    }
    let names = called(tokens, table);
    let opens = ["from", "join", "update", "into", "using", "only", "as", "table"];
    let declares = |at: usize| before(at).is_none_or(|b| b.is_any(&opens));
    tokens.iter().enumerate().any(|(at, token)| {
        let named = token.name().is_some_and(|n| names.contains(&n.to_ascii_lowercase()));
        // A row as one value stands where an expression may: behind a parenthesis, a comma or an operator.
        let value = before(at).is_some_and(|b| {
            b.is(&Token::LParen)
                || b.is(&Token::Eq)
                || b.is_any(&["select", "distinct", "where", "set", "and", "or"])
        });
        named && value && !dot(at + 1) && !declares(at)
    })
}

/// The table's own name, and every name that it is given, in lower case.
fn called(tokens: &[&Tok], table: &str) -> Vec<String> {
    let mut names = vec![table.to_ascii_lowercase()];
    for (at, token) in tokens.iter().enumerate() {
        if !token.name().is_some_and(|n| n.eq_ignore_ascii_case(table)) {
            continue;
        }
        let next = at + 1 + usize::from(tokens.get(at + 1).is_some_and(|t| t.is_word("as")));
        let alias = tokens.get(next).and_then(|t| t.name());
        names.extend(alias.map(str::to_ascii_lowercase).filter(|a| !FOLLOWS.contains(&a.as_str())));
    }
    names
}

/// Whether a text names a column of a table that has these names: alone, or behind one of them.
fn names_column(tokens: &[&Tok], called: &[String], column: &str) -> bool {
    tokens.iter().enumerate().any(|(at, token)| {
        let owner = at.checked_sub(2).filter(|_| tokens.get(at - 1).is_some_and(|t| t.is(&Token::Period)));
        let owner = owner.and_then(|owner| tokens.get(owner)).and_then(|t| t.name());
        token.name().is_some_and(|name| column.eq_ignore_ascii_case(name))
            && owner.is_none_or(|owner| called.contains(&owner.to_ascii_lowercase()))
    })
}

/// Words that may stand behind a table's name and are none of its own.
const FOLLOWS: &[&str] = &[
    "where",
    "set",
    "on",
    "using",
    "join",
    "inner",
    "left",
    "right",
    "full",
    "cross",
    "natural",
    "group",
    "order",
    "limit",
    "having",
    "union",
    "except",
    "intersect",
    "for",
    "returning",
    "and",
    "or",
    "select",
    "values",
    "window",
    "offset",
    "fetch",
    "straight_join",
    "use",
    "force",
    "ignore",
    "partition",
    "tablesample",
    "as",
    "end",
    "then",
    "loop",
    "do",
    "is",
    "in",
    "not",
];

/// Adds what routines and triggers write, and what cannot be seen of them.
fn routines(touches: &mut Touches, reached: &Reached) {
    touches.bodies.extend(reached.texts.iter().cloned());
    for (written, _) in &reached.writes {
        let touch = |part| Touch { table: written.table.clone(), part };
        match written.verb {
            Verb::Update if !written.columns.is_empty() => {
                let columns = written.columns.iter().cloned().map(Part::Column);
                touches.writes.extend(columns.map(touch));
            }
            Verb::Update => touches.writes.push(touch(Part::All)),
            Verb::Insert | Verb::Delete | Verb::Several | Verb::Truncate => {
                touches.writes.extend([touch(Part::Rows), touch(Part::All)]);
            }
        }
    }
    if let Some(name) = reached.unseen.first() {
        touches.hidden = Some(format!("{name} runs what cannot be seen through"));
    }
}

/// Adds what foreign keys look at when the step is done, and what their actions write, to any depth.
pub fn keys(
    touches: &mut Touches,
    keys: &[ForeignKey],
    target: &Target,
    kind: StepKind,
    foreseen: &[Foreseen],
) {
    let assigned: Vec<&str> =
        foreseen.iter().filter_map(|f| target.columns.get(f.column)).map(|c| c.name.as_str()).collect();
    // Parents that a changed reference must have.
    for key in keys.iter().filter(|k| same(&k.child_target.1, &target.table)) {
        if kind != StepKind::Delete && key.child_columns.iter().any(|c| assigned.iter().any(|a| same(a, c))) {
            touches.reads.push(Touch::rows(&key.parent_name.1));
            let columns = key.parent_columns.iter();
            touches.reads.extend(columns.map(|c| Touch::column(&key.parent_name.1, c)));
        }
    }
    let mut seen: Vec<Touch> = Vec::new();
    let mut open: Vec<Touch> = touches.writes.clone();
    while let Some(write) = open.pop() {
        if seen.contains(&write) {
            continue;
        }
        for key in keys.iter().filter(|k| same(&k.parent_name.1, &write.table)) {
            let child = &key.child_target.1;
            let (touched, action) = match &write.part {
                Part::Rows => (true, &key.on_delete),
                Part::All => (true, &key.on_update),
                Part::Column(column) => (key.parent_columns.iter().any(|c| same(c, column)), &key.on_update),
            };
            if !touched {
                continue;
            }
            // Children hold a row, or go with it.
            touches.reads.push(Touch::rows(child));
            touches.reads.extend(key.child_columns.iter().map(|c| Touch::column(child, c)));
            let rows = write.part == Part::Rows;
            let writes: Vec<Touch> = match action.as_str() {
                "CASCADE" if rows => {
                    // Rows that go along are shown and kept as a whole.
                    touches.reads.push(Touch::all(child));
                    vec![Touch::rows(child)]
                }
                "CASCADE" | "SET NULL" | "SET DEFAULT" => {
                    key.child_columns.iter().map(|c| Touch::column(child, c)).collect()
                }
                _ => Vec::new(),
            };
            touches.writes.extend(writes.iter().cloned());
            open.extend(writes);
        }
        seen.push(write);
    }
}

fn same(a: &str, b: &str) -> bool {
    a.eq_ignore_ascii_case(b)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Touches {
        let mut touches = Touches::default();
        let mut relations = |words: &[String]| -> Result<Vec<Relation>, EngineError> {
            let columns = |names: &[&str]| names.iter().map(|n| (*n).to_owned()).collect::<Vec<_>>();
            let all = [
                ("keeper", columns(&["keeper_id", "region", "name"]), None),
                ("hive", columns(&["hive_id", "queen"]), None),
                ("moor", columns(&["id"]), Some("SELECT keeper_id AS id FROM keeper WHERE region = 'Moor'")),
            ];
            let named = all.into_iter().filter(|(name, ..)| words.iter().any(|w| w == name));
            Ok(named
                .map(|(name, columns, query)| Relation {
                    name: name.to_owned(),
                    columns,
                    family: Vec::new(),
                    view: query.is_some(),
                    query: query.map(str::to_owned),
                })
                .collect())
        };
        texts(&mut touches, Language::Postgres, [text.to_owned()], &mut relations).unwrap();
        touches
    }

    #[test]
    fn columns_that_a_text_reads() {
        let region = Touch::column("keeper", "region");
        for (text, reads_region, all) in [
            ("UPDATE hive SET queen = 'x' WHERE hive_id IN (SELECT keeper_id FROM keeper)", false, false),
            ("UPDATE hive SET queen = (SELECT k.region FROM keeper k WHERE true)", true, false),
            ("UPDATE hive SET queen = 'x' WHERE hive_id IN (SELECT id FROM moor)", true, false),
            ("UPDATE hive SET queen = 'x' WHERE EXISTS (SELECT * FROM keeper)", false, true),
            ("UPDATE hive SET queen = 'x' WHERE EXISTS (SELECT count(*) FROM keeper)", false, false),
            ("UPDATE hive SET queen = (SELECT row_to_json(k) FROM keeper AS k)", false, true),
            (
                "UPDATE hive SET queen = 2 * hive_id FROM keeper WHERE keeper.keeper_id = hive_id",
                false,
                false,
            ),
        ] {
            let touches = read(text);
            assert!(touches.reads.contains(&Touch::rows("keeper")), "{text}");
            assert_eq!(touches.reads.contains(&region), reads_region, "{text}");
            assert_eq!(touches.reads.contains(&Touch::all("keeper")), all, "{text}");
        }
    }

    #[test]
    fn what_foreign_keys_touch() {
        let key = |child: &str, parent: &str, on_delete: &str| ForeignKey {
            child: child.into(),
            child_sql: String::new(),
            child_columns: vec![format!("{parent}_id")],
            parent: parent.into(),
            parent_name: (String::new(), parent.into()),
            parent_columns: vec![format!("{parent}_id")],
            on_update: "NO ACTION".into(),
            on_delete: on_delete.into(),
            readable: true,
            child_target: (String::new(), child.into()),
            parent_sql: String::new(),
            parent_readable: true,
            enforced: true,
            sets: Vec::new(),
        };
        let all = [
            key("hive", "apiary", "CASCADE"),
            key("inspection", "hive", "CASCADE"),
            key("apiary", "keeper", "RESTRICT"),
        ];
        let target = Target {
            table: "apiary".into(),
            schema: String::new(),
            columns: Vec::new(),
            key: marktwice_core::table::Key {
                kind: marktwice_core::table::KeyKind::Primary,
                names: Vec::new(),
                columns: Vec::new(),
            },
            definition: String::new(),
            naming: None,
            refers: Vec::new(),
            hidden: Vec::new(),
            veil: Default::default(),
            family: Vec::new(),
        };
        let mut touches = Touches::default();
        touches.of_target("apiary", StepKind::Delete, &target, &[]);
        keys(&mut touches, &all, &target, StepKind::Delete, &[]);
        assert!(touches.writes.contains(&Touch::rows("inspection")));
        assert!(touches.reads.contains(&Touch::column("hive", "apiary_id")));
        assert!(touches.reads.contains(&Touch::all("inspection")));
        assert!(!touches.reads.iter().any(|r| r.table == "keeper"));
    }
}
