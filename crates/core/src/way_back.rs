//! Whether and how an undo of a run will succeed: judged before the run is agreed to, kept in its receipt, and judged again
//! when it is asked for.

use serde::{Deserialize, Serialize};

use crate::finding::Code;

/// A column that an undo cannot put back, because something in the database gives it a value whenever a row is written.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Owned {
    /// Its name.
    pub column: String,
    /// Why, such as `trigger touch sets it`.
    pub why: String,
}

/// The way back from a run.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct WayBack {
    /// Columns that will hold something else after an undo.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub owned: Vec<Owned>,
    /// Why an undo is known to fail; empty when nothing is known to stand in its way.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub obstacles: Vec<String>,
    /// What may stand in its way, and only the undo itself can tell.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unsure: Vec<String>,
    /// What an undo's own triggers write, and what then stays.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub leaves: Vec<String>,
    /// Findings that an undo needs let pass, since it sets off what the run sets off.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub allow: Vec<Code>,
}

impl WayBack {
    /// Adds a column, once.
    pub fn owns(&mut self, column: &str, why: String) {
        if !self.owned.iter().any(|o| o.column == column) {
            self.owned.push(Owned { column: column.to_owned(), why });
        }
    }

    /// Adds what is known of another step of the same run.
    pub fn and(&mut self, other: &WayBack) {
        other.owned.iter().for_each(|o| self.owns(&o.column, o.why.clone()));
        let add = |all: &mut Vec<String>, more: &[String]| {
            more.iter().for_each(|one| {
                if !all.contains(one) {
                    all.push(one.clone());
                }
            });
        };
        add(&mut self.obstacles, &other.obstacles);
        add(&mut self.unsure, &other.unsure);
        add(&mut self.leaves, &other.leaves);
        for code in &other.allow {
            if !self.allow.contains(code) {
                self.allow.push(*code);
            }
        }
    }

    /// The columns that an undo leaves to the database, in one phrase; `None` when there are none.
    pub fn owned_in_words(&self) -> Option<String> {
        let each = self.owned.iter().map(|o| format!("{}: {}", o.column, o.why));
        (!self.owned.is_empty()).then(|| each.collect::<Vec<_>>().join("; "))
    }

    /// What can be said of it in one phrase: `can be undone`, `can be undone in part (why)`, `cannot be undone (why)`.
    pub fn in_words(&self) -> String {
        let in_part = self.owned_in_words().or_else(|| self.leaves.first().cloned());
        match (self.obstacles.first(), in_part, self.unsure.first()) {
            (Some(why), ..) => format!("cannot be undone ({why})"),
            (None, Some(why), _) => format!("can be undone in part ({why})"),
            (None, None, Some(why)) => format!("can perhaps be undone ({why})"),
            (None, None, None) => "can be undone".to_owned(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words() {
        let mut back = WayBack::default();
        assert_eq!(back.in_words(), "can be undone");
        back.owns("modified", "trigger touch sets it".into());
        back.owns("modified", "again".into());
        assert_eq!(back.in_words(), "can be undone in part (modified: trigger touch sets it)");
        back.obstacles.push("INSERT on hive is missing".into());
        assert_eq!(back.in_words(), "cannot be undone (INSERT on hive is missing)");
        let read: WayBack = serde_json::from_str("{}").unwrap();
        assert_eq!(read, WayBack::default());
    }
}
