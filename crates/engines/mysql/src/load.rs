//! Making a database with tables and rows on a server that is there: for the demo and the tests.

use marktwice_core::Value;
use marktwice_network::address::Address;
use marktwice_port::EngineError;

use crate::catalog::ident;
use crate::client::literal;
use crate::open::{CUSTOM, connect};

/// Makes a new database on the server at `address`, and in it what `definitions` say, the rows, and what `after` says
/// (what must not see the rows come in; a line `//` stands before and behind what holds semicolons). Gives the address
/// of the new database.
///
/// # Errors
/// When the database is there already, or the server refuses something; then nothing is left behind.
pub fn create(
    address: &str,
    database: &str,
    definitions: &str,
    rows: &[(&str, Vec<Vec<Value>>)],
    after: &str,
) -> Result<String, EngineError> {
    let parsed = Address::parse(address, CUSTOM)?;
    let mut my = connect(&parsed, &mut Vec::new(), None)?;
    let there = my.one(&format!(
        "SELECT 1 FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = {}",
        literal(database)
    ))?;
    if there.is_some() {
        return Err(EngineError::Other(format!("there is a database {database} on that server already")));
    }
    let name = ident(database);
    my.run(&format!("CREATE DATABASE {name} CHARACTER SET utf8mb4"))?;
    let mut fill = || -> Result<(), EngineError> {
        my.run(&format!("USE {name}"))?;
        for statement in definitions.split(";\n").filter(|s| !s.trim().is_empty()) {
            my.run(statement)?;
        }
        my.pinned = true;
        my.run("START TRANSACTION")?;
        for (table, rows) in rows {
            let Some(width) = rows.first().map(Vec::len) else { continue };
            let sql = format!("INSERT INTO {} VALUES ({})", ident(table), vec!["?"; width].join(", "));
            my.execute_many(&sql, rows)?;
        }
        my.run("COMMIT")?;
        for statement in
            after.split("\n//\n").map(|s| s.trim_start_matches("//\n")).filter(|s| !s.trim().is_empty())
        {
            my.run(statement)?;
        }
        Ok(())
    };
    if let Err(error) = fill() {
        // Definitions cannot be rolled back on this engine; the database is ours, so it goes as a whole.
        my.run(&format!("DROP DATABASE {name}"))?;
        return Err(error);
    }
    let (main, query) = address.split_once('?').map_or((address, None), |(m, q)| (m, Some(q)));
    let after_scheme = main.find("://").map_or(0, |at| at + 3);
    let path =
        main.get(after_scheme..).and_then(|rest| rest.find('/')).map_or(main.len(), |at| after_scheme + at);
    let server = main.get(..path).unwrap_or(main);
    let query = query.map_or(String::new(), |q| format!("?{q}"));
    Ok(format!("{server}/{database}{query}"))
}
