//! What it takes to change anything in a guarded database.

use std::time::Duration;

use marktwice_core::{Change, Code, Expect};

use crate::config::{Named, within};
use crate::report::Trouble;

/// How old a mark may be where nothing is said.
const WITHIN: Duration = Duration::from_secs(24 * 3_600);

/// A guarded database.
#[derive(Debug, Clone)]
pub(crate) struct Guard {
    /// Its name: what is typed at the question.
    pub(crate) name: String,
    /// How old a mark may be.
    pub(crate) within: Duration,
    file: String,
}

impl Guard {
    /// The guard of a database, where it has one.
    pub(crate) fn of(named: &Named) -> Option<Guard> {
        let limit = named.said.mark_within.as_deref().and_then(within).unwrap_or(WITHIN);
        let file = named.file.display().to_string();
        named.said.guarded.then(|| Guard { name: named.name.clone(), within: limit, file })
    }

    /// The refusal of what cannot be done here.
    pub(crate) fn refuses(&self, what: &str) -> Trouble {
        Trouble::usage(
            format!("{} is guarded ({}): {what}", self.name, self.file),
            "write a change file with a title, a reason and rows = N, preview it, and apply it with its mark",
        )
    }

    /// Whether a change says what it has to. `line` is what was said outside of it.
    ///
    /// # Errors
    /// Everything that is missing, at once.
    pub(crate) fn takes(&self, change: &Change, line: &Line<'_>) -> Result<(), Trouble> {
        let mut missing: Vec<String> = Vec::new();
        let mut misses = |what: &str| missing.push(what.to_owned());
        if change.title.as_deref().is_none_or(|text| text.trim().is_empty()) {
            misses("a title");
        }
        if change.reason.as_deref().is_none_or(|text| text.trim().is_empty()) {
            misses("a reason");
        }
        if (0..change.steps.len()).any(|at| change.terms(at).rows.is_none()) {
            misses(if change.steps.len() == 1 {
                "an expected count (rows = N)"
            } else {
                "rows = N for each step"
            });
        }
        if line.mark.is_none() {
            misses("the mark of a preview (--mark ID)");
        }
        if !missing.is_empty() {
            return Err(self.refuses(&format!(
                "missing {} {}",
                if missing.len() == 1 { "is" } else { "are" },
                missing.join(", ")
            )));
        }
        if line.rows == Some(Expect::All) {
            return Err(self.refuses(
                "that every row is meant is said in the file (rows = \"all\"), and not on the line",
            ));
        }
        if (0..change.steps.len()).any(|at| change.allowed(at).contains(&Code::UndeclaredWrite)) {
            return Err(
                self.refuses("tables that are written besides are declared (also_writes), and not let pass")
            );
        }
        Ok(())
    }

    /// Whether a mark is fresh enough: how long ago it was taken, if that is known.
    ///
    /// # Errors
    /// Where it is not.
    pub(crate) fn takes_mark(&self, mark: &str, age: Option<Duration>) -> Result<(), Trouble> {
        match age {
            Some(age) if age <= self.within => Ok(()),
            Some(age) => Err(self.refuses(&format!(
                "the mark {mark} was taken {} ago, and may be {} old here",
                time(age),
                time(self.within)
            ))),
            None => Err(self.refuses(&format!("when the mark {mark} was taken nobody can tell"))),
        }
    }
}

/// What was said outside of a change.
pub(crate) struct Line<'a> {
    /// The mark that it is held to.
    pub(crate) mark: Option<&'a str>,
    /// The expected count.
    pub(crate) rows: Option<Expect>,
}

/// `3 h`, `45 min`, in whole units rounded down.
pub(crate) fn time(of: Duration) -> String {
    match of.as_secs() {
        s if s < 120 => format!("{s} s"),
        s if s < 2 * 3_600 => format!("{} min", s / 60),
        s if s < 2 * 86_400 => format!("{} h", s / 3_600),
        s => format!("{} days", s / 86_400),
    }
}
