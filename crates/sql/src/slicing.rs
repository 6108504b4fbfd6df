//! How UPDATE and DELETE are sliced, in each language.
//!
//! The engine has compiled the statement before it comes here, so its grammar holds. A keyword scan at
//! parenthesis depth 0 finds the parts; the parser must then take each part whole, or the part counts as not
//! parsed. What the scan does not know is refused.

use marktwice_core::finding::{Code, Finding, Place};
use marktwice_core::hash;
use marktwice_core::mark::StepKind;
use sqlparser::ast::Expr;
use sqlparser::keywords::Keyword;
use sqlparser::parser::Parser;
use sqlparser::tokenizer::{Token, TokenWithSpan, Word};

use crate::language::Language;
use crate::slices::Slice;
use crate::step::{Assignment, Filter, Name, Step, TableRef};
use crate::text::{Tok, tokenize, within};

mod single;

pub use single::single_statement;

/// Nesting that the parser follows before it gives up (the engine's own limit on expression depth is 1,000).
const DEPTH: usize = 1_000;

/// The tokens from `from` on that stand outside every parenthesis, with their positions.
fn at_depth_0<'t, 'a>(
    tokens: &'t [&'a Tok],
    from: usize,
) -> impl Iterator<Item = (usize, &'a Tok)> + use<'t, 'a> {
    let mut depth = 0i64;
    tokens.iter().enumerate().skip(from).filter_map(move |(at, t)| {
        if t.is(&Token::LParen) {
            depth += 1;
            return (depth == 1).then_some((at, *t));
        }
        if t.is(&Token::RParen) {
            depth -= 1;
            return None;
        }
        (depth == 0).then_some((at, *t))
    })
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

fn span_place(source: &str, tokens: &[&Tok]) -> Place {
    let slice = whole(tokens);
    Place::in_source(source, slice.start, slice.end)
}

/// A walk over the significant tokens of one statement.
struct Walk<'a> {
    source: &'a str,
    language: Language,
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
            .at(Place::in_source(self.source, slice.start, slice.end))
            .hint(hint)
    }

    fn name(&mut self) -> Result<Name, Finding> {
        match self.peek().and_then(|t| t.name().map(|n| (t, n.to_owned()))) {
            Some((token, text)) => {
                self.at += 1;
                let bare = matches!(&token.token.token, Token::Word(w) if w.quote_style.is_none());
                let text = if bare { self.language.folded(&text) } else { text };
                Ok(Name { text, slice: token.slice })
            }
            None => Err(self.refuse("a name was expected here", "name the table or column")),
        }
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

/// Slices one statement that the engine has compiled.
///
/// # Errors
/// A stop finding with its place for whatever is not wholly understood.
pub fn understand(source: &str, language: Language) -> Result<Step, Finding> {
    let statement = single_statement(source, language)?;
    let toks = tokenize(source, language.dialect())
        .map_err(|e| Finding::new(Code::NotUnderstood, e.message).at(e.place))?;
    let tokens = within(&toks, statement);
    let token_hash =
        hash::texts(tokens.iter().map(|t| t.normal()).collect::<Vec<_>>().iter().map(String::as_str));
    let mut walk = Walk { source, language, tokens, at: 0 };
    let with = with_clause(&mut walk)?;
    let kind = if walk.eat("update") { StepKind::Update } else { StepKind::Delete };
    if kind == StepKind::Delete {
        walk.at += 1;
    }
    modifiers(&mut walk)?;
    if kind == StepKind::Delete {
        if !walk.eat("from") {
            return Err(walk.refuse(
                "a DELETE that names its table before FROM joins other tables",
                "write DELETE FROM the table, and the join as EXISTS (SELECT …) in WHERE",
            ));
        }
    } else if walk.peek().is_some_and(|t| t.is_word("or")) {
        return Err(walk.refuse(
            "a conflict clause (UPDATE OR …) skips or deletes rows without a word",
            "leave OR and the word behind it out; a conflict then stops the change and is named",
        ));
    }
    let table = table_ref(&mut walk)?;
    if kind == StepKind::Update && !walk.peek().is_some_and(|t| t.is_word("set")) {
        refuse_rest(&walk)?;
    }
    let assignments = if kind == StepKind::Update { assignments(&mut walk)? } else { Vec::new() };
    let filter = if walk.eat("where") {
        let part = walk.until(&["returning", "order", "limit"], false);
        if let [current, of, ..] = part.as_slice()
            && current.is_word("current")
            && of.is_word("of")
        {
            walk.at -= part.len();
            return Err(walk.refuse(
                "WHERE CURRENT OF means the row of a cursor, and there is none here",
                "write the key of the row",
            ));
        }
        Some(Filter { slice: whole(&part), parsed: parse_whole(&part, language) })
    } else {
        None
    };
    refuse_rest(&walk)?;
    Ok(Step {
        source: source.to_owned(),
        language,
        statement,
        kind,
        with,
        table,
        assignments,
        filter,
        token_hash,
    })
}

fn with_clause(walk: &mut Walk<'_>) -> Result<Option<Slice>, Finding> {
    if !walk.peek().is_some_and(|t| t.is_word("with")) {
        return Ok(None);
    }
    let start = walk.at;
    let part = walk.until(&["update", "delete"], false);
    let writes = part.windows(2).position(|pair| match pair {
        [open, verb] => open.is(&Token::LParen) && verb.is_any(&["insert", "update", "delete", "merge"]),
        _ => false,
    });
    if let Some(at) = writes {
        walk.at = start + at + 1;
        return Err(walk.refuse(
            "a WITH clause that writes by itself is not taken: two tables would be written at once",
            "write its statement as a change of its own",
        ));
    }
    Ok(Some(whole(&part)))
}

/// Words between the verb and the table.
fn modifiers(walk: &mut Walk<'_>) -> Result<(), Finding> {
    if walk.language != Language::Mysql {
        return Ok(());
    }
    while let Some(word) = walk.peek() {
        if word.is_word("ignore") {
            return Err(walk.refuse(
                "IGNORE skips rows and bends values without a word",
                "leave it out; what does not fit then stops the change and is named",
            ));
        }
        if !word.is_any(&["low_priority", "quick"]) {
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
            .refuse("RETURNING has no use here", "leave it out: the preview and the receipt show the rows")),
        Some(t)
            if t.is(&Token::Comma)
                || t.is_any(&["from", "using", "join", "inner", "left", "right", "cross", "natural"])
                || t.is_word("straight_join") =>
        {
            Err(walk.refuse(
                "a statement that joins other tables is not taken",
                "write the joined value as a subquery in SET, and the join as EXISTS (SELECT …) in WHERE",
            ))
        }
        Some(t) if t.is_any(&["order", "limit"]) => {
            Err(walk.refuse("ORDER BY and LIMIT are not taken", walk.language.limited()))
        }
        Some(_) => {
            Err(walk.refuse("this part of the statement is not understood", "write it in a plainer form"))
        }
    }
}

/// Words that cannot be an alias without AS.
const NOT_AN_ALIAS: &[&str] = &[
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
    "cross",
    "natural",
    "straight_join",
    "partition",
    "for",
    "use",
    "force",
    "ignore",
];

fn table_ref(walk: &mut Walk<'_>) -> Result<TableRef, Finding> {
    let only = walk.language == Language::Postgres
        && walk.peek().is_some_and(|t| t.is_word("only"))
        && walk.tokens.get(walk.at + 1).is_some_and(|t| t.name().is_some());
    let start = walk.peek().map(|t| t.slice);
    walk.at += usize::from(only);
    let first = walk.name()?;
    let (schema, table) =
        if walk.eat_token(&Token::Period) { (Some(first), walk.name()?) } else { (None, first) };
    if walk.peek().is_some_and(|t| t.is(&Token::Period)) {
        return Err(walk.refuse("a name has two parts at most here", "leave the database's name out"));
    }
    let mut slice = start.unwrap_or(table.slice).to(table.slice);
    if walk.language == Language::Postgres
        && let Some(star) = walk.peek().filter(|t| t.is(&Token::Mul))
    {
        slice = slice.to(star.slice);
        walk.at += 1;
    }
    if walk.language == Language::Mysql && walk.eat("partition") {
        while let Some(token) = walk.next() {
            slice = slice.to(token.slice);
            if token.is(&Token::RParen) {
                break;
            }
        }
    }
    let mut alias = None;
    let bare = walk.language != Language::Sqlite
        && walk.peek().is_some_and(|t| t.name().is_some() && !t.is_any(NOT_AN_ALIAS));
    if walk.eat("as") || bare {
        let name = walk.name()?;
        slice = slice.to(name.slice);
        alias = Some(name);
    }
    if walk.language == Language::Sqlite {
        if walk.eat("indexed") {
            walk.eat("by");
            slice = slice.to(walk.name()?.slice);
        } else if walk.peek().is_some_and(|t| t.is_word("not")) {
            walk.at += 1;
            if let Some(token) = walk.next() {
                slice = slice.to(token.slice);
            }
        }
    }
    Ok(TableRef { schema, table, alias, only, slice })
}

/// A column on the left of an assignment.
fn assigned(walk: &mut Walk<'_>) -> Result<Name, Finding> {
    let mut name = walk.name()?;
    while walk.language == Language::Mysql && walk.eat_token(&Token::Period) {
        name = walk.name()?;
    }
    if walk.peek().is_some_and(|t| t.is(&Token::LBracket) || t.is(&Token::Period)) {
        return Err(walk.refuse(
            "an assignment to a part of a value is not taken",
            "assign the whole value: for an array col = col[1:2] || …, for a row type col = ROW(…)",
        ));
    }
    Ok(name)
}

fn assignments(walk: &mut Walk<'_>) -> Result<Vec<Assignment>, Finding> {
    if !walk.eat("set") {
        return Err(walk.refuse("SET was expected here", "name the target once, then SET"));
    }
    let mut all = Vec::new();
    loop {
        let columns = if walk.eat_token(&Token::LParen) {
            let mut columns = vec![assigned(walk)?];
            while walk.eat_token(&Token::Comma) {
                columns.push(assigned(walk)?);
            }
            if !walk.eat_token(&Token::RParen) {
                return Err(
                    walk.refuse("a closing parenthesis was expected here", "close the list of columns")
                );
            }
            columns
        } else {
            vec![assigned(walk)?]
        };
        let signs = walk.eat_token(&Token::Eq)
            || (walk.language == Language::Mysql && walk.eat_token(&Token::Assignment));
        if !signs {
            return Err(walk.refuse("an equals sign was expected here", "write column = value"));
        }
        let value = walk.until(&["from", "where", "returning", "order", "limit"], true);
        if value.is_empty() {
            return Err(walk.refuse("a value was expected here", "write column = value"));
        }
        let parts =
            if columns.len() == 1 { Some(vec![whole(&value)]) } else { split_row(&value, columns.len()) };
        all.push(Assignment { columns, value: whole(&value), parts });
        if !walk.eat_token(&Token::Comma) {
            return Ok(all);
        }
    }
}

/// The elements of `(a, b, …)`, when the value is such a row of the right width and no subquery.
fn split_row(value: &[&Tok], width: usize) -> Option<Vec<Slice>> {
    let value = if value.first()?.is_word("row") { value.get(1..)? } else { value };
    let (first, last) = (value.first()?, value.last()?);
    let inner = value.get(1..value.len().checked_sub(1)?)?;
    if !first.is(&Token::LParen)
        || !last.is(&Token::RParen)
        || inner.first()?.is_any(&["select", "with", "values"])
    {
        return None;
    }
    let commas: Vec<usize> =
        at_depth_0(inner, 0).filter(|(_, t)| t.is(&Token::Comma)).map(|(at, _)| at).collect();
    let mut parts = Vec::new();
    let mut from = 0;
    for end in commas.into_iter().chain([inner.len()]) {
        parts.push(whole(inner.get(from..end)?));
        from = end + 1;
    }
    (parts.len() == width).then_some(parts)
}

/// Parses a run of tokens as one expression; `None` unless the parser takes all of it.
fn parse_whole(tokens: &[&Tok], language: Language) -> Option<Expr> {
    let patched = match language {
        Language::Sqlite => patch(tokens),
        Language::Postgres | Language::Mysql => tokens.iter().map(|t| t.token.clone()).collect(),
    };
    let mut parser =
        Parser::new(language.dialect()).with_recursion_limit(DEPTH).with_tokens_with_locations(patched);
    let expr = parser.parse_expr().ok()?;
    (parser.peek_token_ref().token == Token::EOF).then_some(expr)
}

/// Spells forms that SQLite takes and the parser does not in forms that mean the same to both. The result is
/// only ever read, never sent to an engine.
fn patch(tokens: &[&Tok]) -> Vec<TokenWithSpan> {
    let mut out: Vec<TokenWithSpan> = Vec::with_capacity(tokens.len() + 8);
    let mut at = 0;
    while let Some(token) = tokens.get(at) {
        let like = |t: Token| TokenWithSpan::new(t, token.token.span);
        let next = tokens.get(at + 1);
        if token.is_word("isnull") {
            out.extend([like(word("IS", Keyword::IS)), like(word("NULL", Keyword::NULL))]);
        } else if token.is_word("not") && next.is_some_and(|n| n.is_any(&["glob", "match"])) {
            out.extend([like(word("NOT", Keyword::NOT)), like(word("LIKE", Keyword::LIKE))]);
            at += 1;
        } else if token.is_word("is") {
            let not = next.is_some_and(|n| n.is_word("not"));
            let operand = tokens.get(at + 1 + usize::from(not));
            out.push(like(word("IS", Keyword::IS)));
            let plain = operand.is_some_and(|o| o.is_any(&["null", "true", "false", "distinct", "not"]));
            if !plain {
                // `a IS b` is "not distinct from", `a IS NOT b` is "distinct from".
                if !not {
                    out.push(like(word("NOT", Keyword::NOT)));
                }
                out.extend([like(word("DISTINCT", Keyword::DISTINCT)), like(word("FROM", Keyword::FROM))]);
                at += usize::from(not);
            }
        } else if matches!(token.token.token, Token::ShiftLeft | Token::ShiftRight) {
            out.push(like(Token::Plus));
        } else {
            out.push(token.token.clone());
        }
        at += 1;
    }
    out
}

fn word(text: &str, keyword: Keyword) -> Token {
    Token::Word(Word { value: text.to_owned(), quote_style: None, keyword })
}

/// The outermost subqueries inside a slice of the step, parentheses included.
pub fn subqueries(step: &Step, slice: Slice) -> Vec<Slice> {
    let Ok(all) = tokenize(&step.source, step.language.dialect()) else { return Vec::new() };
    let tokens = within(&all, slice);
    let mut found = Vec::new();
    let mut open: Vec<(usize, bool)> = Vec::new();
    for (at, token) in tokens.iter().enumerate() {
        if token.is(&Token::LParen) {
            let query = tokens.get(at + 1).is_some_and(|n| n.is_any(&["select", "with", "values"]));
            let inside = open.iter().any(|(_, q)| *q);
            open.push((token.slice.start, query && !inside));
        } else if token.is(&Token::RParen)
            && let Some((start, true)) = open.pop()
        {
            found.push(Slice { start, end: token.slice.end });
        }
    }
    found
}

/// Whether a slice is one literal value, with a sign in front or not.
pub fn is_literal(step: &Step, slice: Slice) -> bool {
    let Ok(all) = tokenize(&step.source, step.language.dialect()) else { return false };
    let tokens = within(&all, slice);
    let number = |t: &Tok| matches!(t.token.token, Token::Number(..));
    match tokens.as_slice() {
        [one] => {
            let text = matches!(one.token.token, Token::SingleQuotedString(_) | Token::HexStringLiteral(_))
                || (step.language == Language::Mysql
                    && matches!(one.token.token, Token::DoubleQuotedString(_)));
            text || number(one) || one.is_any(&["null", "true", "false"])
        }
        [sign, one] => (sign.is(&Token::Minus) || sign.is(&Token::Plus)) && number(one),
        _ => false,
    }
}

/// The unquoted words and quoted names of a slice, in lower case.
pub fn names_in(step: &Step, slice: Slice) -> Vec<String> {
    let Ok(all) = tokenize(&step.source, step.language.dialect()) else { return Vec::new() };
    within(&all, slice).iter().filter_map(|t| t.name().map(str::to_ascii_lowercase)).collect()
}

/// The names in a slice that are called as functions, as the catalogue has them.
pub fn calls(step: &Step, slice: Slice) -> Vec<String> {
    let Ok(all) = tokenize(&step.source, step.language.dialect()) else { return Vec::new() };
    let tokens = within(&all, slice);
    let called = tokens.windows(2).filter_map(|pair| match pair {
        [name, open] if open.is(&Token::LParen) => match &name.token.token {
            Token::Word(word) if word.quote_style.is_none() => Some(step.language.folded(&word.value)),
            Token::Word(word) => Some(word.value.clone()),
            _ => None,
        },
        _ => None,
    });
    called.collect()
}

#[cfg(test)]
mod tests;
