//! Statements with the values that stand for `:name` in them: the library binds them by their names.

use marktwice_core::Value;
use marktwice_core::param::Bound;
use marktwice_port::EngineError;
use rusqlite::{Connection, Statement};

use crate::error::engine;
use crate::values::Bind;

/// Prepares a statement and binds what it names.
///
/// A parameter that nobody has given a value would be NULL without a word; such a statement is refused.
pub(crate) fn prepared<'c>(
    connection: &'c Connection,
    sql: &str,
    params: &[Bound],
) -> Result<Statement<'c>, EngineError> {
    let mut statement = connection.prepare(sql).map_err(engine)?;
    for at in 1..=statement.parameter_count() {
        let name = statement.parameter_name(at).map(str::to_owned);
        let bare = name.as_deref().and_then(|name| name.strip_prefix(':'));
        let Some(param) = params.iter().find(|param| Some(param.name.as_str()) == bare) else {
            let name = name.unwrap_or_else(|| "?".to_owned());
            return Err(EngineError::Other(format!("{name} has no value; parameters are written :name")));
        };
        statement.raw_bind_parameter(at, Bind(&as_written(&param.value))).map_err(engine)?;
    }
    Ok(statement)
}

/// An exact number is what it would be if it stood in the text.
fn as_written(value: &Value) -> Value {
    match value {
        Value::Decimal(text) => match text.parse::<i64>() {
            Ok(whole) => Value::Int(whole),
            Err(_) => text.parse().map_or_else(|_| value.clone(), Value::Real),
        },
        other => other.clone(),
    }
}
