//! What must not be seen: values of secret parameters, and the columns that they are assigned to. A column is hidden in every
//! row that is shown; a text that comes from elsewhere (an engine's message) has the values taken out.

use serde_json::Value as Json;

use crate::cell::CellDiff;
use crate::image::Image;
use crate::param::Param;
use crate::sheet::text;
use crate::table::Target;
use crate::value::Value;

/// What stands for a hidden value.
pub const HIDDEN: &str = "(hidden)";
/// What stands for a hidden value that is another than the one before it.
pub const CHANGED: &str = "(hidden, changed)";
/// What stands for a third one.
pub const AGAIN: &str = "(hidden, changed again)";
/// The fewest characters that a secret has: fewer could not be told from any other text.
pub const SHORTEST: usize = 4;

/// Values that must not be seen.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Secrets {
    /// Each as it may be written, the longest first.
    texts: Vec<String>,
}

impl std::fmt::Debug for Secrets {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Secrets({})", self.texts.len())
    }
}

impl Secrets {
    /// Those of the secret parameters.
    pub fn of(params: &[Param]) -> Secrets {
        let mut texts = Vec::new();
        for plain in params.iter().filter(|param| param.secret).filter_map(|param| text(&param.value)) {
            let json = Json::String(plain.clone()).to_string();
            let literal = plain.replace('\'', "''");
            let json =
                json.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')).unwrap_or(&json).to_owned();
            texts.extend([json, plain.replace('\\', "\\\\"), literal, plain]);
        }
        texts.retain(|text| text.chars().count() >= SHORTEST);
        texts.sort_by(|a, b| b.len().cmp(&a.len()).then_with(|| a.cmp(b)));
        texts.dedup();
        Secrets { texts }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.texts.is_empty()
    }

    /// A text without them.
    pub fn scrub(&self, text: &str) -> String {
        self.texts.iter().fold(text.to_owned(), |text, secret| match text.contains(secret.as_str()) {
            true => text.replace(secret.as_str(), HIDDEN),
            false => text,
        })
    }

    /// A document without them: in its texts and, where a number is one, in its numbers.
    pub fn scrub_document(&self, document: &mut Json) {
        match document {
            Json::String(text) => *text = self.scrub(text),
            Json::Number(number) if self.texts.contains(&number.to_string()) => {
                *document = Json::String(HIDDEN.to_owned());
            }
            Json::Array(all) => all.iter_mut().for_each(|one| self.scrub_document(one)),
            Json::Object(all) => all.values_mut().for_each(|one| self.scrub_document(one)),
            Json::Null | Json::Bool(_) | Json::Number(_) => {}
        }
    }
}

/// What stands for the value of a hidden column, beside those that were told of the same row before it.
pub fn stands_for(value: &Value, earlier: &[&Value]) -> Value {
    let mut different: Vec<&Value> = Vec::new();
    for one in earlier {
        if !different.contains(one) {
            different.push(one);
        }
    }
    let at = different.iter().position(|one| *one == value).unwrap_or(different.len());
    Value::Text([HIDDEN, CHANGED].get(at).copied().unwrap_or(AGAIN).to_owned().into())
}

/// Images of one row, each `None` where there is no row, with its hidden columns hidden: what differs still does.
pub fn hide_rows<const N: usize>(target: &Target, rows: [Option<Vec<Value>>; N]) -> [Option<Vec<Value>>; N] {
    if target.hidden.is_empty() {
        return rows;
    }
    let mut hidden = rows.clone();
    for &column in &target.hidden {
        let mut told: Vec<&Value> = Vec::new();
        for (row, place) in rows.iter().zip(&mut hidden) {
            let Some(value) = row.as_ref().and_then(|row| row.get(column)) else { continue };
            if let Some(cell) = place.as_mut().and_then(|row| row.get_mut(column)) {
                *cell = stands_for(value, &told);
            }
            told.push(value);
        }
    }
    hidden
}

/// The image of a row with its hidden columns hidden.
pub fn hide_image(target: &Target, image: Image) -> Image {
    if target.hidden.is_empty() {
        return image;
    }
    let rows = [image.before(), image.after()].map(|row| row.map(<[Value]>::to_vec));
    let [before, after] = hide_rows(target, rows);
    Image::of(before, after).unwrap_or(image)
}

/// A cell that differs, hidden where its column is.
pub fn hide_cell(target: &Target, cell: CellDiff) -> CellDiff {
    if !target.hidden.contains(&cell.column) {
        return cell;
    }
    let after = stands_for(&cell.after, &[&cell.before]);
    CellDiff { before: stands_for(&cell.before, &[]), after, ..cell }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::param::ParamKind;

    fn secrets(values: &[Value]) -> Secrets {
        let param = |value: &Value| Param {
            name: "s".into(),
            kind: ParamKind::Text,
            value: value.clone(),
            meaning: None,
            secret: true,
        };
        Secrets::of(&values.iter().map(param).collect::<Vec<_>>())
    }

    #[test]
    fn values_are_taken_out_however_they_are_written() {
        let all = secrets(&[Value::Text("it's \"so\"".into()), Value::Int(48_151), Value::Null]);
        assert_eq!(all.scrub("Key (k)=(it's \"so\") exists"), "Key (k)=((hidden)) exists");
        assert_eq!(all.scrub("'it''s \"so\"' and \"it's \\\"so\\\"\""), "'(hidden)' and \"(hidden)\"");
        let mut document = json!({ "n": 48151, "m": 7, "t": ["it's \"so\"", 48151.5] });
        all.scrub_document(&mut document);
        assert_eq!(document, json!({ "n": HIDDEN, "m": 7, "t": [HIDDEN, 48151.5] }));
        assert!(secrets(&[Value::Null]).is_empty());
        assert!(!format!("{all:?}").contains("48151"));
    }

    #[test]
    fn what_differs_still_does() {
        let (a, b, c) = (Value::Int(1), Value::Int(2), Value::Int(3));
        let text = |value: &Value, earlier: &[&Value]| match stands_for(value, earlier) {
            Value::Text(text) => text,
            other => panic!("{other:?}"),
        };
        assert_eq!(text(&a, &[]), HIDDEN);
        assert_eq!(text(&a, &[&a]), HIDDEN);
        assert_eq!(text(&b, &[&a, &a]), CHANGED);
        assert_eq!(text(&a, &[&a, &b]), HIDDEN);
        assert_eq!(text(&b, &[&a, &b]), CHANGED);
        assert_eq!(text(&c, &[&a, &b]), AGAIN);
    }
}
