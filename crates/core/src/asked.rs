//! Checks of a whole change: a query, and what it must give at the end of the transaction, or how that must stand to what it gave
//! at the beginning.

use std::cmp::Ordering;

use serde::{Deserialize, Serialize};
use serde_json::Number;

use crate::decimal::Decimal;
use crate::secret::HIDDEN;
use crate::words;

/// Rows of an answer that are compared at most.
pub const COMPARED: usize = 10_000;
/// Rows of an answer that are told.
const TOLD: usize = 5;

/// A value that is wanted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Wanted {
    /// True or false, however the engine writes that.
    Truth(bool),
    /// A number: compared by its value, not by how many digits are written.
    Number(Number),
    /// A text, to the letter.
    Text(String),
}

/// What a query must give. Only what is true passes: where there is no value, it fails.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Wants {
    /// One value: this.
    Gives(Wanted),
    /// One value, not less than this.
    AtLeast(Wanted),
    /// One value, not more than this.
    AtMost(Wanted),
    /// One value, not less than the first and not more than the second.
    Between(Wanted, Wanted),
    /// No row.
    Empty(bool),
    /// The same rows at the end as at the beginning, in whatever order.
    Unchanged(bool),
    /// One number that has changed by this from the beginning to the end.
    ChangesBy(Wanted),
}

/// A check by a query.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct QueryCheck {
    /// What it is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The query, in the engine's own language; it only reads.
    pub sql: String,
    /// What it must give.
    #[serde(flatten)]
    pub wants: Wants,
    /// Whether its answer may show what is hidden: then it is judged, and never told.
    #[serde(skip)]
    pub hidden: bool,
}

/// What a query gave, as the engine writes it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Answer {
    /// Names of the columns.
    pub columns: Vec<String>,
    /// The rows; `None` is NULL.
    pub rows: Vec<Vec<Option<String>>>,
    /// Whether there are more rows than these.
    pub more: bool,
}

/// What a check has found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct QueryFound {
    /// The check.
    #[serde(flatten)]
    pub check: QueryCheck,
    /// Whether it holds; `None` where only the run can tell.
    pub holds: Option<bool>,
    /// What was found beside what is wanted, or why only the run can tell, in one sentence.
    pub said: String,
    /// What it gave at the beginning, where that is compared: its first rows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Answer>,
    /// What it gave when it was asked last: its first rows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub found: Option<Answer>,
}

impl QueryFound {
    /// Without what it gave, where that may show what is hidden.
    fn concealed(mut self) -> QueryFound {
        if !self.check.hidden {
            return self;
        }
        self.said = match self.holds {
            Some(true) => "holds".to_owned(),
            Some(false) => format!("does not hold; what it gave is {HIDDEN}"),
            None => self.said.split("; now it ").next().unwrap_or_default().to_owned(),
        };
        (self.before, self.found) = (None, None);
        self
    }

    /// Which check it is, and what was found.
    pub fn told(&self) -> String {
        format!("{}: {}", self.check.title(), self.said)
    }
}

impl QueryCheck {
    /// What it is called, or the query itself in one line.
    pub fn title(&self) -> String {
        let query = || self.sql.split_whitespace().collect::<Vec<_>>().join(" ");
        self.name.clone().unwrap_or_else(query)
    }

    /// Whether it compares the end with the beginning.
    pub fn compares(&self) -> bool {
        matches!(self.wants, Wants::Unchanged(_) | Wants::ChangesBy(_))
    }

    /// Judges what it gave at the end, and at the beginning where that is compared.
    pub fn judge(&self, before: Option<&Answer>, now: &Answer) -> QueryFound {
        let (holds, said) = match self.verdict(before, now) {
            Ok(said) => (true, said),
            Err(said) => (false, said),
        };
        let found = QueryFound {
            check: self.clone(),
            holds: Some(holds),
            said,
            before: before.map(Answer::first),
            found: Some(now.first()),
        };
        found.concealed()
    }

    /// One that only the run can answer; `now` is what it gives as things stand.
    pub fn open(&self, why: &str, now: Option<&Answer>) -> QueryFound {
        let stands = now.map(|now| match (now.one(), now.rows.len()) {
            (Ok(value), _) => format!("; now it gives {}", shown(value)),
            (Err(_), 0) => "; now it finds no row".to_owned(),
            (Err(_), _) => format!("; now it finds {}", now.told()),
        });
        let said = format!("only the run can tell: {why}{}", stands.unwrap_or_default());
        let found = now.map(Answer::first);
        QueryFound { check: self.clone(), holds: None, said, before: None, found }.concealed()
    }

    fn verdict(&self, before: Option<&Answer>, now: &Answer) -> Result<String, String> {
        let met = |good: Option<bool>, wants: String| {
            let found = now.one().map(shown).map_err(|what| format!("{what}, and {wants}"))?;
            if good == Some(true) {
                Ok(format!("gives {found}"))
            } else {
                Err(format!("gives {found}, and {wants}"))
            }
        };
        let value = now.one().ok().flatten();
        match &self.wants {
            Wants::Gives(wanted) => met(value.map(|v| wanted.is(v)), format!("{wanted} is wanted")),
            Wants::AtLeast(wanted) => {
                let order = value.and_then(|v| wanted.order(v));
                met(order.map(Ordering::is_ge), format!("at least {wanted} is wanted"))
            }
            Wants::AtMost(wanted) => {
                let order = value.and_then(|v| wanted.order(v));
                met(order.map(Ordering::is_le), format!("at most {wanted} is wanted"))
            }
            Wants::Between(least, most) => {
                let good = value.and_then(|v| Some(least.order(v)?.is_ge() && most.order(v)?.is_le()));
                met(good, format!("{least} to {most} is wanted"))
            }
            Wants::Empty(empty) => {
                let none = now.rows.is_empty();
                let said = if none { "finds no row".to_owned() } else { format!("finds {}", now.told()) };
                let wants = if *empty { "none is wanted" } else { "some are wanted" };
                if none == *empty { Ok(said) } else { Err(format!("{said}; {wants}")) }
            }
            Wants::Unchanged(_) => unchanged(before.unwrap_or(now), now),
            Wants::ChangesBy(by) => {
                let first = before.unwrap_or(now);
                let (was, is) = (first.one()?, now.one()?);
                let number = |value: Option<&str>| {
                    let no = || format!("gives {}, which is no number", shown(value));
                    value.and_then(Decimal::of).ok_or_else(no)
                };
                let by_text = by.to_string();
                let (before, after) = (number(was)?, number(is)?);
                let wanted = Decimal::of(&by_text).ok_or_else(|| format!("{by} is no number"))?;
                let changed = after.minus(&before).ok_or("the numbers are too long to be compared")?;
                let said = format!("{} → {}, a change by {changed}", shown(was), shown(is));
                if changed.order(&wanted) == Some(Ordering::Equal) {
                    Ok(said)
                } else {
                    Err(format!("{said}; {by} is wanted"))
                }
            }
        }
    }
}

/// Whether the same rows are there, in whatever order; and the first that are not.
fn unchanged(before: &Answer, now: &Answer) -> Result<String, String> {
    if before.more || now.more {
        let most = words::number(COMPARED as u64);
        return Err(format!("gives more than {most} rows, which are not compared; ask for a count or a sum"));
    }
    let sorted = |answer: &Answer| {
        let mut rows = answer.rows.clone();
        rows.sort();
        rows
    };
    let (first, last) = (sorted(before), sorted(now));
    if first == last {
        return Ok(match now.one() {
            Ok(value) => format!("the same before and after: {}", shown(value)),
            Err(_) => format!("the same before and after: {}", words::rows(now.rows.len() as u64)),
        });
    }
    if let (Ok(was), Ok(is)) = (before.one(), now.one()) {
        return Err(format!("was {}, and is {}", shown(was), shown(is)));
    }
    let without = |rows: &[Vec<Option<String>>], others: &[Vec<Option<String>>]| {
        let mut others = others.to_vec();
        let mut left = Vec::new();
        for row in rows {
            match others.iter().position(|other| other == row) {
                Some(at) => drop(others.swap_remove(at)),
                None => left.push(row.clone()),
            }
            if left.len() > TOLD {
                break;
            }
        }
        Answer {
            columns: now.columns.clone(),
            more: left.len() > TOLD,
            rows: left.into_iter().take(TOLD).collect(),
        }
    };
    let (gone, come) = (without(&first, &last), without(&last, &first));
    let part =
        |what: &str, rows: &Answer| (!rows.rows.is_empty()).then(|| format!("{what}: {}", rows.list()));
    let parts: Vec<String> =
        [part("no more there", &gone), part("new", &come)].into_iter().flatten().collect();
    Err(format!("is not what it was; {}", parts.join("; ")))
}

/// A value as it is told.
fn shown(value: Option<&str>) -> String {
    value.map_or_else(|| "NULL".to_owned(), str::to_owned)
}

impl Answer {
    /// The one value that it is; the error says what it is instead.
    fn one(&self) -> Result<Option<&str>, String> {
        match (self.rows.as_slice(), self.more) {
            ([], _) => Err("gives no row".to_owned()),
            ([row], false) => match row.as_slice() {
                [value] => Ok(value.as_deref()),
                cells => Err(format!("gives {} columns, and one value is compared", cells.len())),
            },
            (rows, more) => {
                let more = if more { "more than " } else { "" };
                Err(format!("gives {more}{}, and one value is compared", words::rows(rows.len() as u64)))
            }
        }
    }

    /// Its first rows only.
    fn first(&self) -> Answer {
        let more = self.more || self.rows.len() > TOLD;
        Answer { columns: self.columns.clone(), rows: self.rows.iter().take(TOLD).cloned().collect(), more }
    }

    /// How many rows, and the first of them.
    fn told(&self) -> String {
        let more = if self.more { "more than " } else { "" };
        format!("{more}{}: {}", words::rows(self.rows.len() as u64), self.list())
    }

    fn list(&self) -> String {
        let row = |row: &Vec<Option<String>>| {
            let cells = self.columns.iter().zip(row);
            cells
                .map(|(name, value)| format!("{name} {}", shown(value.as_deref())))
                .collect::<Vec<_>>()
                .join(", ")
        };
        let rows: Vec<String> = self.rows.iter().take(TOLD).map(row).collect();
        let more = if self.more || self.rows.len() > TOLD { "; and more" } else { "" };
        format!("{}{more}", rows.join("; "))
    }
}

impl std::fmt::Display for Wanted {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Wanted::Truth(truth) => write!(f, "{truth}"),
            Wanted::Number(number) => write!(f, "{number}"),
            Wanted::Text(text) => write!(f, "'{text}'"),
        }
    }
}

impl Wanted {
    /// Whether a value is this.
    fn is(&self, found: &str) -> bool {
        match self {
            Wanted::Truth(truth) => {
                let says = |words: &[&str]| words.iter().any(|word| found.eq_ignore_ascii_case(word));
                if *truth { says(&["1", "t", "true"]) } else { says(&["0", "f", "false"]) }
            }
            Wanted::Number(_) => self.order(found) == Some(Ordering::Equal),
            Wanted::Text(text) => text == found,
        }
    }

    /// How a value stands to this; `None` where they have no order.
    fn order(&self, found: &str) -> Option<Ordering> {
        match self {
            Wanted::Truth(_) => None,
            Wanted::Number(number) => Decimal::of(found)?.order(&Decimal::of(&number.to_string())?),
            // Days and times are written so that their order is that of their letters.
            Wanted::Text(text) => Some(found.cmp(text)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn answer(rows: &[&[Option<&str>]]) -> Answer {
        let row = |row: &&[Option<&str>]| row.iter().map(|v| v.map(str::to_owned)).collect::<Vec<_>>();
        let columns = ["n", "kilos"].map(str::to_owned).to_vec();
        Answer { columns, rows: rows.iter().map(row).collect(), more: false }
    }

    fn check(wants: Wants) -> QueryCheck {
        QueryCheck { name: None, sql: "SELECT\n 1".into(), wants, hidden: false }
    }

    #[test]
    fn only_true_passes() {
        let number = |n: i64| Wanted::Number(n.into());
        let real = |n: f64| Wanted::Number(Number::from_f64(n).unwrap());
        let day = |text: &str| Wanted::Text(text.into());
        for (wants, value, holds, said) in [
            (Wants::Gives(number(0)), Some("0"), true, "gives 0"),
            (Wants::Gives(number(40)), Some("40.00"), true, "gives 40.00"),
            (Wants::Gives(real(40.1)), Some("40.10"), true, "gives 40.10"),
            (Wants::Gives(number(0)), Some("3"), false, "gives 3, and 0 is wanted"),
            (Wants::Gives(number(0)), None, false, "gives NULL, and 0 is wanted"),
            (Wants::Gives(day("0")), Some("0.0"), false, "gives 0.0, and '0' is wanted"),
            (Wants::Gives(Wanted::Truth(true)), Some("t"), true, "gives t"),
            (Wants::Gives(Wanted::Truth(true)), Some("0"), false, "gives 0, and true is wanted"),
            (Wants::AtLeast(number(5)), Some("4.999"), false, "gives 4.999, and at least 5 is wanted"),
            (Wants::AtLeast(number(5)), None, false, "gives NULL, and at least 5 is wanted"),
            (Wants::AtMost(number(500)), Some("5e2"), true, "gives 5e2"),
            (Wants::Between(number(1), number(3)), Some("3"), true, "gives 3"),
            (Wants::Between(number(1), number(3)), Some("4"), false, "gives 4, and 1 to 3 is wanted"),
            (Wants::Between(number(1), number(3)), None, false, "gives NULL, and 1 to 3 is wanted"),
            (Wants::AtMost(number(9)), Some("many"), false, "gives many, and at most 9 is wanted"),
            (Wants::AtLeast(day("2026-01-01")), Some("2026-05-10"), true, "gives 2026-05-10"),
        ] {
            let found = check(wants).judge(None, &answer(&[&[value]]));
            assert_eq!((found.holds, found.said.as_str()), (Some(holds), said));
        }
        let none = check(Wants::Gives(number(1))).judge(None, &answer(&[]));
        assert_eq!(none.said, "gives no row, and 1 is wanted");
        let two = answer(&[&[Some("1")], &[Some("2")]]);
        assert_eq!(check(Wants::Gives(number(1))).judge(None, &two).holds, Some(false));
    }

    #[test]
    fn rows_that_should_not_be_there_are_told() {
        let rows = answer(&[&[Some("4"), None], &[Some("5"), Some("2")]]);
        let found = check(Wants::Empty(true)).judge(None, &rows);
        assert_eq!(found.said, "finds 2 rows: n 4, kilos NULL; n 5, kilos 2; none is wanted");
        assert_eq!(check(Wants::Empty(true)).judge(None, &answer(&[])).holds, Some(true));
    }

    #[test]
    fn the_end_is_compared_with_the_beginning() {
        let of = |wants: Wants, was: &Answer, is: &Answer| {
            let found = check(wants).judge(Some(was), is);
            (found.holds == Some(true), found.said)
        };
        let one = |text: &str| answer(&[&[Some(text)]]);
        let same = Wants::Unchanged(true);
        assert_eq!(of(same.clone(), &one("7"), &one("7")), (true, "the same before and after: 7".into()));
        assert_eq!(of(same.clone(), &one("7"), &one("8")), (false, "was 7, and is 8".into()));
        let (first, last) = (
            answer(&[&[Some("1"), None], &[Some("2"), None]]),
            answer(&[&[Some("2"), None], &[Some("1"), Some("3")]]),
        );
        assert_eq!(
            of(same.clone(), &first, &last).1,
            "is not what it was; no more there: n 1, kilos NULL; new: n 1, kilos 3"
        );
        let turned = Answer { rows: first.rows.iter().rev().cloned().collect(), ..first.clone() };
        assert!(of(same.clone(), &first, &turned).0);
        assert!(!of(same, &Answer { more: true, ..first.clone() }, &first).0);
        let by = |n: f64| Wants::ChangesBy(Wanted::Number(Number::from_f64(n).unwrap()));
        assert_eq!(of(by(-2.5), &one("10.00"), &one("7.5")), (true, "10.00 → 7.5, a change by -2.5".into()));
        assert_eq!(
            of(by(2.0), &one("1"), &one("1.05")),
            (false, "1 → 1.05, a change by 0.05; 2.0 is wanted".into())
        );
        assert!(!of(by(0.0), &one("1"), &one("x")).0);
    }

    #[test]
    fn checks_are_kept_as_they_are_said() {
        let all = [
            check(Wants::Gives(Wanted::Number(3.into()))),
            check(Wants::Empty(true)),
            check(Wants::ChangesBy(Wanted::Number((-1).into()))),
        ];
        let kept = serde_json::to_string(&all).unwrap();
        assert!(kept.contains(r#""gives":3"#) && kept.contains(r#""empty":true"#), "{kept}");
        assert_eq!(serde_json::from_str::<Vec<QueryCheck>>(&kept).unwrap(), all);
    }
}
