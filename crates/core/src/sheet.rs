//! A spreadsheet's rows as a table: what it is called, where it comes from, how its cells are written, and what a cell means.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::param::ParamKind;
use crate::value::{Value, pseudonym};

/// How days are written in a sheet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Days {
    /// `2026-05-10`.
    #[default]
    Iso,
    /// `10.05.2026`, `10/5/2026`.
    DayMonthYear,
    /// `05/10/2026`.
    MonthDayYear,
}

/// How the cells of a sheet are written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Form {
    /// What stands between the cells of a line.
    pub separator: char,
    /// Whether a comma stands before the decimals, and points between thousands.
    #[serde(default)]
    pub decimal_comma: bool,
    /// How days are written.
    #[serde(default)]
    pub days: Days,
    /// The text that stands for NULL; an empty cell does too, except in a column of texts where such a text is told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub null: Option<String>,
}

/// A sheet that a change reads as a table.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sheet {
    /// The table's name.
    pub name: String,
    /// The file.
    pub file: String,
    /// Hash of its bytes.
    pub hash: String,
    /// How its cells are written.
    pub form: Form,
    /// The names of its columns, in order.
    pub columns: Vec<String>,
    /// What columns are, where that was said.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub types: BTreeMap<String, ParamKind>,
    /// How many lines it has, the one with the names left out.
    pub lines: u64,
}

/// The column of a sheet's table that holds the number of the line in the file.
pub const LINE: &str = "line";

impl Sheet {
    /// What tells it from the same sheet with other contents.
    pub fn identity(&self) -> String {
        let Form { separator, decimal_comma, days, null } = &self.form;
        format!("{} {} {separator} {decimal_comma} {days:?} {null:?} {:?}", self.name, self.hash, self.types)
    }

    /// Whether its table tells lines by their numbers: not where a column of its own is called so.
    pub fn numbers_lines(&self) -> bool {
        !self.columns.iter().any(|c| c.eq_ignore_ascii_case(LINE))
    }
}

/// A value as a cell says it; `None` for NULL.
pub fn text(value: &Value) -> Option<String> {
    Some(match value {
        Value::Null => return None,
        Value::Pseudonym(number) => pseudonym(*number),
        Value::Text(text) | Value::Decimal(text) => text.clone().into(),
        Value::TextBytes(bytes) => String::from_utf8_lossy(bytes).into_owned(),
        Value::Bytes(bytes) => {
            let digits: String = bytes.iter().map(|b| format!("{b:02x}")).collect();
            format!("x'{digits}'")
        }
        // All digits, also of numbers that JSON programs would round.
        Value::Int(number) => number.to_string(),
        Value::Bool(truth) => truth.to_string(),
        Value::Real(number) => match value.to_json() {
            serde_json::Value::Number(text) => text.to_string(),
            _ => number.to_string(),
        },
    })
}

/// What a cell means in a column of a kind.
///
/// # Errors
/// A few words on what it is not: `"12,5x" is no decimal`.
pub fn cell(kind: ParamKind, text: &str, form: &Form) -> Result<Value, String> {
    let trimmed = text.trim();
    let null = form.null.as_deref().is_some_and(|null| trimmed == null);
    let empty = trimmed.is_empty() && (kind != ParamKind::Text || (form.null.is_none() && text.is_empty()));
    if null || empty {
        return Ok(Value::Null);
    }
    let no = |what: &str| Err(format!("\"{}\" is no {what}", short(text)));
    match kind {
        ParamKind::Text if text.contains('\0') => no("text: it holds a NUL character"),
        ParamKind::Text => Ok(Value::Text(text.into())),
        ParamKind::Integer => match plain_number(trimmed, form) {
            Some(digits) => match digits.parse::<i64>() {
                Ok(number) => Ok(Value::Int(number)),
                Err(_) => match digits.trim_end_matches('0').strip_suffix('.').map(str::parse::<i64>) {
                    Some(Ok(number)) => Ok(Value::Int(number)),
                    _ => no("whole number"),
                },
            },
            None => no(&spoiled(trimmed, "whole number")),
        },
        ParamKind::Decimal => match plain_number(trimmed, form) {
            Some(digits) => Ok(Value::Decimal(digits.into())),
            None => no(&spoiled(trimmed, "decimal")),
        },
        ParamKind::Real => match plain_number(trimmed, form).as_deref().unwrap_or(trimmed).parse::<f64>() {
            Ok(number) if number.is_finite() => Ok(Value::Real(number)),
            _ => no("number"),
        },
        ParamKind::Boolean => match trimmed.to_ascii_lowercase().as_str() {
            "true" | "yes" | "1" => Ok(Value::Bool(true)),
            "false" | "no" | "0" => Ok(Value::Bool(false)),
            _ => no("boolean: true or false"),
        },
        ParamKind::Date => match day(trimmed, form.days) {
            Some(day) => Ok(Value::Text(day.into())),
            None => no(&of_days("day", form.days)),
        },
        ParamKind::Time => match time(trimmed) {
            true => Ok(Value::Text(trimmed.into())),
            false => no("time of day: 07:30:00"),
        },
        ParamKind::Moment => {
            let (date, rest) = trimmed.split_once([' ', 'T']).unwrap_or((trimmed, "00:00:00"));
            match day(date, form.days).filter(|_| time(rest.trim())) {
                Some(day) => Ok(Value::Text(format!("{day} {}", rest.trim()).into())),
                None => no(&of_days("moment", form.days)),
            }
        }
    }
}

/// What a number that is none may have become of.
fn spoiled(text: &str, what: &str) -> String {
    let scientific = text.contains(['e', 'E']) && text.parse::<f64>().is_ok();
    if scientific {
        return format!("{what}: a spreadsheet has rounded it; write it out");
    }
    what.to_owned()
}

fn of_days(what: &str, days: Days) -> String {
    let form = match days {
        Days::Iso => "2026-05-10",
        Days::DayMonthYear => "10.05.2026",
        Days::MonthDayYear => "05/10/2026",
    };
    format!("{what} as this sheet writes them: {form}")
}

fn short(text: &str) -> String {
    if text.chars().count() <= 40 {
        return text.to_owned();
    }
    format!("{}…", text.chars().take(39).collect::<String>())
}

/// A number with a point before its decimals and nothing between its thousands; `None` for anything else.
pub fn plain_number(text: &str, form: &Form) -> Option<String> {
    let (sign, digits) = match text.strip_prefix('-') {
        Some(rest) => ("-", rest),
        None => ("", text.strip_prefix('+').unwrap_or(text)),
    };
    let (point, group) = if form.decimal_comma { (',', '.') } else { ('.', ',') };
    let (whole, behind) = match digits.split_once(point) {
        Some((whole, behind)) => (whole, Some(behind)),
        None => (digits, None),
    };
    let all_digits = |part: &str| !part.is_empty() && part.bytes().all(|b| b.is_ascii_digit());
    let mut groups = whole.split(group);
    let first = groups.next().unwrap_or_default();
    let grouped = whole.contains(group);
    let right =
        all_digits(first) && (!grouped || first.len() <= 3) && groups.all(|g| g.len() == 3 && all_digits(g));
    if !right || behind.is_some_and(|behind| !all_digits(behind)) {
        return None;
    }
    let whole: String = whole.chars().filter(|c| *c != group).collect();
    let behind = behind.map_or(String::new(), |behind| format!(".{behind}"));
    Some(format!("{sign}{whole}{behind}"))
}

/// A day in the form of ISO 8601.
fn day(text: &str, days: Days) -> Option<String> {
    let parts: Vec<&str> = text.split(['-', '.', '/']).map(str::trim).collect();
    let [a, b, c] = parts.as_slice() else { return None };
    let iso = a.len() == 4;
    let (year, month, day) = match days {
        // Written so there is no doubt, whatever else the sheet does.
        _ if iso => (a, b, c),
        Days::Iso => return None,
        Days::DayMonthYear => (c, b, a),
        Days::MonthDayYear => (c, a, b),
    };
    if year.len() != 4 || month.len() > 2 || day.len() > 2 {
        return None;
    }
    let (year, month, day): (u32, u32, u32) = (year.parse().ok()?, month.parse().ok()?, day.parse().ok()?);
    let leap = year.is_multiple_of(4) && (!year.is_multiple_of(100) || year.is_multiple_of(400));
    let last = match month {
        4 | 6 | 9 | 11 => 30,
        2 if leap => 29,
        2 => 28,
        1..=12 => 31,
        _ => return None,
    };
    (1..=last).contains(&day).then(|| format!("{year:04}-{month:02}-{day:02}"))
}

fn time(text: &str) -> bool {
    let parts: Vec<&str> = text.split(':').collect();
    let below = |part: Option<&&str>, most: f64| {
        part.is_some_and(|p| {
            p.starts_with(|c: char| c.is_ascii_digit()) && p.parse::<f64>().is_ok_and(|n| n < most)
        })
    };
    matches!(parts.len(), 2 | 3)
        && below(parts.first(), 24.0)
        && below(parts.get(1), 60.0)
        && (parts.len() == 2 || below(parts.get(2), 60.0))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn form(decimal_comma: bool, days: Days) -> Form {
        Form { separator: ';', decimal_comma, days, null: None }
    }

    #[test]
    fn all_digits_are_written() {
        for (value, written) in [
            (Value::Int(9_007_199_254_740_993), "9007199254740993"),
            (Value::Int(i64::MIN), "-9223372036854775808"),
            (Value::Real(0.1), "0.1"),
            (Value::Real(3.0), "3.0"),
            (Value::Real(f64::INFINITY), "inf"),
            (Value::Bool(true), "true"),
        ] {
            assert_eq!(text(&value).as_deref(), Some(written));
        }
    }

    #[test]
    fn cells_of_many_offices() {
        let (point, comma) = (form(false, Days::Iso), form(true, Days::DayMonthYear));
        let decimal = |text: &str| Ok(Value::Decimal(text.into()));
        let text = |text: &str| Ok(Value::Text(text.into()));
        for (kind, cell_text, form, wanted) in [
            (ParamKind::Decimal, "12.50", &point, decimal("12.50")),
            (ParamKind::Decimal, "1,234.5", &point, decimal("1234.5")),
            (ParamKind::Decimal, "1.234,50", &comma, decimal("1234.50")),
            (ParamKind::Decimal, "-0,5", &comma, decimal("-0.5")),
            (ParamKind::Integer, " 12 ", &point, Ok(Value::Int(12))),
            (ParamKind::Integer, "12,0", &comma, Ok(Value::Int(12))),
            (ParamKind::Integer, "", &point, Ok(Value::Null)),
            (ParamKind::Date, "10.5.2026", &comma, text("2026-05-10")),
            (ParamKind::Date, "2026-05-10", &comma, text("2026-05-10")),
            (ParamKind::Moment, "10.05.2026 07:30", &comma, text("2026-05-10 07:30")),
            (ParamKind::Text, " a ", &point, text(" a ")),
            (ParamKind::Text, "007", &point, text("007")),
        ] {
            assert_eq!(cell(kind, cell_text, form), wanted, "{cell_text}");
        }
        for (kind, cell_text, form) in [
            (ParamKind::Decimal, "1.2.3", &point),
            (ParamKind::Decimal, "12,5", &point),
            (ParamKind::Decimal, "1E+05", &point),
            (ParamKind::Decimal, "dear", &point),
            (ParamKind::Integer, "12.5", &point),
            (ParamKind::Date, "29.02.2026", &comma),
            (ParamKind::Date, "10.05.26", &comma),
            (ParamKind::Date, "10.05.2026", &point),
            (ParamKind::Time, "25:00", &point),
            (ParamKind::Boolean, "maybe", &point),
        ] {
            assert!(cell(kind, cell_text, form).is_err(), "{cell_text}");
        }
        let marked = Form { null: Some("NULL".into()), ..point };
        assert_eq!(cell(ParamKind::Text, "", &marked), text(""));
        assert_eq!(cell(ParamKind::Text, "NULL", &marked), Ok(Value::Null));
    }
}
