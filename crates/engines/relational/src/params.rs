//! Values that stand for `:name` in texts of the user's, as a connection keeps them.

use marktwice_core::Value;
use marktwice_core::param::{Bound, BoundAs, ParamKind};

/// Adds a value; one of that name is replaced.
pub fn keep(all: &mut Vec<Bound>, value: Bound) {
    all.retain(|known| known.name != value.name);
    all.push(value);
}

/// A value as its text, as every server reads it.
pub fn text(value: &Value) -> Option<String> {
    match value {
        Value::Bool(truth) => Some(truth.to_string()),
        Value::Int(number) => Some(number.to_string()),
        Value::Real(number) => Some(format!("{number:?}")),
        Value::Decimal(text) | Value::Text(text) => Some(text.clone().into()),
        Value::Null | Value::Bytes(_) | Value::TextBytes(_) | Value::Pseudonym(_) => None,
    }
}

/// How many digits an exact number has, and how many of them behind the point.
pub fn digits(text: &str) -> (usize, usize) {
    let digits = text.chars().filter(char::is_ascii_digit).count();
    (digits.max(1), text.split_once('.').map_or(0, |(_, behind)| behind.len()))
}

/// What a parameter was said to be; `None` for one that has the type of a column.
pub fn kind(bound: &Bound) -> Option<ParamKind> {
    match bound.of {
        BoundAs::Kind(kind) => Some(kind),
        BoundAs::Column(_) => None,
    }
}
