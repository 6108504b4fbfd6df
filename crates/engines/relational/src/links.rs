//! Which columns of a target refer to rows that have a name.

use marktwice_core::table::Target;
use marktwice_port::EngineError;
use marktwice_sql::insight::study::Link;

use crate::driver::Driver;
use crate::reach::ForeignKey;
use crate::shell::Tabled;

/// The links of a table; `named` gives a table the column that names its rows, where the engine would choose another or none may.
///
/// # Errors
/// What the engine says.
pub fn links<D: Driver>(
    driver: &mut D,
    keys: &[ForeignKey],
    table: &D::Table,
    named: &dyn Fn(&mut Target),
) -> Result<Vec<Link>, EngineError> {
    let (language, target) = (D::Table::LANGUAGE, table.target());
    let mut all = Vec::new();
    for key in keys.iter().filter(|k| k.child == table.shown()) {
        let ([child], [parent]) = (key.child_columns.as_slice(), key.parent_columns.as_slice()) else {
            continue;
        };
        let Some(column) = target.position(child) else { continue };
        let (schema, name) = &key.parent_name;
        // A parent that may not be read has no names for us.
        let Ok(parent_table) = driver.described(schema, name) else { continue };
        let mut of = parent_table.target().clone();
        named(&mut of);
        let naming = of.naming.and_then(|at| of.columns.get(at)).map(|c| language.quoted(&c.name));
        let Some(naming) = naming.filter(|n| *n != language.quoted(parent)) else { continue };
        all.push(Link { column, parent: parent_table.inserted_name(), key: language.quoted(parent), naming });
    }
    Ok(all)
}
