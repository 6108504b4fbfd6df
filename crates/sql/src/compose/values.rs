//! Values as they are typed: what becomes a literal of a column's type, and how a value that is there would be typed.

use marktwice_core::Value;
use marktwice_core::table::{Column, Target};
use marktwice_port::Uncomposed;

use super::{pair, wrong};
use crate::dialect::classes::{Class, class};
use crate::dialect::language::Language;

/// What was typed for a column, as a literal of its type. NULL and DEFAULT are those words; in quotes they are texts.
///
/// # Errors
/// Where the column cannot hold it.
pub(super) fn literal(language: Language, column: &Column, typed: &str) -> Result<String, Uncomposed> {
    if column.generated {
        return Err(wrong(
            format!("{} is computed by the engine and cannot be assigned", column.name),
            "assign the columns that it is computed from",
        ));
    }
    if typed.eq_ignore_ascii_case("null") {
        if column.not_null {
            return Err(wrong(
                format!("{} does not take NULL", column.name),
                format!("for the text itself write {}=\"'{typed}'\"", column.name),
            ));
        }
        return Ok("NULL".to_owned());
    }
    if typed.eq_ignore_ascii_case("default") {
        if language == Language::Sqlite {
            return Err(wrong(
                "SQLite's UPDATE knows no DEFAULT",
                format!("write the value itself; for the text write {}=\"'{typed}'\"", column.name),
            ));
        }
        return Ok("DEFAULT".to_owned());
    }
    let quoted = typed.len() >= 2 && typed.starts_with('\'') && typed.ends_with('\'');
    let inner = if quoted {
        typed.get(1..typed.len() - 1).unwrap_or("").replace("''", "'")
    } else {
        typed.to_owned()
    };
    if inner.contains('\0') {
        return Err(wrong("there is a NUL character in the value", "leave it out"));
    }
    match class(&column.declared) {
        Class::Number => number(column, &inner),
        Class::Moment if inner.trim().is_empty() => Err(wrong(
            format!("{} holds {}; nothing is no moment", column.name, column.declared),
            format!("write {}=NULL to empty it", column.name),
        )),
        // Where columns have no type, a number is one unless it is in quotes.
        Class::Other if language == Language::Sqlite && !quoted && is_number(&inner) => Ok(inner),
        Class::Text | Class::Moment | Class::Other => Ok(language.text_literal(&inner)),
    }
}

/// A value as it would be typed for a column; `None` where it cannot be.
pub fn typed(language: Language, column: &Column, value: &Value) -> Option<String> {
    let text = match value {
        Value::Null => return Some("NULL".to_owned()),
        Value::Bool(truth) => return Some(truth.to_string()),
        Value::Int(number) => return Some(number.to_string()),
        Value::Real(number) if number.is_finite() => return Some(value.to_json().to_string()),
        Value::Decimal(digits) => return Some(digits.clone().into()),
        Value::Text(text) => text,
        _ => return None,
    };
    if text.chars().any(|c| c.is_control() && c != '\n' && c != '\t') {
        return None;
    }
    let word = ["null", "default"].iter().any(|word| text.eq_ignore_ascii_case(word));
    let number = class(&column.declared) == Class::Other && language == Language::Sqlite && is_number(text);
    let quotes = word || number || text.trim() != text || text.is_empty() || text.contains(['\n', '\'']);
    Some(if quotes { format!("'{}'", text.replace('\'', "''")) } else { text.clone().into() })
}

/// A condition that `stands` for what a column holds is one of some values, as they were typed; texts to the letter.
///
/// # Errors
/// Where there is no such column, or it cannot hold such a value.
pub fn was(
    language: Language,
    target: &Target,
    (name, stands): (&str, &str),
    values: &[String],
) -> Result<String, Uncomposed> {
    let (column, _) = pair(target, &format!("{name}="))?;
    let mut all = Vec::new();
    for typed in values {
        // What a column holds may be computed, and NULL may be said of one that takes none: then no row holds it.
        let plain = Column { generated: false, not_null: false, ..column.clone() };
        let literal = literal(language, &plain, typed)?;
        if literal == "DEFAULT" {
            let what = format!("DEFAULT is no value that {} held", column.name);
            return Err(wrong(what, format!("for the text itself write {}=\"'{typed}'\"", column.name)));
        }
        let text = class(&column.declared) == Class::Text && literal != "NULL";
        all.push(match language {
            Language::Sqlite => format!("{stands} IS {literal}"),
            Language::Postgres if text => format!("CAST({stands} AS text) IS NOT DISTINCT FROM {literal}"),
            Language::Postgres => format!("{stands} IS NOT DISTINCT FROM {literal}"),
            Language::Mysql if text => {
                format!("CAST(CONVERT({stands} USING utf8mb4) AS BINARY) <=> {literal}")
            }
            Language::Mysql => format!("{stands} <=> {literal}"),
        });
    }
    Ok(all.join(" OR "))
}

pub(super) fn is_number(text: &str) -> bool {
    let digits = text.strip_prefix(['-', '+']).unwrap_or(text);
    let plain = digits.starts_with(|c: char| c.is_ascii_digit() || c == '.')
        && digits.chars().all(|c| c.is_ascii_digit() || matches!(c, '.' | 'e' | 'E' | '-' | '+'));
    plain && text.parse::<f64>().is_ok_and(f64::is_finite)
}

fn number(column: &Column, text: &str) -> Result<String, Uncomposed> {
    if is_number(text) {
        return Ok(text.to_owned());
    }
    let shown = if text.is_empty() { "nothing".to_owned() } else { format!("'{text}'") };
    let hint = if is_number(&text.replace(',', ".")) {
        format!("write {}={}", column.name, text.replace(',', "."))
    } else {
        "write a number, or NULL; an expression goes into a change of its own (--sql)".to_owned()
    };
    Err(wrong(format!("{} holds {}, and {shown} is no number", column.name, column.declared), hint))
}
