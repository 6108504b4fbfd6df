//! Rows that are put away before a DELETE: which table takes them, column by column, and the copying.

use marktwice_core::archive::{Archive, Made, Making};
use marktwice_core::finding::{Code, Finding};
use marktwice_core::mark::StepKind;
use marktwice_core::near::nearest;
use marktwice_core::table::{Column, Key, KeyKind, Target};
use marktwice_core::triggered::Triggered;
use marktwice_port::{EngineError, Plan, Unusable};
use marktwice_sql::compose::table_name;
use marktwice_sql::dialect::ours::{TRIED, before};

use crate::driver::Driver;
use crate::held::Held;
use crate::shell::Tabled;
use crate::triggered::which;

fn refused(message: String, hint: &str) -> EngineError {
    EngineError::Refused(Box::new(Finding::new(Code::NoArchive, message).hint(hint)))
}

/// Why an archive that is not there cannot be settled, with the definition of one, which the engine has been asked about: it has
/// just made a temporary table like it.
///
/// # Errors
/// What the engine says.
pub fn missing<D: Driver>(driver: &mut D, plan: &Plan, typed: &str) -> Result<EngineError, EngineError> {
    let (schema, name) = table_name(typed);
    let names = driver.looking(|driver| driver.names(false))?;
    let near = nearest(&name, names.iter().map(|(_, name)| name.as_str()));
    let near = near.map_or_else(String::new, |near| format!("did you mean {near}? "));
    let hint = match definition(driver, &plan.target, (schema.as_deref(), &name))? {
        Some(definition) => {
            format!("{near}It must be there first (--make-archive makes it): {definition}")
        }
        None => format!("{near}It must be there first, with the columns of the rows and a key"),
    };
    Ok(refused(format!("there is no table {typed} to put the rows away in"), &hint))
}

/// Adds to a plan that its rows are put away in a table that is not there yet, and how it is made; the engine has just made a
/// temporary table like it.
///
/// # Errors
/// Where no such table can be told; what the engine says.
pub fn promise<D: Driver>(driver: &mut D, plan: &mut Plan, typed: &str) -> Result<(), EngineError> {
    let (schema, name) = table_name(typed);
    let own = &plan.target;
    let Some(definition) = definition(driver, own, (schema.as_deref(), &name))? else {
        let message = format!("a table {typed} that takes rows of {} as they are cannot be made", own.table);
        return Err(refused(message, "make one by hand, with the columns of the rows and a key"));
    };
    let stored: Vec<(usize, &Column)> =
        own.columns.iter().enumerate().filter(|(_, column)| !column.generated).collect();
    let place = |own: &usize| stored.iter().position(|(at, _)| at == own);
    let kind = if own.key.columns.is_empty() { own.key.kind } else { KeyKind::Primary };
    let key = Key { kind, columns: own.key.columns.iter().filter_map(place).collect(), ..own.key.clone() };
    let schema = match schema {
        Some(schema) => schema,
        None => driver.peeking(|driver| driver.home())?,
    };
    let target = Target {
        table: name,
        schema,
        columns: stored.iter().map(|(_, column)| (*column).clone()).collect(),
        key,
        definition: String::new(),
        naming: None,
        refers: Vec::new(),
        hidden: Vec::new(),
        veil: Default::default(),
        family: Vec::new(),
    };
    let columns = stored.iter().enumerate().map(|(place, (at, _))| (*at, place)).collect();
    let inside = D::MAKES_TABLES_INSIDE;
    let making = Making { table: typed.to_owned(), definition, inside, made: Made::No };
    plan.triggered.push(Triggered { shown: typed.to_owned(), target: Ok(target.clone()), large: false });
    plan.archive = Some(Archive { target, columns, making: Some(making) });
    Ok(())
}

/// Makes a table that rows are to be put away in, if that is not done yet, and looks at it: it has to be what was promised, and
/// is the one of that name among `held` from then on.
///
/// # Errors
/// What the engine says; where it is another one.
pub fn make<D: Driver>(
    driver: &mut D,
    archive: &mut Archive,
    held: &mut [Triggered],
    there: bool,
) -> Result<(), EngineError> {
    let Archive { target, making: Some(making), .. } = archive else { return Ok(()) };
    let (schema, name) = table_name(&making.table);
    if !there && let Err(error) = driver.make_table(&making.definition) {
        // The answer may have been lost on its way.
        let now = if making.inside { None } else { Some(driver.named(schema.as_deref(), &name)) };
        let missing = matches!(now, None | Some(Err(EngineError::Unusable(Unusable::Missing, _))));
        making.made = if missing { Made::No } else { Made::Unknown };
        return Err(error);
    }
    making.made = Made::Yes;
    let table = driver.named(schema.as_deref(), &name)?;
    let made = table.target();
    let names = |target: &Target| target.columns.iter().map(|c| c.name.clone()).collect::<Vec<_>>();
    if names(made) != names(target) || made.key.columns != target.key.columns {
        let what = format!("the table {} was made otherwise than it was defined", making.table);
        return Err(EngineError::Other(what));
    }
    let mut made = made.clone();
    made.hidden.clone_from(&target.hidden);
    let promised = std::mem::replace(target, made.clone());
    let of = |known: &Triggered| known.target.as_ref().is_ok_and(|target| *target == promised);
    if let Some(known) = held.iter_mut().find(|known| of(known)) {
        *known = Triggered { shown: table.shown().to_owned(), target: Ok(made), large: false };
    }
    Ok(())
}

/// The statement that makes a table which takes these rows, where the engine makes one.
fn definition<D: Driver>(
    driver: &mut D,
    own: &Target,
    (schema, name): (Option<&str>, &str),
) -> Result<Option<String>, EngineError> {
    let Some(columns) = made_of(driver, own)? else { return Ok(None) };
    let language = D::Table::LANGUAGE;
    let shown: Vec<String> = schema.into_iter().chain([name]).map(|part| language.name(part)).collect();
    Ok(Some(format!("CREATE TABLE {} {columns}", shown.join("."))))
}

/// What a table is made of that takes these rows, where the engine makes one.
fn made_of<D: Driver>(driver: &mut D, own: &Target) -> Result<Option<String>, EngineError> {
    let language = D::Table::LANGUAGE;
    let types = driver.looking(|driver| driver.stored_types(own))?;
    let stored = own.columns.iter().zip(types).filter(|(column, _)| !column.generated);
    let mut parts: Vec<String> = stored
        .map(|(column, kind)| format!("{} {kind}", language.name(&column.name)).trim_end().to_owned())
        .collect();
    match own.key.kind {
        KeyKind::Primary | KeyKind::Unique => {
            let names: Vec<String> = own.names(&own.key.columns).iter().map(|n| language.name(n)).collect();
            parts.push(format!("PRIMARY KEY ({})", names.join(", ")));
        }
        KeyKind::RowIdentity => {}
        KeyKind::WholeRow => return Ok(None),
    }
    let parts = format!("({}){}", parts.join(", "), D::TABLES_ARE);
    if driver.execute(&format!("CREATE TEMPORARY TABLE {TRIED} {parts}")).is_err() {
        return Ok(None);
    }
    driver.execute(&format!("DROP TABLE {TRIED}"))?;
    Ok(Some(parts))
}

/// Adds to a plan where its rows are put away; `false` where there is no such table.
///
/// # Errors
/// [`EngineError::Refused`] where a column has no place in it, something in it stays without a value, or
/// rows could not be taken out of it again; what the engine says.
pub fn settle<D: Driver>(driver: &mut D, plan: &mut Plan, typed: &str) -> Result<bool, EngineError> {
    if plan.kind != StepKind::Delete {
        let message = "archive_to puts rows away that go, and this step takes none away".to_owned();
        return Err(refused(message, "leave archive_to out, or write a DELETE"));
    }
    let (schema, name) = table_name(typed);
    let Ok(table) = driver.named(schema.as_deref(), &name) else { return Ok(false) };
    let own = &plan.target;
    let target = table.target().clone();
    if target.same_table(own) {
        return Err(refused(format!("{typed} is the table that the rows go from"), "name another table"));
    }
    let mut columns = Vec::new();
    let mut without = Vec::new();
    for (at, column) in own.columns.iter().enumerate() {
        match target.position(&column.name) {
            Some(place) if target.columns.get(place).is_some_and(|c| !c.generated) => {
                columns.push((at, place))
            }
            _ if column.generated => {}
            _ => without.push(column.name.clone()),
        }
    }
    columns.sort_by_key(|(_, place)| *place);
    if !without.is_empty() {
        let message = format!("{} has no place for {} of {}", target.table, without.join(", "), own.table);
        return Err(refused(message, "give it these columns, by these names"));
    }
    let declared = driver.declared(&table)?;
    let number_of_its_own = |at: usize| {
        target.key.columns == [at]
            && target.columns.get(at).is_some_and(|c| c.declared.to_ascii_lowercase().contains("int"))
    };
    let empty = target.columns.iter().enumerate().filter(|(at, column)| {
        let default = declared.defaults.get(*at).is_some_and(Option::is_some);
        let filled = columns.iter().any(|(_, place)| place == at);
        column.not_null && !column.generated && !default && !filled && !number_of_its_own(*at)
    });
    let empty: Vec<String> = empty.map(|(_, column)| column.name.clone()).collect();
    if !empty.is_empty() {
        let message = format!("nothing fills {} of {}, which takes no NULL", empty.join(", "), target.table);
        return Err(refused(message, "give it a default"));
    }
    let written: Vec<Target> =
        std::iter::once(own).chain(plan.along.iter().map(|along| &along.target)).cloned().collect();
    let held = which(driver, &[], std::slice::from_ref(&target), &written, true)?;
    if let Some(why) = held.iter().find_map(|table| table.target.as_ref().err()) {
        let message = format!("rows put away in {} could not be taken out again: {why}", target.table);
        return Err(refused(message, "put them away in a table of which that is not so"));
    }
    for table in held {
        plan.triggered.retain(|known| known.shown != table.shown);
        plan.triggered.push(table);
    }
    plan.archive = Some(Archive { target, columns, making: None });
    Ok(true)
}

/// Makes a table of the held rows of a step, as they are; gives how many it holds.
///
/// # Errors
/// Where the engine makes no table inside a transaction; what the engine says.
pub fn keep_copy<D: Driver>(
    driver: &mut D,
    held: &Held<D::Table>,
    own: &Target,
    typed: &str,
) -> Result<u64, EngineError> {
    if !D::MAKES_TABLES_INSIDE {
        let what = format!(
            "a table ({typed}) cannot be made inside a transaction here: it would commit what came before"
        );
        return Err(EngineError::Other(what));
    }
    let language = D::Table::LANGUAGE;
    let (schema, name) = table_name(typed);
    let schema = schema.map_or(String::new(), |schema| format!("{}.", language.quoted(&schema)));
    let name = format!("{schema}{}", language.quoted(&name));
    let columns = own.columns.iter().enumerate();
    let columns = columns.map(|(at, c)| format!("h.{} AS {}", before(at), language.quoted(&c.name)));
    let columns = columns.collect::<Vec<_>>().join(", ");
    driver.execute(&format!("CREATE TABLE {name} AS SELECT {columns} FROM {} AS h", held.name()))?;
    driver.number(&format!("SELECT count(*) FROM {name}"))
}

/// Copies the held rows of a step to where they are put away; gives how many the engine says it wrote.
///
/// # Errors
/// What the engine says.
pub fn put_away<D: Driver>(
    driver: &mut D,
    held: &Held<D::Table>,
    archive: &Archive,
) -> Result<u64, EngineError> {
    let table = driver.described(&archive.target.schema, &archive.target.table)?;
    let places = archive.columns.iter().filter_map(|(_, place)| archive.target.columns.get(*place));
    let places: Vec<String> = places.map(|column| D::Table::LANGUAGE.quoted(&column.name)).collect();
    let values: Vec<String> = archive.columns.iter().map(|(own, _)| format!("h.{}", before(*own))).collect();
    driver.execute(&format!(
        "INSERT INTO {} ({}) SELECT {} FROM {} AS h",
        table.inserted_name(),
        places.join(", "),
        values.join(", "),
        held.name()
    ))
}
