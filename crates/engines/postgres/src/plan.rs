//! Understanding a statement with the server's help: it compiles the text first, then come the slices and the rules.

use marktwice_core::TextPlace;
use marktwice_core::finding::{Code, Finding, Level};
use marktwice_core::mark::{Label, StepKind};
use marktwice_core::undo::inverse_kind;
use marktwice_port::{EngineError, Plan};
use marktwice_relational::foresee::{self, own_writes};
use marktwice_relational::insert::{self, About};
use marktwice_relational::reach::foresee_own_cascade;
use marktwice_relational::statement::{
    Fires, assigned_values, column_of, filter_calls, is_default, tell_by_unique, told_by_a_value_of_the_run,
    unpairable, with_like_target, without_temporary,
};
use marktwice_relational::understood::{Understood, only_the_run};
use marktwice_relational::unknown::{syntax, unknown_name};
use marktwice_sql::query::check::AROUND;
use marktwice_sql::query::placeholders::Replaced;
use marktwice_sql::query::row_query::Ask;
use marktwice_sql::refuse::{dialects, instead};
use marktwice_sql::rules::{self};
use marktwice_sql::statement::slicing::{calls, single_statement, understand};
use marktwice_sql::text::slices::Slice;
use marktwice_sql::text::tables::tables_for;
use marktwice_sql::text::{tokenize, within};
use marktwice_sql::{Language, Step};
use postgres::error::{DbError, ErrorPosition};

use crate::calls::{Asking, Called, called, reached};
use crate::catalog::{
    Found, Sort, Table, cell, describe, describe_found, find, foreign_keys, known_columns, known_tables,
    triggers,
};
use crate::client::Pg;
use crate::copy::quoted;
use crate::detail::{Detail, Own};
use crate::error::{engine, message};
use crate::published;
use crate::way_back::by_definition;

const LANGUAGE: Language = Language::Postgres;

fn refused(finding: Finding) -> EngineError {
    EngineError::Refused(Box::new(finding))
}

/// Why values are computed and not stored where no temporary table can be made.
const NO_TEMPORARY: &str = "TEMP on the database is missing, or the server only reads";

/// What a step's filter calls, before anything of it is run, and what is to be said of that; refuses what no preview may
/// run.
pub(crate) fn called_by(
    pg: &mut Pg,
    step: &Step,
    allow: &[Code],
    temp: bool,
) -> Result<(Called, Option<Finding>), EngineError> {
    let mut names = step.filter.as_ref().map_or_else(Vec::new, |f| calls(step, f.slice));
    names.extend(step.behind().iter().flat_map(|b| calls(step, *b)));
    names.extend(step.with.iter().flat_map(|w| calls(step, *w)));
    names.extend(step.sources.iter().flat_map(|s| calls(step, s.slice)));
    let asked = called(pg, temp, &rows_of(step), &names)?;
    let finding = filter_calls(step, allow, &asked.bodies, &mut Asking(pg))?;
    Ok((asked, finding))
}

/// A query that reads the rows of a step, and gives nothing of them; of a question, the question.
fn rows_of(step: &Step) -> String {
    if let Some(filter) = step.filter.as_ref().filter(|_| step.table.table.text == AROUND) {
        return format!("SELECT 1 WHERE {}", step.text(filter.slice));
    }
    if step.inserted.is_some() { step.bringing(None) } else { step.query("1", Ask::default()) }
}

/// Makes the plan of a change.
pub(crate) fn plan(
    pg: &mut Pg,
    source: &str,
    allow: &[Code],
    earlier: &[Plan],
    temp: bool,
) -> Result<Plan, EngineError> {
    let statement = single_statement(source, LANGUAGE).map_err(refused)?;
    let text = statement.of(source);
    pg.later("SAVEPOINT marktwice_compiled");
    pg.type_params(text)?;
    let sent = pg.with_params(text);
    pg.settle()?;
    if let Err(error) = pg.client.prepare(sent.as_ref().map_or(text, |sent| &sent.text)) {
        let Some(db) = error.as_db_error() else { return Err(engine(error)) };
        pg.later("ROLLBACK TO SAVEPOINT marktwice_compiled");
        return Err(compile_error(pg, source, (statement, sent.as_ref()), db));
    }
    let mut step = understand(source, LANGUAGE).map_err(refused)?;
    with_like_target(&step)?;
    let found = target_of(pg, &step)?;
    let mut table = describe_found(pg, &found)?;
    if let Some(said) = elsewhere(&table) {
        let finding = Finding::new(Code::NoRollback, said).at(step.place(step.table.table.slice));
        return Err(refused(finding.hint(
            "apply the change to the local partitions by their own names, and on the other server there",
        )));
    }
    let (missing, lock) = privileges(pg, &step, &table)?;
    let unnamed = insert::settle_columns(&mut step, &table, &mut |query| {
        let sent = pg.with_params(query);
        pg.client
            .prepare(sent.as_ref().map_or(query, |sent| &sent.text))
            .ok()
            .map(|known| known.columns().len())
    })?;
    tell_by_unique(&mut table, &step, earlier, &mut |sql| Ok(pg.one(sql)?.as_deref() == Some("t")))?;
    let written: Vec<usize> = step
        .assignments
        .iter()
        .flat_map(|a| &a.columns)
        .filter_map(|c| table.target.position(&c.text))
        .collect();
    let triggers = triggers(pg, &table, step.kind, &written)?;
    let (mut asked, filter_calls) = called_by(pg, &step, allow, temp)?;
    let mut quiet = filter_calls.is_none();
    let default = |at: usize| table.types.get(at).and_then(|t| t.default.clone());
    let mut values = assigned_values(&step, &table.target, &default);
    let defaults: Vec<Option<String>> = table.types.iter().map(|t| t.default.clone()).collect();
    let numbers = |at: usize| {
        let counted = |d: &String| d.starts_with("nextval(");
        table.types.get(at).is_some_and(|t| t.identity || t.default.as_ref().is_some_and(counted))
    };
    let about = About { defaults: &defaults, extras: &table.extras, numbers: &numbers, triggers: &triggers };
    let mut foreseen = insert::foresee_any(&step, &table.target, &about, &mut |value| {
        let why = why_unknown(&step, &table, &values, value);
        if why.is_some() || step.words(value).len() < 2 {
            return Ok(why);
        }
        let query = match step.inserted {
            Some(_) => step.bringing(Some(value)),
            None => format!(
                "{}\nSELECT EXISTS (SELECT {}\n) FROM {}",
                step.with.map_or("", |w| step.text(w)),
                step.text(value),
                step.from_list()
            ),
        };
        let of_value = called(pg, temp, &query, &calls(&step, value))?;
        asked.bodies.extend(of_value.bodies);
        asked.elsewhere.extend(of_value.elsewhere);
        let unsteady = of_value.unsteady.into_iter().next();
        quiet &= unsteady.is_none();
        Ok(unsteady.map(|name| format!("{name}() may give another value in the run")))
    })?;
    let foreign_keys = foreign_keys(pg)?;
    foresee_own_cascade(&mut foreseen, &foreign_keys, &table.target, step.kind);
    // A function that is said to be steady may do more all the same.
    let functions = reached(pg, Vec::new(), &asked.bodies)?;
    if !functions.writes.is_empty() || !functions.acts.is_empty() {
        quiet = false;
        only_the_run(&mut foreseen);
    }
    let fired = reached(pg, triggers.iter().map(|t| t.body.clone()).collect(), &[])?;
    let skips = own_writes(&mut foreseen, &table.target, &triggers, &fired, step.kind);
    let mut writes = functions.side_writes();
    writes.extend(fired.side_writes());
    let columns: Vec<usize> = foreseen.iter().map(|f| f.column).collect();
    let (_, back) = by_definition(pg, &table, inverse_kind(step.kind), &columns)?;
    if !temp && step.sources.is_some() {
        return Err(without_temporary(&step, NO_TEMPORARY));
    }
    if !temp {
        foresee::without_temporary_tables(&mut foreseen, false, NO_TEMPORARY);
    }
    values.retain(|(at, _)| foreseen.iter().any(|f| f.column == *at && f.label != Label::Unknown));
    let unpairable = match step.inserted {
        Some(_) => insert::unpairable(&step, &table, &foreseen),
        None => unpairable(&step, &table, &foreseen),
    };
    let unpairable = unpairable.or_else(|| told_by_a_value_of_the_run(&step, &table.target, earlier));
    if let Some(finding) = unpairable {
        return Err(refused(finding));
    }
    asked.elsewhere.dedup();
    let elsewhere = asked.elsewhere.iter().map(|(table, server)| {
        Finding::new(Code::ReadsElsewhere, format!("{table} is read from the server {server}"))
    });
    let settings = pg.rows(
        "SELECT 'search_path: ' || pg_catalog.current_setting('search_path') UNION ALL \
         SELECT 'TimeZone: ' || pg_catalog.current_setting('TimeZone') UNION ALL \
         SELECT 'DateStyle: ' || pg_catalog.current_setting('DateStyle')",
    )?;
    Ok(Understood {
        text: text.to_owned(),
        reads: foresee::reads(&step, &table.target),
        foreseen,
        findings: [Vec::new(), missing.into_iter().chain(elsewhere).chain(unnamed).collect()],
        filter_calls,
        skips: skips.into_iter().collect(),
        settings: settings.into_iter().filter_map(|row| row.into_iter().next().flatten()).collect(),
        detail: Detail {
            foreign_keys,
            along: None,
            writes,
            reached: [functions, fired],
            fires: Fires::of(&triggers),
            back,
            quiet,
            defaults,
            step,
            table,
            values,
            own: Own { temp, lock },
        },
    }
    .plan())
}

/// Why nothing is promised of a table with a partition on another server.
pub(crate) fn elsewhere(table: &Table) -> Option<String> {
    let (member, server) = table.foreign.as_ref()?;
    Some(format!(
        "the partition {member} of {} is on another server ({server}), which commits by itself: a rollback here could leave \
         its rows changed",
        table.target.table
    ))
}

/// The table that a step writes, when it is one that can be promised anything about.
fn target_of(pg: &mut Pg, step: &Step) -> Result<Found, EngineError> {
    let name = &step.table.table;
    let refuse = |message: String, hint: &str| {
        refused(Finding::new(Code::NotUnderstood, message).at(step.place(name.slice)).hint(hint))
    };
    let schema = step.table.schema.as_ref().map(|s| s.text.as_str());
    let found = find(pg, schema, &name.text)?
        .ok_or_else(|| refuse(format!("there is no table {}", name.text), "correct the name"))?;
    let table = &found.table;
    match found.sort {
        Sort::Table | Sort::Partitioned => {}
        Sort::View => {
            let message =
                format!("{table} is a view; what a write to it does is up to its rules and triggers");
            return Err(refused(Finding::new(Code::AView, message).at(step.place(name.slice)))
                .with_paste(as_base_table(pg, step, &found.oid)));
        }
        Sort::Materialized => {
            return Err(refuse(
                format!("{table} is a materialized view: its rows are a copy that nobody writes"),
                "write the change for its base table, and refresh it",
            ));
        }
        Sort::Foreign => {
            return Err(refuse(
                format!(
                    "{table} is a foreign table: its rows are another server's, outside this transaction"
                ),
                "apply the change on that server",
            ));
        }
        Sort::Other => {
            return Err(refuse(
                format!("{table} is not a table of yours"),
                "change the tables that are yours",
            ));
        }
    }
    // A DELETE is taken back by INSERTs.
    let events: &[char] = if step.kind == StepKind::Update { &['2'] } else { &['3', '4'] };
    if found.rules.contains(events) {
        return Err(refuse(
            format!("{table} has rewrite rules: the server may run something else than this statement"),
            "drop the rule, or turn it into a trigger",
        ));
    }
    if found.hides_rows {
        return Err(refuse(
            format!(
                "row security on {table} hides rows from this role, so nobody can promise which rows are touched"
            ),
            "connect as a role that sees all rows (the owner, or one with BYPASSRLS)",
        ));
    }
    // What comes in comes into this table itself.
    if found.has_children && !step.table.only && step.kind != StepKind::Insert {
        let message = format!("other tables inherit from {table}, and its key does not hold across them");
        let hint = "write ONLY before the name, and a step of its own for each child table";
        return Err(refuse(message, hint).with_paste(table_by_table(pg, step, &found.oid)?));
    }
    Ok(found)
}

/// The same change as steps, one for each table that inherits from the target and one for itself; `None` where the statement
/// also reads one of them, for which it would find what an earlier step has written.
fn table_by_table(pg: &mut Pg, step: &Step, oid: &str) -> Result<Option<String>, EngineError> {
    let reads = step.words(step.statement).iter().any(|token| token.is_any(&["select", "table"]));
    if step.sources.is_some() || step.with.is_some() || reads {
        return Ok(None);
    }
    let tables = pg.rows(&format!(
        "WITH RECURSIVE down(oid) AS (SELECT {oid}::pg_catalog.oid UNION SELECT i.inhrelid FROM down \
         JOIN pg_catalog.pg_inherits i ON i.inhparent = down.oid) \
         SELECT oid::pg_catalog.regclass::text FROM down ORDER BY oid"
    ))?;
    let visible = LANGUAGE.name(&step.table.visible().text);
    let tables = tables.iter().map(|row| format!("ONLY {} AS {visible}", cell(row, 0)));
    let steps: Vec<String> = tables.map(|table| step.replaced(step.table.slice, &table)).collect();
    Ok(Some(steps.join("\n")))
}

/// The same change for the table that a view shows, where the view is plain.
fn as_base_table(pg: &mut Pg, step: &Step, oid: &str) -> Option<String> {
    // Where triggers or rules stand for its writes, the base table is not what the statement would write.
    let sql = format!(
        "SELECT pg_catalog.pg_get_viewdef({oid}::pg_catalog.oid) WHERE NOT EXISTS (SELECT 1 FROM pg_catalog.pg_trigger WHERE tgrelid = {oid}::pg_catalog.oid) \
         AND NOT EXISTS (SELECT 1 FROM pg_catalog.pg_rewrite WHERE ev_class = {oid}::pg_catalog.oid AND rulename <> '_RETURN')"
    );
    let definition = pg.one(&sql).ok()??;
    instead::base_table(step, definition.trim().trim_end_matches(';'))
}

/// Without the privilege to read, the rows cannot be shown. Without the one to write, that is said.
/// Gives the finding, and whether rows can be locked, which takes the privilege to UPDATE.
fn privileges(pg: &mut Pg, step: &Step, table: &Table) -> Result<(Vec<Finding>, bool), EngineError> {
    let verb = step.kind.verb();
    let may = pg.rows(&format!(
        "SELECT pg_catalog.has_table_privilege({0}, 'SELECT'), pg_catalog.has_table_privilege({0}, '{verb}') \
         OR ('{verb}' = 'UPDATE' AND pg_catalog.has_any_column_privilege({0}, 'UPDATE')), \
         pg_catalog.has_any_column_privilege({0}, 'UPDATE')",
        table.oid
    ))?;
    let flag = |at: usize| may.first().and_then(|r| r.get(at)?.as_deref()) == Some("t");
    if !flag(0) {
        return Err(EngineError::denied(format!(
            "SELECT on {} is missing: whole rows must be read, and nothing is applied unseen",
            table.shown
        )));
    }
    let message = format!("{verb} on {} is missing", table.shown);
    let mut missing = Vec::new();
    if !flag(1) {
        missing.push(Finding::new(Code::MissingPrivilege, message).at(step.place(step.table.slice)));
    }
    let column =
        step.assignments.iter().flat_map(|a| &a.columns).find_map(|c| table.target.position(&c.text));
    if let Some(said) = published::refusal(pg, table, step.kind, column)? {
        missing.push(Finding::new(Code::NoIdentity, said).at(step.place(step.table.slice)));
    }
    Ok((missing, flag(2)))
}

/// Why the value of an expression cannot be told before the run, beyond what its text tells. A subquery that reads the
/// target is no reason: this server evaluates all of it on the rows as they were before the statement.
fn why_unknown(step: &Step, table: &Table, values: &[(usize, String)], value: Slice) -> Option<String> {
    if is_default(step, value) {
        let column = column_of(step, &table.target, value);
        let text = values.iter().find(|(at, _)| Some(*at) == column).map_or("", |(_, text)| text);
        let identity = column.and_then(|at| table.types.get(at)).is_some_and(|t| t.identity);
        let plain = !text.contains('(') && !text.to_ascii_lowercase().contains("current_");
        return (!plain || identity).then(|| "its default is computed in the run".to_owned());
    }
    None
}

/// The bytes of the word that the server points at.
fn place_of(source: &str, (statement, sent): (Slice, Option<&Replaced>), error: &DbError) -> (usize, usize) {
    let Some(ErrorPosition::Original(position)) = error.position() else {
        return (statement.start, statement.end);
    };
    let text = sent.map_or(statement.of(source), |sent| &sent.text);
    let skip = usize::try_from(position.saturating_sub(1)).unwrap_or(0);
    let Some((offset, _)) = text.char_indices().nth(skip) else { return (statement.end, statement.end) };
    let start = statement.start + sent.map_or(offset, |sent| sent.back(offset));
    let tokens = tokenize(source, LANGUAGE.dialect()).unwrap_or_default();
    let end = tokens.iter().find(|t| t.slice.start == start).map_or(start + 1, |t| t.slice.end);
    (start, end)
}

/// Says what the server did not compile, where, and what may have been meant.
fn compile_error(
    pg: &mut Pg,
    source: &str,
    (statement, sent): (Slice, Option<&Replaced>),
    error: &DbError,
) -> EngineError {
    let at = place_of(source, (statement, sent), error);
    let tokens = tokenize(source, LANGUAGE.dialect()).unwrap_or_default();
    let said = message(error);
    // A qualified name is pointed at by its first part.
    let mut name = String::new();
    let mut end = at.1;
    for token in tokens.iter().filter(|t| t.slice.start >= at.0) {
        let part = token.name().is_some() || token.slice.of(source) == ".";
        if !part
            || (token.slice.start > end)
            || (!name.is_empty() && name.ends_with('.') == (token.slice.of(source) == "."))
        {
            break;
        }
        name.push_str(token.name().unwrap_or("."));
        end = token.slice.end;
    }
    let quoted_word = source.get(at.0..).is_some_and(|rest| rest.starts_with('"'));
    let near = (at.0, end.max(at.1));
    let typed = ["42804", "22P02", "42883", "22007", "22008"];
    if typed.contains(&error.code().code())
        && let Some(finding) = rules::early(source, LANGUAGE)
    {
        return refused(finding);
    }
    match error.code().code() {
        "42702" => {
            let hint = format!("write the table or its alias before it: table.{name}");
            refused(
                Finding::new(Code::AmbiguousName, format!("{name} is a column of several of these tables"))
                    .at(TextPlace::in_source(source, near.0, near.1))
                    .hint(hint),
            )
        }
        "42601" if said.starts_with("multiple assignments") => {
            refused(Finding::new(Code::AssignedTwice, said).at(TextPlace::in_source(source, near.0, near.1)))
        }
        "428C9" => refused(
            Finding::new(Code::EngineColumn, said)
                .at(TextPlace::in_source(source, near.0, near.1))
                .weighing(Level::Stop)
                .hint("assign the columns that it is computed from, or DEFAULT"),
        ),
        "42703" => {
            let own = known_columns(pg, &tables_for(source, LANGUAGE, &name));
            let finding = unknown_name((LANGUAGE, source), near, "column", &name, &own);
            let finding = match &finding.hint {
                _ if !quoted_word => finding,
                Some(hint) if hint.starts_with("did you mean") => {
                    let hint = format!("{hint} If a text is meant, write {}", single(&name));
                    finding.hint(hint)
                }
                _ => finding.hint(format!("if a text is meant, write {}", single(&name))),
            };
            refused(finding)
        }
        "42P01" if alias_of(source, &name).is_some() => {
            let hint = alias_of(source, &name).unwrap_or_default();
            let message =
                format!("{} has another name in this statement", name.split('.').next().unwrap_or(""));
            refused(
                Finding::new(Code::UnknownName, message)
                    .at(TextPlace::in_source(source, near.0, near.1))
                    .hint(hint),
            )
        }
        "42P01" => refused(unknown_name((LANGUAGE, source), near, "table", &name, &known_tables(pg))),
        "3F000" => refused(unknown_name((LANGUAGE, source), near, "schema", &name, &[])),
        "42883" if dialects::function(LANGUAGE, &name).is_some() => {
            refused(unknown_name((LANGUAGE, source), near, "function", &name, &[]))
        }
        "42883" | "42704" => refused(
            Finding::new(Code::UnknownName, said).at(TextPlace::in_source(source, near.0, near.1)).hint(
                error.hint().map_or_else(
                    || "correct the name or the types".to_owned(),
                    |h| h.trim_end_matches('.').to_owned(),
                ),
            ),
        ),
        "42601" => {
            let at_end = at.0 >= statement.end || said.contains("end of input");
            let at = if at_end { (statement.end, statement.end) } else { at };
            let word = if at_end { None } else { source.get(at.0..at.1) };
            let said = match word {
                None => "the statement ends too early".to_owned(),
                Some(word) => format!("the statement is not understood from {word} on"),
            };
            let order = word.is_some_and(|w| ["order", "limit"].contains(&w.to_ascii_lowercase().as_str()))
                && !dialects::is_name(LANGUAGE, source, at.0);
            let finding = syntax(source, statement, LANGUAGE, at, &said);
            if !order {
                return EngineError::Refused(Box::new(finding));
            }
            let words = within(&tokens, statement);
            let mut key_of = |schema: Option<&str>, name: &str| {
                let schema = schema.map(|s| LANGUAGE.folded(s)).unwrap_or_default();
                describe(pg, &schema, &LANGUAGE.folded(name))
                    .map_or_else(|_| Vec::new(), |t| t.target.key.names)
            };
            let paste = instead::limited(source, &words, LANGUAGE, &mut key_of);
            let mut finding = finding.hint("PostgreSQL has no ORDER BY or LIMIT here; pick the rows by key:");
            if let Some(paste) = paste {
                finding = finding.paste(paste);
            }
            EngineError::Refused(Box::new(finding))
        }
        "42501" => EngineError::denied(said),
        code if code.starts_with("22") => EngineError::Refused(Box::new(
            Finding::new(Code::ValueRefused, said)
                .at(TextPlace::in_source(source, at.0, at.1))
                .hint(Code::ValueRefused.remedy()),
        )),
        _ => EngineError::Refused(Box::new(
            Finding::new(Code::NotUnderstood, said).at(TextPlace::in_source(source, at.0, at.1)).hint(
                error.hint().map_or_else(
                    || "correct the statement here, or just before".to_owned(),
                    |h| h.trim_end_matches('.').to_owned(),
                ),
            ),
        )),
    }
}

/// What to write where a column is qualified by the table's name although the table has an alias.
fn alias_of(source: &str, name: &str) -> Option<String> {
    let (owner, column) = name.split_once('.')?;
    let step = understand(source, LANGUAGE).ok()?;
    let alias = step.table.alias.as_ref().filter(|_| step.table.table.text.eq_ignore_ascii_case(owner))?;
    Some(format!("{owner} is called {} here: write {}.{column}", alias.text, alias.text))
}

fn single(name: &str) -> String {
    quoted(name).trim_start_matches('E').to_owned()
}
