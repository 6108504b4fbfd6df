//! Database values as Mark Twice holds them, and their lossless JSON form in marks, snapshots and reports.
//!
//! Identity here is identity of type and bytes: `1` and `1.0` differ, `'a'` and `'A'` differ, `0.0` and `-0.0`
//! differ, whatever a collation or an engine's `=` may say.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use std::fmt;

use serde::de::{Deserialize, DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};
use serde::ser::{Serialize, SerializeMap, Serializer};
use serde_json::{Map, Number, Value as Json};
use smol_str::SmolStr;

/// Largest integer magnitude that every JSON reader keeps exactly (2^53 - 1).
const JSON_SAFE: i64 = 9_007_199_254_740_991;

/// One value of one cell. Short texts need no memory of their own, and a copy of a long one shares it: rows come by the million, and
/// each is copied on its way.
#[derive(Debug, Clone)]
pub enum Value {
    /// SQL NULL.
    Null,
    /// A boolean, on engines that have the type.
    Bool(bool),
    /// A signed 64-bit integer.
    Int(i64),
    /// An IEEE 754 double; infinities and NaN included.
    Real(f64),
    /// An exact number that neither an `i64` nor a double holds, as the engine writes it.
    Decimal(SmolStr),
    /// Text that is valid UTF-8; NUL characters are allowed.
    Text(SmolStr),
    /// A text value whose bytes are not valid UTF-8.
    TextBytes(Vec<u8>),
    /// Raw bytes.
    Bytes(Vec<u8>),
    /// What stands for a key that is hidden: no value of a database, and never read from one. Written as the text `#a29b2016`; a reader
    /// that knows that a key is hidden makes one of that text again.
    Pseudonym(u32),
}

impl PartialEq for Value {
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Value::Null, Value::Null) => true,
            (Value::Bool(a), Value::Bool(b)) => a == b,
            (Value::Int(a), Value::Int(b)) => a == b,
            (Value::Real(a), Value::Real(b)) => a.to_bits() == b.to_bits(),
            (Value::Decimal(a), Value::Decimal(b)) | (Value::Text(a), Value::Text(b)) => a == b,
            (Value::TextBytes(a), Value::TextBytes(b)) | (Value::Bytes(a), Value::Bytes(b)) => a == b,
            (Value::Pseudonym(a), Value::Pseudonym(b)) => a == b,
            _ => false,
        }
    }
}

impl Eq for Value {}

/// Why a JSON value is not one of ours.
#[derive(Debug, thiserror::Error)]
#[error("not a value of this format: {0}")]
pub struct NotAValue(String);

/// How a number that stands for a hidden key is written.
pub fn pseudonym(number: u32) -> String {
    format!("#{number:08x}")
}

/// Whether a text begins with a day as it is written so that its order is that of its letters: `2026-05-10`.
pub fn is_day(text: &str) -> bool {
    let mark = |(at, c): (usize, char)| if at == 4 || at == 7 { c == '-' } else { c.is_ascii_digit() };
    text.chars().count() >= 10 && text.chars().take(10).enumerate().all(mark)
}

impl Value {
    /// A number, as near as can be; for what is drawn or put in order, and nothing else.
    pub fn roughly(&self) -> Option<f64> {
        match self {
            #[expect(clippy::cast_precision_loss, reason = "nothing depends on it")]
            Value::Int(n) => Some(*n as f64),
            Value::Real(n) => Some(*n).filter(|n| n.is_finite()),
            Value::Decimal(text) => text.parse().ok().filter(|n: &f64| n.is_finite()),
            _ => None,
        }
    }

    /// Whether this is SQL NULL.
    pub fn is_null(&self) -> bool {
        matches!(self, Value::Null)
    }

    /// How many bytes of memory its contents take beside the value itself.
    pub fn weight(&self) -> usize {
        match self {
            Value::Decimal(text) | Value::Text(text) => text.len(),
            Value::TextBytes(bytes) | Value::Bytes(bytes) => bytes.len(),
            Value::Null | Value::Bool(_) | Value::Int(_) | Value::Real(_) | Value::Pseudonym(_) => 0,
        }
    }

    /// What was written for a hidden key, read again: for a reader that knows that the key is hidden.
    #[must_use]
    pub fn as_pseudonym(self) -> Value {
        let number = match &self {
            Value::Text(text) => {
                text.strip_prefix('#').and_then(|digits| u32::from_str_radix(digits, 16).ok())
            }
            _ => None,
        };
        number.map_or(self, Value::Pseudonym)
    }

    /// Text from bytes of unknown validity: [`Value::Text`] where they are UTF-8, else [`Value::TextBytes`].
    pub fn text(bytes: &[u8]) -> Value {
        match std::str::from_utf8(bytes) {
            Ok(s) => Value::Text(s.into()),
            Err(_) => Value::TextBytes(bytes.to_vec()),
        }
    }

    /// The lossless JSON form: plain JSON where that survives any reader, a tagged object elsewhere.
    pub fn to_json(&self) -> Json {
        let tagged = |tag: &str, text: String| {
            let mut object = Map::new();
            object.insert(tag.to_owned(), Json::String(text));
            Json::Object(object)
        };
        match self {
            Value::Null => Json::Null,
            Value::Bool(b) => Json::Bool(*b),
            Value::Int(i) if (-JSON_SAFE..=JSON_SAFE).contains(i) => Json::Number((*i).into()),
            Value::Int(i) => tagged("int", i.to_string()),
            Value::Real(r) => match Number::from_f64(*r) {
                Some(n) => Json::Number(n),
                None if r.is_nan() => tagged("real", "NaN".to_owned()),
                None if *r > 0.0 => tagged("real", "Infinity".to_owned()),
                None => tagged("real", "-Infinity".to_owned()),
            },
            Value::Decimal(d) => tagged("decimal", d.to_string()),
            Value::Text(s) => Json::String(s.to_string()),
            Value::Pseudonym(number) => Json::String(pseudonym(*number)),
            Value::TextBytes(b) => tagged("text_bytes", BASE64.encode(b)),
            Value::Bytes(b) => tagged("bytes", BASE64.encode(b)),
        }
    }

    /// Reads [`Value::to_json`] back.
    ///
    /// # Errors
    /// When the JSON is none of the forms that `to_json` writes.
    pub fn from_json(json: &Json) -> Result<Value, NotAValue> {
        let bad = || NotAValue(shorten(&json.to_string()));
        match json {
            Json::Null => Ok(Value::Null),
            Json::Bool(b) => Ok(Value::Bool(*b)),
            Json::Number(n) => match (n.as_i64(), n.as_f64()) {
                (Some(i), _) => Ok(Value::Int(i)),
                (None, Some(r)) => Ok(Value::Real(r)),
                (None, None) => Err(bad()),
            },
            Json::String(s) => Ok(Value::Text(s.into())),
            Json::Array(_) => Err(bad()),
            Json::Object(object) => {
                let mut fields = object.iter();
                let (Some((tag, Json::String(text))), None) = (fields.next(), fields.next()) else {
                    return Err(bad());
                };
                match tag.as_str() {
                    "int" => text.parse().map(Value::Int).map_err(|_| bad()),
                    "real" => match text.as_str() {
                        "NaN" => Ok(Value::Real(f64::NAN)),
                        "Infinity" => Ok(Value::Real(f64::INFINITY)),
                        "-Infinity" => Ok(Value::Real(f64::NEG_INFINITY)),
                        _ => Err(bad()),
                    },
                    "decimal" => Ok(Value::Decimal(text.into())),
                    "text_bytes" => BASE64.decode(text).map(Value::TextBytes).map_err(|_| bad()),
                    "bytes" => BASE64.decode(text).map(Value::Bytes).map_err(|_| bad()),
                    _ => Err(bad()),
                }
            }
        }
    }
}

/// Writes the form of [`Value::to_json`] without making a tree of it.
impl Serialize for Value {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let tagged = |serializer: S, tag: &'static str, text: &str| {
            let mut map = serializer.serialize_map(Some(1))?;
            map.serialize_entry(tag, text)?;
            map.end()
        };
        match self {
            Value::Null => serializer.serialize_unit(),
            Value::Bool(b) => serializer.serialize_bool(*b),
            Value::Int(i) if (-JSON_SAFE..=JSON_SAFE).contains(i) => serializer.serialize_i64(*i),
            Value::Int(i) => tagged(serializer, "int", &i.to_string()),
            Value::Real(r) if r.is_finite() => serializer.serialize_f64(*r),
            Value::Real(r) => {
                let text = if r.is_nan() {
                    "NaN"
                } else if *r > 0.0 {
                    "Infinity"
                } else {
                    "-Infinity"
                };
                tagged(serializer, "real", text)
            }
            Value::Decimal(d) => tagged(serializer, "decimal", d),
            Value::Text(s) => serializer.serialize_str(s),
            Value::Pseudonym(number) => serializer.serialize_str(&pseudonym(*number)),
            Value::TextBytes(b) => tagged(serializer, "text_bytes", &BASE64.encode(b)),
            Value::Bytes(b) => tagged(serializer, "bytes", &BASE64.encode(b)),
        }
    }
}

/// Reads what [`Value`]'s `Serialize` writes.
impl<'de> Deserialize<'de> for Value {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(ValueVisitor)
    }
}

struct ValueVisitor;

impl<'de> Visitor<'de> for ValueVisitor {
    type Value = Value;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a value: null, a boolean, a number, a string, or an object with one tag")
    }

    fn visit_unit<E: serde::de::Error>(self) -> Result<Value, E> {
        Ok(Value::Null)
    }

    fn visit_bool<E: serde::de::Error>(self, b: bool) -> Result<Value, E> {
        Ok(Value::Bool(b))
    }

    fn visit_i64<E: serde::de::Error>(self, i: i64) -> Result<Value, E> {
        Ok(Value::Int(i))
    }

    fn visit_u64<E: serde::de::Error>(self, u: u64) -> Result<Value, E> {
        i64::try_from(u).map(Value::Int).map_err(|_| E::custom("an integer beyond 64 bits"))
    }

    fn visit_f64<E: serde::de::Error>(self, r: f64) -> Result<Value, E> {
        Ok(Value::Real(r))
    }

    fn visit_str<E: serde::de::Error>(self, s: &str) -> Result<Value, E> {
        Ok(Value::Text(s.into()))
    }

    fn visit_string<E: serde::de::Error>(self, s: String) -> Result<Value, E> {
        Ok(Value::Text(s.into()))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Value, A::Error> {
        use serde::de::Error;
        let Some((tag, text)) = map.next_entry::<String, String>()? else {
            return Err(A::Error::custom("an object without a tag"));
        };
        if map.next_key::<String>()?.is_some() {
            return Err(A::Error::custom("an object with more than one tag"));
        }
        let mut object = Map::new();
        object.insert(tag, Json::String(text));
        Value::from_json(&Json::Object(object)).map_err(A::Error::custom)
    }
}

/// Reads a value, and tells whether it is this one; nothing is made of it where that can be told as it is read.
#[derive(Debug, Clone, Copy)]
pub struct Same<'a>(pub &'a Value);

impl<'de> DeserializeSeed<'de> for Same<'_> {
    type Value = bool;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<bool, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Same<'_> {
    type Value = bool;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        ValueVisitor.expecting(f)
    }

    fn visit_unit<E: serde::de::Error>(self) -> Result<bool, E> {
        Ok(self.0.is_null())
    }

    fn visit_bool<E: serde::de::Error>(self, b: bool) -> Result<bool, E> {
        Ok(*self.0 == Value::Bool(b))
    }

    fn visit_i64<E: serde::de::Error>(self, i: i64) -> Result<bool, E> {
        Ok(*self.0 == Value::Int(i))
    }

    fn visit_u64<E: serde::de::Error>(self, u: u64) -> Result<bool, E> {
        ValueVisitor.visit_u64(u).map(|value| *self.0 == value)
    }

    fn visit_f64<E: serde::de::Error>(self, r: f64) -> Result<bool, E> {
        Ok(*self.0 == Value::Real(r))
    }

    fn visit_str<E: serde::de::Error>(self, s: &str) -> Result<bool, E> {
        Ok(matches!(self.0, Value::Text(text) if text == s))
    }

    fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<bool, A::Error> {
        ValueVisitor.visit_map(map).map(|value| *self.0 == value)
    }
}

/// The same of a list, or, as a row that may be missing, of `null`.
#[derive(Debug, Clone, Copy)]
pub struct SameList<'a>(pub Option<&'a [Value]>);

impl<'de> DeserializeSeed<'de> for SameList<'_> {
    type Value = bool;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<bool, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for SameList<'_> {
    type Value = bool;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("null, or a list of values")
    }

    fn visit_unit<E: serde::de::Error>(self) -> Result<bool, E> {
        Ok(self.0.is_none())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<bool, A::Error> {
        let mut same = self.0.is_some();
        let mut values = self.0.unwrap_or_default().iter();
        loop {
            let Some(expected) = values.next() else {
                // More than was expected is another list.
                let more = seq.next_element::<Value>()?.is_some();
                while seq.next_element::<Value>()?.is_some() {}
                return Ok(same && !more);
            };
            match seq.next_element_seed(Same(expected))? {
                Some(found) => same &= found,
                None => return Ok(false),
            }
        }
    }
}

/// A list of values as a JSON array.
pub fn list_to_json(values: &[Value]) -> Json {
    Json::Array(values.iter().map(Value::to_json).collect())
}

/// A key as a person writes it: `418`, or `12,2026`.
pub fn key_text(key: &[Value]) -> String {
    let one = |value: &Value| match value {
        Value::Text(text) | Value::Decimal(text) => text.to_string(),
        Value::Int(number) => number.to_string(),
        Value::Pseudonym(number) => pseudonym(*number),
        other => other.to_json().to_string(),
    };
    key.iter().map(one).collect::<Vec<_>>().join(",")
}

fn shorten(text: &str) -> String {
    if text.chars().count() > 60 {
        text.chars().take(57).chain("...".chars()).collect()
    } else {
        text.to_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_value_survives_json_text() {
        let values = [
            Value::Null,
            Value::Bool(true),
            Value::Int(0),
            Value::Int(JSON_SAFE),
            Value::Int(JSON_SAFE + 1),
            Value::Int(i64::MIN),
            Value::Real(1.0),
            Value::Real(-0.0),
            Value::Real(0.1 + 0.2),
            Value::Real(5e-324),
            Value::Real(f64::MAX),
            Value::Real(f64::INFINITY),
            Value::Real(f64::NEG_INFINITY),
            Value::Decimal("1.10".into()),
            Value::Text("nul \0 and \u{202e}".into()),
            Value::TextBytes(vec![0xff, 0x00, 0x41]),
            Value::Bytes(vec![0, 1, 254]),
        ];
        for value in values.clone() {
            let text = value.to_json().to_string();
            let back = Value::from_json(&serde_json::from_str(&text).unwrap()).unwrap();
            assert_eq!(value, back, "{text}");
            assert_eq!(serde_json::to_string(&value).unwrap(), text, "both ways of writing agree");
            assert_eq!(serde_json::from_str::<Value>(&text).unwrap(), value, "both ways of reading agree");
        }
        // Whether it is the same is told for each of every other, and of lists by each of their values.
        let reads = |text: &str, value: &Value| {
            Same(value).deserialize(&mut serde_json::Deserializer::from_str(text)).unwrap()
        };
        let lists = |text: &str, list: Option<&[Value]>| {
            SameList(list).deserialize(&mut serde_json::Deserializer::from_str(text)).unwrap()
        };
        for (at, value) in values.iter().enumerate() {
            let text = value.to_json().to_string();
            for (other_at, other) in values.iter().enumerate() {
                assert_eq!(reads(&text, other), at == other_at, "{text} is {other:?}");
            }
            let list = [Value::Int(7), value.clone()];
            let text = list_to_json(&list).to_string();
            assert!(lists(&text, Some(&list)));
            assert!(!lists(&text, Some(&list[..1])) && !lists(&text, None) && !lists("null", Some(&list)));
            assert!(!lists(&text, Some(&[list.as_slice(), &[Value::Null]].concat())) && lists("null", None));
        }
    }

    #[test]
    fn identity_is_of_type_and_bytes() {
        assert_ne!(Value::Int(1), Value::Real(1.0));
        assert_ne!(Value::Real(0.0), Value::Real(-0.0));
        assert_ne!(Value::Text("a".into()), Value::Bytes(b"a".to_vec()));
        assert_ne!(Value::Null, Value::Text("".into()));
    }

    #[test]
    fn foreign_json_is_refused() {
        for text in ["[1]", "{}", r#"{"int":"x"}"#, r#"{"int":"1","real":"NaN"}"#, r#"{"bytes":"%"}"#] {
            assert!(Value::from_json(&serde_json::from_str(text).unwrap()).is_err(), "{text}");
            assert!(serde_json::from_str::<Value>(text).is_err(), "{text}");
        }
    }
}
