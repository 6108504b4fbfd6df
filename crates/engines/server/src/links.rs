//! Which columns of a target refer to rows that have a name.

use marktwice_core::table::Target;
use marktwice_port::EngineError;
use marktwice_sql::Language;
use marktwice_sql::study::Link;

use crate::reach::ForeignKey;

/// The links of a target; `shown` is its name as foreign keys have it, `describe` describes a parent.
///
/// # Errors
/// What `describe` answers.
pub fn links(
    language: Language,
    keys: &[ForeignKey],
    target: &Target,
    shown: &str,
    describe: &mut dyn FnMut(&str, &str) -> Result<Target, EngineError>,
) -> Result<Vec<Link>, EngineError> {
    let mut all = Vec::new();
    for key in keys.iter().filter(|k| k.child == shown) {
        let ([child], [parent]) = (key.child_columns.as_slice(), key.parent_columns.as_slice()) else {
            continue;
        };
        let Some(column) = target.position(child) else { continue };
        let (schema, table) = &key.parent_name;
        // A parent that may not be read has no names for us.
        let Ok(of) = describe(schema, table) else { continue };
        let naming = of.naming.and_then(|at| of.columns.get(at)).map(|c| language.quoted(&c.name));
        let Some(naming) = naming.filter(|n| *n != language.quoted(parent)) else { continue };
        all.push(Link {
            column,
            parent: format!("{}.{}", language.quoted(schema), language.quoted(table)),
            key: language.quoted(parent),
            naming,
        });
    }
    Ok(all)
}
