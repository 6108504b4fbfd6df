//! Values there and back through the binary protocol, which is exact for every type; dates and times in their written
//! form, since they may be none that a calendar knows (`0000-00-00`, `838:59:59`).

use marktwice_core::Value;
use mysql::Value as Wire;

/// How a type's values are held.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    Number,
    Decimal,
    Text,
    Bytes,
    Date,
    /// With so many digits behind the second.
    Moment(usize),
    /// With so many digits behind the second.
    Time(usize),
}

impl Form {
    /// The form of a type, by its name in the catalogue.
    pub(crate) fn of(data_type: &str, digits: usize) -> Form {
        match data_type {
            "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "year" | "float" | "double" => {
                Form::Number
            }
            "decimal" => Form::Decimal,
            "date" => Form::Date,
            "datetime" | "timestamp" => Form::Moment(digits),
            "time" => Form::Time(digits),
            "char" | "varchar" | "tinytext" | "text" | "mediumtext" | "longtext" | "enum" | "set"
            | "json" | "uuid" | "inet4" | "inet6" => Form::Text,
            // Binary strings, bits, geometries.
            _ => Form::Bytes,
        }
    }

    /// A value as it came from the server.
    pub(crate) fn value(self, wire: Wire) -> Value {
        match (self, wire) {
            (_, Wire::NULL) => Value::Null,
            (_, Wire::Int(i)) => Value::Int(i),
            (_, Wire::UInt(u)) => {
                i64::try_from(u).map_or_else(|_| Value::Decimal(u.to_string().into()), Value::Int)
            }
            // Every FLOAT is a double exactly, and the double goes back into the very same FLOAT.
            (_, Wire::Float(f)) => Value::Real(f64::from(f)),
            (_, Wire::Double(d)) => Value::Real(d),
            (Form::Decimal, Wire::Bytes(b)) => {
                Value::Decimal(String::from_utf8_lossy(&b).into_owned().into())
            }
            (Form::Bytes, Wire::Bytes(b)) => Value::Bytes(b),
            (_, Wire::Bytes(b)) => Value::text(&b),
            (Form::Date, Wire::Date(y, m, d, ..)) => Value::Text(format!("{y:04}-{m:02}-{d:02}").into()),
            (form, Wire::Date(y, mo, d, h, mi, s, us)) => Value::Text(
                format!("{y:04}-{mo:02}-{d:02} {h:02}:{mi:02}:{s:02}{}", fraction(us, form.digits())).into(),
            ),
            (form, Wire::Time(negative, d, h, m, s, us)) => Value::Text(
                format!(
                    "{}{:02}:{m:02}:{s:02}{}",
                    if negative { "-" } else { "" },
                    u64::from(d) * 24 + u64::from(h),
                    fraction(us, form.digits())
                )
                .into(),
            ),
        }
    }

    fn digits(self) -> usize {
        match self {
            Form::Moment(digits) | Form::Time(digits) => digits,
            _ => 6,
        }
    }
}

fn fraction(micros: u32, digits: usize) -> String {
    match digits.min(6) {
        0 => String::new(),
        digits => format!(".{}", format!("{micros:06}").get(..digits).unwrap_or("")),
    }
}

/// A value to bind.
pub(crate) fn bind(value: &Value) -> Wire {
    match value {
        // What stands for a hidden key is no value, and equal to none.
        Value::Null | Value::Pseudonym(_) => Wire::NULL,
        Value::Bool(b) => Wire::Int(i64::from(*b)),
        Value::Int(i) => Wire::Int(*i),
        Value::Real(r) => Wire::Double(*r),
        Value::Text(s) | Value::Decimal(s) => Wire::Bytes(s.as_bytes().to_vec()),
        Value::TextBytes(b) | Value::Bytes(b) => Wire::Bytes(b.clone()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_and_times_that_no_calendar_knows() {
        let text = |form: Form, wire: Wire| match form.value(wire) {
            Value::Text(t) => t,
            other => panic!("{other:?}"),
        };
        assert_eq!(text(Form::Date, Wire::Date(0, 0, 0, 0, 0, 0, 0)), "0000-00-00");
        assert_eq!(text(Form::Moment(3), Wire::Date(2026, 5, 0, 1, 2, 3, 45_000)), "2026-05-00 01:02:03.045");
        assert_eq!(text(Form::Time(0), Wire::Time(true, 34, 22, 59, 59, 0)), "-838:59:59");
        assert_eq!(Form::Number.value(Wire::UInt(u64::MAX)), Value::Decimal("18446744073709551615".into()));
        assert_eq!(Form::Number.value(Wire::UInt(7)), Value::Int(7));
    }
}
