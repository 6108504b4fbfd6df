//! One statement, understood: its kind, its target, its assignments and its filter, each as a slice of the
//! user's own text.

use std::sync::Arc;

use marktwice_core::finding::TextPlace;
use marktwice_core::mark::StepKind;
use sqlparser::ast::Expr;
use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::text::slices::Slice;
use crate::text::{Tok, within};

/// A name in the text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Name {
    /// Without its quotes.
    pub text: String,
    /// Where it stands, quotes included.
    pub slice: Slice,
}

impl Name {
    /// The name that a token stands for, as the catalogue has it.
    pub fn of(token: &Tok, language: Language) -> Option<Name> {
        let text = token.name()?;
        let bare = matches!(&token.token.token, Token::Word(w) if w.quote_style.is_none());
        let text = if bare { language.folded(text) } else { text.to_owned() };
        Some(Name { text, slice: token.slice })
    }
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

/// What is joined to the target.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sources {
    /// The list of tables, verbatim.
    pub slice: Slice,
    /// Whether the target itself is one of that list (`UPDATE a JOIN b …`), or is named apart (`UPDATE a … FROM b`).
    pub with_target: bool,
    /// The tables of the list, in order; the target too where it is one of them.
    pub tables: Vec<Source>,
}

/// One table, subquery or function in a list of joined tables.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Source {
    /// The schema, where one is named.
    pub schema: Option<Name>,
    /// The table; `None` for a subquery or a function.
    pub table: Option<Name>,
    /// The alias, where one is given.
    pub alias: Option<Name>,
    /// All of it.
    pub slice: Slice,
}

impl Source {
    /// The name under which expressions see it.
    pub fn visible(&self) -> Option<&Name> {
        self.alias.as_ref().or(self.table.as_ref())
    }
}

/// ORDER BY and LIMIT, where the engine's UPDATE and DELETE have them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tail {
    /// Both, verbatim.
    pub slice: Slice,
    /// The terms of ORDER BY.
    pub order: Vec<Slice>,
    /// Whether there is a LIMIT.
    pub limit: Option<Slice>,
}

/// One assignment of an UPDATE.
#[derive(Debug, Clone, PartialEq)]
pub struct Assignment {
    /// The table that the column is written of, where it is said.
    pub owner: Option<Name>,
    /// The assigned columns; more than one for a row value.
    pub columns: Vec<Name>,
    /// The right-hand side.
    pub value: Slice,
    /// The right-hand side column by column, where it can be split and whole columns are assigned.
    pub parts: Option<Vec<Slice>>,
    /// Which of the columns are assigned in part only (`tags[2] = …`, `spot.x = …`).
    pub pieces: Vec<usize>,
}

/// The filter of a statement.
#[derive(Debug, Clone, PartialEq)]
pub struct Filter {
    /// The condition, verbatim, without the keyword WHERE.
    pub slice: Slice,
    /// Its parsed form, for understanding only; `None` where the engine takes it and our parser does not.
    pub parsed: Option<Expr>,
}

/// What an INSERT brings in.
#[derive(Debug, Clone, PartialEq)]
pub struct Inserted {
    /// The columns that it names; `None` where it names none.
    pub columns: Option<Vec<Name>>,
    /// Whether it gives numbers that the engine would give itself, and says so.
    pub overriding: bool,
    /// Where the rows come from, verbatim: `VALUES …`, a query, or `DEFAULT VALUES`.
    pub source: Slice,
    /// The same, taken apart.
    pub brought: Brought,
    /// What it says for rows that are there already.
    pub conflict: Option<Conflict>,
}

/// Where the rows of an INSERT come from.
#[derive(Debug, Clone, PartialEq)]
pub enum Brought {
    /// One row of defaults.
    Defaults,
    /// Rows that are written out, each with its values.
    Rows(Vec<Vec<Slice>>),
    /// A query, with what it gives column by column where its text tells that.
    Query(Option<Vec<Slice>>),
}

/// What an INSERT says for rows that are there already.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Conflict {
    /// All of it.
    pub slice: Slice,
    /// The columns that must not be there twice, where they are named.
    pub keys: Vec<Name>,
    /// Whether it names more than columns there: an expression, a collation, a condition, a constraint.
    pub narrower: bool,
    /// What is assigned then; nothing where such rows are passed over.
    pub set: Vec<(Name, Slice)>,
    /// On which condition.
    pub filter: Option<Slice>,
    /// Whether a row that is there is replaced by the one that comes in.
    pub replaces: bool,
}

impl Inserted {
    /// What the named column at `nth` is given, in each row that is written out or by the query; all of the source where its text
    /// does not tell.
    pub fn given(&self, nth: usize) -> Vec<Slice> {
        match &self.brought {
            Brought::Defaults => Vec::new(),
            Brought::Rows(rows) => rows.iter().filter_map(|row| row.get(nth).copied()).collect(),
            Brought::Query(items) => {
                vec![items.as_ref().and_then(|items| items.get(nth).copied()).unwrap_or(self.source)]
            }
        }
    }

    /// The named columns.
    pub fn named(&self) -> &[Name] {
        self.columns.as_deref().unwrap_or_default()
    }
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
    /// What it does.
    pub kind: StepKind,
    /// The WITH clause in front, where there is one.
    pub with: Option<Slice>,
    /// The target.
    pub table: TableRef,
    /// The assignments of an UPDATE.
    pub assignments: Vec<Assignment>,
    /// What an INSERT brings in.
    pub inserted: Option<Inserted>,
    /// What is joined to the target, where something is.
    pub sources: Option<Sources>,
    /// The filter, where there is one.
    pub filter: Option<Filter>,
    /// ORDER BY and LIMIT, where they stand.
    pub tail: Option<Tail>,
    /// RETURNING and what stands behind it; it only computes.
    pub returning: Option<Slice>,
    /// All tokens of the source.
    pub tokens: Arc<[Tok]>,
    /// The statement's tokens in normal form, hashed: the same for any layout.
    pub token_hash: String,
}

impl Step {
    /// What is assigned to column `at` of an assignment: the expression as text, and the slice that it comes from.
    /// `None` where a row value cannot be taken apart, and where only parts of values are assigned.
    pub fn value(&self, assignment: &Assignment, at: usize) -> Option<(String, Slice)> {
        if !assignment.pieces.is_empty() {
            return None;
        }
        if let Some(parts) = &assignment.parts {
            let slice = *parts.get(at)?;
            return Some((self.text(slice).to_owned(), slice));
        }
        // One row of a subquery: the same query, materialised, and one of its columns.
        let tokens = self.words(assignment.value);
        let query = match tokens.as_slice() {
            [open, first, .., close] => {
                open.is(&Token::LParen) && first.is_any(&["select", "with"]) && close.is(&Token::RParen)
            }
            _ => false,
        };
        if !query || self.language == Language::Mysql {
            return None;
        }
        let columns: Vec<String> = (0..assignment.columns.len()).map(|c| format!("marktwice_c{c}")).collect();
        let text = format!(
            "(WITH marktwice_q({}) AS MATERIALIZED {} SELECT marktwice_c{at} FROM marktwice_q)",
            columns.join(", "),
            self.text(assignment.value)
        );
        Some((text, assignment.value))
    }

    /// The text of a slice.
    pub fn text(&self, slice: Slice) -> &str {
        slice.of(&self.source)
    }

    /// The number behind LIMIT.
    pub fn limit(&self) -> Option<u64> {
        self.text(self.tail.as_ref()?.limit?).trim().parse().ok()
    }

    /// The tokens of a slice, without blanks and comments.
    pub fn words(&self, slice: Slice) -> Vec<&Tok> {
        within(&self.tokens, slice)
    }

    /// The place of a slice.
    pub fn place(&self, slice: Slice) -> TextPlace {
        TextPlace::in_source(&self.source, slice.start, slice.end)
    }

    /// The statement with a part of it replaced, ready to be pasted.
    pub fn replaced(&self, part: Slice, with: &str) -> String {
        let before = Slice { start: self.statement.start, end: part.start };
        let after = Slice { start: part.end, end: self.statement.end };
        format!("{}{with}{};", self.text(before), self.text(after))
    }

    /// What decides which rows come in: what stands behind the values of a query, or all of it where its values cannot be told
    /// apart.
    pub fn behind(&self) -> Option<Slice> {
        let inserted = self.inserted.as_ref()?;
        let Brought::Query(items) = &inserted.brought else { return None };
        let start =
            items.as_ref().and_then(|items| items.last()).map_or(inserted.source.start, |item| item.end);
        Some(Slice { start, end: inserted.source.end })
    }

    /// A query that gives one value of the rows that come in, and nothing else of them; all of the rows without one.
    pub fn bringing(&self, value: Option<Slice>) -> String {
        let with = self.with.map_or("", |with| self.text(with));
        let Some(inserted) = &self.inserted else { return String::new() };
        let apart = matches!(inserted.brought, Brought::Query(Some(_)));
        match (self.behind(), value) {
            (None, Some(value)) => format!("{with}\nSELECT {}\n", self.text(value)),
            (Some(behind), Some(value)) if apart => {
                format!("{with}\nSELECT {}\n{}", self.text(value), self.text(behind))
            }
            (Some(behind), None) if apart => format!("{with}\nSELECT 1\n{}", self.text(behind)),
            (None, None) => "SELECT 1".to_owned(),
            (Some(_), _) => format!("{with}\n{}", self.text(inserted.source)),
        }
    }

    /// The statement as it is sent where it is to give rows back: what it gives itself, which nobody reads, is left out.
    pub fn giving(&self, list: &str) -> String {
        format!("{}\nRETURNING {list}", self.text(self.without_returning()).trim_end())
    }

    /// The statement up to what it gives back.
    pub fn without_returning(&self) -> Slice {
        Slice { start: self.statement.start, end: self.returning.map_or(self.statement.end, |r| r.start) }
    }

    /// The statement, verbatim.
    pub fn statement_text(&self) -> &str {
        self.text(self.statement)
    }
}
