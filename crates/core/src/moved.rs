//! Finding the rows that moved between two marks, in memory that does not grow with the marks.
//!
//! Both marks can be read again as often as needed. Rows are dealt into buckets by the hash of their key; the
//! buckets of both sides are summed, and only buckets whose sums differ are read again, a group at a time, with
//! no more than [`GROUP_ROWS`] rows of each side in memory at once.

use std::collections::HashMap;

use crate::hash::RowHash;
use crate::mark::MarkRow;
use crate::value::Value;

/// How many rows of one side are held in memory at once (unless one bucket alone has more).
const GROUP_ROWS: u64 = 40_000;
const BUCKETS: usize = 4096;

/// How a row moved.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub enum How {
    /// It matches now and did not before.
    Joined,
    /// It matched before and does not now.
    Left,
    /// A column that the statement reads or writes holds something else.
    Changed,
    /// It holds the same, but would become something else.
    Result,
    /// Only columns that the statement neither reads nor writes, and no preview shows, hold something else.
    Elsewhere,
}

/// One moved row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MovedRow {
    /// Its key.
    pub key: Vec<Value>,
    /// How it moved.
    pub how: How,
}

/// All that moved between two marks.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Moved {
    /// Rows that joined.
    pub joined: u64,
    /// Rows that left.
    pub left: u64,
    /// Rows with other contents.
    pub changed: u64,
    /// Rows with another foreseen result.
    pub result: u64,
    /// Rows that differ in columns which do not matter to the statement; no reason to stop.
    pub elsewhere: u64,
    /// The first rows found, named, as many as were asked for.
    pub named: Vec<MovedRow>,
}

impl Moved {
    /// How many rows moved in all.
    pub fn total(&self) -> u64 {
        self.joined + self.left + self.changed + self.result
    }
}

/// Reads one mark from its start, giving every row to the callback.
pub type Reader<'a, E> = dyn FnMut(&mut dyn FnMut(&MarkRow)) -> Result<(), E> + 'a;

#[derive(Clone, Copy, Default, PartialEq, Eq)]
struct Sum {
    rows: u64,
    sum: u64,
}

fn bucket(key: &RowHash) -> usize {
    usize::try_from(key.short().0 % BUCKETS as u64).unwrap_or(0)
}

fn sums<E>(reader: &mut Reader<'_, E>) -> Result<Vec<Sum>, E> {
    let mut sums = vec![Sum::default(); BUCKETS];
    reader(&mut |row| {
        let key = RowHash::of(&row.key);
        if let Some(sum) = sums.get_mut(bucket(&key)) {
            // The parts are spread apart by odd factors so that equal hashes in different roles do not cancel.
            let mixed = row
                .related
                .0
                .wrapping_mul(0x9e37_79b9_7f4a_7c15)
                .wrapping_add(row.after.0.wrapping_mul(0xc2b2_ae3d_27d4_eb4f))
                .wrapping_add(row.rest.0.wrapping_mul(0x1656_67b1_9e37_79f9))
                .wrapping_add(key.short().0);
            sum.rows += 1;
            sum.sum = sum.sum.wrapping_add(mixed);
        }
    })?;
    Ok(sums)
}

/// Finds what moved from `first` to `second`; names at most `limit` rows and counts all of them.
///
/// # Errors
/// Whatever a reader answers.
pub fn find<E>(first: &mut Reader<'_, E>, second: &mut Reader<'_, E>, limit: usize) -> Result<Moved, E> {
    let (one, two) = (sums(first)?, sums(second)?);
    let differing: Vec<(usize, u64)> = one
        .iter()
        .zip(&two)
        .enumerate()
        .filter(|(_, (a, b))| a != b)
        .map(|(at, (a, b))| (at, a.rows.max(b.rows)))
        .collect();
    let mut moved = Moved::default();
    let mut rest = differing.as_slice();
    while !rest.is_empty() {
        let mut rows = 0;
        let mut take = 0;
        for (_, count) in rest {
            if take > 0 && rows + count > GROUP_ROWS {
                break;
            }
            rows += count;
            take += 1;
        }
        let (group, later) = rest.split_at(take);
        rest = later;
        let mut wanted = vec![false; BUCKETS];
        for (at, _) in group {
            if let Some(flag) = wanted.get_mut(*at) {
                *flag = true;
            }
        }
        one_group(&wanted, first, second, limit, &mut moved)?;
    }
    Ok(moved)
}

fn one_group<E>(
    wanted: &[bool],
    first: &mut Reader<'_, E>,
    second: &mut Reader<'_, E>,
    limit: usize,
    moved: &mut Moved,
) -> Result<(), E> {
    let mut seen: HashMap<(u64, u32), MarkRow> = HashMap::new();
    // Rows without a key may be equal in all they hold; the nth of one side is then compared with the nth of the other.
    let mut counts: [HashMap<u64, u32>; 2] = Default::default();
    let [one, two] = &mut counts;
    let nth = |counts: &mut HashMap<u64, u32>, key: &RowHash| {
        let count = counts.entry(key.short().0).or_default();
        *count += 1;
        (key.short().0, *count)
    };
    let is_wanted = |key: &RowHash| wanted.get(bucket(key)).copied().unwrap_or(false);
    first(&mut |row| {
        let key = RowHash::of(&row.key);
        if is_wanted(&key) {
            seen.insert(nth(one, &key), row.clone());
        }
    })?;
    let name = |moved: &mut Moved, key: &[Value], how: How| {
        if moved.named.len() < limit {
            moved.named.push(MovedRow { key: key.to_vec(), how });
        }
    };
    second(&mut |row| {
        let key = RowHash::of(&row.key);
        if !is_wanted(&key) {
            return;
        }
        match seen.remove(&nth(two, &key)) {
            None => {
                moved.joined += 1;
                name(moved, &row.key, How::Joined);
            }
            Some(before) if before.related != row.related => {
                moved.changed += 1;
                name(moved, &row.key, How::Changed);
            }
            Some(before) if before.after != row.after => {
                moved.result += 1;
                name(moved, &row.key, How::Result);
            }
            Some(before) if before.rest != row.rest => {
                moved.elsewhere += 1;
                name(moved, &row.key, How::Elsewhere);
            }
            Some(_) => {}
        }
    })?;
    let mut gone: Vec<&MarkRow> = seen.values().collect();
    gone.sort_by_key(|row| RowHash::of(&row.key).short());
    for row in gone {
        moved.left += 1;
        name(moved, &row.key, How::Left);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::hash::ShortHash;

    fn row(id: i64, related: u64, after: u64) -> MarkRow {
        MarkRow {
            key: vec![Value::Int(id)],
            related: ShortHash(related),
            rest: ShortHash(0),
            after: ShortHash(after),
        }
    }

    fn compare(first: &[MarkRow], second: &[MarkRow], limit: usize) -> Moved {
        let read = |rows: Vec<MarkRow>| {
            move |give: &mut dyn FnMut(&MarkRow)| -> Result<(), ()> {
                rows.iter().for_each(&mut *give);
                Ok(())
            }
        };
        find(&mut read(first.to_vec()), &mut read(second.to_vec()), limit).unwrap()
    }

    #[test]
    fn names_each_kind() {
        let first: Vec<_> = (0..1000).map(|i| row(i, 7, 7)).collect();
        let mut second: Vec<_> = (0..1000).rev().filter(|i| *i != 5).map(|i| row(i, 7, 7)).collect();
        second[10].related = ShortHash(8);
        second[20].after = ShortHash(9);
        second[30].rest = ShortHash(3);
        second.push(row(5000, 7, 7));
        let moved = compare(&first, &second, 10);
        assert_eq!((moved.joined, moved.left, moved.changed, moved.result), (1, 1, 1, 1));
        let named = |how| moved.named.iter().find(|m| m.how == how).unwrap().key.clone();
        assert_eq!(named(How::Left), vec![Value::Int(5)]);
        assert_eq!(named(How::Joined), vec![Value::Int(5000)]);
        assert_eq!(named(How::Changed), vec![Value::Int(989)]);
        assert_eq!(named(How::Result), vec![Value::Int(979)]);
        assert_eq!((moved.elsewhere, named(How::Elsewhere)), (1, vec![Value::Int(969)]));
        assert_eq!(moved.total(), 4);
    }

    #[test]
    fn everything_moved_is_counted_over_many_groups() {
        let first: Vec<_> = (0..100_000).map(|i| row(i, 1, 1)).collect();
        let second: Vec<_> = (50_000..150_000).map(|i| row(i, 2, 1)).collect();
        let moved = compare(&first, &second, 3);
        assert_eq!((moved.joined, moved.left, moved.changed), (50_000, 50_000, 50_000));
        assert_eq!(moved.named.len(), 3);
    }

    #[test]
    fn twins_are_counted() {
        let (twin, other) = (row(1, 7, 7), row(2, 7, 7));
        let first = [twin.clone(), twin.clone(), other.clone()];
        assert_eq!(
            compare(&first, &[other, twin.clone()], 5),
            Moved { left: 1, named: vec![MovedRow { key: twin.key, how: How::Left }], ..Moved::default() }
        );
    }

    #[test]
    fn nothing_moved() {
        let rows: Vec<_> = (0..100).map(|i| row(i, 1, 1)).collect();
        assert_eq!(compare(&rows, &rows, 5), Moved::default());
    }
}
