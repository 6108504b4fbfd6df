//! Making a schema with tables and rows in a database that is there: for the demo and the tests.

use marktwice_core::Value;
use marktwice_network::address::Address;
use marktwice_port::EngineError;

use crate::catalog::ident;
use crate::copy;
use crate::driver::copy_in;
use crate::open::{CUSTOM, connect};

/// Makes a new schema in the database at `address`, and in it what `definitions` say, the rows, and what `after` says
/// (what must not see the rows come in). Gives the address under which the schema is meant.
///
/// # Errors
/// When the schema is there already, or the server refuses something; then nothing is left behind.
pub fn create(
    address: &str,
    schema: &str,
    definitions: &str,
    rows: &[(&str, Vec<Vec<Value>>)],
    after: &str,
) -> Result<String, EngineError> {
    let parsed = Address::parse(address, CUSTOM)?;
    let mut pg = connect(&parsed, &mut Vec::new())?;
    let there =
        pg.one(&format!("SELECT 1 FROM pg_catalog.pg_namespace WHERE nspname = {}", copy::quoted(schema)))?;
    if there.is_some() {
        return Err(EngineError::Other(format!(
            "there is a schema {schema} in {} already",
            parsed.shown(CUSTOM.port)
        )));
    }
    let name = ident(schema);
    pg.run(&format!("BEGIN; CREATE SCHEMA {name}; SET LOCAL search_path TO {name}"))?;
    pg.run(definitions)?;
    for (table, rows) in rows {
        let mut wire = Vec::new();
        for row in rows {
            copy::write(&mut wire, row).map_err(|e| EngineError::Other(e.to_string()))?;
        }
        copy_in(&mut pg, &format!("{name}.{}", ident(table)), &wire)?;
    }
    pg.run(after)?;
    pg.run("COMMIT")?;
    let join = if address.contains('?') { '&' } else { '?' };
    Ok(format!("{address}{join}schema={schema}"))
}
