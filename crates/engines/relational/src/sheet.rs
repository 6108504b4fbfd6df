//! A spreadsheet's rows as a temporary table of the session's, typed like the columns that they are used with.

use marktwice_core::Value;
use marktwice_core::finding::{Code, Finding};
use marktwice_core::param::ParamKind;
use marktwice_core::table::Column;
use marktwice_port::{EngineError, SheetRows, SheetTable};

use crate::driver::Driver;
use crate::shell::Tabled;

/// Rows that are sent at once.
const AT_ONCE: usize = 1_000;

/// The column of a table that can be named here.
///
/// # Errors
/// When the connection fails.
pub fn column<D: Driver>(
    driver: &mut D,
    schema: Option<&str>,
    table: &str,
    column: &str,
) -> Result<Option<Column>, EngineError> {
    let Ok(table) = driver.named(schema, table) else { return Ok(None) };
    let target = table.target();
    Ok(target.position(column).and_then(|at| target.columns.get(at)).cloned())
}

/// Makes the table and fills it; gives how many rows it has.
///
/// # Errors
/// [`EngineError::Refused`] where a table has that name already; what the engine says, or the source.
pub fn spread<D: Driver>(
    driver: &mut D,
    sheet: &SheetTable,
    rows: &mut SheetRows<'_>,
) -> Result<u64, EngineError> {
    let language = D::Table::LANGUAGE;
    let there = driver.looking(|driver| {
        Ok(driver.named(None, &sheet.name).is_ok() || driver.viewed(None, &sheet.name)?.is_some())
    })?;
    if there {
        let message = format!("there is a table {} already, and the sheet would hide it", sheet.name);
        let finding = Finding::new(Code::NotUnderstood, message);
        return Err(EngineError::Refused(Box::new(finding.hint("give the sheet another name"))));
    }
    let mut columns = Vec::new();
    for column in &sheet.columns {
        // Numbers are of a type that holds every one of them: what they are assigned to makes of them what it does of any.
        let number = [ParamKind::Integer, ParamKind::Decimal, ParamKind::Real].contains(&column.kind);
        let like = match column.like.as_ref().filter(|_| !number) {
            None => None,
            Some((schema, table, name)) => driver.looking(|driver| {
                let Ok(table) = driver.named(schema.as_deref(), table) else { return Ok(None) };
                Ok(table.target().position(name).map(|at| table.sheet_type(at)))
            })?,
        };
        let of = like.unwrap_or_else(|| D::Table::kind_type(column.kind).to_owned());
        columns.push(format!("{} {of}", language.quoted(&column.name)));
    }
    columns.extend(D::Table::sheet_keys(sheet));
    let name = language.quoted(&sheet.name);
    driver.execute(&format!("CREATE TEMPORARY TABLE {name} ({})", columns.join(", ")))?;
    let names: Vec<String> = sheet.columns.iter().map(|column| language.quoted(&column.name)).collect();
    let mut done = 0;
    loop {
        let mut batch: Vec<Vec<Value>> = Vec::with_capacity(AT_ONCE);
        while batch.len() < AT_ONCE {
            match rows().map_err(EngineError::Sink)? {
                Some(row) => batch.push(row),
                None => break,
            }
        }
        if batch.is_empty() {
            break;
        }
        done += batch.len() as u64;
        driver.load(&name, &names, batch)?;
    }
    if done > 0 {
        driver.loaded(&name, true)?;
    }
    Ok(done)
}
