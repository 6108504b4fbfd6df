//! One statement, understood: its kind, its target, its assignments and its filter, each as a slice of the
//! user's own text.

use marktwice_core::finding::Place;
use marktwice_core::mark::StepKind;
use sqlparser::ast::Expr;

use crate::language::Language;
use crate::slices::Slice;

/// A name in the text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Name {
    /// Without its quotes.
    pub text: String,
    /// Where it stands, quotes included.
    pub slice: Slice,
}

/// The target as the statement names it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableRef {
    /// The schema, where one is named.
    pub schema: Option<Name>,
    /// The table.
    pub table: Name,
    /// The alias, where one is given.
    pub alias: Option<Name>,
    /// Whether ONLY stands before it: rows of child tables are left out.
    pub only: bool,
    /// All of it, index hints included: it can stand after FROM.
    pub slice: Slice,
}

impl TableRef {
    /// The name under which the statement's expressions see the target.
    pub fn visible(&self) -> &Name {
        self.alias.as_ref().unwrap_or(&self.table)
    }
}

/// One assignment of an UPDATE.
#[derive(Debug, Clone, PartialEq)]
pub struct Assignment {
    /// The assigned columns; more than one for a row value.
    pub columns: Vec<Name>,
    /// The right-hand side.
    pub value: Slice,
    /// The right-hand side column by column, where it can be split.
    pub parts: Option<Vec<Slice>>,
}

/// The filter of a statement.
#[derive(Debug, Clone, PartialEq)]
pub struct Filter {
    /// The condition, verbatim, without the keyword WHERE.
    pub slice: Slice,
    /// Its parsed form, for understanding only; `None` where the engine takes it and our parser does not.
    pub parsed: Option<Expr>,
}

/// One statement, understood.
#[derive(Debug, Clone, PartialEq)]
pub struct Step {
    /// The whole text of the change.
    pub source: String,
    /// The language it is written in.
    pub language: Language,
    /// The statement, verbatim, without the closing semicolon.
    pub statement: Slice,
    /// UPDATE or DELETE.
    pub kind: StepKind,
    /// The WITH clause in front, where there is one.
    pub with: Option<Slice>,
    /// The target.
    pub table: TableRef,
    /// The assignments of an UPDATE.
    pub assignments: Vec<Assignment>,
    /// The filter, where there is one.
    pub filter: Option<Filter>,
    /// The statement's tokens in normal form, hashed: the same for any layout.
    pub token_hash: String,
}

impl Step {
    /// The text of a slice.
    pub fn text(&self, slice: Slice) -> &str {
        slice.of(&self.source)
    }

    /// The place of a slice.
    pub fn place(&self, slice: Slice) -> Place {
        Place::in_source(&self.source, slice.start, slice.end)
    }

    /// The statement, verbatim.
    pub fn statement_text(&self) -> &str {
        self.text(self.statement)
    }
}
