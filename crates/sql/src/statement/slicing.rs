//! How UPDATE, DELETE and INSERT are sliced, in each language.
//!
//! The engine has compiled the statement before it comes here, so its grammar holds. A keyword scan at
//! parenthesis depth 0 finds the parts; the parser must then take each part whole, or the part counts as not
//! parsed. What the scan does not know is refused.

use std::sync::Arc;

use marktwice_core::finding::{Code, Finding, TextPlace};
use marktwice_core::hash;
use marktwice_core::mark::StepKind;
use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::refuse::instead;
use crate::statement::step::{Filter, Inserted, Name, Source, Step, Tail};
use crate::text::slices::Slice;
use crate::text::{Tok, tokenize, within};

mod inserted;
mod joined;
mod names;
mod parsed;
mod single;
mod target;

pub(crate) use parsed::plain_table;
use parsed::{agrees, parse_whole};
use target::{deleted, updated};

pub use inserted::set_as_values;
pub use names::{calls, is_literal, names_in, next_value, own_columns, relations_in, subqueries};
pub use single::single_statement;
pub(crate) use single::{AROUND, main_verb};

/// The tokens from `from` on that stand outside every parenthesis and bracket, with their positions.
pub(crate) fn at_depth_0<'t, 'a>(
    tokens: &'t [&'a Tok],
    from: usize,
) -> impl Iterator<Item = (usize, &'a Tok)> + use<'t, 'a> {
    let mut depth = 0i64;
    tokens.iter().enumerate().skip(from).filter_map(move |(at, t)| {
        if t.is(&Token::LParen) || t.is(&Token::LBracket) {
            depth += 1;
            return (depth == 1).then_some((at, *t));
        }
        if t.is(&Token::RParen) || t.is(&Token::RBracket) {
            depth -= 1;
            return None;
        }
        (depth == 0).then_some((at, *t))
    })
}

/// The tokens of these that stand outside every parenthesis and bracket.
pub fn top_level<'a>(tokens: &[&'a Tok]) -> Vec<&'a Tok> {
    at_depth_0(tokens, 0).map(|(_, token)| token).collect()
}

fn significant(tokens: &[Tok]) -> Vec<&Tok> {
    tokens.iter().filter(|t| !t.is_blank()).collect()
}

fn whole(tokens: &[&Tok]) -> Slice {
    match (tokens.first(), tokens.last()) {
        (Some(first), Some(last)) => first.slice.to(last.slice),
        _ => Slice { start: 0, end: 0 },
    }
}

fn span_place(source: &str, tokens: &[&Tok]) -> TextPlace {
    let slice = whole(tokens);
    TextPlace::in_source(source, slice.start, slice.end)
}

/// A walk over the significant tokens of one statement.
struct Walk<'a> {
    source: &'a str,
    language: Language,
    statement: Slice,
    tokens: Vec<&'a Tok>,
    at: usize,
}

impl<'a> Walk<'a> {
    fn peek(&self) -> Option<&'a Tok> {
        self.tokens.get(self.at).copied()
    }

    fn next(&mut self) -> Option<&'a Tok> {
        let token = self.peek();
        self.at += 1;
        token
    }

    fn eat(&mut self, word: &str) -> bool {
        let found = self.peek().is_some_and(|t| t.is_word(word));
        self.at += usize::from(found);
        found
    }

    fn eat_token(&mut self, token: &Token) -> bool {
        let found = self.peek().is_some_and(|t| t.is(token));
        self.at += usize::from(found);
        found
    }

    fn refuse(&self, message: impl Into<String>, hint: &str) -> Finding {
        let slice =
            self.peek().or(self.tokens.last().copied()).map_or(Slice { start: 0, end: 0 }, |t| t.slice);
        Finding::new(Code::NotUnderstood, message)
            .at(TextPlace::in_source(self.source, slice.start, slice.end))
            .hint(hint)
    }

    fn name(&mut self) -> Result<Name, Finding> {
        let name = self.peek().and_then(|t| Name::of(t, self.language));
        let name = name.ok_or_else(|| self.refuse("a name was expected here", "name the table or column"))?;
        self.at += 1;
        Ok(name)
    }

    /// The statement without the tokens from `from` to `to`, to be pasted.
    fn without(&self, from: usize, to: usize) -> String {
        let before = match from.checked_sub(1).and_then(|at| self.tokens.get(at)) {
            Some(last) => Slice { start: self.statement.start, end: last.slice.end }.of(self.source),
            None => "",
        };
        let after = match self.tokens.get(to) {
            Some(first) => Slice { start: first.slice.start, end: self.statement.end }.of(self.source),
            None => "",
        };
        let space = if before.is_empty() || after.is_empty() { "" } else { " " };
        format!("{before}{space}{after};")
    }

    /// The tokens up to the first of `stops` at depth 0 (or a comma, where `comma`).
    fn until(&mut self, stops: &[&str], comma: bool) -> Vec<&'a Tok> {
        let start = self.at;
        let mut end = self.tokens.len();
        for (at, token) in at_depth_0(&self.tokens, start) {
            let distinct_from = token.is_word("from")
                && at > start
                && self.tokens.get(at - 1).is_some_and(|before| before.is_word("distinct"));
            if (comma && token.is(&Token::Comma)) || (token.is_any(stops) && !distinct_from) {
                end = at;
                break;
            }
        }
        self.at = end;
        self.tokens.get(start..end).unwrap_or_default().to_vec()
    }
}

/// Whether a joined table has a column of a name; the engine's catalogue knows.
pub type HasColumn<'a> = dyn FnMut(&Source, &str) -> bool + 'a;

/// Slices one statement that the engine has compiled.
///
/// # Errors
/// A stop finding with its place for whatever is not wholly understood.
pub fn understand(source: &str, language: Language) -> Result<Step, Finding> {
    understand_with(source, language, &mut |_, _| false)
}

/// The same, where assigned columns without a table's name must be found among joined tables: `has_column` tells.
///
/// # Errors
/// As [`understand`].
pub fn understand_with(
    source: &str,
    language: Language,
    has_column: &mut HasColumn<'_>,
) -> Result<Step, Finding> {
    let statement = single_statement(source, language)?;
    let toks: Arc<[Tok]> = tokenize(source, language.dialect())
        .map_err(|e| Finding::new(Code::NotUnderstood, e.message).at(e.place))?
        .into();
    let tokens = within(&toks, statement);
    let token_hash =
        hash::texts(tokens.iter().map(|t| t.normal()).collect::<Vec<_>>().iter().map(String::as_str));
    let mut walk = Walk { source, language, statement, tokens, at: 0 };
    let with = with_clause(&mut walk)?;
    let kind = match walk.peek() {
        Some(verb) if verb.is_word("update") => StepKind::Update,
        Some(verb) if verb.is_any(&["insert", "replace"]) => StepKind::Insert,
        _ => StepKind::Delete,
    };
    let already = if kind == StepKind::Insert { inserted::already(&mut walk) } else { None };
    walk.at += 1;
    modifiers(&mut walk)?;
    let mut inserted = None;
    let (table, assignments, sources) = match kind {
        StepKind::Delete => {
            let (table, sources) = deleted(&mut walk)?;
            (table, Vec::new(), sources)
        }
        StepKind::Update => updated(&mut walk, has_column)?,
        StepKind::Insert => {
            let (table, brought) = inserted::inserted(&mut walk)?;
            inserted = Some(Inserted { conflict: already.or(brought.conflict.clone()), ..brought });
            (table, Vec::new(), None)
        }
    };
    let filter = if walk.eat("where") {
        let part = walk.until(&["returning", "order", "limit"], false);
        if let [current, of, ..] = part.as_slice()
            && current.is_word("current")
            && of.is_word("of")
        {
            walk.at -= part.len();
            return Err(walk.refuse(
                "WHERE CURRENT OF means the row of a cursor, and there is none here",
                "write the key of the row: WHERE key = …",
            ));
        }
        Some(Filter { slice: whole(&part), parsed: parse_whole(&part, language) })
    } else {
        None
    };
    let tail = tail(&mut walk, sources.is_some())?;
    let returning = returning(&mut walk);
    refuse_rest(&walk)?;
    let step = Step {
        source: source.to_owned(),
        language,
        statement,
        kind,
        with,
        table,
        assignments,
        inserted,
        sources,
        filter,
        tail,
        returning,
        tokens: Arc::clone(&toks),
        token_hash,
    };
    agrees(&step)?;
    Ok(step)
}

/// What may stand before a parenthesis and does nothing but compute, in every language.
const COMPUTE: &[&str] = &[
    "abs",
    "all",
    "and",
    "any",
    "as",
    "avg",
    "between",
    "btrim",
    "case",
    "cast",
    "ceil",
    "ceiling",
    "char",
    "char_length",
    "coalesce",
    "concat",
    "concat_ws",
    "count",
    "date",
    "date_add",
    "date_format",
    "date_part",
    "date_sub",
    "date_trunc",
    "datediff",
    "day",
    "decimal",
    "distinct",
    "else",
    "exists",
    "extract",
    "filter",
    "floor",
    "format",
    "from",
    "greatest",
    "group_concat",
    "hex",
    "if",
    "ifnull",
    "iif",
    "in",
    "instr",
    "is",
    "json",
    "json_build_array",
    "json_build_object",
    "json_extract",
    "json_object",
    "json_value",
    "jsonb_build_object",
    "least",
    "left",
    "length",
    "like",
    "lower",
    "lpad",
    "ltrim",
    "max",
    "md5",
    "min",
    "mod",
    "month",
    "not",
    "now",
    "nullif",
    "numeric",
    "octet_length",
    "on",
    "or",
    "over",
    "position",
    "power",
    "printf",
    "quote",
    "replace",
    "returning",
    "reverse",
    "right",
    "round",
    "row",
    "rpad",
    "rtrim",
    "select",
    "sign",
    "some",
    "sqrt",
    "string_agg",
    "strftime",
    "substr",
    "substring",
    "sum",
    "then",
    "to_char",
    "to_json",
    "to_jsonb",
    "row_to_json",
    "trim",
    "trunc",
    "typeof",
    "unicode",
    "unixepoch",
    "upper",
    "values",
    "varchar",
    "when",
    "where",
    "with",
    "year",
];

/// RETURNING, where what it calls only computes: it is called by the run and by nothing else, and what it gives is not looked at.
fn returning(walk: &mut Walk<'_>) -> Option<Slice> {
    let start = walk.at;
    walk.peek().filter(|t| t.is_word("returning"))?;
    let rest = walk.tokens.get(start..)?;
    let acts = rest.windows(2).any(|pair| match pair {
        [name, open] if open.is(&Token::LParen) => {
            name.name().is_some_and(|name| !COMPUTE.contains(&name.to_ascii_lowercase().as_str()))
        }
        _ => false,
    });
    if acts {
        return None;
    }
    let slice = whole(rest);
    walk.at = walk.tokens.len();
    Some(slice)
}

/// ORDER BY and LIMIT, where the language has them behind a change of one table.
fn tail(walk: &mut Walk<'_>, joined: bool) -> Result<Option<Tail>, Finding> {
    if walk.language == Language::Postgres
        || joined
        || !walk.peek().is_some_and(|t| t.is_any(&["order", "limit"]))
    {
        return Ok(None);
    }
    let start = walk.at;
    let mut order = Vec::new();
    if walk.eat("order") {
        walk.eat("by");
        loop {
            let term = walk.until(&["limit", "returning"], true);
            if let [one] = term.as_slice()
                && matches!(one.token.token, Token::Number(..))
            {
                walk.at -= 1;
                return Err(walk.refuse("a number orders nothing here", "name the column"));
            }
            order.push(whole(&term));
            if !walk.eat_token(&Token::Comma) {
                break;
            }
        }
    }
    let limit = walk.eat("limit").then(|| whole(&walk.until(&["returning"], false)));
    let slice = whole(walk.tokens.get(start..walk.at).unwrap_or_default());
    Ok(Some(Tail { slice, order, limit }))
}

fn with_clause(walk: &mut Walk<'_>) -> Result<Option<Slice>, Finding> {
    if !walk.peek().is_some_and(|t| t.is_word("with")) {
        return Ok(None);
    }
    let start = walk.at;
    let part = walk.until(&["update", "delete", "insert"], false);
    let writes = part.windows(2).position(|pair| match pair {
        [open, verb] => open.is(&Token::LParen) && verb.is_any(&["insert", "update", "delete", "merge"]),
        _ => false,
    });
    if let Some(at) = writes {
        let paste = instead::writing_with(walk.source, walk.tokens.get(start..).unwrap_or_default());
        walk.at = start + at + 1;
        let message = "a WITH clause that writes by itself is not taken: two tables would be written at once";
        return Err(match paste {
            Some(paste) => walk.refuse(message, "write its statement as a change of its own:").paste(paste),
            None => walk.refuse(
                message,
                "write its statement as a change of its own; where the main one reads its rows, apply that one first, \
                 with the same condition as a subquery",
            ),
        });
    }
    Ok(Some(whole(&part)))
}

/// Words between the verb and the table.
fn modifiers(walk: &mut Walk<'_>) -> Result<(), Finding> {
    if walk.peek().is_some_and(|t| t.is_word("or")) {
        // Whatever of these a conflict would leave of the statement, the transaction is rolled back as a whole.
        let harmless = ["abort", "fail", "rollback"];
        if walk.tokens.get(walk.at + 1).is_some_and(|t| t.is_any(&harmless)) {
            walk.at += 2;
            return Ok(());
        }
        let refusal = walk.refuse(
            "a conflict clause (OR …) skips or deletes rows without a word",
            "leave it out; a conflict then stops the change and is named:",
        );
        return Err(refusal.paste(walk.without(walk.at, walk.at + 2)));
    }
    if walk.language != Language::Mysql {
        return Ok(());
    }
    while let Some(word) = walk.peek() {
        if word.is_word("ignore") {
            let refusal = walk.refuse(
                "IGNORE skips rows and bends values without a word",
                "leave it out; what does not fit then stops the change and is named:",
            );
            return Err(refusal.paste(walk.without(walk.at, walk.at + 1)));
        }
        if !word.is_any(&["low_priority", "high_priority", "quick"]) {
            break;
        }
        walk.at += 1;
    }
    Ok(())
}

fn refuse_rest(walk: &Walk<'_>) -> Result<(), Finding> {
    match walk.peek() {
        None => Ok(()),
        Some(t) if t.is_word("returning") => Err(walk
            .refuse(
                "RETURNING may call something here, and only the run would call it",
                "leave it out: the preview and the receipt show the rows, before and after:",
            )
            .paste(walk.without(walk.at, walk.tokens.len()))),
        Some(t) if t.is_any(&["order", "limit"]) => {
            Err(walk.refuse("ORDER BY and LIMIT are not taken here", walk.language.limited()))
        }
        Some(_) => {
            Err(walk.refuse("this part of the statement is not understood", "write it in a plainer form"))
        }
    }
}

#[cfg(test)]
mod tests;
