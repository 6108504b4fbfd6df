//! What an engine knows of the texts that it takes: how one is cut into steps, and how a plain one is written.

use std::ops::Range;

use marktwice_core::finding::{Finding, TextPlace};
use marktwice_core::param::ParamKind;
use marktwice_core::table::{Column, Target};
use marktwice_core::value::Value;

/// A text, cut.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Cut {
    /// What stands inside each block comment, without its signs.
    pub comments: Vec<Range<usize>>,
    /// The steps, in order. A text that is no chain of steps is one: the engine says what is wrong with it.
    pub steps: Vec<Range<usize>>,
}

/// What is to be written.
#[derive(Debug, Clone, Copy)]
pub struct Draft<'a> {
    /// The table.
    pub target: &'a Target,
    /// Whether its schema is written too.
    pub schema: bool,
    /// What is done.
    pub work: Work<'a>,
    /// To which rows.
    pub rows: Which<'a>,
}

/// What a draft does.
#[derive(Debug, Clone, Copy)]
pub enum Work<'a> {
    /// Sets columns, as they were typed: `column=value`.
    Set(&'a [String]),
    /// Sets every column that can be set to itself, to be changed or taken out by hand.
    SetEach,
    /// Takes the rows away.
    Delete,
}

/// Which rows a draft is about.
#[derive(Debug, Clone, Copy)]
pub enum Which<'a> {
    /// All of them.
    All,
    /// Those of a condition in the engine's own language.
    Condition(&'a str),
    /// Those that a key names, as it was typed: `418`, or `hive_id=3,season=2026`.
    Typed {
        /// The key, or several.
        key: &'a str,
        /// What tells one row: the columns of each declared key.
        keys: &'a [Vec<String>],
        /// Whether several rows may be named.
        several: bool,
    },
    /// One row, by its key or, where it has none, by what names it.
    Row {
        /// The key.
        key: &'a [Value],
        /// All that it holds.
        row: &'a [Value],
    },
}

/// A text of ours.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Composed {
    /// It, without what ends a statement.
    pub text: String,
    /// The condition in it.
    pub condition: Option<String>,
    /// How many rows its key names, where that is known.
    pub rows: Option<u64>,
}

/// A name that a condition compares with texts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Said {
    /// Where the comparison stands.
    pub range: Range<usize>,
    /// The name.
    pub name: String,
    /// The texts, of which one is to be equal.
    pub texts: Vec<String>,
}

/// How it is found out that a column holds nothing but days, or days with times.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Days {
    /// A condition for rows in which it holds anything.
    pub holds: String,
    /// A condition for rows in which it holds something else; and the type to take the column for where there is no such row.
    pub unlike: [(String, String); 2],
    /// The type to take it for where it holds other things as well.
    pub mixed: String,
}

/// A table that is to be brought up to what another one says.
#[derive(Debug, Clone, Copy)]
pub struct Merge<'a> {
    /// The table that is written, and whether its schema is written too.
    pub target: (&'a Target, bool),
    /// The table that is read.
    pub source: (&'a Target, bool),
    /// The columns of both that tell whether a row is there already; the key of the written one where none is named.
    pub key: &'a [String],
}

/// The steps for that.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Merged {
    /// What is there is updated, then what is not comes in.
    pub steps: Vec<String>,
    /// What a reader should know of them.
    pub said: Vec<String>,
}

/// What a step does with a column of a sheet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SheetUse {
    /// The sheet's column, by its position.
    pub column: usize,
    /// The column that it is compared with or assigned to, with its table, and the table's schema, where the text says them;
    /// `None` where it is only computed with.
    pub with: Option<(Option<String>, Option<String>, String)>,
    /// Whether it is compared.
    pub compared: bool,
    /// Whether it is computed with, as numbers are.
    pub number: bool,
    /// Where that stands.
    pub range: Range<usize>,
}

/// What cannot be composed: what is wrong, and what to do.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct Uncomposed {
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub hint: String,
}

/// A language.
pub trait Language {
    /// Cuts a text into steps.
    ///
    /// # Errors
    /// The place where it cannot be cut: a quote or a comment that is not closed.
    fn cut(&self, text: &str) -> Result<Cut, TextPlace>;

    /// Writes a plain text for these rows.
    ///
    /// # Errors
    /// Where what was typed names no row or no column, or does not fit.
    fn compose(&self, draft: &Draft<'_>) -> Result<Composed, Uncomposed>;

    /// Writes a text that brings rows in: of each the values of these columns, as they were typed.
    ///
    /// # Errors
    /// Where a value does not fit, or the language has no such text.
    fn incoming(
        &self,
        target: (&Target, bool),
        _columns: &[usize],
        _rows: &[Vec<String>],
    ) -> Result<String, Uncomposed> {
        Err(Uncomposed {
            message: format!("no rows are brought into {} here", target.0.table),
            hint: "write the step yourself".to_owned(),
        })
    }

    /// Writes the steps that bring a table up to what another one says.
    ///
    /// # Errors
    /// Where they have no such key, or the language has no such steps.
    fn merge(&self, merge: &Merge<'_>) -> Result<Merged, Uncomposed> {
        Err(Uncomposed {
            message: format!("{} cannot be brought up to another one here", merge.target.0.table),
            hint: "write the steps yourself".to_owned(),
        })
    }

    /// A value as it would be typed for this column, so that [`Language::compose`] means the very same; `None` where that cannot
    /// be typed.
    fn typed(&self, _column: &Column, _value: &Value) -> Option<String> {
        None
    }

    /// A condition that holds for about one in `nth` of the rows that meet another, spread over all of them by their key; and the
    /// column of it. `None` where the key does not lend itself to it.
    fn sample(&self, _target: &Target, _condition: Option<&str>, _nth: u64) -> Option<(String, String)> {
        None
    }

    /// How it is found out that a column holds nothing but days; `None` where its type says what it holds.
    fn days(&self, _column: &Column) -> Option<Days> {
        None
    }

    /// A table's name as it is typed, `schema.table` or `table`, taken apart.
    fn table_name(&self, typed: &str) -> (Option<String>, String);

    /// Names that a condition says to be equal to a text, or to one of some: `apiary = 'Whin Bank'`.
    fn said(&self, _condition: &str) -> Vec<Said> {
        Vec::new()
    }

    /// Whether a condition asks about columns of these names (in lower case) only whether they equal values that are written in it, or
    /// NULL; where nobody can tell, it does not.
    fn asks_for_equality_only(&self, _condition: &str, _names: &[String]) -> bool {
        false
    }

    /// A query and a value, taken apart at the last equals sign that is no part of the query's own texts and groups.
    fn equation(&self, _text: &str) -> Option<(String, String)> {
        None
    }

    /// Where a text says `:name`, at token boundaries only: the place with the colon, and the name.
    fn placeholders(&self, _text: &str) -> Vec<(Range<usize>, String)> {
        Vec::new()
    }

    /// What is to be said of a text where `:name` stands for NULL and is compared by an operator that NULL never passes.
    fn never_true(&self, _text: &str, _name: &str) -> Option<Finding> {
        None
    }

    /// What a step does with the columns of a sheet.
    fn sheet_uses(&self, _step: &str, _sheet: &str, _columns: &[String]) -> Vec<SheetUse> {
        Vec::new()
    }

    /// What a column holds, as far as its declared type tells.
    fn kind(&self, _column: &Column) -> ParamKind {
        ParamKind::Text
    }

    /// Lines as a comment.
    fn comment(&self, lines: &[String]) -> String;

    /// What ends a step of a text.
    fn end(&self) -> &'static str;
}
