//! What the rows of a preview show by themselves, noticed while they pass: values that are lost, too long, or become
//! one; rows that only their key tells apart. Memory stays bounded however many rows there are.

use crate::words;
use std::collections::{HashMap, HashSet};

use crate::finding::{Code, Finding, TextPlace};
use crate::hash::Sum;
use crate::image::Image;
use crate::mark::HeldRow;
use crate::table::{KeyKind, Target};
use crate::value::Value;

/// Rows that are compared with each other.
const TWINS: usize = 50_000;
/// New values that are remembered by column.
const NEW_VALUES: usize = 20;
/// New values by column whose old ones are remembered.
const VALUES: usize = 20_000;

/// An assigned column as the statement has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Assigned {
    /// The column.
    pub column: usize,
    /// Where it is assigned.
    pub place: TextPlace,
    /// Whether NULL itself is assigned.
    pub null: bool,
    /// Whether the new value is computed from the column's own old one.
    pub from_itself: bool,
    /// How many characters the column is declared to hold.
    pub room: Option<usize>,
    /// Columns of the target from which an operator computes the new value: NULL as soon as one of them is.
    pub operands: Vec<usize>,
}

#[derive(Debug, Default)]
struct Column {
    lost: u64,
    long: u64,
    longest: usize,
    /// Which value each new one came from, for as many as are remembered.
    /// By new value: one of the old ones, in how many rows, and whether there was another old one.
    came_from: HashMap<Sum, (Sum, u64, bool)>,
    new: Vec<String>,
}

/// What is noticed.
#[derive(Debug)]
pub struct Notices {
    assigned: Vec<Assigned>,
    columns: Vec<Column>,
    keyed: Vec<usize>,
    twins: HashSet<Sum>,
    buffer: Vec<u8>,
    twin_rows: u64,
    look_for_twins: bool,
    /// Rows in which nothing changes because an operand is NULL, and which operands were.
    stay_null: u64,
    null_operands: Vec<usize>,
}

impl Notices {
    /// Nothing noticed yet.
    pub fn new(target: &Target, assigned: Vec<Assigned>) -> Notices {
        let columns = assigned.iter().map(|_| Column::default()).collect();
        let keyed = target.key.columns.clone();
        let look_for_twins = target.columns.len() > keyed.len() + 1 || target.key.kind == KeyKind::WholeRow;
        Notices {
            assigned,
            columns,
            keyed,
            twins: HashSet::new(),
            buffer: Vec::new(),
            twin_rows: 0,
            look_for_twins,
            stay_null: 0,
            null_operands: Vec::new(),
        }
    }

    /// Without a word of rows that are alike: where some values are not known yet, nobody knows it.
    #[must_use]
    pub fn without_twins(mut self) -> Notices {
        self.look_for_twins = false;
        self
    }

    /// Looks at one row.
    pub fn row(&mut self, row: &HeldRow) {
        if self.look_for_twins && self.twins.len() < TWINS {
            let cells = row.image.row().iter().enumerate();
            let rest = cells.filter(|(at, _)| !self.keyed.contains(at)).map(|(_, value)| value);
            self.twin_rows += u64::from(!self.twins.insert(Sum::of(&mut self.buffer, rest)));
        }
        let none = Vec::new();
        let (before, after) = match &row.image {
            Image::Update { before, after } => (before, after),
            // Nothing was there that could be lost.
            Image::Insert { after } => (&none, after),
            Image::Delete { .. } => return,
        };
        if after == before {
            let null = |at: usize| before.get(at).is_some_and(Value::is_null);
            let mut stays = false;
            for assigned in self.assigned.iter().filter(|a| !a.null && null(a.column)) {
                for at in assigned.operands.iter().copied().filter(|at| null(*at)) {
                    stays = true;
                    if !self.null_operands.contains(&at) {
                        self.null_operands.push(at);
                    }
                }
            }
            self.stay_null += u64::from(stays);
        }
        for (assigned, seen) in self.assigned.iter().zip(&mut self.columns) {
            let Some(new) = after.get(assigned.column) else { continue };
            let old = before.get(assigned.column).unwrap_or(&Value::Null);
            seen.lost += u64::from(!assigned.null && new.is_null() && !old.is_null());
            if let (Some(room), Value::Text(text)) = (assigned.room, new) {
                let length = text.chars().count();
                seen.long += u64::from(length > room && old != new);
                seen.longest = seen.longest.max(length);
            }
            // Where there are so many different values, whether some become one is no longer looked at.
            let few = |to| seen.came_from.len() < VALUES || seen.came_from.contains_key(to);
            if assigned.from_itself && !new.is_null() && !old.is_null() {
                let to = Sum::of(&mut self.buffer, [new]);
                if few(&to) {
                    let from = Sum::of(&mut self.buffer, [old]);
                    let (first, count, several) = seen.came_from.entry(to).or_insert((from, 0, false));
                    *count += 1;
                    *several |= *first != from;
                }
            }
            if let Value::Text(text) = new
                && old != new
                && seen.new.len() < NEW_VALUES
                && text.chars().count() <= 200
                && !seen.new.iter().any(|known| known == text)
            {
                seen.new.push(text.clone().into());
            }
        }
    }

    /// Columns that get new texts, which can be compared with what the column holds.
    pub fn with_new_texts(&self) -> Vec<usize> {
        let columns = self.assigned.iter().zip(&self.columns);
        columns.filter(|(_, seen)| !seen.new.is_empty()).map(|(a, _)| a.column).collect()
    }

    /// New texts that are written unlike what their column holds.
    pub fn unlike(&self, target: &Target, known: &[(usize, Vec<String>)]) -> Vec<Finding> {
        let mut found = Vec::new();
        for (assigned, seen) in self.assigned.iter().zip(&self.columns) {
            let Some((_, values)) = known.iter().find(|(at, _)| *at == assigned.column) else { continue };
            let odd = seen.new.iter().find_map(|new| Some((new, crate::shape::unlike(new, values)?)));
            if let Some((new, how)) = odd {
                let name = target.columns.get(assigned.column).map_or("", |c| c.name.as_str());
                let example = values.first().map_or("", String::as_str);
                let message =
                    format!("'{new}' is written {how}, unlike every other {name} (such as '{example}')");
                found.push(Finding::new(Code::Unlike, message).at(assigned.place.clone()));
            }
        }
        found
    }

    /// How many rows stay NULL because an operand is NULL, and which columns are.
    pub fn stays_null(&self, target: &Target) -> (u64, Vec<String>) {
        (self.stay_null, target.names(&self.null_operands))
    }

    /// What the rows alone have shown.
    pub fn findings(&self, target: &Target) -> Vec<Finding> {
        let rows = words::rows;
        let mut found = Vec::new();
        for (assigned, seen) in self.assigned.iter().zip(&self.columns) {
            let name = target.columns.get(assigned.column).map_or("", |c| c.name.as_str());
            let mut add = |code, message| found.push(Finding::new(code, message).at(assigned.place.clone()));
            if seen.lost > 0 {
                add(
                    Code::BecomesNull,
                    format!("{name} holds a value in {} and becomes NULL there", rows(seen.lost)),
                );
            }
            if let (true, Some(room)) = (seen.long > 0, assigned.room) {
                let longest = seen.longest;
                add(
                    Code::TooLong,
                    format!(
                        "{name} is declared for {room} characters; {} would have more (up to {longest})",
                        rows(seen.long)
                    ),
                );
            }
            let merged = seen.came_from.values().filter(|(.., several)| *several);
            let (values, count) = merged.fold((0u64, 0), |(n, all), (_, count, _)| (n + 1, all + count));
            if values > 0 {
                let one = words::either(values, "value", "values");
                let message = format!("different values of {name} become {values} {one} in {}", rows(count));
                add(Code::Merges, message);
            }
        }
        if self.stay_null > 0 {
            let names = target.names(&self.null_operands).join(", ");
            let n = self.stay_null;
            let (is, stay) = (words::either(n, "stays", "stay"), words::either(n, "is missed", "are missed"));
            let message = format!("{} {is} NULL and {stay}: {names} is NULL there", rows(self.stay_null));
            let place = self.assigned.iter().find(|a| !a.operands.is_empty()).map(|a| a.place.clone());
            let finding = Finding::new(Code::StaysNull, message);
            found.push(match place {
                Some(place) => finding.at(place),
                None => finding,
            });
        }
        if self.twin_rows > 0 {
            let equal = words::either(self.twin_rows, "equals", "equal");
            let message = if target.key.kind == KeyKind::WholeRow || target.key.kind == KeyKind::RowIdentity {
                format!(
                    "{} of {} {equal} another matched row in every column",
                    rows(self.twin_rows),
                    target.table
                )
            } else {
                format!(
                    "{} of {} {equal} another matched row in all but the key",
                    rows(self.twin_rows),
                    target.table
                )
            };
            found.push(Finding::new(Code::TwinRows, message));
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::{Column as Declared, Key};

    fn target() -> Target {
        let column = |name: &str| Declared {
            name: name.into(),
            declared: "varchar(4)".into(),
            generated: false,
            not_null: false,
        };
        Target {
            table: "keeper".into(),
            schema: String::new(),
            columns: ["id", "region", "note"].map(column).to_vec(),
            key: Key { kind: KeyKind::Primary, names: vec!["id".into()], columns: vec![0] },
            definition: String::new(),
            naming: None,
            refers: Vec::new(),
            hidden: Vec::new(),
            veil: Default::default(),
            family: Vec::new(),
        }
    }

    fn codes(rows: &[(i64, &str, Option<&str>)]) -> Vec<Code> {
        let place = TextPlace { line: 1, column: 1, length: 1, text: String::new() };
        let assigned = vec![Assigned {
            column: 1,
            place,
            null: false,
            from_itself: true,
            room: Some(4),
            operands: vec![2],
        }];
        let mut notices = Notices::new(&target(), assigned);
        for (id, old, new) in rows {
            let text = |t: &str| Value::Text(t.into());
            let before = vec![Value::Int(*id), text(old), Value::Null];
            let after = vec![Value::Int(*id), new.map_or(Value::Null, text), Value::Null];
            notices.row(&HeldRow {
                ordinal: *id,
                key: vec![Value::Int(*id)],
                image: Image::Update { before, after },
                rest: None,
            });
        }
        notices.findings(&target()).iter().map(|f| f.code).collect()
    }

    #[test]
    fn what_rows_show() {
        assert_eq!(codes(&[(1, "Moor", Some("Dale")), (2, "Vale", Some("Fell"))]), []);
        assert_eq!(codes(&[(1, "Moor", None)]), [Code::BecomesNull]);
        assert_eq!(codes(&[(1, "Moor", Some("Hills"))]), [Code::TooLong]);
        assert_eq!(codes(&[(1, "Moor", Some("Dale")), (2, "Vale", Some("Dale"))]), [Code::Merges]);
        let mut missed = Notices::new(
            &target(),
            vec![Assigned {
                column: 1,
                place: TextPlace { line: 1, column: 1, length: 1, text: String::new() },
                null: false,
                from_itself: false,
                room: None,
                operands: vec![0, 2],
            }],
        );
        let row = vec![Value::Int(1), Value::Null, Value::Null];
        missed.row(&HeldRow {
            ordinal: 1,
            key: vec![Value::Int(1)],
            image: Image::Update { before: row.clone(), after: row },
            rest: None,
        });
        assert_eq!(missed.stays_null(&target()), (1, vec!["note".to_owned()]));
        assert_eq!(missed.findings(&target())[0].code, Code::StaysNull);
        assert_eq!(codes(&[(1, "Moor", Some("a")), (2, "Moor", Some("b"))]), [Code::TwinRows]);
    }
}
