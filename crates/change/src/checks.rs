//! Checks as a block says them: a condition over every row, or a query with what it must give.

use marktwice_core::asked::{Wanted, Wants};
use serde::Deserialize;

/// A check, as a block says it.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Check {
    pub(crate) name: Option<String>,
    pub(crate) each: Option<String>,
    pub(crate) step: Option<String>,
    pub(crate) sql: Option<String>,
    pub(crate) gives: Option<toml::Value>,
    pub(crate) at_least: Option<toml::Value>,
    pub(crate) at_most: Option<toml::Value>,
    pub(crate) empty: Option<bool>,
    pub(crate) unchanged: Option<bool>,
    pub(crate) changes_by: Option<toml::Value>,
}

impl Check {
    /// What its query must give; the error says what is wrong.
    pub(crate) fn wants(&self) -> Result<Option<Wants>, String> {
        let value = |key: &str, value: &Option<toml::Value>| {
            let of = |value: &toml::Value| {
                wanted(value).ok_or_else(|| format!("{key} is no value to compare with"))
            };
            value.as_ref().map(of).transpose()
        };
        if self.empty == Some(false) || self.unchanged == Some(false) {
            return Err("empty and unchanged are said as true, or not at all".to_owned());
        }
        let all = [
            value("gives", &self.gives)?.map(Wants::Gives),
            value("at_least", &self.at_least)?.map(Wants::AtLeast),
            value("at_most", &self.at_most)?.map(Wants::AtMost),
            self.empty.map(Wants::Empty),
            self.unchanged.map(Wants::Unchanged),
            value("changes_by", &self.changes_by)?.map(Wants::ChangesBy),
        ];
        if matches!(&all[5], Some(Wants::ChangesBy(by)) if !matches!(by, Wanted::Number(_))) {
            return Err("changes_by is no number".to_owned());
        }
        if matches!(
            &all[1..3],
            [Some(Wants::AtLeast(Wanted::Truth(_))), _] | [_, Some(Wants::AtMost(Wanted::Truth(_)))]
        ) {
            return Err("true and false have no order".to_owned());
        }
        let mut said = all.into_iter().flatten();
        match (said.next(), said.next()) {
            (Some(Wants::AtLeast(least)), Some(Wants::AtMost(most))) if said.next().is_none() => {
                Ok(Some(Wants::Between(least, most)))
            }
            (_, Some(_)) => Err("a check says two things of what its query gives".to_owned()),
            (one, None) => Ok(one),
        }
    }
}

/// A value to compare with.
fn wanted(value: &toml::Value) -> Option<Wanted> {
    Some(match value {
        toml::Value::Boolean(truth) => Wanted::Truth(*truth),
        toml::Value::Integer(n) => Wanted::Number((*n).into()),
        toml::Value::Float(n) => Wanted::Number(serde_json::Number::from_f64(*n)?),
        toml::Value::String(text) => Wanted::Text(text.clone()),
        toml::Value::Datetime(moment) => Wanted::Text(moment.to_string()),
        toml::Value::Array(_) | toml::Value::Table(_) => return None,
    })
}
