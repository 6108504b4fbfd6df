//! The parser's part: it must take each sliced part whole, and where it takes the whole statement as well, it must see
//! the same parts there. What it makes of a text is only ever read, never sent to an engine.

use marktwice_core::finding::{Code, Finding};
use marktwice_core::mark::StepKind;
use sqlparser::ast::{
    Assignment as ParsedAssignment, Delete, Expr, FromTable, Insert, ObjectName, Query, SetExpr,
    SqliteOnConflict, Statement, TableAlias, TableFactor, TableObject, TableWithJoins, Update,
    UpdateTableFromKind,
};
use sqlparser::keywords::Keyword;
use sqlparser::parser::Parser;
use sqlparser::tokenizer::{Token, TokenWithSpan, Word};

use crate::dialect::language::Language;
use crate::statement::step::{Brought, Step};
use crate::text::Tok;

/// Nesting that the parser follows before it gives up (the engine's own limit on expression depth is 1,000).
const DEPTH: usize = 1_000;

/// Parses a run of tokens as one expression; `None` unless the parser takes all of it.
pub(super) fn parse_whole(tokens: &[&Tok], language: Language) -> Option<Expr> {
    let mut parser = parser(tokens, language);
    let expr = parser.parse_expr().ok()?;
    (parser.peek_token_ref().token == Token::EOF).then_some(expr)
}

fn parser(tokens: &[&Tok], language: Language) -> Parser<'static> {
    let patched = match language {
        Language::Sqlite => patch(tokens),
        Language::Postgres | Language::Mysql => tokens.iter().map(|t| t.token.clone()).collect(),
    };
    Parser::new(language.dialect()).with_recursion_limit(DEPTH).with_tokens_with_locations(patched)
}

/// Refuses a statement that the parser takes whole and sees other parts in than we do.
pub(super) fn agrees(step: &Step) -> Result<(), Finding> {
    let tokens = step.words(step.statement);
    // These are misread as the name of the table, which is why they are looked at before the parser is asked.
    let misread = ["only", "low_priority", "quick", "indexed", "partition", "use", "force"];
    if tokens.iter().any(|t| t.is_any(&misread)) {
        return Ok(());
    }
    let mut parser = parser(&tokens, step.language);
    let Ok(statement) = parser.parse_statement() else { return Ok(()) };
    if parser.peek_token_ref().token != Token::EOF || same_parts(step, &statement) {
        return Ok(());
    }
    Err(Finding::new(Code::NotUnderstood, "this statement can be read in two ways")
        .at(step.place(step.statement))
        .hint("write it in a plainer form: names in quotes, conditions in parentheses"))
}

/// Whether a parsed statement has the parts of a step. Every field of what the parser gives is named here, so that a
/// clause that a later version learns to read cannot go unseen.
fn same_parts(step: &Step, statement: &Statement) -> bool {
    match statement {
        Statement::Update(update) => same_update(step, update),
        Statement::Delete(delete) => same_delete(step, delete),
        Statement::Insert(insert) => same_insert(step, insert),
        Statement::Query(query) => {
            let Query {
                with: _,
                body,
                order_by: _,
                limit_clause: _,
                fetch: _,
                locks: _,
                for_clause: _,
                settings: _,
                format_clause: _,
                pipe_operators: _,
            } = &**query;
            match &**body {
                SetExpr::Update(inner) | SetExpr::Delete(inner) | SetExpr::Insert(inner) => {
                    same_parts(step, inner)
                }
                _ => false,
            }
        }
        _ => false,
    }
}

fn same_update(step: &Step, update: &Update) -> bool {
    let Update {
        update_token: _,
        optimizer_hints: _,
        table,
        assignments,
        from,
        selection,
        returning,
        output,
        or,
        order_by,
        limit,
    } = update;
    let from_matches = match (from, &step.sources) {
        (None, None) => table.joins.is_empty(),
        (None, Some(sources)) => sources.with_target,
        (Some(UpdateTableFromKind::AfterSet(_)), Some(sources)) => !sources.with_target,
        (Some(UpdateTableFromKind::BeforeSet(_) | UpdateTableFromKind::AfterSet(_)), _) => false,
    };
    let named = step.sources.as_ref().is_some_and(|s| s.with_target) || same_table(step, table);
    let values = assignments.len() == step.assignments.len()
        && assignments.iter().zip(&step.assignments).all(|(theirs, ours)| {
            let ParsedAssignment { target: _, value } = theirs;
            parse_whole(&step.words(ours.value), step.language).is_none_or(|own| own == *value)
        });
    step.kind == StepKind::Update
        && from_matches
        && named
        && values
        && same_filter(step, selection.as_ref())
        && returning.is_some() == step.returning.is_some()
        && output.is_none()
        && !matches!(or, Some(SqliteOnConflict::Ignore | SqliteOnConflict::Replace))
        && same_tail(step, order_by.len(), limit.is_some())
}

fn same_delete(step: &Step, delete: &Delete) -> bool {
    let Delete {
        delete_token: _,
        optimizer_hints: _,
        tables: _,
        from,
        using,
        selection,
        returning,
        output,
        order_by,
        limit,
    } = delete;
    let (FromTable::WithFromKeyword(from) | FromTable::WithoutKeyword(from)) = from;
    let joined = using.is_some() || from.len() > 1 || from.iter().any(|t| !t.joins.is_empty());
    let alone = step.sources.is_none();
    let named = !alone || matches!(from.as_slice(), [one] if same_table(step, one));
    step.kind == StepKind::Delete
        && (!joined || !alone)
        && named
        && same_filter(step, selection.as_ref())
        && returning.is_some() == step.returning.is_some()
        && output.is_none()
        && same_tail(step, order_by.len(), limit.is_some())
}

fn same_insert(step: &Step, insert: &Insert) -> bool {
    // What says something of rows that are there already is refused, whatever else it says.
    if step.inserted.as_ref().is_some_and(|own| own.conflict.is_some()) {
        return true;
    }
    let Insert {
        insert_token: _,
        optimizer_hints: _,
        or,
        ignore: false,
        into: _,
        table: TableObject::TableName(ObjectName(parts)),
        table_alias: _,
        columns,
        overwrite: false,
        source,
        assignments,
        partitioned: None,
        after_columns,
        has_table_keyword: false,
        on,
        returning,
        output: None,
        replace_into: false,
        priority: _,
        insert_alias: None,
        settings: None,
        format_clause: None,
        multi_table_insert_type: None,
        multi_table_into_clauses,
        multi_table_when_clauses,
        multi_table_else_clause: None,
    } = insert
    else {
        return false;
    };
    let Some(own) = &step.inserted else { return false };
    let last = parts.last().and_then(|p| p.as_ident()).map(|i| step.language.folded(&i.value));
    last.is_some_and(|n| n.eq_ignore_ascii_case(&step.table.table.text))
        && columns.len() == own.named().len()
        && source.is_some() == (own.brought != Brought::Defaults)
        && assignments.is_empty()
        && after_columns.is_empty()
        && multi_table_into_clauses.is_empty()
        && multi_table_when_clauses.is_empty()
        && on.is_some() == own.conflict.is_some()
        && returning.is_some() == step.returning.is_some()
        && !matches!(or, Some(SqliteOnConflict::Ignore | SqliteOnConflict::Replace))
}

/// The name and the alias of a table that stands by itself: no function, no sample, no version.
pub(crate) fn plain_table(relation: &TableFactor) -> Option<(&ObjectName, Option<&TableAlias>)> {
    let TableFactor::Table {
        name,
        alias,
        args: None,
        with_hints: _,
        version: None,
        with_ordinality: false,
        partitions: _,
        json_path: None,
        sample: None,
        index_hints: _,
    } = relation
    else {
        return None;
    };
    Some((name, alias.as_ref()))
}

fn same_table(step: &Step, table: &TableWithJoins) -> bool {
    let TableWithJoins { relation, joins: _ } = table;
    let Some((ObjectName(parts), _)) = plain_table(relation) else { return false };
    let last = parts.last().and_then(|p| p.as_ident()).map(|i| step.language.folded(&i.value));
    last.is_some_and(|n| n.eq_ignore_ascii_case(&step.table.table.text))
}

fn same_filter(step: &Step, theirs: Option<&Expr>) -> bool {
    match (&step.filter, theirs) {
        (None, None) => true,
        (Some(ours), Some(theirs)) => ours.parsed.as_ref().is_none_or(|own| own == theirs),
        _ => false,
    }
}

fn same_tail(step: &Step, order: usize, limit: bool) -> bool {
    step.tail.as_ref().map_or((0, false), |t| (t.order.len(), t.limit.is_some())) == (order, limit)
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
