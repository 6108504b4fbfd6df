//! A sheet that was written out, edited in a spreadsheet program, and comes back: which cells were edited, and which the program
//! itself has spoiled.

use crate::param::ParamKind;
use crate::sheet::{Form, cell, plain_number, text};
use crate::value::Value;

/// What became of a cell.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Edit {
    /// It says what the row holds.
    Same,
    /// It says something else.
    New(Value),
    /// Nobody can tell what it means, or the program has made it of what was there: in a few words.
    Spoiled(String),
}

/// Takes off the sign that is written before a text which a spreadsheet would run.
fn bare(cell: &str) -> &str {
    match cell.strip_prefix('\'') {
        Some(rest)
            if rest.trim_start_matches([' ', '"']).starts_with(['=', '+', '-', '@', '\t', '\r', '\n']) =>
        {
            rest
        }
        _ => cell,
    }
}

/// A number without what changes nothing of it: zeros around it, a sign for nothing.
fn number(text: &str) -> Option<String> {
    let point = Form { separator: ',', decimal_comma: false, days: crate::sheet::Days::Iso, null: None };
    let plain = match plain_number(text.trim(), &point) {
        Some(plain) => plain,
        None => {
            let float: f64 = text.trim().parse().ok().filter(|n: &f64| n.is_finite())?;
            format!("{float}")
        }
    };
    let (sign, digits) = plain.strip_prefix('-').map_or(("", plain.as_str()), |rest| ("-", rest));
    let (whole, behind) = digits.split_once('.').unwrap_or((digits, ""));
    let (whole, behind) = (whole.trim_start_matches('0'), behind.trim_end_matches('0'));
    let whole = if whole.is_empty() { "0" } else { whole };
    let all = if behind.is_empty() { whole.to_owned() } else { format!("{whole}.{behind}") };
    Some(if all == "0" { all } else { format!("{sign}{all}") })
}

/// Compares a cell with what the row holds in its column.
pub fn compare(kind: ParamKind, held: &Value, cell_text: &str, form: &Form) -> Edit {
    let own = bare(cell_text);
    let marked = form.null.as_deref().is_some_and(|null| own.trim() == null);
    if marked && text(held).is_some_and(|text| text.trim() == own.trim()) {
        let own = own.trim();
        return Edit::Spoiled(format!(
            "\"{own}\" is what the row holds, and how NULL is written here: choose another word, --null TEXT"
        ));
    }
    if marked {
        return if held.is_null() { Edit::Same } else { Edit::New(Value::Null) };
    }
    let exported = text(held);
    if exported.as_deref() == Some(own) || (exported.is_none() && own.is_empty() && form.null.is_none()) {
        return Edit::Same;
    }
    if own.is_empty() && kind == ParamKind::Text && form.null.is_none() {
        return Edit::Spoiled(
            "it is empty: NULL, or a text of nothing? Say how NULL is written: --null TEXT".to_owned(),
        );
    }
    let was = exported.unwrap_or_default();
    if kind == ParamKind::Text {
        if let (Some(one), Some(other)) = (number(&was), number(own))
            && one == other
        {
            return Edit::Spoiled(format!(
                "\"{own}\" is another way of writing \"{was}\": a spreadsheet did that"
            ));
        }
        for (days, what) in
            [(crate::sheet::Days::DayMonthYear, "day"), (crate::sheet::Days::MonthDayYear, "day")]
        {
            let form = Form { days, ..form.clone() };
            if cell(ParamKind::Date, own, &form) == Ok(Value::Text(was.clone().into())) {
                return Edit::Spoiled(format!(
                    "\"{own}\" is the same {what} as \"{was}\": a spreadsheet did that"
                ));
            }
        }
        return match number(own).filter(|_| own.contains(['e', 'E']) && own.parse::<f64>().is_ok()) {
            Some(_) => Edit::Spoiled(format!("\"{own}\" is a number that a spreadsheet has rounded")),
            None => Edit::New(Value::Text(own.into())),
        };
    }
    match cell(kind, own, form) {
        Err(what) => Edit::Spoiled(what),
        Ok(new) => {
            let same = match (&new, held) {
                (Value::Null, Value::Null) => true,
                (Value::Text(new), _) => *new == was || was.strip_suffix(" 00:00:00") == Some(new),
                (Value::Bool(new), held) => match held {
                    Value::Bool(held) => new == held,
                    Value::Int(held) => i64::from(*new) == *held,
                    _ => false,
                },
                (new, _) => {
                    let new = text(new).and_then(|text| number(&text));
                    new.is_some() && new == number(&was)
                }
            };
            if same { Edit::Same } else { Edit::New(new) }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::Days;

    #[test]
    fn what_spreadsheets_do() {
        let form = Form { separator: ';', decimal_comma: true, days: Days::DayMonthYear, null: None };
        let marked = Form { null: Some("NULL".into()), ..form.clone() };
        let held = |t: &str| Value::Text(t.into());
        let same = compare(ParamKind::Text, &held("NULL"), "NULL", &marked);
        assert!(matches!(same, Edit::Spoiled(_)), "the word for NULL may be the text that is there");
        assert!(matches!(compare(ParamKind::Text, &held("x"), "NULL", &marked), Edit::New(Value::Null)));
        let decimal = |t: &str| Value::Decimal(t.into());
        for (kind, was, cell, form) in [
            (ParamKind::Decimal, decimal("4.50"), "4,5", &form),
            (ParamKind::Decimal, Value::Real(1234.5), "1.234,50", &form),
            (ParamKind::Integer, Value::Int(7), "7", &form),
            (ParamKind::Text, held("=1+1"), "'=1+1", &form),
            (ParamKind::Text, held("'tis"), "'tis", &form),
            (ParamKind::Text, Value::Null, "", &form),
            (ParamKind::Text, held(""), "", &form),
            (ParamKind::Text, Value::Null, "NULL", &marked),
            (ParamKind::Date, held("2026-05-10"), "10.05.2026", &form),
            (ParamKind::Boolean, Value::Int(1), "true", &form),
        ] {
            assert_eq!(compare(kind, &was, cell, form), Edit::Same, "{was:?} {cell}");
        }
        for (kind, was, cell, form, new) in [
            (ParamKind::Decimal, decimal("4.50"), "4,6", &form, decimal("4.6")),
            (ParamKind::Decimal, decimal("4.50"), "", &form, Value::Null),
            (ParamKind::Text, held("a"), "b", &form, held("b")),
            (ParamKind::Text, held("a"), "", &marked, held("")),
            (ParamKind::Text, held("a"), "NULL", &marked, Value::Null),
            (ParamKind::Date, held("2026-05-10"), "11.05.2026", &form, held("2026-05-11")),
        ] {
            assert_eq!(compare(kind, &was, cell, form), Edit::New(new), "{was:?} {cell}");
        }
        for (kind, was, cell) in [
            (ParamKind::Text, held("007"), "7"),
            (ParamKind::Text, held("100000"), "1E+05"),
            (ParamKind::Text, held("4711-123456789012"), "4.71112E+15"),
            (ParamKind::Text, held("2026-05-10"), "10.05.2026"),
            (ParamKind::Text, held("a"), ""),
            (ParamKind::Decimal, decimal("1"), "dear"),
            (ParamKind::Date, held("2026-05-10"), "31.06.2026"),
        ] {
            assert!(matches!(compare(kind, &was, cell, &form), Edit::Spoiled(_)), "{was:?} {cell}");
        }
    }
}
