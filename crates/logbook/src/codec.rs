//! The JSON form of one row of a mark and of one row of a snapshot. Rows come by the million, so they are written
//! and read without making a tree of JSON values first.

use std::borrow::Cow;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD_NO_PAD as BASE64;
use marktwice_core::ShortHash;
use marktwice_core::Value;
use marktwice_core::image::{Image, Place, Role};
use marktwice_core::mark::MarkRow;
use marktwice_core::table::Target;
use marktwice_core::undo::RowChange;
use marktwice_core::value::{Same, SameList};
use serde::de::{DeserializeSeed, MapAccess, SeqAccess, Visitor};
use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A row of a mark: `{"s":1,"k":[418],"h":"…"}`, the step only where it is not the first, the hashes as 24 bytes in base64:
/// related, rest, after.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct MarkLine<'a> {
    #[serde(default, skip_serializing_if = "is_first")]
    pub(crate) s: usize,
    k: Cow<'a, [Value]>,
    h: String,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "the form that serde calls")]
fn is_first(step: &usize) -> bool {
    *step == 0
}

impl<'a> MarkLine<'a> {
    pub(crate) fn of(step: usize, row: &'a MarkRow) -> Self {
        let mut bytes = [0u8; 24];
        let hashes = [row.related, row.rest, row.after];
        for (part, hash) in bytes.chunks_exact_mut(8).zip(hashes) {
            part.copy_from_slice(&hash.0.to_le_bytes());
        }
        MarkLine { s: step, k: Cow::Borrowed(&row.key), h: BASE64.encode(bytes) }
    }

    pub(crate) fn row(self) -> Option<MarkRow> {
        let bytes = BASE64.decode(&self.h).ok().filter(|b| b.len() == 24)?;
        let hash = |at: usize| -> Option<ShortHash> {
            let part: [u8; 8] = bytes.get(at..at + 8)?.try_into().ok()?;
            Some(ShortHash(u64::from_le_bytes(part)))
        };
        Some(MarkRow { key: self.k.into_owned(), related: hash(0)?, rest: hash(8)?, after: hash(16)? })
    }
}

/// A row of a snapshot, to be written. `after` is null for a row that went, an array for one that came in, else an
/// object of the columns that differ; `before` is null for a row that came in.
#[derive(Serialize)]
pub(crate) struct RowLine<'a> {
    step: usize,
    table: usize,
    role: Role,
    n: i64,
    key: &'a [Value],
    #[serde(skip_serializing_if = "Option::is_none")]
    key_after: Option<&'a [Value]>,
    before: Option<&'a [Value]>,
    after: After<'a>,
}

enum After<'a> {
    Gone,
    Whole(&'a [Value]),
    Cells { before: &'a [Value], after: &'a [Value], target: &'a Target },
}

impl Serialize for After<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            After::Gone => serializer.serialize_unit(),
            After::Whole(row) => row.serialize(serializer),
            After::Cells { before, after, target } => {
                let mut map = serializer.serialize_map(None)?;
                for ((was, is), column) in before.iter().zip(*after).zip(&target.columns) {
                    if was != is {
                        map.serialize_entry(&column.name, is)?;
                    }
                }
                map.end()
            }
        }
    }
}

impl<'a> RowLine<'a> {
    pub(crate) fn of(change: &'a RowChange, target: &'a Target) -> Self {
        let after = match &change.image {
            Image::Delete { .. } => After::Gone,
            Image::Insert { after } => After::Whole(after),
            Image::Update { before, after } => After::Cells { before, after, target },
        };
        let Place { step, table, role } = change.place;
        RowLine {
            step,
            table,
            role,
            n: change.ordinal,
            key: &change.key,
            key_after: change.key_after.as_deref(),
            before: change.image.before(),
            after,
        }
    }
}

/// A row of a snapshot, as it is read.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct ReadLine<'a> {
    pub(crate) step: usize,
    pub(crate) table: usize,
    role: Role,
    n: i64,
    key: Vec<Value>,
    #[serde(default)]
    key_after: Option<Vec<Value>>,
    before: Option<Vec<Value>>,
    #[serde(borrow)]
    after: ReadAfter<'a>,
}

enum ReadAfter<'a> {
    Gone,
    Whole(Vec<Value>),
    Cells(Vec<(Name<'a>, Value)>),
}

/// The name of a column: it is only looked at, so that it is not made anew where it stands in the line as it is.
#[derive(Deserialize)]
struct Name<'a>(#[serde(borrow)] Cow<'a, str>);

impl<'de: 'a, 'a> Deserialize<'de> for ReadAfter<'a> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reader;
        impl<'de> Visitor<'de> for Reader {
            type Value = ReadAfter<'de>;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("null, a row, or the columns that differ")
            }

            fn visit_unit<E: serde::de::Error>(self) -> Result<ReadAfter<'de>, E> {
                Ok(ReadAfter::Gone)
            }

            fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<ReadAfter<'de>, A::Error> {
                let mut row = Vec::new();
                while let Some(value) = seq.next_element()? {
                    row.push(value);
                }
                Ok(ReadAfter::Whole(row))
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<ReadAfter<'de>, A::Error> {
                let mut cells = Vec::new();
                while let Some(cell) = map.next_entry()? {
                    cells.push(cell);
                }
                Ok(ReadAfter::Cells(cells))
            }
        }
        deserializer.deserialize_any(Reader)
    }
}

impl ReadLine<'_> {
    /// The row, or what is wrong with the line.
    pub(crate) fn change(self, target: &Target) -> Result<RowChange, String> {
        let width = target.columns.len();
        let whole = |row: &Vec<Value>| row.len() == width;
        if self.before.as_ref().is_some_and(|row| !whole(row)) {
            return Err("a row of another width".to_owned());
        }
        let image = match (self.after, self.before) {
            (ReadAfter::Gone, Some(before)) => Image::Delete { before },
            (ReadAfter::Whole(after), None) if whole(&after) => Image::Insert { after },
            (ReadAfter::Cells(cells), Some(before)) => {
                let mut row = before.clone();
                for (Name(name), value) in cells {
                    let at = target.columns.iter().position(|c| c.name == name);
                    let cell =
                        at.and_then(|at| row.get_mut(at)).ok_or_else(|| format!("no column {name}"))?;
                    *cell = value;
                }
                Image::Update { before, after: row }
            }
            _ => return Err("before and after do not go together".to_owned()),
        };
        let place = Place { step: self.step, table: self.table, role: self.role };
        Ok(RowChange { place, ordinal: self.n, key: self.key, key_after: self.key_after, image })
    }
}

/// Whether a line is a row of a snapshot, and this one. Only where that is not so anything is made of what is read: rows come by
/// the million, and each of them is compared.
pub(crate) struct IsRow<'a> {
    pub(crate) change: &'a RowChange,
    pub(crate) target: &'a Target,
}

impl IsRow<'_> {
    /// Whether the line is the row; an error where it is no row at all.
    pub(crate) fn line(self, line: &[u8]) -> Result<bool, serde_json::Error> {
        let mut reader = serde_json::Deserializer::from_slice(line);
        let same = reader.deserialize_map(self)?;
        reader.end()?;
        Ok(same)
    }
}

/// The fields of [`ReadLine`].
#[derive(Deserialize, PartialEq, Clone, Copy)]
#[serde(rename_all = "snake_case")]
enum Field {
    Step,
    Table,
    Role,
    N,
    Key,
    KeyAfter,
    Before,
    After,
}

impl<'de> Visitor<'de> for IsRow<'_> {
    type Value = bool;

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a row of a snapshot")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<bool, A::Error> {
        let change = self.change;
        let mut same = true;
        let mut fields = 0;
        while let Some(field) = map.next_key::<Field>()? {
            fields += 1;
            same &= match field {
                Field::Step => map.next_value::<usize>()? == change.place.step,
                Field::Table => map.next_value::<usize>()? == change.place.table,
                Field::Role => map.next_value::<Role>()? == change.place.role,
                Field::N => map.next_value::<i64>()? == change.ordinal,
                Field::Key => map.next_value_seed(SameList(Some(&change.key)))?,
                Field::KeyAfter => map.next_value_seed(SameList(change.key_after.as_deref()))?,
                Field::Before => map.next_value_seed(SameList(change.image.before()))?,
                Field::After => match &change.image {
                    Image::Delete { .. } => map.next_value_seed(SameList(None))?,
                    Image::Insert { after } => map.next_value_seed(SameList(Some(after)))?,
                    Image::Update { before, after } => {
                        map.next_value_seed(IsCells { before, after, target: self.target })?
                    }
                },
            };
        }
        // Each field stands there once, or a part of the row would have been compared with nothing.
        Ok(same && fields == 7 + usize::from(change.key_after.is_some()))
    }
}

/// Whether what is read are the cells that differ, in the order of the table.
struct IsCells<'a> {
    before: &'a [Value],
    after: &'a [Value],
    target: &'a Target,
}

impl<'de> DeserializeSeed<'de> for IsCells<'_> {
    type Value = bool;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<bool, D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de> Visitor<'de> for IsCells<'_> {
    type Value = bool;

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("the columns that differ")
    }

    fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<bool, A::Error> {
        let cells = self.before.iter().zip(self.after).zip(&self.target.columns);
        let mut same = self.target.columns.len() == self.after.len();
        for ((_, is), column) in cells.filter(|((was, is), _)| was != is) {
            match map.next_key_seed(IsName(&column.name))? {
                Some(named) => same &= map.next_value_seed(Same(is))? && named,
                None => return Ok(false),
            }
        }
        while map.next_entry::<String, Value>()?.is_some() {
            same = false;
        }
        Ok(same)
    }
}

/// Whether what is read is this name.
struct IsName<'a>(&'a str);

impl<'de> DeserializeSeed<'de> for IsName<'_> {
    type Value = bool;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<bool, D::Error> {
        deserializer.deserialize_str(self)
    }
}

impl Visitor<'_> for IsName<'_> {
    type Value = bool;

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("the name of a column")
    }

    fn visit_str<E: serde::de::Error>(self, name: &str) -> Result<bool, E> {
        Ok(name == self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use marktwice_core::table::{Column, Key, KeyKind};

    #[test]
    fn rows_read_back() {
        let column = |name: &str| Column {
            name: name.into(),
            declared: String::new(),
            generated: false,
            not_null: false,
        };
        let target = Target {
            table: "hive".into(),
            schema: "main".into(),
            columns: vec![column("id"), column("queen")],
            key: Key { kind: KeyKind::Primary, names: vec!["id".into()], columns: vec![0] },
            definition: String::new(),
            naming: None,
            refers: Vec::new(),
            hidden: Vec::new(),
            veil: Default::default(),
            family: Vec::new(),
        };
        let row = |a: i64, b: Value| Some(vec![Value::Int(a), b]);
        for (before, after, key_after) in [
            (row(1, Value::Null), row(2, Value::Text("red".into())), Some(vec![Value::Int(2)])),
            (row(1, Value::Bytes(vec![0, 255])), row(1, Value::Bytes(vec![0, 255])), None),
            (row(1, Value::Real(f64::INFINITY)), None, None),
            (None, row(1, Value::TextBytes(vec![0xc3])), None),
        ] {
            let place = Place { step: 1, table: 2, role: Role::Cascade };
            let image = Image::of(before, after).unwrap();
            let change = RowChange { place, ordinal: 7, key: vec![Value::Int(1)], key_after, image };
            let text = serde_json::to_string(&RowLine::of(&change, &target)).unwrap();
            let back: ReadLine<'_> = serde_json::from_str(&text).unwrap();
            assert_eq!(back.change(&target).unwrap(), change, "{text}");
            let is = |change: &RowChange, text: &str| {
                IsRow { change, target: &target }.line(text.as_bytes()).unwrap_or(false)
            };
            assert!(is(&change, &text), "{text}");
            // Whatever is another row, or none, is not it.
            let mut others = vec![change.clone(); 5];
            others[0].ordinal = 8;
            others[1].key = vec![Value::Null];
            others[2].key_after = Some(vec![Value::Int(9)]);
            others[3].place.role = Role::Target;
            others[4].image = Image::of(
                change.image.before().map(|row| vec![row[0].clone(), Value::Text("?".into())]),
                change.image.after().map(|row| vec![Value::Int(3), row[1].clone()]),
            )
            .unwrap();
            for other in &others {
                assert!(!is(other, &text), "{text} is not {other:?}");
                let other = serde_json::to_string(&RowLine::of(other, &target)).unwrap();
                assert!(!is(&change, &other), "{other} is not {change:?}");
            }
            let without = text.replacen(r#""n":7,"#, "", 1);
            let twice = text.replacen(r#""n":7,"#, r#""n":7,"n":7,"#, 1);
            let more = text.replacen(r#""n":7,"#, r#""n":7,"m":7,"#, 1);
            for bad in [&without, &twice, &more, &format!("{text}1"), &text[1..]] {
                assert!(!is(&change, bad), "{bad}");
            }
        }
        let bad = r#"{"step":0,"table":0,"role":"target","n":1,"key":[1],"before":[1],"after":null}"#;
        assert!(serde_json::from_str::<ReadLine<'_>>(bad).unwrap().change(&target).is_err());
    }
}
