//! Rows in the server's COPY text format (<https://www.postgresql.org/docs/current/sql-copy.html>, "Text Format"), and
//! values in the text forms of their types.

use std::io::{BufRead, Write};

use marktwice_core::Value;
use marktwice_port::EngineError;

/// How the text of a type becomes a value. All that is not named here stays text, as the server writes it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    Bool,
    Int,
    Real,
    Decimal,
    Bytes,
    Text,
}

impl Form {
    /// The form of a type, by its object identifier in `pg_type`, which is the same on every server for these.
    pub(crate) fn of(oid: &str) -> Form {
        match oid {
            "16" => Form::Bool,
            "20" | "21" | "23" | "26" => Form::Int,
            "700" | "701" => Form::Real,
            "1700" => Form::Decimal,
            "17" => Form::Bytes,
            _ => Form::Text,
        }
    }

    /// The value that a text stands for.
    pub(crate) fn value(self, text: Option<&[u8]>) -> Result<Value, EngineError> {
        let Some(bytes) = text else { return Ok(Value::Null) };
        let odd = || {
            EngineError::Other(format!(
                "the server sent {:?} where {self:?} was to be expected",
                String::from_utf8_lossy(bytes)
            ))
        };
        let text = std::str::from_utf8(bytes);
        Ok(match self {
            Form::Text => Value::text(bytes),
            Form::Decimal => Value::Decimal(text.map_err(|_| odd())?.to_owned().into()),
            Form::Int => Value::Int(text.ok().and_then(|t| t.parse().ok()).ok_or_else(odd)?),
            // Rust reads NaN and Infinity as the server writes them, and the shortest form exactly.
            Form::Real => Value::Real(text.ok().and_then(|t| t.parse().ok()).ok_or_else(odd)?),
            Form::Bool => match bytes {
                b"t" => Value::Bool(true),
                b"f" => Value::Bool(false),
                _ => return Err(odd()),
            },
            Form::Bytes => Value::Bytes(unhex(bytes.strip_prefix(b"\\x").ok_or_else(odd)?).ok_or_else(odd)?),
        })
    }
}

fn unhex(hex: &[u8]) -> Option<Vec<u8>> {
    let digit = |c: u8| char::from(c).to_digit(16).and_then(|d| u8::try_from(d).ok());
    hex.chunks(2)
        .map(|pair| match pair {
            [high, low] => Some(digit(*high)? << 4 | digit(*low)?),
            _ => None,
        })
        .collect()
}

/// The text of a value, as the server reads it back; `None` for NULL.
pub(crate) fn text(value: &Value) -> Option<Vec<u8>> {
    Some(match value {
        // What stands for a hidden key is no value, and equal to none.
        Value::Null | Value::Pseudonym(_) => return None,
        Value::Bool(b) => {
            if *b {
                b"t".to_vec()
            } else {
                b"f".to_vec()
            }
        }
        Value::Int(i) => i.to_string().into_bytes(),
        Value::Real(r) if r.is_nan() => b"NaN".to_vec(),
        Value::Real(r) if r.is_infinite() => {
            if *r > 0.0 {
                b"Infinity".to_vec()
            } else {
                b"-Infinity".to_vec()
            }
        }
        Value::Real(r) => format!("{r:e}").into_bytes(),
        Value::Decimal(d) => d.as_bytes().to_vec(),
        Value::Text(s) => s.as_bytes().to_vec(),
        Value::TextBytes(b) => b.clone(),
        Value::Bytes(b) => {
            let mut hex = b"\\x".to_vec();
            for byte in b {
                hex.extend(format!("{byte:02x}").bytes());
            }
            hex
        }
    })
}

/// Reads rows from COPY … TO STDOUT, handing each over as values in the given forms.
pub(crate) fn read(
    reader: &mut dyn BufRead,
    forms: &[Form],
    give: &mut dyn FnMut(Vec<Value>) -> Result<(), EngineError>,
) -> Result<(), EngineError> {
    let lost = |e: std::io::Error| match e.get_ref().is_some_and(|inner| inner.is::<postgres::Error>()) {
        // What the server says of the statement, once it is at work, comes where its rows would have come.
        true => match e.into_inner().map(|inner| inner.downcast::<postgres::Error>()) {
            Some(Ok(said)) => crate::error::engine(*said),
            _ => EngineError::Other("the connection broke off while rows were read".to_owned()),
        },
        false => EngineError::Other(format!("the connection broke off while rows were read: {e}")),
    };
    let mut line = Vec::new();
    let mut cell = Vec::new();
    loop {
        line.clear();
        if reader.read_until(b'\n', &mut line).map_err(lost)? == 0 {
            return Ok(());
        }
        let content = line.strip_suffix(b"\n").unwrap_or(&line);
        let mut row = Vec::with_capacity(forms.len());
        for (field, form) in content.split(|b| *b == b'\t').zip(forms) {
            if field == b"\\N" {
                row.push(Value::Null);
            } else {
                unescape(field, &mut cell);
                row.push(form.value(Some(&cell))?);
            }
        }
        if row.len() != forms.len() {
            return Err(EngineError::Other(format!(
                "the server sent a row of {} columns where {} were to be expected",
                row.len(),
                forms.len()
            )));
        }
        give(row)?;
    }
}

fn unescape(field: &[u8], into: &mut Vec<u8>) {
    into.clear();
    let mut bytes = field.iter();
    while let Some(byte) = bytes.next() {
        into.push(match byte {
            b'\\' => match bytes.next() {
                Some(b'b') => 8,
                Some(b'f') => 12,
                Some(b'n') => b'\n',
                Some(b'r') => b'\r',
                Some(b't') => b'\t',
                Some(b'v') => 11,
                Some(other) => *other,
                None => b'\\',
            },
            other => *other,
        });
    }
}

/// Writes one row for COPY … FROM STDIN.
pub(crate) fn write<'v>(
    into: &mut dyn Write,
    values: impl IntoIterator<Item = &'v Value>,
) -> std::io::Result<()> {
    for (at, value) in values.into_iter().enumerate() {
        if at > 0 {
            into.write_all(b"\t")?;
        }
        let Some(text) = text(value) else {
            into.write_all(b"\\N")?;
            continue;
        };
        for byte in text {
            match byte {
                b'\\' => into.write_all(b"\\\\")?,
                b'\n' => into.write_all(b"\\n")?,
                b'\r' => into.write_all(b"\\r")?,
                b'\t' => into.write_all(b"\\t")?,
                other => into.write_all(&[other])?,
            }
        }
    }
    into.write_all(b"\n")
}

/// A literal of unknown type that stands for a value, whatever the server's settings about backslashes.
pub(crate) fn literal(value: &Value) -> Result<String, EngineError> {
    let Some(bytes) = text(value) else { return Ok("NULL".to_owned()) };
    let text = String::from_utf8(bytes).map_err(|_| {
        EngineError::Other("a text that is not UTF-8 cannot be written to this server".to_owned())
    })?;
    Ok(quoted(&text))
}

/// A text as a literal.
pub(crate) fn quoted(text: &str) -> String {
    format!("E'{}'", text.replace('\\', "\\\\").replace('\'', "''"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_there_and_back() {
        let rows = [
            vec![
                Value::Int(-5),
                Value::Real(0.1),
                Value::Text("a\tb\\N\n\r\u{8}'".into()),
                Value::Bytes(vec![0, 255, 92]),
            ],
            vec![Value::Null, Value::Real(-0.0), Value::Text("".into()), Value::Null],
            vec![
                Value::Int(0),
                Value::Real(f64::NEG_INFINITY),
                Value::Text("\\N".into()),
                Value::Bytes(vec![]),
            ],
            vec![Value::Int(0), Value::Real(f64::MAX), Value::Text("\\.".into()), Value::Bytes(vec![1])],
        ];
        let mut wire = Vec::new();
        for row in &rows {
            write(&mut wire, row).unwrap();
        }
        let mut back = Vec::new();
        let forms = [Form::Int, Form::Real, Form::Text, Form::Bytes];
        read(&mut wire.as_slice(), &forms, &mut |row| {
            back.push(row.to_vec());
            Ok(())
        })
        .unwrap();
        assert_eq!(back, rows);
        assert!(read(&mut b"1\t2\n".as_slice(), &forms, &mut |_| Ok(())).is_err());
        assert_eq!(literal(&Value::Text("it's \\".into())).unwrap(), "E'it''s \\\\'");
    }
}
