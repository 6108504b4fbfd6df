//! Parameters as a block declares them and the line gives them: their names, what they are, and whether a value is one.

use std::str::FromStr;

use marktwice_core::Value;
use marktwice_core::near::nearest;
use marktwice_core::param::{Param, ParamKind};
use marktwice_core::secret::{HIDDEN, SHORTEST};
use serde::Deserialize;
use toml::value::Datetime;

use super::Said;

/// What `[params.NAME]` says.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Declared {
    #[serde(rename = "type", default = "text")]
    kind: ParamKind,
    default: Option<Said>,
    meaning: Option<String>,
    #[serde(default)]
    secret: bool,
}

fn text() -> ParamKind {
    ParamKind::Text
}

/// A parameter of a change, before it is given a value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Expected {
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: ParamKind,
    /// The value that it has where none is given.
    pub default: Option<Value>,
    /// What it means.
    pub meaning: Option<String>,
    /// Whether its value is never shown or kept, but in the snapshot.
    pub secret: bool,
}

/// Whether a name can stand behind a colon.
pub fn is_name(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
        && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
}

/// Reads a value as what a parameter is.
///
/// # Errors
/// A sentence that says what it is not.
pub fn value(kind: ParamKind, text: &str) -> Result<Value, String> {
    let wrong = |form: &str| Err(format!("\"{text}\" is no {}; it is written {form}", kind.as_str()));
    let text_of = || Ok(Value::Text(text.into()));
    let digits = text.strip_prefix(['-', '+']).unwrap_or(text);
    let number = |points: usize| {
        !digits.is_empty()
            && digits.starts_with(|c: char| c.is_ascii_digit())
            && digits.ends_with(|c: char| c.is_ascii_digit())
            && digits.chars().all(|c| c.is_ascii_digit() || c == '.')
            && digits.matches('.').count() <= points
    };
    let moment = |text: &str| Datetime::from_str(text).ok();
    match kind {
        ParamKind::Text if text.contains('\0') => wrong("without a NUL character"),
        ParamKind::Text => text_of(),
        ParamKind::Integer => match text.parse::<i64>() {
            Ok(n) if number(0) => Ok(Value::Int(n)),
            _ => wrong("as digits: 12"),
        },
        ParamKind::Decimal if number(1) => {
            Ok(Value::Decimal(text.strip_prefix('+').unwrap_or(text).to_owned().into()))
        }
        ParamKind::Decimal => wrong("with a point: 12.50"),
        ParamKind::Real => match text.parse::<f64>() {
            Ok(n) if n.is_finite() => Ok(Value::Real(n)),
            _ => wrong("as a number: 1.5e-3"),
        },
        ParamKind::Boolean => match text.to_ascii_lowercase().as_str() {
            "true" | "yes" => Ok(Value::Bool(true)),
            "false" | "no" => Ok(Value::Bool(false)),
            _ => wrong("true or false"),
        },
        ParamKind::Date => match moment(text) {
            Some(Datetime { date: Some(_), time: None, .. }) => text_of(),
            _ => wrong("2026-05-10, and a day that there is"),
        },
        ParamKind::Time => match moment(text) {
            Some(Datetime { date: None, time: Some(_), .. }) => text_of(),
            _ => wrong("07:30:00"),
        },
        ParamKind::Moment => match moment(text) {
            Some(Datetime { date: Some(_), time: Some(_), offset: None }) => {
                Ok(Value::Text(text.replace(['T', 't'], " ").into()))
            }
            _ => wrong("2026-05-10 07:30:00, without a zone"),
        },
    }
}

/// What a value looks like of which nobody said what it is.
fn looks_like(text: &str) -> ParamKind {
    let plain = |text: &str| {
        let digits = text.strip_prefix('-').unwrap_or(text);
        // A zero in front is part of a text: a telephone number, a code.
        !(digits.len() > 1 && digits.starts_with('0') && !digits.starts_with("0."))
    };
    if plain(text) && value(ParamKind::Integer, text).is_ok() {
        return ParamKind::Integer;
    }
    if plain(text) && value(ParamKind::Decimal, text).is_ok() && !text.starts_with('+') {
        return ParamKind::Decimal;
    }
    ParamKind::Text
}

impl Declared {
    /// The parameter of this name.
    pub(super) fn named(self, name: &str) -> Result<Expected, String> {
        if !is_name(name) {
            return Err(format!("\"{name}\" is no name of a parameter: letters, digits and _"));
        }
        let default = match self.default {
            None => None,
            Some(said) => match said.values() {
                Ok(values) if values.len() == 1 => {
                    let text = values.into_iter().next().unwrap_or_default();
                    Some(value(self.kind, &text).map_err(|what| format!("the default of {name}: {what}"))?)
                }
                _ => return Err(format!("the default of {name} is no single value")),
            },
        };
        if self.secret && default.is_some() {
            return Err(format!("{name} is secret, and its default would stand in the file for everybody"));
        }
        if self.secret && self.kind == ParamKind::Boolean {
            return Err(format!("{name} is secret, and true and false can be guessed"));
        }
        let Declared { kind, meaning, secret, .. } = self;
        Ok(Expected { name: name.to_owned(), kind, default, meaning, secret })
    }
}

/// Gives parameters their values: `given` are those of the line, with `None` for NULL. `used` are the names that stand in the
/// text, where `kept` are not asked for.
///
/// # Errors
/// What is wrong, and what to do.
pub fn give(
    wanted: &[Expected],
    given: &[(String, Option<String>)],
    used: &[String],
) -> Result<Vec<Param>, (String, String)> {
    let mut all: Vec<Param> = Vec::new();
    for (at, (name, text)) in given.iter().enumerate() {
        let declared = wanted.iter().find(|w| w.name == *name);
        if !used.contains(name) {
            let near = nearest(name, used.iter().map(String::as_str));
            let hint = match near {
                Some(near) => format!("did you mean {near}?"),
                None => format!("write :{name} where the value goes, or leave it out"),
            };
            return Err((format!("a value is given for {name}, and no :{name} stands in the change"), hint));
        }
        if given.iter().skip(at + 1).any(|(other, _)| other == name) {
            return Err((format!("two values are given for {name}"), "give one".to_owned()));
        }
        let kind = declared.map_or_else(|| text.as_deref().map_or(ParamKind::Text, looks_like), |w| w.kind);
        let secret = declared.is_some_and(|w| w.secret);
        if secret && text.as_ref().is_some_and(|text| text.chars().count() < SHORTEST) {
            return Err((
                format!(
                    "{name} is secret, and a text of fewer than {SHORTEST} characters cannot be kept out of others"
                ),
                format!("give a longer one, or leave secret out of [params.{name}]"),
            ));
        }
        let value = match text {
            None => Value::Null,
            Some(text) => value(kind, text).map_err(|what| {
                let what = if secret { what.replace(&format!("\"{text}\""), HIDDEN) } else { what };
                (
                    format!("the value of {name}: {what}"),
                    format!("--with {name}=VALUE, as its type {} wants it", kind.as_str()),
                )
            })?,
        };
        let meaning = declared.and_then(|w| w.meaning.clone());
        all.push(Param { name: name.clone(), kind, value, meaning, secret });
    }
    for declared in wanted {
        if let (Some(value), false) = (&declared.default, all.iter().any(|p| p.name == declared.name)) {
            let Expected { name, kind, meaning, .. } = declared.clone();
            all.push(Param { name, kind, value: value.clone(), meaning, secret: false });
        }
    }
    let missing: Vec<&String> = used.iter().filter(|name| !all.iter().any(|p| p.name == **name)).collect();
    if let Some(first) = missing.first() {
        let declared = wanted.iter().find(|w| w.name == **first);
        let meaning = declared.and_then(|w| w.meaning.as_deref());
        let meaning = meaning.map_or(String::new(), |meaning| format!(" ({meaning})"));
        return Err((
            format!(":{first}{meaning} has no value"),
            match declared.is_some_and(|w| w.secret) {
                true => format!(
                    "give it one: --with-file {first}=FILE, which leaves it out of the shell's history, or --with {first}=VALUE"
                ),
                false => format!("give it one: --with {first}=VALUE, or --with-null {first}"),
            },
        ));
    }
    all.retain(|param| used.contains(&param.name));
    Ok(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_of_each_type() {
        for (kind, good, bad) in [
            (ParamKind::Integer, "-12", "1.0"),
            (ParamKind::Decimal, "12.50", "1e3"),
            (ParamKind::Real, "1.5e-3", "NaN"),
            (ParamKind::Boolean, "true", "1"),
            (ParamKind::Date, "2028-02-29", "2026-02-29"),
            (ParamKind::Time, "07:30:00", "25:00:00"),
            (ParamKind::Moment, "2026-05-10 07:30:00", "2026-05-10"),
            (ParamKind::Text, "it's", "a\0"),
        ] {
            assert!(value(kind, good).is_ok(), "{kind:?} {good}");
            let said = value(kind, bad).unwrap_err();
            assert!(said.contains(kind.as_str()), "{said}");
        }
    }

    #[test]
    fn what_is_given_is_what_is_wanted() {
        let wanted = [
            Expected {
                name: "rise".into(),
                kind: ParamKind::Decimal,
                default: Some(Value::Decimal("1.1".into())),
                meaning: None,
                secret: false,
            },
            Expected {
                name: "day".into(),
                kind: ParamKind::Date,
                default: None,
                meaning: Some("of the visit".into()),
                secret: false,
            },
        ];
        let used = ["rise".to_owned(), "day".to_owned()];
        let with = |all: &[(&str, Option<&str>)]| {
            let all: Vec<_> = all.iter().map(|(n, v)| ((*n).to_owned(), v.map(str::to_owned))).collect();
            give(&wanted, &all, &used)
        };
        assert_eq!(with(&[("day", Some("2026-05-10"))]).unwrap().len(), 2);
        assert_eq!(with(&[("day", None)]).unwrap()[0].value, Value::Null);
        for (given, says) in [
            (&[][..], ":day (of the visit) has no value"),
            (&[("day", Some("soon"))], "no date"),
            (&[("day", None), ("rize", Some("1"))], "no :rize stands"),
            (&[("day", None), ("day", None)], "two values"),
        ] {
            assert!(with(given).unwrap_err().0.contains(says), "{says}");
        }
        assert_eq!(looks_like("007"), ParamKind::Text);
        assert_eq!(looks_like("0.5"), ParamKind::Decimal);
        assert_eq!(looks_like("12"), ParamKind::Integer);
    }
}
