//! The table in which runs leave a row in their own transaction.

use marktwice_core::Value;
use marktwice_core::witness::{COLUMNS, Left};
use marktwice_port::EngineError;
use marktwice_sql::compose::table_name;

use crate::driver::Driver;
use crate::shell::Tabled;

/// The table's name, in the engine's quotes.
fn name<D: Driver>(table: &str) -> String {
    let language = D::Table::LANGUAGE;
    parts(table).iter().map(|part| language.quoted(part)).collect::<Vec<_>>().join(".")
}

/// Its schema, where one was said, and its own name.
fn parts(table: &str) -> Vec<String> {
    let (schema, name) = table_name(table);
    schema.into_iter().chain([name]).collect()
}

/// Leaves a row there.
///
/// # Errors
/// What the engine says.
pub fn leave<D: Driver>(driver: &mut D, said: &str, row: Vec<Value>) -> Result<(), EngineError> {
    let names: Vec<String> = COLUMNS.iter().map(|(column, _)| D::Table::LANGUAGE.quoted(column)).collect();
    let table = name::<D>(said);
    // Under the user's own settings, which say where the name leads. What is wrong with the table is told by a question: it ends no
    // copying half way.
    driver.number(&format!("SELECT count(*) FROM {table} WHERE 1 = 0"))?;
    fit(driver, said)?;
    let id = row.first().cloned().unwrap_or(Value::Null);
    driver.load(&table, &names, vec![row])?;
    // A row that something in the database swallows, or takes away, is no evidence.
    let Value::Text(id) = id else { return Err(EngineError::Other("the row has no identifier".to_owned())) };
    let own = D::Table::LANGUAGE.quoted("id");
    match driver.number(&format!("SELECT count(*) FROM {table} WHERE {own} = '{id}'"))? {
        1 => Ok(()),
        rows => {
            Err(EngineError::Other(format!("1 row was inserted into {said} and {rows} can be read back")))
        }
    }
}

/// Refuses what is no table, and a table that does more than keep the row.
///
/// # Errors
/// [`EngineError::Other`] in our words; what the engine says.
pub fn fit<D: Driver>(driver: &mut D, said: &str) -> Result<(), EngineError> {
    let parts = parts(said);
    let (schema, bare) = match parts.as_slice() {
        [schema, bare] => (Some(schema.as_str()), bare.as_str()),
        [bare] => (None, bare.as_str()),
        _ => (None, said),
    };
    let unfit = if driver.viewed(schema, bare)?.is_some() {
        Some("it is a view".to_owned())
    } else {
        let table = driver.named(schema, bare)?;
        driver.unfit_witness(&table)?
    };
    match unfit {
        Some(why) => Err(EngineError::Other(format!(
            "{said} cannot be the witness: {why}; marktwice witness prints the definition of one that can"
        ))),
        None => Ok(()),
    }
}

/// Whether one is there; `None` where the table cannot be asked. A transaction that is not ended yet is waited for, where the engine
/// shows what others have written only then.
///
/// # Errors
/// When the connection fails.
pub fn was_left<D: Driver>(driver: &mut D, table: &str, id: &str) -> Result<Option<bool>, EngineError> {
    if id.is_empty() || !id.bytes().all(|b| b.is_ascii_hexdigit()) {
        return Ok(None);
    }
    let (table, own) = (name::<D>(table), D::Table::LANGUAGE.quoted("id"));
    let sql = format!("SELECT count(*) FROM {table} WHERE {own} = '{id}'{}", D::AND_WAIT);
    match driver.looking(|driver| driver.number(&sql)) {
        Ok(rows) => Ok(Some(rows > 0)),
        Err(EngineError::Interrupted) => Err(EngineError::Interrupted),
        // Without the table nobody knows.
        Err(_) => Ok(None),
    }
}

/// The newest rows there.
///
/// # Errors
/// What the engine says.
pub fn left<D: Driver>(driver: &mut D, table: &str, most: u32) -> Result<Vec<Left>, EngineError> {
    let language = D::Table::LANGUAGE;
    let names: Vec<String> = COLUMNS.iter().map(|(column, _)| language.quoted(column)).collect();
    let sql = format!(
        "SELECT {} FROM {} ORDER BY {} DESC LIMIT {most}",
        names.join(", "),
        name::<D>(table),
        language.quoted("started")
    );
    let found = driver.looking(|driver| driver.question(&sql))?;
    // Some engines take a name that is no column's for a text.
    let rows: Option<Vec<Left>> = found.rows.iter().map(|row| Left::of(row)).collect();
    let newest = |mut rows: Vec<Left>| {
        // Of one second, what takes another run back is the later one.
        rows.sort_by(|a, b| b.started.cmp(&a.started).then(b.undo_of.is_some().cmp(&a.undo_of.is_some())));
        rows
    };
    rows.map(newest).ok_or_else(|| EngineError::Other(format!("{table} holds rows that no run has left")))
}

/// Its definition, and makes it.
///
/// # Errors
/// What the engine says.
pub fn table<D: Driver>(driver: &mut D, table: &str, make: bool) -> Result<String, EngineError> {
    let language = D::Table::LANGUAGE;
    let columns: Vec<String> =
        COLUMNS.iter().map(|(column, of)| format!("  {} {of}", language.name(column))).collect();
    let shown: Vec<String> = parts(table).iter().map(|part| language.name(part)).collect();
    let definition =
        format!("CREATE TABLE {} (\n{}\n){}", shown.join("."), columns.join(",\n"), D::TABLES_ARE);
    if make {
        driver.make_table(&definition)?;
    }
    Ok(definition)
}
