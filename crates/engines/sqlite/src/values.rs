//! Values there and back, without loss: text with NUL characters or broken UTF-8, infinities, blobs, and storage
//! classes that do not fit the declared type.

use marktwice_core::Value;
use rusqlite::types::{ToSql, ToSqlOutput, ValueRef};

/// A value as the library hands it over.
pub(crate) fn from_ref(value: ValueRef<'_>) -> Value {
    match value {
        ValueRef::Null => Value::Null,
        ValueRef::Integer(i) => Value::Int(i),
        ValueRef::Real(r) => Value::Real(r),
        ValueRef::Text(bytes) => Value::text(bytes),
        ValueRef::Blob(bytes) => Value::Bytes(bytes.to_vec()),
    }
}

/// A value to bind.
pub(crate) struct Bind<'a>(pub(crate) &'a Value);

impl ToSql for Bind<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self.0 {
            // What stands for a hidden key is no value, and equal to none.
            Value::Null | Value::Pseudonym(_) => ValueRef::Null,
            Value::Bool(b) => ValueRef::Integer(i64::from(*b)),
            Value::Int(i) => ValueRef::Integer(*i),
            Value::Real(r) => ValueRef::Real(*r),
            Value::Text(s) | Value::Decimal(s) => ValueRef::Text(s.as_bytes()),
            Value::TextBytes(b) => ValueRef::Text(b),
            Value::Bytes(b) => ValueRef::Blob(b),
        }))
    }
}

/// The values of `count` result columns from column `from` on, appended to `into`.
pub(crate) fn read(
    row: &rusqlite::Row<'_>,
    from: usize,
    count: usize,
    into: &mut Vec<Value>,
) -> rusqlite::Result<()> {
    for at in from..from + count {
        into.push(from_ref(row.get_ref(at)?));
    }
    Ok(())
}
