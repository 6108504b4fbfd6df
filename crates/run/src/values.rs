//! What a column holds, before a filter is written: every value with its rows, values that differ only in how they are written
//! side by side, and how numbers and moments are spread.

use std::collections::HashMap;

use marktwice_core::hash::RowHash;
use marktwice_core::table::Target;
use marktwice_core::value::{Value, is_day};
use marktwice_port::{Draft, Which, Work};

use crate::context::Context;
use crate::look::{Seen, each_row};
use crate::outcome::Failure;

/// Rows that are read at most, where nobody says otherwise.
pub const MOST_READ: u64 = 1_000_000;
/// Values that are told apart at most; rows with others are counted together.
pub(crate) const MOST_VALUES: usize = 100_000;
/// Bars of a distribution.
const BARS: usize = 10;

/// A value, or a pair of them, with its rows.
#[derive(Debug, Clone, PartialEq)]
pub struct Group {
    /// It, one for each column.
    pub values: Vec<Value>,
    /// How many rows hold it.
    pub rows: u64,
    /// Whether another value differs from it only in letter case and blanks.
    pub alike: bool,
}

/// How numbers or moments are spread, NULLs left out.
#[derive(Debug, Clone, PartialEq)]
pub struct Spread {
    /// The least, the three quartiles, the greatest.
    pub marks: [Value; 5],
    /// For numbers, in equal steps from the least to the greatest: where each begins, and its rows.
    pub bars: Vec<(f64, u64)>,
}

/// Values with how many rows hold them.
type Counted = (Vec<Value>, u64);

/// What columns hold.
#[derive(Debug, Clone, PartialEq)]
pub struct Values {
    /// The table.
    pub target: Target,
    /// The columns.
    pub columns: Vec<usize>,
    /// Rows that there are.
    pub matched: u64,
    /// Rows that were read.
    pub read: u64,
    /// Where not all of them were: those whose key this number divides, and the column of the key; without it the first ones by
    /// key.
    pub every: Option<(u64, String)>,
    /// Rows with values that were not told apart any more.
    pub untold: u64,
    /// All values, the commonest first; those that are alike stand together.
    pub groups: Vec<Group>,
    /// Of one column of numbers or moments.
    pub spread: Option<Spread>,
}

/// Reads what columns of the rows hold that meet a condition, or of all; of more than `most` rows a sample is read.
///
/// # Errors
/// When there is no such column, the condition is refused, or the database fails.
pub fn values(
    context: &Context<'_>,
    target: &Target,
    names: &[String],
    condition: Option<&str>,
    most: u64,
) -> Result<Seen<Values>, Failure> {
    let mut columns = Vec::new();
    for name in names {
        let Some(at) = target.position(name) else {
            let (message, hint) = target.no_column(name);
            return Err(Failure::usage(message, hint));
        };
        if target.hidden.contains(&at) {
            return Err(Failure::usage(
                format!("what {name} of {} holds is hidden", target.table),
                "name another column",
            ));
        }
        columns.push(at);
    }
    let mut found: HashMap<RowHash, Counted> = HashMap::new();
    let (mut read, mut untold) = (0, 0);
    let language = context.engine.language();
    let statement = |condition: Option<&str>| {
        let rows = condition.map_or(Which::All, Which::Condition);
        let composed = language.compose(&Draft { target, schema: true, work: Work::Delete, rows });
        composed.map(|c| c.text).map_err(|wrong| Failure::usage(wrong.message, wrong.hint))
    };
    let whole = statement(condition)?;
    let matched = each_row(context, &whole, condition, Some(0), &mut |_| Ok(()))?.seen.1;
    let nth = matched.div_ceil(most);
    let sample = (nth > 1).then(|| language.sample(target, condition, nth)).flatten();
    let (text, every) = match sample {
        Some((sampled, column)) => (statement(Some(&sampled))?, Some((nth, column))),
        None => (whole, None),
    };
    let seen = each_row(context, &text, condition, Some(most), &mut |row| {
        read += 1;
        let held = row.image.row();
        let of: Vec<Value> = columns.iter().filter_map(|&at| held.get(at)).cloned().collect();
        let hash = RowHash::of(&of);
        let room = found.len() < MOST_VALUES;
        match found.get_mut(&hash) {
            Some((_, rows)) => *rows += 1,
            None if room => drop(found.insert(hash, (of, 1))),
            None => untold += 1,
        }
        Ok(())
    })?;
    let found: Vec<Counted> = found.into_values().collect();
    let moment = columns.first().and_then(|at| target.columns.get(*at)).is_some_and(|c| {
        let declared = c.declared.to_ascii_lowercase();
        declared.contains("date") || declared.contains("time")
    });
    let spread = (columns.len() == 1 && untold == 0).then(|| spread(&found, moment)).flatten();
    let (target, _) = seen.seen;
    let groups = ordered(found);
    let seen_values = Values { target, columns, matched, read, every, untold, groups, spread };
    Ok(Seen { database: seen.database, notes: seen.notes, seen: seen_values })
}

/// The commonest first; values that are alike stand together where the commonest of them stands.
fn ordered(found: Vec<Counted>) -> Vec<Group> {
    let mut families: HashMap<Vec<String>, Vec<Counted>> = HashMap::new();
    for (values, rows) in found {
        let plain = values.iter().map(plainly).collect();
        families.entry(plain).or_default().push((values, rows));
    }
    let mut families: Vec<(Vec<String>, Vec<Counted>)> = families.into_iter().collect();
    for (_, family) in &mut families {
        family.sort_by(|(a, n), (b, m)| m.cmp(n).then_with(|| shown(a).cmp(&shown(b))));
    }
    let most = |family: &[Counted]| family.first().map_or(0, |(_, rows)| *rows);
    families.sort_by(|(a, first), (b, second)| most(second).cmp(&most(first)).then_with(|| a.cmp(b)));
    let group = |(_, family): (Vec<String>, Vec<Counted>)| {
        let alike = family.len() > 1;
        family.into_iter().map(move |(values, rows)| Group { values, rows, alike })
    };
    families.into_iter().flat_map(group).collect()
}

fn shown(values: &[Value]) -> Vec<String> {
    values.iter().map(|value| value.to_json().to_string()).collect()
}

/// A text without letter case and blanks around or between its words; anything else as it is, so that it is like no text.
fn plainly(value: &Value) -> String {
    match value {
        Value::Text(text) => {
            let words: Vec<String> = text.split_whitespace().map(str::to_lowercase).collect();
            format!("'{}", words.join(" "))
        }
        other => other.to_json().to_string(),
    }
}

fn spread(found: &[Counted], moment: bool) -> Option<Spread> {
    let mut all: Vec<(&Value, u64)> = Vec::new();
    for (values, rows) in found {
        match values.first()? {
            Value::Null => {}
            value => all.push((value, *rows)),
        }
    }
    let numbers: Option<Vec<f64>> = all.iter().map(|(value, _)| value.roughly()).collect();
    let moment = |value: &Value| matches!(value, Value::Text(text) if moment || is_day(text));
    if all.len() < 2 || (numbers.is_none() && !all.iter().all(|(value, _)| moment(value))) {
        return None;
    }
    all.sort_by(|(a, _), (b, _)| match (a.roughly(), b.roughly()) {
        (Some(a), Some(b)) => a.total_cmp(&b),
        _ => shown(&[(*a).clone()]).cmp(&shown(&[(*b).clone()])),
    });
    let rows: u64 = all.iter().map(|(_, rows)| rows).sum();
    let at = |quarter: u64| -> Option<Value> {
        let place = rows.saturating_sub(1) * quarter / 4;
        let mut so_far = 0;
        all.iter()
            .find(|(_, rows)| {
                so_far += rows;
                so_far > place
            })
            .map(|(value, _)| (*value).clone())
    };
    let marks = [at(0)?, at(1)?, at(2)?, at(3)?, at(4)?];
    let mut bars = Vec::new();
    if let (Some(_), Some(least), Some(greatest)) = (&numbers, marks[0].roughly(), marks[4].roughly())
        && all.len() > BARS
        && greatest > least
    {
        #[expect(clippy::cast_precision_loss, reason = "a handful")]
        let width = (greatest - least) / BARS as f64;
        let start = |nth: usize| {
            #[expect(clippy::cast_precision_loss, reason = "a handful")]
            let nth = nth as f64;
            least + width * nth
        };
        bars = (0..BARS).map(|nth| (start(nth), 0)).collect();
        for (value, rows) in &all {
            let Some(n) = value.roughly() else { continue };
            let place = bars.iter().rposition(|(from, _)| n >= *from).unwrap_or(0);
            if let Some((_, count)) = bars.get_mut(place) {
                *count += rows;
            }
        }
    }
    Some(Spread { marks, bars })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn alike_values_stand_together() {
        let text = |t: &str| vec![Value::Text(t.into())];
        let groups = ordered(vec![
            (text("Moor"), 9),
            (text("Dale"), 7),
            (text(" moor"), 1),
            (vec![Value::Null], 2),
            (vec![Value::Int(5)], 1),
            (text("5"), 1),
        ]);
        let seen: Vec<(String, u64, bool)> =
            groups.iter().map(|g| (shown(&g.values).concat(), g.rows, g.alike)).collect();
        let first: Vec<(&str, u64, bool)> = seen.iter().map(|(v, n, a)| (v.as_str(), *n, *a)).collect();
        assert_eq!(
            first[..4],
            [("\"Moor\"", 9, true), ("\" moor\"", 1, true), ("\"Dale\"", 7, false), ("null", 2, false)]
        );
        assert!(groups[4..].iter().all(|g| !g.alike), "a number is like no text: {groups:?}");
    }

    #[test]
    fn quartiles_are_values_that_are_there() {
        let found: Vec<Counted> =
            (1..=20).map(|n| (vec![Value::Int(n)], if n == 20 { 20 } else { 1 })).collect();
        let spread = spread(&found, false).unwrap();
        assert_eq!(spread.marks, [1, 10, 20, 20, 20].map(Value::Int));
        assert_eq!(spread.bars.iter().map(|(_, rows)| rows).sum::<u64>(), 39);
        assert_eq!((spread.bars.len(), spread.bars[9].1), (10, 21));
        let mixed = vec![(vec![Value::Int(1)], 1), (vec![Value::Text("x".into())], 1)];
        assert_eq!(super::spread(&mixed, true), None);
        let day = |text: &str, rows| (vec![Value::Text(text.into())], rows);
        let days = [day("2026-05-10", 1), day("2024-01-31", 3), (vec![Value::Null], 9)];
        assert_eq!(super::spread(&days, false).unwrap().marks[2], Value::Text("2024-01-31".into()));
        assert_eq!(super::spread(&[day("a", 1), day("b", 1)], false), None);
    }
}
