//! Marks: a record of exactly which rows a step matches, what they hold and what they would become.

use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::along::Along;
use crate::cell::pick;
use crate::hash::{Fingerprint, Hashing, RowHash, ShortHash, Sum};
use crate::image::Image;
pub use crate::kind::StepKind;
use crate::table::Target;
use crate::value::Value;
use crate::veil::Veil;

/// How an after-value in a preview came about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Label {
    /// The engine itself made it, as it would store it.
    Exact,
    /// Computed, but not stored in a column of the right type.
    Computed,
    /// Only the run can tell.
    Unknown,
    /// What a rehearsal saw: the run may come to another value.
    Rehearsed,
}

/// A column that a step may change, and how its after-values are known.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Foreseen {
    /// Position of the column.
    pub column: usize,
    /// How its after-values are known.
    pub label: Label,
    /// Whether the engine derives it (a generated column) instead of the statement assigning it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub derived: bool,
    /// Why the label is not `exact`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// One matched row, held.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldRow {
    /// Its hidden number, from 1, by which before and after are paired.
    pub ordinal: i64,
    /// Its key.
    pub key: Vec<Value>,
    /// What it holds and what it would become.
    pub image: Image,
    /// Columns that are not held, and stand for NULL in the image: only what they held together is known.
    pub rest: Option<Rest>,
}

/// Columns of a held row that are not held themselves.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rest {
    /// They.
    pub columns: Arc<[usize]>,
    /// What they held.
    pub sum: Sum,
}

impl HeldRow {
    /// The row with what `now` holds in columns that are not held: those are the same if, and only if, it says so.
    #[must_use]
    pub fn completed(&self, buffer: &mut Vec<u8>, now: &[Value]) -> Option<HeldRow> {
        let Some(Rest { columns, sum }) = &self.rest else { return Some(self.clone()) };
        let others = columns.iter().filter_map(|&at| now.get(at));
        (Sum::of(buffer, others) == *sum).then(|| self.filled(columns, now))
    }

    /// The row with what `from` holds in these columns.
    #[must_use]
    pub fn filled(&self, columns: &[usize], from: &[Value]) -> HeldRow {
        let fill = |row: &mut Vec<Value>| {
            for &at in columns {
                if let (Some(cell), Some(value)) = (row.get_mut(at), from.get(at)) {
                    cell.clone_from(value);
                }
            }
        };
        let mut image = self.image.clone();
        match &mut image {
            Image::Update { before, after } => [before, after].into_iter().for_each(fill),
            Image::Insert { after: row } | Image::Delete { before: row } => fill(row),
        }
        HeldRow { ordinal: self.ordinal, key: self.key.clone(), image, rest: None }
    }
}

/// The record of one row in a mark.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct MarkRow {
    /// The row's key.
    pub key: Vec<Value>,
    /// Over the columns that the statement reads or writes.
    pub related: ShortHash,
    /// Over all other columns.
    pub rest: ShortHash,
    /// Over the foreseen after-values labelled `exact` or `computed`.
    pub after: ShortHash,
}

/// The totals of a mark.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct MarkSummary {
    /// Matched rows.
    pub matched: u64,
    /// Rows that would differ afterwards, as far as that is known.
    pub changes: u64,
    /// Over keys and related columns.
    pub related: Fingerprint,
    /// Over keys and the other columns.
    pub rest: Fingerprint,
    /// Over keys and foreseen after-values.
    pub after: Fingerprint,
    /// Over the rows that are taken along, with their tables: what they hold where they go, and what is written where they
    /// stay.
    #[serde(default, skip_serializing_if = "Fingerprint::is_empty")]
    pub along: Fingerprint,
}

/// Which columns of a target play which part in a mark.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Parts {
    /// Columns that the statement reads or writes.
    pub related: Vec<usize>,
    /// All others.
    pub rest: Vec<usize>,
    /// Columns whose after-values are foreseen.
    pub after: Vec<usize>,
    /// Whether the key tells rows that an earlier step has brought in, and may be another one each time: then it is no evidence.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub loose: bool,
    /// How rows are hashed; the header says it for all steps.
    #[serde(skip)]
    pub hashing: Hashing,
    /// What stands for keys that are never shown, where they are not.
    #[serde(skip)]
    pub veil: Option<Veil>,
}

impl Parts {
    /// Splits a target's columns. A DELETE takes whole rows away, so every column is related to it.
    pub fn new(target: &Target, kind: StepKind, reads: &[usize], foreseen: &[Foreseen]) -> Parts {
        let all = 0..target.columns.len();
        // What a preview shows beside them says which row it is: a change there is seen by whoever agreed to it.
        let is_related = |c: &usize| {
            kind == StepKind::Delete
                || target.naming == Some(*c)
                || reads.contains(c)
                || foreseen.iter().any(|f| f.column == *c)
        };
        Parts {
            related: all.clone().filter(is_related).collect(),
            rest: all.filter(|c| !is_related(c)).collect(),
            after: foreseen.iter().filter(|f| f.label != Label::Unknown).map(|f| f.column).collect(),
            loose: false,
            hashing: Hashing::Plain,
            veil: None,
        }
    }
}

/// Takes a mark row by row.
#[derive(Debug, Clone)]
pub struct Marker {
    parts: Parts,
    summary: MarkSummary,
    buffer: Vec<u8>,
}

impl Marker {
    /// A marker that has seen no row yet.
    pub fn new(parts: Parts) -> Self {
        Marker { parts, summary: MarkSummary::default(), buffer: Vec::new() }
    }

    /// Takes one row into the mark and gives its record.
    pub fn take(&mut self, row: &HeldRow) -> MarkRow {
        let (hashing, buffer) = (self.parts.hashing, &mut self.buffer);
        let before = row.image.before().unwrap_or_default();
        let key: &[Value] = if self.parts.loose { &[] } else { &row.key };
        let related = RowHash::by(hashing, buffer, key.iter().chain(pick(before, &self.parts.related)));
        let rest = RowHash::by(hashing, buffer, key.iter().chain(pick(before, &self.parts.rest)));
        let after = match row.image.after() {
            None => RowHash::by(hashing, buffer, key),
            Some(values) => RowHash::by(hashing, buffer, key.iter().chain(pick(values, &self.parts.after))),
        };
        let changed = row.image.differs();
        self.summary.matched += 1;
        self.summary.changes += u64::from(changed);
        self.summary.related.add(&related);
        self.summary.rest.add(&rest);
        self.summary.after.add(&after);
        let key = self.parts.veil.map_or_else(|| row.key.clone(), |veil| veil.key(&row.key));
        MarkRow { key, related: related.short(), rest: rest.short(), after: after.short() }
    }

    /// Takes a row in that the step takes along.
    pub fn take_along(&mut self, along: &Along, row: &HeldRow) {
        let table =
            [Value::Text(along.target.schema.clone().into()), Value::Text(along.target.table.clone().into())];
        let columns: Vec<usize> = along.foreseen.iter().map(|f| f.column).collect();
        let before = row.image.before().unwrap_or_default();
        let start = table.iter().chain(&row.key);
        let (hashing, buffer) = (self.parts.hashing, &mut self.buffer);
        let hash = match row.image.after() {
            None => RowHash::by(hashing, buffer, start.chain(before)),
            Some(after) => {
                RowHash::by(hashing, buffer, start.chain(pick(before, &columns)).chain(pick(after, &columns)))
            }
        };
        self.summary.along.add(&hash);
    }

    /// The totals so far.
    pub fn summary(&self) -> &MarkSummary {
        &self.summary
    }
}

/// How two marks of the same step stand to each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Comparison {
    /// The same rows with the same contents.
    Same,
    /// The same rows; only columns that the statement neither reads nor writes differ.
    UnrelatedOnly,
    /// Rows joined, left or changed, or another result is foreseen.
    Moved,
    /// The step's own rows are the same, and those that it takes along are not.
    Along,
}

/// Compares two marks by their fingerprints.
pub fn agreement(first: &MarkSummary, second: &MarkSummary) -> Comparison {
    if first.matched != second.matched || first.related != second.related || first.after != second.after {
        Comparison::Moved
    } else if first.along != second.along {
        Comparison::Along
    } else if first.rest != second.rest {
        Comparison::UnrelatedOnly
    } else {
        Comparison::Same
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn held(id: i64, region: &str, note: &str, after: &str) -> HeldRow {
        let text = |s: &str| Value::Text(s.into());
        HeldRow {
            ordinal: id,
            key: vec![Value::Int(id)],
            image: Image::Update {
                before: vec![Value::Int(id), text(region), text(note)],
                after: vec![Value::Int(id), text(after), text(note)],
            },
            rest: None,
        }
    }

    fn mark(rows: &[HeldRow]) -> MarkSummary {
        let parts = Parts {
            related: vec![0, 1],
            rest: vec![2],
            after: vec![1],
            loose: false,
            hashing: Hashing::Seeded(7),
            veil: None,
        };
        let mut marker = Marker::new(parts);
        rows.iter().for_each(|r| {
            marker.take(r);
        });
        *marker.summary()
    }

    #[test]
    fn agreement_of_marks() {
        let first = mark(&[held(1, "Dale", "a", "Moor"), held(2, "Moor", "b", "Moor")]);
        assert_eq!((first.matched, first.changes), (2, 1));
        let turned = mark(&[held(2, "Moor", "b", "Moor"), held(1, "Dale", "a", "Moor")]);
        assert_eq!(agreement(&first, &turned), Comparison::Same);
        let note = mark(&[held(1, "Dale", "new", "Moor"), held(2, "Moor", "b", "Moor")]);
        assert_eq!(agreement(&first, &note), Comparison::UnrelatedOnly);
        let region = mark(&[held(1, "Coast", "a", "Moor"), held(2, "Moor", "b", "Moor")]);
        assert_eq!(agreement(&first, &region), Comparison::Moved);
        let result = mark(&[held(1, "Dale", "a", "Fell"), held(2, "Moor", "b", "Moor")]);
        assert_eq!(agreement(&first, &result), Comparison::Moved);
        let left = mark(&[held(1, "Dale", "a", "Moor")]);
        assert_eq!(agreement(&first, &left), Comparison::Moved);
    }

    #[test]
    fn swapped_contents_are_seen() {
        let first = mark(&[held(1, "Dale", "a", "Moor"), held(2, "Fell", "b", "Moor")]);
        let swapped = mark(&[held(2, "Dale", "a", "Moor"), held(1, "Fell", "b", "Moor")]);
        assert_eq!(agreement(&first, &swapped), Comparison::Moved);
    }

    /// Only a sum says what was in columns that are not held: it tells whether those are the same now, and nothing is made up where
    /// they are not.
    #[test]
    fn what_is_not_held_is_filled_in_only_where_it_is_the_same() {
        let (text, mut buffer) = (|s: &str| Value::Text(s.into()), Vec::new());
        let there = [Value::Int(1), text("Moor"), text("calm"), Value::Null];
        let row = HeldRow {
            image: Image::Update {
                before: vec![Value::Int(1), text("Moor"), Value::Null, Value::Null],
                after: vec![Value::Int(1), text("Dale"), Value::Null, Value::Null],
            },
            rest: Some(Rest { columns: [2, 3].into(), sum: Sum::of(&mut buffer, &there[2..]) }),
            ..held(1, "", "", "")
        };
        let now = [Value::Int(1), text("Dale"), text("calm"), Value::Null];
        let whole = row.completed(&mut buffer, &now).expect("the same");
        assert_eq!((whole.image.before(), whole.image.after()), (Some(&there[..]), Some(&now[..])));
        assert_eq!(whole.rest, None);
        for other in [[text("wild"), Value::Null], [Value::Null, text("calm")], [text("calm"), text("")]] {
            let now = [&now[..2], &other].concat();
            assert_eq!(row.completed(&mut buffer, &now), None, "{other:?}");
        }
        assert_eq!(row.filled(&[2, 3], &there).image.before(), Some(&there[..]));
    }
}
