//! What a text calls, as the server itself has parsed it: operators, casts and the functions inside views included. And
//! what those routines, and triggers, do in the end.

use marktwice_port::{EngineError, SideHow};
use marktwice_relational::walk::{Body, Catalogue, Reached, Start, walk};
use marktwice_sql::Language;
use marktwice_sql::dialect::ours::SEEN;
use marktwice_sql::statement::routine::{Verb, Written};

use crate::catalog::{cell, ident};
use crate::client::{Pg, TextRow};
use crate::copy::quoted;
use crate::error::engine;

/// Built-in functions that are volatile and do nothing but give a value: clocks, dice, the session's own numbers, and
/// sizes. Also those of well-known extensions.
const HARMLESS: &[&str] = &[
    "clock_timestamp",
    "timeofday",
    "random",
    "random_normal",
    "gen_random_uuid",
    "uuidv4",
    "uuidv7",
    "currval",
    "lastval",
    "pg_current_xact_id",
    "txid_current",
    "pg_is_in_recovery",
    "pg_column_size",
    "pg_relation_size",
    "pg_table_size",
    "pg_total_relation_size",
    "pg_indexes_size",
    "pg_database_size",
    "pg_xact_commit_timestamp",
    "uuid_generate_v1",
    "uuid_generate_v1mc",
    "uuid_generate_v4",
    "gen_random_bytes",
    "gen_salt",
    "suppress_redundant_updates_trigger",
    "tsvector_update_trigger",
    "tsvector_update_trigger_column",
];

/// What a text calls and reads.
#[derive(Debug, Clone, Default)]
pub(crate) struct Called {
    /// Users' routines, and what does more than give a value.
    pub(crate) bodies: Vec<Body>,
    /// Names of harmless functions that give another value at each call, and of users' that are not said to be steady.
    pub(crate) unsteady: Vec<String>,
    /// Relations of other servers that are read, with the server.
    pub(crate) elsewhere: Vec<(String, String)>,
}

/// Routines that meet a condition over `pg_proc` as `p`: users' with their text, and the server's own that act.
fn bodies(pg: &mut Pg, condition: &str) -> Result<Vec<Body>, EngineError> {
    Ok(read_bodies(&pg.rows(&bodies_where(condition))?))
}

fn bodies_where(condition: &str) -> String {
    format!(
        "SELECT p.proname, l.lanname, p.prosrc, p.pronamespace = 'pg_catalog'::pg_catalog.regnamespace, p.provolatile, \
         CASE WHEN p.prosrc = '' AND p.prokind IN ('f', 'p') THEN pg_catalog.pg_get_functiondef(p.oid) END \
         FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_language l ON l.oid = p.prolang WHERE {condition} ORDER BY p.oid"
    )
}

fn read_bodies(rows: &[TextRow]) -> Vec<Body> {
    let mut all = Vec::new();
    for row in rows {
        let name = cell(row, 0).to_owned();
        let (own, volatile) = (cell(row, 3) == "t", cell(row, 4) == "v");
        let compiled = ["c", "internal"].contains(&cell(row, 1));
        if compiled && (!volatile || HARMLESS.contains(&name.as_str())) {
            continue;
        }
        // A body in standard SQL is kept parsed; its text stands behind the definition's head.
        let whole = cell(row, 5);
        let at = whole.find("BEGIN ATOMIC").or_else(|| whole.find("\nRETURN ")).unwrap_or(0);
        let text = match cell(row, 1) {
            "plpgsql" | "sql" if cell(row, 2).is_empty() => whole.get(at..).map(str::to_owned),
            "plpgsql" | "sql" => Some(cell(row, 2).to_owned()),
            _ => None,
        };
        if own && !compiled {
            // The server's own functions in SQL are declared as they are.
            continue;
        }
        all.push(Body { name, text, acts: compiled, volatile });
    }
    all
}

/// What a query of the user's text calls and reads. Nothing of it is run: the server parses it into a view that is
/// rolled back at once. Where no view can be made the names tell what they can.
pub(crate) fn called(pg: &mut Pg, temp: bool, query: &str, names: &[String]) -> Result<Called, EngineError> {
    if !temp {
        return by_names(pg, names);
    }
    match in_a_view(pg, query, seen)? {
        Some(found) => Ok(found),
        None => by_names(pg, names),
    }
}

/// A column, or a table, that a query reads.
pub(crate) struct Read {
    pub(crate) table: String,
    pub(crate) column: Option<String>,
    /// Whether whole rows of some table are read as values, so that it may be all of this one.
    pub(crate) whole: bool,
}

/// What a query reads as the server itself has resolved it, views looked through; `None` where no view can be made of it.
pub(crate) fn columns_read(pg: &mut Pg, temp: bool, query: &str) -> Result<Option<Vec<Read>>, EngineError> {
    if !temp {
        return Ok(None);
    }
    let columns = format!(
        "{}, rules AS (SELECT w.oid, w.ev_class, w.ev_action::text LIKE '%:varattno 0 %' AS whole FROM seen \
         JOIN pg_catalog.pg_rewrite w ON w.ev_class = seen.rel AND w.ev_type = '1') \
         SELECT DISTINCT c.relname, a.attname, r.whole FROM rules r JOIN pg_catalog.pg_depend d \
         ON d.classid = 'pg_catalog.pg_rewrite'::pg_catalog.regclass AND d.objid = r.oid \
         AND d.refclassid = 'pg_catalog.pg_class'::pg_catalog.regclass AND d.refobjid <> r.ev_class \
         JOIN pg_catalog.pg_class c ON c.oid = d.refobjid LEFT JOIN pg_catalog.pg_attribute a ON a.attrelid = c.oid \
         AND a.attnum = d.refobjsubid AND d.refobjsubid > 0",
        recursive()
    );
    in_a_view(pg, query, |pg| {
        let rows = pg.rows(&columns)?;
        let read = |row: &TextRow| Read {
            table: cell(row, 0).to_owned(),
            column: row.get(1).cloned().flatten(),
            whole: cell(row, 2) == "t",
        };
        Ok(rows.iter().map(read).collect())
    })
}

/// Makes a view of a query, looks at it, and takes it back; `None` where none can be made.
fn in_a_view<T>(
    pg: &mut Pg,
    query: &str,
    look: impl FnOnce(&mut Pg) -> Result<T, EngineError>,
) -> Result<Option<T>, EngineError> {
    pg.later("SAVEPOINT marktwice_seen");
    pg.settle()?;
    // Names of columns are ours: a query may give several of one name.
    let sent = pg.with_params(query);
    let prepared = pg.client.prepare(sent.as_ref().map_or(query, |sent| &sent.text));
    let made = prepared.map_err(engine).and_then(|prepared| {
        let names = (0..prepared.columns().len()).map(|at| format!("c{at}")).collect::<Vec<_>>();
        let names = if names.is_empty() { String::new() } else { format!(" ({})", names.join(", ")) };
        pg.execute_one(&format!("CREATE TEMPORARY VIEW {SEEN}{names} AS\n{query}"))
    });
    let found = match made {
        Ok(_) => look(pg).map(Some),
        Err(_) => Ok(None),
    };
    pg.later("ROLLBACK TO SAVEPOINT marktwice_seen; RELEASE SAVEPOINT marktwice_seen");
    found
}

fn by_names(pg: &mut Pg, names: &[String]) -> Result<Called, EngineError> {
    if names.is_empty() {
        return Ok(Called::default());
    }
    let list: Vec<String> = names.iter().map(|n| quoted(n)).collect();
    let condition = format!("p.proname IN ({})", list.join(", "));
    let elsewhere = Vec::new();
    called_where(pg, &condition, elsewhere)
}

/// What is called, by a condition over `pg_proc` as `p`.
fn called_where(
    pg: &mut Pg,
    condition: &str,
    elsewhere: Vec<(String, String)>,
) -> Result<Called, EngineError> {
    let unsteady = format!(
        "SELECT DISTINCT p.proname FROM pg_catalog.pg_proc p WHERE {condition} AND (p.provolatile = 'v' OR \
         (p.provolatile = 's' AND p.pronamespace <> 'pg_catalog'::pg_catalog.regnamespace)) ORDER BY 1"
    );
    let mut answers = pg.several(&[&bodies_where(condition), &unsteady])?.into_iter();
    let bodies = read_bodies(&answers.next().unwrap_or_default());
    let unsteady = answers.next().unwrap_or_default();
    Ok(Called { bodies, unsteady: unsteady.iter().map(|row| cell(row, 0).to_owned()).collect(), elsewhere })
}

/// The view that was made, and those that it reads, to any depth. The stored form of a query names what it reads and calls by number;
/// views stand in it as what they are, and are looked into in turn.
fn recursive() -> String {
    format!(
        "WITH RECURSIVE seen(rel) AS (SELECT 'pg_temp.{SEEN}'::pg_catalog.regclass::pg_catalog.oid UNION \
         SELECT c.oid FROM seen JOIN pg_catalog.pg_rewrite w ON w.ev_class = seen.rel AND w.ev_type = '1' \
         CROSS JOIN LATERAL pg_catalog.regexp_matches(w.ev_action::text, ':relid (\\d+)', 'g') AS m(r) \
         JOIN pg_catalog.pg_class c ON c.oid = (m.r)[1]::pg_catalog.oid AND c.relkind IN ('v', 'm'))"
    )
}

fn seen(pg: &mut Pg) -> Result<Called, EngineError> {
    let with = recursive();
    let functions = format!(
        "{with} SELECT pg_catalog.string_agg(DISTINCT (m.r)[1], ', ') FROM seen JOIN pg_catalog.pg_rewrite w ON w.ev_class = seen.rel \
         AND w.ev_type = '1' CROSS JOIN LATERAL \
         pg_catalog.regexp_matches(w.ev_action::text, ':(?:funcid|opfuncid|aggfnoid|winfnoid) (\\d+)', 'g') AS m(r)"
    );
    let read = format!(
        "{with}, rels(rel) AS (SELECT DISTINCT (m.r)[1]::pg_catalog.oid FROM seen JOIN pg_catalog.pg_rewrite w ON w.ev_class = seen.rel \
         AND w.ev_type = '1' CROSS JOIN LATERAL pg_catalog.regexp_matches(w.ev_action::text, ':relid (\\d+)', 'g') AS m(r)), \
         members(rel) AS (SELECT rel FROM rels UNION SELECT t.relid FROM rels CROSS JOIN LATERAL \
         pg_catalog.pg_partition_tree(rels.rel) AS t) \
         SELECT f.ftrelid::pg_catalog.regclass::text, s.srvname FROM members JOIN pg_catalog.pg_foreign_table f ON f.ftrelid = members.rel \
         JOIN pg_catalog.pg_foreign_server s ON s.oid = f.ftserver ORDER BY 1"
    );
    let mut answers = pg.several(&[&functions, &read])?.into_iter();
    let functions = answers.next().and_then(|rows| rows.into_iter().next()?.into_iter().next()?);
    let rows = answers.next().unwrap_or_default();
    let elsewhere = rows.iter().map(|row| (cell(row, 0).to_owned(), cell(row, 1).to_owned())).collect();
    let Some(functions) = functions else { return Ok(Called { elsewhere, ..Called::default() }) };
    let condition = format!("p.oid IN ({functions})");
    called_where(pg, &condition, elsewhere)
}

/// The catalogue, asked on the way through routines and triggers.
pub(crate) struct Asking<'p>(pub(crate) &'p mut Pg);

fn regclass(written: &Written) -> String {
    let name: Vec<String> = written.schema.iter().chain([&written.table]).map(|n| ident(n)).collect();
    format!("pg_catalog.to_regclass({})", quoted(&name.join(".")))
}

impl Catalogue for Asking<'_> {
    fn language(&self) -> Language {
        Language::Postgres
    }

    fn actions_fire_triggers(&self) -> bool {
        true
    }

    fn identified(&mut self, written: Written) -> Result<Written, EngineError> {
        let rows = self.0.rows(&format!(
            "SELECT n.nspname, c.relname, pg_catalog.pg_table_is_visible(c.oid) FROM pg_catalog.pg_class c \
             JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = {}",
            regclass(&written)
        ))?;
        let Some(row) = rows.first() else { return Ok(written) };
        let schema = (cell(row, 2) != "t").then(|| cell(row, 0).to_owned());
        Ok(Written { schema, table: cell(row, 1).to_owned(), ..written })
    }

    fn routines(&mut self, name: &str) -> Result<Vec<Body>, EngineError> {
        bodies(self.0, &format!("p.proname = {}", quoted(name)))
    }

    fn triggers_of(&mut self, written: &Written) -> Result<Vec<Body>, EngineError> {
        // Bits of tgtype, as in src/include/catalog/pg_trigger.h.
        let bits = match written.verb {
            Verb::Insert => 4,
            Verb::Delete => 8,
            Verb::Update => 16,
            Verb::Truncate => 32,
            Verb::Several => 4 | 8 | 16,
        };
        let class = regclass(written);
        let rows = self.0.rows(&format!(
            "SELECT t.tgname, t.tgfoid FROM pg_catalog.pg_trigger t WHERE NOT t.tgisinternal AND t.tgenabled IN ('O', 'A') \
             AND (t.tgtype & {bits}) <> 0 AND (t.tgrelid = {class} OR t.tgrelid IN \
             (SELECT relid FROM pg_catalog.pg_partition_tree({class}))) ORDER BY 1"
        ))?;
        let mut all = Vec::new();
        for row in &rows {
            let name = cell(row, 0);
            for body in bodies(self.0, &format!("p.oid = {}", cell(row, 1)))? {
                all.push(Body { name: name.to_owned(), ..body });
            }
        }
        Ok(all)
    }

    fn actions_of(&mut self, written: &Written) -> Result<Vec<(Written, String)>, EngineError> {
        let rows = self.0.rows(&format!(
            "SELECT n.nspname, c.relname, pg_catalog.pg_table_is_visible(c.oid), k.confdeltype FROM pg_catalog.pg_constraint k \
             JOIN pg_catalog.pg_class c ON c.oid = k.conrelid JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace \
             WHERE k.contype = 'f' AND k.conparentid = 0 AND k.confdeltype IN ('c', 'n', 'd') \
             AND k.confrelid = {} ORDER BY 1, 2",
            regclass(written)
        ))?;
        Ok(rows
            .iter()
            .map(|row| {
                let (verb, action) = match cell(row, 3) {
                    "c" => (Verb::Delete, "ON DELETE CASCADE"),
                    "n" => (Verb::Update, "ON DELETE SET NULL"),
                    _ => (Verb::Update, "ON DELETE SET DEFAULT"),
                };
                let schema = (cell(row, 2) != "t").then(|| cell(row, 0).to_owned());
                (
                    Written { schema, table: cell(row, 1).to_owned(), verb, columns: Vec::new() },
                    action.to_owned(),
                )
            })
            .collect())
    }
}

/// What triggers, and the functions that a statement calls, do in the end.
pub(crate) fn reached(pg: &mut Pg, triggers: Vec<Body>, functions: &[Body]) -> Result<Reached, EngineError> {
    let triggers = triggers.into_iter().map(|b| Start::Body(SideHow::Trigger(b.name.clone()), b));
    let functions = functions.iter().map(|b| Start::Body(SideHow::Routine(b.name.clone()), b.clone()));
    walk(&mut Asking(pg), triggers.chain(functions).collect())
}
