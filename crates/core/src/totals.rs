//! Totals of changed numeric columns, before and after: sum, least, greatest.

use serde::Serialize;
use serde_json::{Number, Value as Json};

use crate::value::Value;

/// Sums are rounded to as many decimals as the values have, and to no more than this.
const MOST_DECIMALS: usize = 10;

/// The running total of one column on one side.
#[derive(Debug, Clone, Default)]
struct Side {
    ints: i128,
    reals: f64,
    lost: f64,
    any_real: bool,
    decimals: usize,
    exact: Option<Exact>,
    count: u64,
    least: Option<f64>,
    greatest: Option<f64>,
}

/// Exact numbers are summed as whole multiples of 10^-10.
const SCALE: i128 = 10_i128.pow(10);

/// The exact part of a running total, in multiples of 1 / [`SCALE`].
#[derive(Debug, Clone)]
struct Exact {
    sum: i128,
    least: i128,
    greatest: i128,
    decimals: usize,
    any_decimal: bool,
}

/// A decimal text as a multiple of 1 / [`SCALE`], and how many decimals it has; `None` for one that does not fit.
fn scaled(text: &str) -> Option<(i128, usize)> {
    let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
    let digits = fraction.len();
    if digits > MOST_DECIMALS || !fraction.bytes().all(|b| b.is_ascii_digit()) {
        return None;
    }
    let number: i128 = format!("{whole}{fraction:0<10}").parse().ok()?;
    Some((number, digits))
}

/// The text of a multiple of 1 / [`SCALE`].
fn decimal(n: i128, decimals: usize) -> String {
    let sign = if n < 0 { "-" } else { "" };
    let (whole, fraction) =
        (n.unsigned_abs() / SCALE.unsigned_abs(), n.unsigned_abs() % SCALE.unsigned_abs());
    let fraction = format!("{fraction:010}");
    match fraction.get(..decimals) {
        Some(digits) if !digits.is_empty() => format!("{sign}{whole}.{digits}"),
        _ => format!("{sign}{whole}"),
    }
}

impl Side {
    /// Adds an exact number; whether there was room.
    fn add_exactly(&mut self, n: i128, decimals: usize) -> bool {
        let exact =
            self.exact.get_or_insert(Exact { sum: 0, least: n, greatest: n, decimals, any_decimal: false });
        let Some(sum) = exact.sum.checked_add(n) else { return false };
        exact.sum = sum;
        exact.least = exact.least.min(n);
        exact.greatest = exact.greatest.max(n);
        exact.decimals = exact.decimals.max(decimals);
        true
    }

    fn add(&mut self, value: &Value) -> bool {
        let as_real = match value {
            Value::Int(i) => {
                self.ints += i128::from(*i);
                self.add_exactly(i128::from(*i) * SCALE, 0);
                *i as f64
            }
            Value::Real(r) if r.is_finite() => {
                self.any_real = true;
                if self.decimals < MOST_DECIMALS {
                    self.decimals = self.decimals.max(decimals(*r));
                }
                // Neumaier's compensated sum: the order of rows must not show in the last digits.
                let sum = self.reals + r;
                self.lost +=
                    if self.reals.abs() >= r.abs() { (self.reals - sum) + r } else { (r - sum) + self.reals };
                self.reals = sum;
                *r
            }
            Value::Decimal(text) => {
                self.count += 1;
                let Some((n, decimals)) = scaled(text) else { return false };
                let added = self.add_exactly(n, decimals);
                if let Some(exact) = &mut self.exact {
                    exact.any_decimal = true;
                }
                return added;
            }

            Value::Null => return true,
            _ => return false,
        };
        self.count += 1;
        self.least = Some(self.least.map_or(as_real, |l| l.min(as_real)));
        self.greatest = Some(self.greatest.map_or(as_real, |g| g.max(as_real)));
        true
    }

    fn figures(&self) -> Figures {
        if let Some(exact) = self.exact.as_ref().filter(|e| e.any_decimal && !self.any_real) {
            let text = |n: i128| Json::String(decimal(n, exact.decimals));
            return Figures {
                sum: text(exact.sum),
                least: text(exact.least),
                greatest: text(exact.greatest),
            };
        }
        let one = |r: Option<f64>| r.map_or(Json::Null, |r| number(r, self.decimals, self.any_real));
        let sum = if self.any_real {
            number(self.reals + self.lost + self.ints as f64, self.decimals, true)
        } else {
            i64::try_from(self.ints)
                .map_or_else(|_| Json::String(self.ints.to_string()), |i| Json::Number(i.into()))
        };
        Figures { sum, least: one(self.least), greatest: one(self.greatest) }
    }
}

fn decimals(r: f64) -> usize {
    let text = format!("{r}");
    text.split_once('.').map_or(0, |(_, d)| d.len()).min(MOST_DECIMALS)
}

fn number(r: f64, decimals: usize, real: bool) -> Json {
    if !real && r.fract() == 0.0 && r.abs() < 9e15 {
        return Json::Number((r as i64).into());
    }
    let rounded: f64 = format!("{r:.decimals$}").parse().unwrap_or(r);
    Number::from_f64(rounded).map_or(Json::Null, Json::Number)
}

/// The figures of one side.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Figures {
    /// Sum of all values that are not NULL, rounded to as many decimals as the values have.
    pub sum: Json,
    /// The least value.
    pub least: Json,
    /// The greatest value.
    pub greatest: Json,
}

/// Pairs of values that are kept of a column at most.
const KEPT: usize = 4_096;

/// What values of a column were and become, in a bounded number of pairs: all of them, or every so manieth row that changes. For what is
/// drawn, and nothing else.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Spread {
    /// Before and after, as near as a double is; only where both are numbers, and differ.
    pub pairs: Vec<(f64, f64)>,
    /// Of how many such rows.
    pub of: u64,
    stride: u64,
}

impl Spread {
    fn add(&mut self, was: &Value, becomes: &Value) {
        if was == becomes {
            return;
        }
        self.stride = self.stride.max(1);
        let is_next = self.of.is_multiple_of(self.stride);
        self.of += 1;
        let Some(pair) = is_next.then(|| was.roughly().zip(becomes.roughly())).flatten() else { return };
        if self.pairs.len() == KEPT {
            // Every second of those that there are, and from here on half as many.
            let mut nth = 0;
            self.pairs.retain(|_| {
                nth += 1;
                nth % 2 == 1
            });
            self.stride *= 2;
            if !(self.of - 1).is_multiple_of(self.stride) {
                return;
            }
        }
        self.pairs.push(pair);
    }
}

/// The totals of one column over all matched rows.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct ColumnTotals {
    /// What its values were and become.
    #[serde(skip)]
    pub spread: Spread,
    /// Position of the column.
    #[serde(skip)]
    pub position: usize,
    /// Its name.
    pub column: String,
    /// Before the change.
    pub before: Figures,
    /// After it.
    pub after: Figures,
}

/// Gathers totals of the given columns; a column in which anything but numbers and NULL is seen drops out.
#[derive(Debug, Clone)]
pub struct Totals {
    columns: Vec<Both>,
}

/// Both sides of a column.
#[derive(Debug, Clone)]
struct Both {
    column: usize,
    was: Side,
    becomes: Side,
    numeric: bool,
    spread: Spread,
}

impl Totals {
    /// Totals of `columns`, nothing added yet.
    pub fn new(columns: impl IntoIterator<Item = usize>) -> Self {
        let both = |column| Both {
            column,
            was: Side::default(),
            becomes: Side::default(),
            numeric: true,
            spread: Spread::default(),
        };
        Totals { columns: columns.into_iter().map(both).collect() }
    }

    /// Adds one row's two images.
    pub fn add(&mut self, before: &[Value], after: &[Value]) {
        for both in &mut self.columns {
            if let (true, Some(b), Some(a)) = (both.numeric, before.get(both.column), after.get(both.column))
            {
                both.numeric = both.was.add(b) && both.becomes.add(a);
                both.spread.add(b, a);
            }
        }
    }

    /// The figures of all columns that held numbers only and changed.
    pub fn finish(&self, name: impl Fn(usize) -> String) -> Vec<ColumnTotals> {
        self.columns
            .iter()
            .filter(|both| both.numeric && both.was.count + both.becomes.count > 0)
            .map(|both| ColumnTotals {
                spread: both.spread.clone(),
                position: both.column,
                column: name(both.column),
                before: both.was.figures(),
                after: both.becomes.figures(),
            })
            .filter(|totals| totals.before != totals.after)
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sums_do_not_show_binary_dust() {
        let mut totals = Totals::new([0, 1, 2]);
        for i in 0..1000 {
            totals.add(
                &[Value::Real(0.1), Value::Int(i), Value::Int(i)],
                &[Value::Real(0.25), Value::Int(i + 1), Value::Text("x".into())],
            );
        }
        let all = totals.finish(|c| c.to_string());
        assert_eq!(all.len(), 2, "a column with text has no totals");
        assert_eq!(all[0].before.sum.to_string(), "100.0");
        assert_eq!(all[0].after.sum.to_string(), "250.0");
        assert_eq!(all[1].before.sum.to_string(), "499500");
        assert_eq!(
            (all[1].after.least.to_string(), all[1].after.greatest.to_string()),
            ("1".into(), "1000".into())
        );
    }

    #[test]
    fn a_spread_keeps_rows_from_everywhere() {
        for rows in [1, 100, 4_096, 4_097, 100_000] {
            let mut totals = Totals::new([0]);
            for i in 0..rows {
                totals.add(&[Value::Int(i)], &[Value::Int(i + 1)]);
                totals.add(&[Value::Int(7)], &[Value::Int(7)]);
            }
            let spread = totals.finish(|_| "n".into()).remove(0).spread;
            assert_eq!(spread.of, rows.unsigned_abs(), "rows that stay as they are do not count");
            assert!(spread.pairs.len() <= KEPT && spread.pairs.len() as i64 >= rows.min(2_000));
            assert!(spread.pairs.iter().all(|(was, becomes)| was + 1.0 == *becomes));
            let step = spread.pairs.get(1).map_or(1.0, |pair| pair.0 - spread.pairs[0].0);
            assert!(spread.pairs.windows(2).all(|pair| pair[1].0 - pair[0].0 == step), "evenly");
            assert!(spread.pairs.last().unwrap().0 + step >= rows as f64 - 1.0, "to the last");
        }
    }

    #[test]
    fn decimals_keep_their_digits() {
        let mut totals = Totals::new([0]);
        for text in ["1.10", "16.18", "-0.00"] {
            totals.add(&[Value::Decimal(text.into())], &[Value::Decimal("2.50".into())]);
        }
        let all = totals.finish(|_| "price".into());
        assert_eq!((all[0].before.sum.clone(), all[0].after.sum.clone()), (json("17.28"), json("7.50")));
        assert_eq!(all[0].before.greatest, json("16.18"));
        let mut totals = Totals::new([0, 1]);
        for text in ["123456789012345678.01", "-0.5"] {
            totals.add(
                &[Value::Decimal(text.into()), Value::Decimal("NaN".into())],
                &[Value::Null, Value::Null],
            );
        }
        let all = totals.finish(|_| "big".into());
        assert_eq!(all.len(), 1, "what is no number has no totals");
        assert_eq!(
            (all[0].before.sum.clone(), all[0].before.least.clone()),
            (json("123456789012345677.51"), json("-0.50"))
        );
    }

    fn json(text: &str) -> Json {
        Json::String(text.into())
    }

    #[test]
    fn integers_beyond_64_bits_and_nulls() {
        let mut totals = Totals::new([0]);
        for _ in 0..3 {
            totals.add(&[Value::Int(i64::MAX)], &[Value::Null]);
        }
        let all = totals.finish(|_| "n".into());
        assert_eq!(all[0].before.sum, Json::String("27670116110564327421".into()));
        assert_eq!(all[0].after.least, Json::Null);
    }
}
