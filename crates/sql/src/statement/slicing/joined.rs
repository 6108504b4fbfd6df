//! Lists of joined tables: which tables, subqueries and functions stand in them, and under which names. How they are
//! joined is not looked at: the list is handed to the engine as it stands.

use marktwice_core::finding::Finding;
use sqlparser::tokenizer::Token;

use super::{Walk, whole};
use crate::dialect::language::Language;
use crate::statement::step::{Name, Source};
use crate::text::Tok;
use crate::text::slices::Slice;

/// Words that cannot be an alias without AS.
pub(super) const NOT_AN_ALIAS: &[&str] = &[
    "set",
    "where",
    "using",
    "order",
    "limit",
    "returning",
    "from",
    "join",
    "inner",
    "left",
    "right",
    "full",
    "cross",
    "natural",
    "outer",
    "on",
    "straight_join",
    "partition",
    "for",
    "use",
    "force",
    "ignore",
    "indexed",
    "not",
    "tablesample",
    "window",
    "with",
];

/// Reads a list of joined tables up to one of `stops`.
pub(super) fn list(walk: &mut Walk<'_>, stops: &[&str]) -> Result<(Slice, Vec<Source>), Finding> {
    let start = walk.at;
    let part = walk.until(stops, false);
    let end = walk.at;
    if part.is_empty() {
        return Err(walk.refuse("a table was expected here", "name the table"));
    }
    let mut reader = Reader { language: walk.language, tokens: &part, at: 0 };
    match reader.all() {
        Ok(sources) => Ok((whole(&part), sources)),
        Err((at, message)) => {
            walk.at = (start + at).min(end.saturating_sub(1));
            Err(walk.refuse(message, "write the join in a plainer form: table JOIN table ON condition"))
        }
    }
}

struct Reader<'t, 'a> {
    language: Language,
    tokens: &'t [&'a Tok],
    at: usize,
}

/// Where in the list, and what is wrong there.
type Odd = (usize, &'static str);

impl<'a> Reader<'_, 'a> {
    fn peek(&self) -> Option<&'a Tok> {
        self.tokens.get(self.at).copied()
    }

    fn ahead(&self, steps: usize) -> Option<&'a Tok> {
        self.tokens.get(self.at + steps).copied()
    }

    fn all(&mut self) -> Result<Vec<Source>, Odd> {
        let mut sources = Vec::new();
        let mut expected = true;
        while let Some(token) = self.peek() {
            if expected {
                if token.is(&Token::LParen) && !self.opens_query() {
                    // A join in parentheses: its first table follows.
                    self.at += 1;
                    continue;
                }
                sources.push(self.source()?);
                expected = false;
                // A clause that nobody here knows must not pass for a part of the join.
                let joins = [
                    "on",
                    "using",
                    "join",
                    "inner",
                    "left",
                    "right",
                    "full",
                    "cross",
                    "natural",
                    "straight_join",
                ];
                let known = |t: &Tok| t.is(&Token::Comma) || t.is(&Token::RParen) || t.is_any(&joins);
                if self.peek().is_some_and(|t| !known(t)) {
                    return Err((self.at, "this part of the list of tables is not understood"));
                }
            } else if token.is(&Token::LParen) || token.is(&Token::LBracket) {
                // The columns of USING, or a part of the condition.
                self.skip_group()?;
            } else {
                expected = token.is(&Token::Comma) || token.is_any(&["join", "straight_join"]);
                self.at += 1;
            }
        }
        if expected { Err((self.at, "a table was expected here")) } else { Ok(sources) }
    }

    /// Whether the parenthesis here, or one right behind it, opens a subquery.
    fn opens_query(&self) -> bool {
        let behind = self.tokens.get(self.at..).unwrap_or_default().iter().find(|t| !t.is(&Token::LParen));
        behind.is_some_and(|t| t.is_any(&["select", "with", "values", "table"]))
    }

    /// Steps over a group in parentheses or brackets.
    fn skip_group(&mut self) -> Result<(), Odd> {
        let start = self.at;
        let mut depth = 0;
        while let Some(token) = self.peek() {
            if token.is(&Token::LParen) || token.is(&Token::LBracket) {
                depth += 1;
            } else if token.is(&Token::RParen) || token.is(&Token::RBracket) {
                depth -= 1;
            }
            self.at += 1;
            if depth == 0 {
                return Ok(());
            }
        }
        Err((start, "this parenthesis is not closed"))
    }

    fn name(&mut self) -> Option<Name> {
        let name = Name::of(self.peek()?, self.language)?;
        self.at += 1;
        Some(name)
    }

    fn source(&mut self) -> Result<Source, Odd> {
        let start = self.at;
        while self.peek().is_some_and(|t| t.is_word("lateral"))
            || (self.peek().is_some_and(|t| t.is_word("only"))
                && self.ahead(1).is_some_and(|t| t.name().is_some() || t.is(&Token::LParen)))
        {
            self.at += 1;
        }
        let (mut schema, mut table) = (None, None);
        if self.peek().is_some_and(|t| t.is(&Token::LParen)) {
            self.skip_group()?;
        } else {
            let first = self.name().ok_or((self.at, "a table was expected here"))?;
            table = Some(first);
            while self.peek().is_some_and(|t| t.is(&Token::Period)) {
                self.at += 1;
                schema = table.take();
                table = Some(self.name().ok_or((self.at, "a table was expected here"))?);
            }
            if self.peek().is_some_and(|t| t.is(&Token::LParen)) {
                // A function that gives rows.
                self.skip_group()?;
                (schema, table) = (None, None);
                if self.peek().is_some_and(|t| t.is_word("with")) {
                    self.at += 2;
                }
            }
            if self.peek().is_some_and(|t| t.is(&Token::Mul)) {
                self.at += 1;
            }
            if self.peek().is_some_and(|t| t.is_word("partition")) {
                self.at += 1;
                self.skip_group()?;
            }
        }
        let mut alias = None;
        let bare = self.peek().is_some_and(|t| t.name().is_some() && !t.is_any(NOT_AN_ALIAS));
        if self.peek().is_some_and(|t| t.is_word("as")) {
            self.at += 1;
            alias = Some(self.name().ok_or((self.at, "an alias was expected here"))?);
        } else if bare {
            alias = self.name();
        }
        if alias.is_some() && self.peek().is_some_and(|t| t.is(&Token::LParen)) {
            self.skip_group()?;
        }
        self.hints()?;
        let slice = whole(self.tokens.get(start..self.at).unwrap_or_default());
        Ok(Source { schema, table, alias, slice })
    }

    /// Which index is to be used, and samples.
    fn hints(&mut self) -> Result<(), Odd> {
        loop {
            let two = |a: &[&str], b: &[&str]| {
                self.peek().is_some_and(|t| t.is_any(a)) && self.ahead(1).is_some_and(|t| t.is_any(b))
            };
            if two(&["indexed"], &["by"]) {
                self.at += 3;
            } else if two(&["not"], &["indexed"]) {
                self.at += 2;
            } else if two(&["use", "force", "ignore"], &["index", "key"]) {
                while self.peek().is_some_and(|t| !t.is(&Token::LParen)) {
                    self.at += 1;
                }
                self.skip_group()?;
            } else if self.peek().is_some_and(|t| t.is_word("tablesample")) {
                self.at += 2;
                self.skip_group()?;
            } else {
                return Ok(());
            }
        }
    }
}
