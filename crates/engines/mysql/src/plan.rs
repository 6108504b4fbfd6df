//! Understanding a statement with the server's help: it compiles the text first, then come the slices and the rules.

use marktwice_core::TextPlace;
use marktwice_core::finding::{Code, Finding, Level};
use marktwice_core::mark::{Label, StepKind};
use marktwice_core::table::KeyKind;
use marktwice_core::undo::inverse_kind;
use marktwice_port::{EngineError, Plan, SideHow, SideWrite};
use marktwice_relational::foresee::{self, own_writes};
use marktwice_relational::insert::{self, About};
use marktwice_relational::reach::{ForeignKey, foresee_own_cascade};
use marktwice_relational::statement::{
    Fires, assigned_values, column_of, filter_calls, is_default, tell_by_unique, told_by_a_value_of_the_run,
    unpairable, with_like_target, without_temporary,
};
use marktwice_relational::understood::{Understood, only_the_run};
use marktwice_relational::walk::{Body, Catalogue, shown};
use marktwice_sql::Step;
use marktwice_sql::refuse::instead;
use marktwice_sql::rules::pipes;
use marktwice_sql::statement::routine::{self, Written};
use marktwice_sql::statement::slicing::{
    calls, relations_in, set_as_values, single_statement, subqueries, understand_with,
};
use marktwice_sql::statement::step::{Assignment, Source};
use marktwice_sql::text::slices::Slice;
use marktwice_sql::text::tokenize;
use mysql::prelude::Queryable;

use crate::calls::{Asking, reached, triggers};
use crate::catalog::{
    NoTemporary, Table, describe_found, find, foreign_keys, no_temporary, unseen_foreign_keys, views,
};
use crate::client::{My, literal};
use crate::complaint::{LANGUAGE, compile_error, refused};
use crate::detail::{Detail, Own};
use crate::error::{code, engine, message};
use crate::grants::{Grants, grants};
use crate::numbers::numbered;
use crate::several;
use crate::way_back::by_definition;

/// What a step's filter calls, before anything of it is run, and what is to be said of that; refuses what no preview may
/// run.
pub(crate) fn called_by(
    my: &mut My,
    step: &Step,
    allow: &[Code],
    (grants, own): (&Grants, &str),
) -> Result<(Vec<Body>, Option<Finding>), EngineError> {
    let mut names = step.filter.as_ref().map_or_else(Vec::new, |f| calls(step, f.slice));
    names.extend(step.behind().iter().flat_map(|b| calls(step, *b)));
    names.extend(step.tail.iter().flat_map(|t| calls(step, t.slice)));
    names.extend(step.sources.iter().flat_map(|s| calls(step, s.slice)));
    names.extend(view_calls(my, step)?);
    let mut catalogue = Asking { my, grants, schema: own };
    let mut functions = Vec::new();
    for name in &names {
        functions.extend(catalogue.routines(name)?);
    }
    let finding = filter_calls(step, allow, &functions, &mut catalogue)?;
    Ok((functions, finding))
}

/// Makes the plan of a change.
pub(crate) fn plan(my: &mut My, source: &str, allow: &[Code], earlier: &[Plan]) -> Result<Plan, EngineError> {
    let statement = single_statement(source, LANGUAGE).map_err(refused)?;
    let text = statement.of(source);
    readable(my, source)?;
    let (sent, _) = my.sent(text, &[]);
    my.settle()?;
    let denied = match my.conn.prep(&*sent) {
        Ok(prepared) => {
            my.conn.close(prepared).map_err(engine)?;
            None
        }
        // The server does not even compile what it would not run. The rows can be looked at all the same.
        Err(error) if code(&error) == Some(1142) && !message(&error).starts_with("SELECT") => {
            Some(message(&error))
        }
        // A value for a computed column: told in the same words as on every engine, as soon as the statement is understood.
        Err(error) if code(&error) == Some(3105) => None,
        Err(error) => return Err(compile_error(my, source, statement, error)),
    };
    let mut known: Vec<(Source, Vec<String>)> = Vec::new();
    let step = understand_with(source, LANGUAGE, &mut |of, column| {
        if !known.iter().any(|(k, _)| k == of) {
            let columns = columns_of(my, of);
            known.push((of.clone(), columns));
        }
        known.iter().any(|(k, columns)| k == of && columns.iter().any(|c| c.eq_ignore_ascii_case(column)))
    });
    if let (Err(_), Some(text)) = (&step, set_as_values(source)) {
        // Planned as what it means, and sent as it is written.
        let mut made = plan(my, &text, allow, earlier)?;
        statement.of(source).clone_into(&mut made.statement);
        return Ok(made);
    }
    let mut step = step.map_err(|refusal| {
        refused(several::by_key(my, refusal, &|my, text| plan(my, text, allow, earlier)))
    })?;
    with_like_target(&step)?;
    let mut table = target_of(my, &step)?;
    let grants = grants(my)?;
    whole_rows(&grants, &table)?;
    let unnamed = insert::settle_columns(&mut step, &table, &mut |query| {
        let prepared = my.conn.prep(&*my.sent(query, &[]).0).ok()?;
        let width = prepared.columns().len();
        my.conn.close(prepared).ok()?;
        Some(width)
    })?;
    tell_by_unique(&mut table, &step, earlier, &mut |sql| Ok(my.one(sql)?.as_deref() == Some("1")))?;
    joined(&step, &table)?;
    let own = my.schema.clone();
    let (mut functions, filter_calls) = called_by(my, &step, allow, (&grants, &own))?;
    let mut quiet = filter_calls.is_none();
    let triggers = triggers(&grants, &table, step.kind);
    let default = |at: usize| table.types.get(at).and_then(|t| t.default.clone());
    let mut values = assigned_values(&step, &table.target, &default);
    let trial = reads_what_was_set(&step, &table) && !my.own.0.contains("SIMULTANEOUS_ASSIGNMENT");
    let views = views(my)?;
    let defaults: Vec<Option<String>> = table.types.iter().map(|t| t.default.clone()).collect();
    let numbers = |at: usize| table.types.get(at).is_some_and(|t| t.auto);
    let about = About { defaults: &defaults, extras: &table.extras, numbers: &numbers, triggers: &triggers };
    let mut foreseen = insert::foresee_any(&step, &table.target, &about, &mut |value| {
        let known = step.inserted.is_none().then(|| why_unknown(&step, &table, &views, trial, value));
        if let Some(why) = known.flatten() {
            return Ok(Some(why));
        }
        let mut catalogue = Asking { my, grants: &grants, schema: &own };
        let mut unsteady = None;
        for name in calls(&step, value) {
            for body in catalogue.routines(&name)? {
                if body.volatile || body.acts {
                    unsteady.get_or_insert(name.clone());
                }
                functions.push(body);
            }
        }
        quiet &= unsteady.is_none();
        Ok(unsteady.map(|name| format!("{name}() may give another value in the run")))
    })?;
    // A function that is said to be steady may do more all the same.
    let called = reached(my, &grants, &own, Vec::new(), &functions)?;
    if !called.writes.is_empty() || !called.acts.is_empty() || called.variables {
        quiet = false;
        only_the_run(&mut foreseen);
    }
    let fired = reached(my, &grants, &own, triggers.iter().map(|t| t.body.clone()).collect(), &[])?;
    let all: Vec<&Written> = called.writes.iter().chain(&fired.writes).map(|(w, _)| w).collect();
    transactional(my, &step, &all)?;
    let mut writes = called.side_writes();
    writes.extend(fired.side_writes());
    let skips = own_writes(&mut foreseen, &table.target, &triggers, &fired, step.kind);
    let (_, back) = by_definition(my, &grants, &own, &table, inverse_kind(step.kind))?;
    let (foreign_keys, unseen) = all_foreign_keys(my, &grants, &table, &step)?;
    writes.extend(unseen);
    foresee_own_cascade(&mut foreseen, &foreign_keys, &table.target, step.kind);
    let exact = |at: usize| foreseen.iter().any(|f| f.column == at && f.label != Label::Unknown);
    // A trial runs all assignments; it is of no use when some of them are not known.
    let known = step
        .assignments
        .iter()
        .flat_map(|a| &a.columns)
        .all(|c| table.target.position(&c.text).is_none_or(exact));
    // A statement that reads its own target in a subquery is carried out in two passes, and the first reads all old
    // values: the order then no longer counts, or it does, as the server decides.
    let in_two_passes = subqueries(&step, step.statement)
        .iter()
        .any(|query| relations_in(&step, *query).iter().any(|name| reads_target(name, &table, &views)));
    let known = known && !in_two_passes && step.sources.is_none();
    if trial && !known {
        for f in &mut foreseen {
            f.label = Label::Unknown;
            f.why.get_or_insert_with(|| {
                "it may read what another assignment sets, and nobody can tell when".to_owned()
            });
        }
    }
    let no_temporary = no_temporary(my, &table)?;
    if let Some(NoTemporary { why, .. }) = &no_temporary {
        if step.sources.is_some() {
            return Err(without_temporary(&step, why));
        }
        foresee::without_temporary_tables(&mut foreseen, trial, why);
    }
    values.retain(|(at, _)| foreseen.iter().any(|f| f.column == *at && f.label != Label::Unknown));
    let trial = trial && known && no_temporary.is_none();
    let unpairable = match step.inserted {
        Some(_) => insert::unpairable(&step, &table, &foreseen),
        None => unpairable(&step, &table, &foreseen),
    };
    let unpairable = unpairable.or_else(|| told_by_a_value_of_the_run(&step, &table.target, earlier));
    if let Some(finding) = unpairable {
        return Err(refused(finding));
    }
    let waits = if my.traits.returning {
        None
    } else {
        numbered(&my.brand, &step, &table, &foreseen).map_err(refused)?
    };
    let denied =
        denied.map(|said| Finding::new(Code::MissingPrivilege, said).at(step.place(step.table.slice)));
    let cluster = other_tables_on_a_cluster(my, &step, &table);
    let bars = if my.own.0.contains("PIPES_AS_CONCAT") { None } else { pipes::look(&step) };
    Ok(Understood {
        text: text.to_owned(),
        reads: foresee::reads(&step, &table.target),
        foreseen,
        findings: [
            Vec::new(),
            cluster.into_iter().chain(denied).chain(bars).chain(unnamed).chain(waits).collect(),
        ],
        filter_calls,
        skips: skips.into_iter().collect(),
        settings: vec![format!("sql_mode: {}", my.own.0), format!("time_zone: {}", my.own.1)],
        detail: Detail {
            foreign_keys,
            along: None,
            writes,
            reached: [called, fired],
            fires: Fires::of(&triggers),
            back,
            quiet,
            defaults,
            step,
            table,
            values,
            own: Own { no_temporary, trial, bends: !my.own.0.contains("STRICT_") },
        },
    }
    .plan())
}

/// The columns of a joined table; none for a subquery, which cannot be written.
fn columns_of(my: &mut My, of: &Source) -> Vec<String> {
    let Some(name) = &of.table else { return Vec::new() };
    let schema = of.schema.as_ref().map(|s| s.text.as_str());
    let found = find(my, schema, &name.text).ok().flatten();
    let described = found.and_then(|found| describe_found(my, &found).ok());
    described.map_or_else(Vec::new, |table| table.target.columns.into_iter().map(|c| c.name).collect())
}

/// Joined rows are told apart by the target's key.
fn joined(step: &Step, table: &Table) -> Result<(), EngineError> {
    if step.sources.is_none() || table.target.key.kind != KeyKind::WholeRow {
        return Ok(());
    }
    let message =
        format!("{} has no key, so nobody can tell which of its rows a join matches", table.target.table);
    Err(refused(
        Finding::new(Code::NotUnderstood, message)
            .at(step.place(step.table.slice))
            .hint("write the join as EXISTS (SELECT …) in WHERE, or give the table a primary key"),
    ))
}

/// Two settings change how the text is cut into words, and nobody but the server would then read it rightly.
fn readable(my: &My, source: &str) -> Result<(), EngineError> {
    for (mode, sign, hint) in [
        ("ANSI_QUOTES", '"', "write names in backticks and texts in single quotes"),
        ("NO_BACKSLASH_ESCAPES", '\\', "write the text without a backslash: char(92) stands for one"),
    ] {
        if !my.own.0.contains(mode) {
            continue;
        }
        // What stands in comments means nothing to the server.
        let found = match tokenize(source, LANGUAGE.dialect()) {
            Ok(tokens) => tokens.iter().filter(|token| !token.is_blank()).find_map(|token| {
                let text = source.get(token.slice.start..token.slice.end)?;
                text.find(sign).map(|at| token.slice.start + at)
            }),
            Err(_) => source.find(sign),
        };
        if let Some(at) = found {
            let message = format!("under the SQL mode {mode} a {sign} does not mean what it usually does");
            return Err(refused(
                Finding::new(Code::NotUnderstood, message)
                    .at(TextPlace::in_source(source, at, at + 1))
                    .hint(hint),
            ));
        }
    }
    Ok(())
}

/// The table that a step writes, when it is one that can be promised anything about.
fn target_of(my: &mut My, step: &Step) -> Result<Table, EngineError> {
    let name = &step.table.table;
    let refuse = |message: String, hint: &str| {
        refused(Finding::new(Code::NotUnderstood, message).at(step.place(name.slice)).hint(hint))
    };
    let schema = step.table.schema.as_ref().map(|s| s.text.as_str());
    let found = find(my, schema, &name.text)?.ok_or_else(|| {
        refuse(format!("there is no table {} that this user may see", name.text), "correct the name")
    })?;
    let table = &found.table;
    match found.sort.as_str() {
        "BASE TABLE" => {}
        "VIEW" => {
            let message = format!("{table} is a view and has no rows of its own");
            return Err(refused(Finding::new(Code::AView, message).at(step.place(name.slice)))
                .with_paste(as_base_table(my, step, &found.schema, table)));
        }
        "SYSTEM VERSIONED" => {
            return Err(refuse(
                format!("{table} keeps a history of its rows by itself, which an undo could not put back"),
                "take a row back from its history with the server's own means",
            ));
        }
        _ => {
            return Err(refuse(
                format!("{table} is not a table of yours"),
                "change the tables that are yours",
            ));
        }
    }
    if ["mysql", "information_schema", "performance_schema", "sys"].contains(&found.schema.as_str()) {
        return Err(refuse(
            format!("{table} is a table of the server's own"),
            "change the tables that are yours",
        ));
    }
    if !found.engine.eq_ignore_ascii_case("InnoDB") {
        let message = of_engine(my, table, &found.engine)?;
        return Err(refused(
            Finding::new(Code::NoRollback, message)
                .at(step.place(name.slice))
                .hint("move it to InnoDB first: ALTER TABLE … ENGINE=InnoDB"),
        ));
    }
    describe_found(my, &found)
}

/// The same change for the table that a view shows, where the view is plain.
fn as_base_table(my: &mut My, step: &Step, schema: &str, view: &str) -> Option<String> {
    let sql = format!(
        "SELECT VIEW_DEFINITION FROM information_schema.VIEWS WHERE TABLE_SCHEMA = {} AND TABLE_NAME = {} \
         AND IS_UPDATABLE = 'YES'",
        literal(schema),
        literal(view)
    );
    instead::base_table(step, &my.one(&sql).ok()??)
}

/// On a cluster another node may change what a statement only reads, after it was read and before the run is ordered.
fn other_tables_on_a_cluster(my: &mut My, step: &Step, table: &Table) -> Option<Finding> {
    my.cluster.as_ref()?;
    let mut names: Vec<String> =
        subqueries(step, step.statement).iter().flat_map(|query| relations_in(step, *query)).collect();
    names.extend(
        step.sources.iter().flat_map(|s| &s.tables).filter_map(|t| t.table.as_ref()).map(|t| t.text.clone()),
    );
    // Words that may be names of tables are; those that are none name none.
    let other = names.into_iter().find(|name| {
        !name.eq_ignore_ascii_case(&table.target.table)
            && find(my, None, name).is_ok_and(|found| found.is_some())
    })?;
    let message = format!(
        "{other} is read on a node of a cluster: another node may change it while this runs, and only the rows that are \
         written are protected"
    );
    Some(Finding::new(Code::ReadsElsewhere, message).weighing(Level::Warn))
}

/// Without the right to read every column, the rows cannot be shown or kept.
fn whole_rows(grants: &Grants, table: &Table) -> Result<(), EngineError> {
    let target = &table.target;
    if grants.has("SELECT", &target.schema, &target.table) {
        return Ok(());
    }
    Err(EngineError::denied(format!(
        "SELECT on the whole of {} is missing: whole rows must be read, and nothing is applied unseen",
        table.shown
    )))
}

/// Functions that the views in a statement call: reading a view runs them.
fn view_calls(my: &mut My, step: &Step) -> Result<Vec<String>, EngineError> {
    let mut all = Vec::new();
    let mut open = relations_in(step, step.statement);
    let mut seen: Vec<String> = Vec::new();
    loop {
        open.retain(|name| !seen.contains(name));
        open.sort_unstable();
        open.dedup();
        if open.is_empty() {
            break;
        }
        let names: Vec<String> = open.iter().map(|name| literal(name)).collect();
        seen.append(&mut open);
        let texts = my.rows(&format!(
            "SELECT VIEW_DEFINITION FROM information_schema.VIEWS WHERE TABLE_SCHEMA = database() AND TABLE_NAME IN ({})",
            names.join(", ")
        ))?;
        for text in texts.into_iter().filter_map(|row| row.into_iter().next().flatten()) {
            all.extend(routine::read(&text, LANGUAGE).calls);
            let tokens = tokenize(&text, LANGUAGE.dialect()).unwrap_or_default();
            open.extend(tokens.iter().filter_map(|t| t.name().map(str::to_owned)));
        }
    }
    Ok(all)
}

/// Tables that triggers and functions write must be part of the transaction too.
fn transactional(my: &mut My, step: &Step, writes: &[&Written]) -> Result<(), EngineError> {
    for write in writes {
        let found = find(my, write.schema.as_deref(), &write.table)?;
        let Some(engine) =
            found.map(|f| f.engine).filter(|e| !e.is_empty() && !e.eq_ignore_ascii_case("InnoDB"))
        else {
            continue;
        };
        let message =
            format!("{} would be written too: {}", shown(write), of_engine(my, &write.table, &engine)?);
        return Err(refused(
            Finding::new(Code::NoRollback, message)
                .at(step.place(step.table.slice))
                .hint("move that table to InnoDB first: ALTER TABLE … ENGINE=InnoDB"),
        ));
    }
    Ok(())
}

/// What is true of a storage engine other than InnoDB.
fn of_engine(my: &mut My, table: &str, engine: &str) -> Result<String, EngineError> {
    let sql =
        format!("SELECT TRANSACTIONS FROM information_schema.ENGINES WHERE ENGINE = {}", literal(engine));
    let transactions = my.one(&sql)?.is_some_and(|t| t == "YES");
    let elsewhere = ["SPIDER", "FEDERATED", "CONNECT", "S3"].iter().any(|e| e.eq_ignore_ascii_case(engine));
    Ok(match (elsewhere, transactions) {
        (true, true) => format!(
            "{table} is kept by {engine} on other servers: a COMMIT goes to each of them in turn, and can go through on one \
             and fail on the next"
        ),
        (true, false) => {
            format!(
                "{table} is kept by {engine} outside of this server's transactions: nothing there can be rolled back"
            )
        }
        (false, false) => {
            format!("{table} is kept by {engine}, outside of transactions: nothing there can be rolled back")
        }
        (false, true) => format!(
            "{table} is kept by {engine}, and only of InnoDB it is proven here that what is rolled back is as it was"
        ),
    })
}

/// The foreign keys into the target, and what is said where not all of them can be seen.
fn all_foreign_keys(
    my: &mut My,
    grants: &Grants,
    table: &Table,
    step: &Step,
) -> Result<(Vec<ForeignKey>, Vec<SideWrite>), EngineError> {
    let target = &table.target;
    let mut keys = foreign_keys(my, table)?;
    let mut unseen = Vec::new();
    if grants.sees(None) {
        return Ok((keys, unseen));
    }
    if grants.global("PROCESS") {
        keys.extend(unseen_foreign_keys(my, target, &keys)?);
    } else if !grants.sees(Some(&target.schema)) {
        let assigned = step.assignments.iter().flat_map(|a| &a.columns);
        let keyed = |at: usize| table.keys.iter().any(|k| k.columns.contains(&at));
        let mut touched = assigned.filter_map(|c| target.position(&c.text));
        if step.kind == StepKind::Delete || touched.any(keyed) {
            let what = format!(
                "this user sees only some tables of {}: one that refers to {} with a cascade would be written unseen; the \
                 right PROCESS, or SELECT on {}.*, would show it",
                target.schema, target.table, target.schema
            );
            unseen.push(SideWrite::new(String::new(), SideHow::Unmeasured(what), None));
        }
    }
    Ok((keys, unseen))
}

/// Whether an assignment reads a column that an earlier one has set: this server goes from left to right. With joined
/// tables the order is not promised, so any that is set counts.
fn reads_what_was_set(step: &Step, table: &Table) -> bool {
    if step.sources.is_some() {
        let positions = |a: &Assignment| -> Vec<usize> {
            a.columns.iter().filter_map(|c| table.target.position(&c.text)).collect()
        };
        let all: Vec<Vec<usize>> = step.assignments.iter().map(positions).collect();
        return step.assignments.iter().enumerate().any(|(at, assignment)| {
            let others = all.iter().enumerate().filter(|(other, _)| *other != at).flat_map(|(_, p)| p);
            let reads = foresee::named(step, assignment.value, &table.target);
            others.into_iter().any(|p| reads.contains(p))
        });
    }
    let mut set: Vec<usize> = Vec::new();
    step.assignments.iter().any(|assignment| {
        let reads = foresee::named(step, assignment.value, &table.target).iter().any(|at| set.contains(at));
        set.extend(assignment.columns.iter().filter_map(|c| table.target.position(&c.text)));
        reads
    })
}

/// Why the value of an expression cannot be told before the run, beyond what its text tells.
fn why_unknown(step: &Step, table: &Table, views: &[String], trial: bool, value: Slice) -> Option<String> {
    if is_default(step, value) {
        let of = column_of(step, &table.target, value).and_then(|at| table.types.get(at));
        let computed = of.is_none_or(|t| {
            let text = t.default.as_deref().unwrap_or("").to_ascii_lowercase();
            t.auto || text.contains('(') || text.contains("current_")
        });
        // Some versions quote a text there, and some do not.
        let odd = computed || trial || of.is_some_and(|t| t.default.as_deref().is_some_and(|d| !is_plain(d)));
        return odd.then(|| "its default is computed in the run".to_owned());
    }
    let reads =
        |query: &Slice| relations_in(step, *query).iter().any(|name| reads_target(name, table, views));
    if subqueries(step, value).iter().any(reads) {
        return Some(format!("its subquery reads {} while rows of it change", table.target.table));
    }
    None
}

/// Whether a name is the target's, or a view's, which may read the target.
fn reads_target(name: &str, table: &Table, views: &[String]) -> bool {
    name.eq_ignore_ascii_case(&table.target.table) || views.iter().any(|v| v.eq_ignore_ascii_case(name))
}

/// A number, NULL, or a text in quotes.
fn is_plain(default: &str) -> bool {
    default.parse::<f64>().is_ok()
        || default.eq_ignore_ascii_case("null")
        || (default.len() >= 2 && default.starts_with('\'') && default.ends_with('\''))
}
