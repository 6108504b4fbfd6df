//! Parameters of a change: named values that are put in when it is run, and never pasted into its text.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json, json};

use crate::hash::{self, HashKey};
use crate::value::Value;

/// What a parameter is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ParamKind {
    /// A text.
    Text,
    /// A whole number.
    Integer,
    /// An exact number.
    Decimal,
    /// A number with a point that floats.
    Real,
    /// True or false.
    Boolean,
    /// A day: `2026-05-10`.
    Date,
    /// A time of day: `07:30:00`.
    Time,
    /// A day with a time: `2026-05-10 07:30:00`.
    Moment,
}

impl ParamKind {
    /// All of them.
    pub const ALL: &'static [ParamKind] = &[
        ParamKind::Text,
        ParamKind::Integer,
        ParamKind::Decimal,
        ParamKind::Real,
        ParamKind::Boolean,
        ParamKind::Date,
        ParamKind::Time,
        ParamKind::Moment,
    ];

    /// Its name in a change file.
    pub fn as_str(self) -> &'static str {
        match self {
            ParamKind::Text => "text",
            ParamKind::Integer => "integer",
            ParamKind::Decimal => "decimal",
            ParamKind::Real => "real",
            ParamKind::Boolean => "boolean",
            ParamKind::Date => "date",
            ParamKind::Time => "time",
            ParamKind::Moment => "moment",
        }
    }
}

/// Where the type of a bound value comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum BoundAs {
    /// What a parameter was said to be.
    Kind(ParamKind),
    /// The type of a column, as the engine's catalogue writes it: the key that a row was given.
    Column(String),
}

/// A value that stands for `:name` in the text of a step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Bound {
    /// The name, without the colon.
    pub name: String,
    /// The value.
    pub value: Value,
    /// Its type.
    pub of: BoundAs,
    /// Whether it is never shown.
    pub secret: bool,
}

/// A parameter with its value.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Param {
    /// Its name, without the colon.
    pub name: String,
    /// What it is.
    #[serde(rename = "type")]
    pub kind: ParamKind,
    /// Its value.
    pub value: Value,
    /// What it means.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub meaning: Option<String>,
    /// Whether its value is never shown or kept, but in the snapshot.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub secret: bool,
}

impl Param {
    /// As it is bound.
    pub fn bound(&self) -> Bound {
        let (name, of) = (self.name.clone(), BoundAs::Kind(self.kind));
        Bound { name, value: self.value.clone(), of, secret: self.secret }
    }

    /// What tells it from the same parameter with another value; of a secret one only who has the key can tell that.
    pub fn identity(&self, key: Option<&HashKey>) -> String {
        let value = match (self.secret, key) {
            (false, _) => self.value.to_json().to_string(),
            (true, Some(key)) => hash::keyed_text(key, &self.value.to_json().to_string()),
            (true, None) => String::new(),
        };
        format!("{} {} {value}", self.name, self.kind.as_str())
    }
}

/// Parameters as marks and receipts keep them, by name; secret ones without their values.
pub fn to_map(params: &[Param]) -> Map<String, Json> {
    let one = |param: &Param| {
        let mut object = match param.secret {
            true => json!({ "type": param.kind, "secret": true }),
            false => json!({ "type": param.kind, "value": param.value.to_json() }),
        };
        if let (Some(meaning), Some(object)) = (&param.meaning, object.as_object_mut()) {
            object.insert("meaning".to_owned(), Json::String(meaning.clone()));
        }
        (param.name.clone(), object)
    };
    params.iter().map(one).collect()
}

/// Parameters that were kept so, secret ones as NULL; what is not of this form is left out.
pub fn from_map(map: &Map<String, Json>) -> Vec<Param> {
    let one = |(name, json): (&String, &Json)| {
        let mut object = json.as_object()?.clone();
        object.entry("value").or_insert(Json::Null);
        object.insert("name".to_owned(), Json::String(name.clone()));
        serde_json::from_value(Json::Object(object)).ok()
    };
    map.iter().filter_map(one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parameters_are_kept_whole() {
        let all = [
            Param {
                name: "day".into(),
                kind: ParamKind::Date,
                value: Value::Text("2026-05-10".into()),
                meaning: None,
                secret: false,
            },
            Param {
                name: "rise".into(),
                kind: ParamKind::Decimal,
                value: Value::Decimal("1.10".into()),
                meaning: Some("by how much".into()),
                secret: false,
            },
            Param {
                name: "who".into(),
                kind: ParamKind::Text,
                value: Value::Null,
                meaning: None,
                secret: true,
            },
        ];
        assert_eq!(from_map(&to_map(&all)), all);
        let other = Param { value: Value::Decimal("1.1".into()), ..all[1].clone() };
        assert_ne!(other.identity(None), all[1].identity(None));
        let (key, hidden) =
            (HashKey([7; 32]), Param { secret: true, value: Value::Text("mead".into()), ..all[2].clone() });
        let kept = serde_json::to_string(&to_map(std::slice::from_ref(&hidden))).unwrap();
        assert!(!kept.contains("mead") && kept.contains("secret"), "{kept}");
        let of = |key: Option<&HashKey>| hidden.identity(key);
        assert!(!of(Some(&key)).contains("mead") && !of(None).contains("mead"));
        assert_ne!(of(Some(&key)), of(Some(&HashKey([8; 32]))));
        assert_ne!(of(Some(&key)), all[2].identity(Some(&key)));
    }
}
