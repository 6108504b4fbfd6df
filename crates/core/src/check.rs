//! Checks: conditions that must hold for every row of a step, or the transaction is rolled back.

use serde::{Deserialize, Serialize};

use crate::secret::{HIDDEN, names_one};
use crate::table::Target;
use crate::value::{Value, key_text};
use crate::words;

/// A condition over a row as it was (`old`) and as it is afterwards (`new`). Only true passes: NULL fails.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct EachCheck {
    /// What it is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The condition, in the engine's own language.
    pub each: String,
    /// The old value that was said, where that is what is checked: then the condition is it in words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub was: Option<Was>,
}

/// What a column was said to hold before the run, as it was typed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Was {
    /// The column.
    pub column: String,
    /// What it may hold: one of these.
    pub values: Vec<String>,
}

impl EachCheck {
    /// That a column holds one of some values before the run.
    pub fn was(column: &str, values: Vec<String>) -> EachCheck {
        let each = format!("{column} was {}", values.join(" or "));
        EachCheck { name: None, each, was: Some(Was { column: column.to_owned(), values }) }
    }

    /// What it is called, or the condition itself.
    pub fn title(&self) -> &str {
        self.name.as_deref().unwrap_or(&self.each)
    }
}

/// A row for which a check does not hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Failing {
    /// Its key.
    pub key: Vec<Value>,
    /// What the condition reads of it, as it is written there: `new.kilos`, and the value as text.
    pub reads: Vec<(String, Option<String>)>,
}

/// What a check has found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CheckFound {
    /// The check.
    #[serde(flatten)]
    pub check: EachCheck,
    /// Rows that it was asked of.
    pub rows: u64,
    /// Rows for which it does not hold.
    pub failing: u64,
    /// The first of those.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub first: Vec<Failing>,
    /// Why it is not known before the run.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub open: Option<String>,
}

impl CheckFound {
    /// One that only the run can answer.
    pub fn open(check: &EachCheck, why: String) -> CheckFound {
        CheckFound { check: check.clone(), rows: 0, failing: 0, first: Vec::new(), open: Some(why) }
    }

    /// Hides what it reads of hidden columns.
    pub fn hide(&mut self, target: &Target) {
        for failing in &mut self.first {
            failing.key = target.shown_key(&failing.key);
        }
        let hidden = target.hidden_names();
        for (name, value) in self.first.iter_mut().flat_map(|failing| &mut failing.reads) {
            if names_one(&hidden, name) || (self.check.was.is_some() && !hidden.is_empty()) {
                *value = Some(HIDDEN.to_owned());
            }
        }
    }

    /// What old values were found.
    fn as_said(&self, table: &str) -> String {
        if self.failing == 0 {
            return match self.rows {
                1 => "so it is".to_owned(),
                n => format!("so it is in all {}", words::rows(n)),
            };
        }
        let row = |row: &Failing| {
            let value = row.reads.first().and_then(|(_, value)| value.as_deref()).unwrap_or("NULL");
            format!("{table} {} holds {value}", key_text(&row.key))
        };
        let named: Vec<String> = self.first.iter().map(row).collect();
        let more = self.failing.saturating_sub(named.len() as u64);
        let more = if more > 0 {
            format!(", and {} more hold something else", words::number(more))
        } else {
            String::new()
        };
        format!("{}{more}", named.join(", "))
    }

    /// Which check it is, and what was found.
    pub fn told(&self, table: &str) -> String {
        format!("{}: {}", self.check.title(), self.sentence(table))
    }

    /// What was found, in one sentence.
    pub fn sentence(&self, table: &str) -> String {
        if let Some(why) = &self.open {
            return format!("only the run can tell: {why}");
        }
        if self.check.was.is_some() {
            return self.as_said(table);
        }
        if self.failing == 0 {
            return match self.rows {
                1 => "holds for the row".to_owned(),
                n => format!("holds for all {}", words::rows(n)),
            };
        }
        let row = |row: &Failing| {
            let reads = row
                .reads
                .iter()
                .map(|(name, value)| format!("{name} {}", value.as_deref().unwrap_or("NULL")));
            let reads = reads.collect::<Vec<_>>().join(", ");
            format!("{table} {} ({reads})", key_text(&row.key))
        };
        let named: Vec<String> = self.first.iter().map(row).collect();
        let more = self.failing.saturating_sub(named.len() as u64);
        let more = if more > 0 { format!(", and {} more", words::number(more)) } else { String::new() };
        let fails = words::either(self.failing, "fails", "fail");
        format!(
            "{} of {} {fails}: {}{more}",
            words::number(self.failing),
            words::rows(self.rows),
            named.join(", ")
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_check_has_found_is_one_sentence() {
        let check = EachCheck { each: "new.kilos <= 2 * old.kilos".into(), ..EachCheck::default() };
        let reads = vec![("new.kilos".to_owned(), Some("9".to_owned())), ("old.kilos".to_owned(), None)];
        let first = vec![Failing { key: vec![Value::Int(7)], reads }];
        let found = CheckFound { check, rows: 12, failing: 3, first, open: None };
        assert_eq!(
            found.sentence("hive"),
            "3 of 12 rows fail: hive 7 (new.kilos 9, old.kilos NULL), and 2 more"
        );
        assert_eq!(CheckFound { failing: 0, ..found.clone() }.sentence("hive"), "holds for all 12 rows");
        assert_eq!(found.check.title(), "new.kilos <= 2 * old.kilos");
        let check = EachCheck::was("kilos", vec!["8".into(), "9".into()]);
        assert_eq!(check.title(), "kilos was 8 or 9");
        let first = vec![Failing { key: vec![Value::Int(7)], reads: vec![("old.kilos".into(), None)] }];
        let was = CheckFound { check, rows: 2, failing: 2, first, open: None };
        assert_eq!(was.sentence("hive"), "hive 7 holds NULL, and 1 more hold something else");
        assert_eq!(CheckFound { failing: 0, ..was }.sentence("hive"), "so it is in all 2 rows");
    }
}
