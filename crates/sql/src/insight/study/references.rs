//! What values refer to: a foreign key's number with the name of the row that it points at.

use marktwice_core::Value;
use marktwice_core::study::{LOOKED_UP, Wish};

use super::{Questions, Subject};

/// A column that refers to another table whose rows have a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Link {
    /// The column of the target.
    pub column: usize,
    /// The other table, as it can stand after FROM.
    pub parent: String,
    /// Its key column, quoted.
    pub key: String,
    /// The column that names its rows, quoted.
    pub naming: String,
}

pub(super) fn meanings<E>(
    subject: Subject<'_>,
    wish: &Wish,
    questions: &mut Questions<'_, '_, E>,
) -> Vec<(usize, Value, String)> {
    let mut all = Vec::new();
    for (column, values) in &wish.references {
        let Some(link) = subject.links.iter().find(|l| l.column == *column) else { continue };
        let wanted: Vec<&Value> =
            values.iter().filter(|v| matches!(v, Value::Int(_) | Value::Text(_))).take(LOOKED_UP).collect();
        let literals: Vec<String> = wanted.iter().filter_map(|v| subject.step.language.literal(v)).collect();
        if literals.is_empty() {
            continue;
        }
        let Link { parent, key, naming, .. } = link;
        let sql = format!("SELECT {key}, {naming} FROM {parent} WHERE {key} IN ({})", literals.join(", "));
        let Some(answer) = questions.ask(&sql) else { continue };
        for row in 0..answer.rows.len() {
            let (Some(key), Some(name)) = (answer.text(row, 0), answer.text(row, 1)) else { continue };
            let value = wanted.iter().find(|v| match v {
                Value::Int(number) => number.to_string() == key,
                Value::Text(text) => text == key,
                _ => false,
            });
            all.extend(value.map(|v| (*column, (*v).clone(), name.to_owned())));
        }
    }
    all
}
