//! A change as it was asked for: its text, where its steps stand in it, and what is expected of each.

use serde::{Deserialize, Serialize};

use crate::asked::QueryCheck;
use crate::check::EachCheck;
use crate::expect::Expect;
use crate::finding::Code;
use crate::hash::HashKey;
use crate::param::Param;
use crate::sheet::Sheet;
use crate::side::{AlsoWrites, SideWrite, rows_of};

/// What is thought of rows that hold the new values already.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum AlreadySo {
    /// They are of no interest.
    Allow,
    /// They are named as a warning.
    Warn,
    /// With one of them nothing is done.
    Refuse,
}

/// What is expected of one step: the same for a block in a file, the command line and a receipt.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Terms {
    /// What the step is called.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Expected matched rows.
    #[serde(default, rename = "expected_rows", skip_serializing_if = "Option::is_none")]
    pub rows: Option<Expect>,
    /// Expected changed rows.
    #[serde(default, rename = "expected_changes", skip_serializing_if = "Option::is_none")]
    pub changes: Option<Expect>,
    /// Findings that are let pass for this step.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub allow: Vec<Code>,
    /// Tables beside the target that it is known to write, and how many of their rows where that is said.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also_writes: Vec<AlsoWrites>,
    /// The columns that may differ afterwards; without a list, whichever the statement changes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub columns: Option<Vec<String>>,
    /// What is thought of rows that hold the new values already.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub already_so: Option<AlreadySo>,
    /// The table that its rows are copied into before they go.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub archive_to: Option<String>,
    /// The name under which later steps have the key that its one row was given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub keep: Option<String>,
    /// What must hold for each of its rows.
    #[serde(default, rename = "each_row", skip_serializing_if = "Vec::is_empty")]
    pub each: Vec<EachCheck>,
}

impl Terms {
    /// What a block about a step may say.
    pub const KEYS: &str =
        "name, rows, changes, columns, already_so, was, also_writes, archive_to, keep, allow and check";

    /// These terms, with `other`'s in their place where it has any. Findings let pass add up, and so do checks.
    #[must_use]
    pub fn under(self, other: Terms) -> Terms {
        let Terms { name, rows, changes, allow, also_writes, columns, already_so, archive_to, keep, each } =
            other;
        let (mut all, mut checks, mut writes) = (self.allow, self.each, self.also_writes);
        writes.extend(also_writes);
        all.extend(allow);
        checks.extend(each);
        Terms {
            name: name.or(self.name),
            rows: rows.or(self.rows),
            changes: changes.or(self.changes),
            allow: all,
            also_writes: writes,
            columns: columns.or(self.columns),
            already_so: already_so.or(self.already_so),
            archive_to: archive_to.or(self.archive_to),
            keep: keep.or(self.keep),
            each: checks,
        }
    }

    /// Whether there are foreseen writes outside the rows, and all of them were declared: then what an engine counts without
    /// saying of which table is these.
    pub fn declares_all(&self, foreseen: &[SideWrite]) -> bool {
        !foreseen.is_empty() && foreseen.iter().all(|write| self.declares(write, foreseen))
    }

    /// Whether a write outside the rows was declared, among others of the same step. A number of rows that was said must be
    /// met where the rows are counted.
    pub fn declares(&self, write: &SideWrite, among: &[SideWrite]) -> bool {
        let counted = rows_of(&write.table, among);
        let meets = |rows: Option<Expect>| rows.zip(counted).is_none_or(|(rows, n)| rows.met(n, n));
        self.also_writes.iter().any(|declared| declared.names(&write.table) && meets(declared.rows))
    }

    /// What both of two blocks say, by its name; it may be said once only.
    pub fn said_twice(&self, other: &Terms) -> Option<&'static str> {
        let both = [
            ("name", self.name.is_some() && other.name.is_some()),
            ("rows", self.rows.is_some() && other.rows.is_some()),
            ("changes", self.changes.is_some() && other.changes.is_some()),
            ("columns", self.columns.is_some() && other.columns.is_some()),
            ("keep", self.keep.is_some() && other.keep.is_some()),
            ("archive_to", self.archive_to.is_some() && other.archive_to.is_some()),
            ("already_so", self.already_so.is_some() && other.already_so.is_some()),
        ];
        both.into_iter().find(|(_, twice)| *twice).map(|(what, _)| what)
    }
}

/// One step of a change.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ChangeStep {
    /// What is expected of it.
    pub terms: Terms,
    /// Bytes of the change's text that it stands in.
    pub range: std::ops::Range<usize>,
}

/// A setting of the session, which bears on what statements mean: a time zone, an SQL mode.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Setting {
    /// As the engine calls it.
    pub name: String,
    /// What it is set to.
    pub value: String,
}

impl std::fmt::Display for Setting {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} = '{}'", self.name, self.value.replace('\'', "''"))
    }
}

/// A change as it was asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Change {
    /// The whole text.
    pub source: String,
    /// Its title.
    pub title: Option<String>,
    /// Its reason.
    pub reason: Option<String>,
    /// Findings that are let pass for every step.
    pub allow: Vec<Code>,
    /// Its steps, in order; at least one.
    pub steps: Vec<ChangeStep>,
    /// Checks of the whole change.
    pub checks: Vec<QueryCheck>,
    /// Parameters with their values.
    pub params: Vec<Param>,
    /// The key for hashes of what its secret parameters are assigned to.
    pub hash_key: Option<HashKey>,
    /// The seed of the hashes of its mark.
    pub seed: Option<u64>,
    /// Settings of the session that it is run under.
    pub session: Vec<Setting>,
    /// Spreadsheets that are read as tables.
    pub sheets: Vec<Sheet>,
    /// The file that it was read from, as one that is edited and previewed again is told: its real path.
    pub origin: Option<String>,
    /// Whether a second run of the same statements is meant.
    pub again: bool,
    /// Whether the closer look (funnel, near misses, what would pin the rows) is left out.
    pub quick: bool,
    /// Whether a table is made that rows are to be put away in and that is not there.
    pub make_archive: bool,
    /// Which columns are shown of each row besides its key and what changes; chosen by what they say where none is named.
    pub shown: Vec<String>,
}

impl Change {
    /// A change of one step that is its whole text.
    pub fn of(source: impl Into<String>) -> Change {
        let source = source.into();
        let steps = vec![ChangeStep { terms: Terms::default(), range: 0..source.len() }];
        Change { source, steps, ..Change::default() }
    }

    /// Whether one of its parameters is never shown.
    pub fn has_secret(&self) -> bool {
        self.params.iter().any(|param| param.secret)
    }

    /// The same with terms for its first step.
    #[must_use]
    pub fn with(mut self, terms: Terms) -> Change {
        if let Some(step) = self.steps.first_mut() {
            step.terms = terms;
        }
        self
    }

    /// The text with all steps but one blanked out, so that places in it are places in the whole.
    pub fn only(&self, step: usize) -> String {
        let others = self.steps.iter().enumerate().filter(|(at, _)| *at != step);
        let ranges: Vec<_> = others.map(|(_, other)| other.range.clone()).collect();
        if ranges.is_empty() {
            return self.source.clone();
        }
        // What closes another step is its own too.
        let own = self.steps.get(step).map_or(0..0, |s| s.range.clone());
        let blank = |at: usize| {
            let covered = ranges.iter().any(|r| r.contains(&at));
            covered || (!own.contains(&at) && self.closes(at, &own))
        };
        let bytes = self.source.bytes().enumerate();
        let kept = bytes.map(|(at, b)| if b != b'\n' && b != b'\r' && blank(at) { b' ' } else { b });
        // Whole characters are blanked out, byte by byte.
        String::from_utf8(kept.collect()).unwrap_or_else(|_| self.source.clone())
    }

    /// Whether the byte at `at` is the semicolon behind another step than the one in `own`.
    fn closes(&self, at: usize, own: &std::ops::Range<usize>) -> bool {
        self.source.as_bytes().get(at) == Some(&b';')
            && self.steps.iter().any(|other| {
                other.range != *own
                    && other.range.end <= at
                    && self.source.get(other.range.end..at).is_some_and(|between| between.trim().is_empty())
            })
    }

    /// What is let pass for a step, what its expected counts let pass taken into account.
    pub fn allowed(&self, step: usize) -> Vec<Code> {
        let mut allowed = self.allow.clone();
        if let Some(step) = self.steps.get(step) {
            let terms = &step.terms;
            allowed.extend(&terms.allow);
            if terms.rows == Some(Expect::All) {
                allowed.extend([Code::NoFilter, Code::AlwaysTrue]);
            }
            if terms.rows.is_some_and(Expect::allows_none) {
                allowed.push(Code::NothingMatched);
            }
        }
        if self.again {
            allowed.push(Code::AlreadyRun);
        }
        allowed
    }

    /// The terms of a step; none for a step that is not there.
    pub fn terms(&self, step: usize) -> Terms {
        self.steps.get(step).map(|s| s.terms.clone()).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_by_itself_keeps_its_place() {
        let source = "/* é */ UPDATE a SET b = 'ü';\n  DELETE FROM c ; -- end";
        let at = |text: &str| source.find(text).unwrap();
        let step = |from: &str, to: usize| ChangeStep { terms: Terms::default(), range: at(from)..to };
        let first = step("UPDATE", at(";\n"));
        let second = step("DELETE", at(" ; --"));
        let change = Change { steps: vec![first, second], ..Change::of(source) };
        let only = change.only(1);
        assert_eq!(only.len(), source.len());
        assert_eq!(only.find("DELETE"), Some(at("DELETE")));
        assert!(!only.contains("UPDATE") && only.matches(';').count() == 1, "{only}");
        assert_eq!(change.only(0).matches(';').count(), 1);
        assert!(change.only(0).contains("'ü'"));
        assert_eq!(Change::of(source).only(0), source);
    }

    #[test]
    fn terms_add_up() {
        let two = Expect::Range(2, Some(2));
        let first = Terms { rows: Some(two), allow: vec![Code::NoFilter], ..Terms::default() };
        let line = Terms { rows: Some(Expect::All), ..Terms::default() };
        let both = first.clone().under(line.clone());
        assert_eq!((both.rows, both.allow), (Some(Expect::All), vec![Code::NoFilter]));
        assert_eq!(first.said_twice(&line), Some("rows"));
        assert_eq!(first.said_twice(&Terms::default()), None);
    }
}
