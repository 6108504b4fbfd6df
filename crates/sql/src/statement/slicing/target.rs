//! What stands between the verb and the filter: the target, the assignments, and what is joined.

use marktwice_core::finding::{Code, Finding};
use sqlparser::tokenizer::Token;

use super::joined::{NOT_AN_ALIAS, list};
use super::{HasColumn, Walk, at_depth_0, whole};
use crate::dialect::language::Language;
use crate::statement::step::{Assignment, Name, Source, Sources, TableRef};
use crate::text::Tok;
use crate::text::slices::Slice;

/// The parts of an UPDATE up to its filter.
type Parts = (TableRef, Vec<Assignment>, Option<Sources>);

/// An UPDATE behind its verb, up to the filter.
pub(super) fn updated(walk: &mut Walk<'_>, has_column: &mut HasColumn<'_>) -> Result<Parts, Finding> {
    if walk.language != Language::Mysql {
        let table = table_ref(walk)?;
        if walk.peek().is_some_and(|t| {
            t.is(&Token::Comma) || t.is_any(&["join", "inner", "left", "right", "full", "cross", "natural"])
        }) {
            return Err(walk.refuse(
                "joined tables stand behind SET here",
                "write UPDATE table SET … FROM the other tables WHERE the condition of the join",
            ));
        }
        let (assignments, _) = assignments(walk)?;
        if !walk.eat("from") {
            return Ok((table, assignments, None));
        }
        let (slice, tables) = list(walk, &["where", "returning", "order", "limit"])?;
        return Ok((table, assignments, Some(Sources { slice, with_target: false, tables })));
    }
    let start = walk.at;
    let (slice, tables) = list(walk, &["set"])?;
    let (mut assignments, set) = assignments(walk)?;
    let joined = whole_list(&tables, slice);
    if !joined {
        walk.at = start;
        let table = table_ref(walk)?;
        walk.at = set;
        return Ok((table, assignments, None));
    }
    let owners = owners(walk, &mut assignments, &tables, has_column)?;
    let mut written = owners.clone();
    written.sort_unstable();
    written.dedup();
    let [one] = written.as_slice() else {
        let (from, to) = (assignments.first(), assignments.last());
        let (Some(from), Some(to)) = (from.and_then(|a| a.columns.first()), to) else {
            return Err(walk.refuse("several tables are written", "write one change for each"));
        };
        let own = |a: &Assignment| a.owner.as_ref().or(a.columns.first()).map_or(from.slice, |n| n.slice);
        let start = assignments.first().map_or(from.slice, own);
        let before = Slice { start: walk.statement.start, end: start.start }.of(walk.source);
        let after = Slice { start: to.value.end, end: walk.statement.end }.of(walk.source);
        let steps: Vec<String> = written
            .iter()
            .map(|table| {
                let mine = assignments.iter().zip(&owners).filter(|(_, o)| *o == table);
                let sets: Vec<&str> = mine.map(|(a, _)| own(a).to(a.value).of(walk.source)).collect();
                format!("{before}{}{after};", sets.join(", "))
            })
            .collect();
        return Err(several(walk, start.to(to.value), &steps));
    };
    let table = tables.get(*one).and_then(target_of).ok_or_else(|| {
        walk.refuse("the rows of a subquery cannot be written", "write the table that the rows come from")
    })?;
    Ok((table, assignments, Some(Sources { slice, with_target: true, tables })))
}

/// Whether a list is more than one table by itself.
fn whole_list(tables: &[Source], slice: Slice) -> bool {
    match tables {
        [one] => one.slice != slice,
        _ => true,
    }
}

fn several(walk: &Walk<'_>, at: Slice, steps: &[String]) -> Finding {
    Finding::new(Code::SeveralTables, "one statement writes several tables")
        .at(marktwice_core::TextPlace::in_source(walk.source, at.start, at.end))
        .hint("write one change for each table, and see that the first does not take away what the next looks for:")
        .paste(steps.join("\n"))
}

/// Which of the joined tables each assignment writes.
fn owners(
    walk: &Walk<'_>,
    assignments: &mut [Assignment],
    tables: &[Source],
    has_column: &mut HasColumn<'_>,
) -> Result<Vec<usize>, Finding> {
    let mut all = Vec::new();
    for assignment in assignments {
        let Some(column) = assignment.columns.first() else { continue };
        let found: Vec<usize> = match &assignment.owner {
            Some(owner) => named(tables, &owner.text).into_iter().collect(),
            None => (0..tables.len())
                .filter(|at| tables.get(*at).is_some_and(|t| has_column(t, &column.text)))
                .collect(),
        };
        let [one] = found.as_slice() else {
            let message = match found.len() {
                0 => format!("it cannot be told which table {} belongs to", column.text),
                _ => format!("{} is a column of several of these tables", column.text),
            };
            return Err(Finding::new(Code::AmbiguousName, message)
                .at(marktwice_core::TextPlace::in_source(walk.source, column.slice.start, column.slice.end))
                .hint(format!("write the table before it: table.{}", column.text)));
        };
        all.push(*one);
    }
    Ok(all)
}

fn named(tables: &[Source], name: &str) -> Option<usize> {
    let exact = tables.iter().position(|t| t.visible().is_some_and(|v| v.text == name));
    exact.or_else(|| {
        tables.iter().position(|t| t.visible().is_some_and(|v| v.text.eq_ignore_ascii_case(name)))
    })
}

fn target_of(source: &Source) -> Option<TableRef> {
    Some(TableRef {
        schema: source.schema.clone(),
        table: source.table.clone()?,
        alias: source.alias.clone(),
        only: false,
        slice: source.slice,
    })
}

/// A DELETE behind its verb, up to the filter.
pub(super) fn deleted(walk: &mut Walk<'_>) -> Result<(TableRef, Option<Sources>), Finding> {
    let ends = ["where", "returning", "order", "limit"];
    if walk.language != Language::Mysql {
        if !walk.eat("from") {
            return Err(walk.refuse(
                "FROM was expected here",
                "write DELETE FROM table; joined tables stand in USING, or as EXISTS (SELECT …) in WHERE",
            ));
        }
        let table = table_ref(walk)?;
        if !walk.eat("using") {
            return Ok((table, None));
        }
        let (slice, tables) = list(walk, &ends)?;
        return Ok((table, Some(Sources { slice, with_target: false, tables })));
    }
    let from = walk.eat("from");
    let start = walk.at;
    if from {
        let using = at_depth_0(&walk.tokens, start).find(|(_, t)| t.is_word("using") || t.is_word("where"));
        if !using.is_some_and(|(_, t)| t.is_word("using")) {
            return Ok((table_ref(walk)?, None));
        }
    }
    let names = deleted_names(walk)?;
    if !walk.eat(if from { "using" } else { "from" }) {
        return Err(
            walk.refuse("the tables to look in were expected here", "write DELETE table FROM table JOIN …")
        );
    }
    let (slice, tables) = list(walk, &ends)?;
    if names.len() > 1 {
        let at = names.iter().map(|n| n.slice).reduce(Slice::to).unwrap_or(slice);
        let before = Slice { start: walk.statement.start, end: at.start }.of(walk.source);
        let after = Slice { start: at.end, end: walk.statement.end }.of(walk.source);
        let after = after.strip_prefix(".*").unwrap_or(after);
        let steps: Vec<String> =
            names.iter().map(|n| format!("{before}{}{after};", n.slice.of(walk.source))).collect();
        return Err(several(walk, at, &steps));
    }
    let one = names.first().and_then(|n| named(&tables, &n.text)).and_then(|at| tables.get(at));
    match one.and_then(target_of) {
        Some(table) => Ok((table, Some(Sources { slice, with_target: true, tables }))),
        None => {
            walk.at = start;
            Err(walk
                .refuse("this table is not among those that are looked in", "name it as it is named there"))
        }
    }
}

/// `a, b.*, schema.c`: the tables that rows are deleted of.
fn deleted_names(walk: &mut Walk<'_>) -> Result<Vec<Name>, Finding> {
    let mut names = Vec::new();
    loop {
        let first = walk.name()?;
        let mut name = first.clone();
        while walk.eat_token(&Token::Period) {
            if walk.eat_token(&Token::Mul) {
                break;
            }
            name = walk.name()?;
            name.slice = first.slice.to(name.slice);
        }
        names.push(name);
        if !walk.eat_token(&Token::Comma) {
            return Ok(names);
        }
    }
}

/// The table behind INSERT INTO; only AS gives it another name.
pub(super) fn with_name(walk: &mut Walk<'_>) -> Result<TableRef, Finding> {
    let first = walk.name()?;
    let (schema, table) =
        if walk.eat_token(&Token::Period) { (Some(first), walk.name()?) } else { (None, first) };
    let mut slice = schema.as_ref().map_or(table.slice, |s: &Name| s.slice.to(table.slice));
    if walk.language == Language::Mysql && walk.peek().is_some_and(|t| t.is_word("partition")) {
        return Err(
            walk.refuse("PARTITION is not taken here", "leave it out: the row itself tells its partition")
        );
    }
    let mut alias = None;
    if walk.eat("as") {
        let name = walk.name()?;
        slice = slice.to(name.slice);
        alias = Some(name);
    }
    Ok(TableRef { schema, table, alias, only: false, slice })
}

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

/// What stands on the left of an assignment.
struct Left {
    column: Name,
    /// The table that is named before it.
    owner: Option<Name>,
    /// Whether only a part of its value is meant.
    piece: bool,
}

/// A column on the left of an assignment.
fn assigned(walk: &mut Walk<'_>) -> Result<Left, Finding> {
    let mut column = walk.name()?;
    let mut owner = None;
    while walk.language == Language::Mysql && walk.eat_token(&Token::Period) {
        owner = Some(std::mem::replace(&mut column, walk.name()?));
    }
    let mut piece = false;
    loop {
        if walk.eat_token(&Token::Period) {
            walk.name()?;
        } else if walk.eat_token(&Token::LBracket) {
            subscript(walk)?;
        } else {
            return Ok(Left { column, owner, piece });
        }
        piece = true;
    }
}

/// What stands in the brackets of a part, up to the closing one. What it calls would be run by nobody's leave.
fn subscript(walk: &mut Walk<'_>) -> Result<(), Finding> {
    while let Some(token) = walk.peek() {
        if token.is(&Token::RBracket) {
            walk.at += 1;
            return Ok(());
        }
        if token.is(&Token::LParen) || token.is(&Token::LBracket) {
            return Err(walk.refuse(
                "the place of the part must be told by itself",
                "write a number, a text or a column in the brackets",
            ));
        }
        walk.at += 1;
    }
    Err(walk.refuse("a closing bracket was expected here", "close the place of the part"))
}

/// The assignments behind SET; gives the position behind them too.
pub(super) fn assignments(walk: &mut Walk<'_>) -> Result<(Vec<Assignment>, usize), Finding> {
    if !walk.eat("set") {
        return Err(walk.refuse("SET was expected here", "name the target once, then SET"));
    }
    let mut all = Vec::new();
    loop {
        let left = if walk.eat_token(&Token::LParen) {
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
        let pieces: Vec<usize> = left.iter().enumerate().filter(|(_, l)| l.piece).map(|(at, _)| at).collect();
        let owner = left.first().filter(|_| left.len() == 1).and_then(|l| l.owner.clone());
        let columns: Vec<Name> = left.into_iter().map(|l| l.column).collect();
        let parts = match columns.len() {
            _ if !pieces.is_empty() => None,
            1 => Some(vec![whole(&value)]),
            width => split_row(&value, width),
        };
        all.push(Assignment { owner, columns, value: whole(&value), parts, pieces });
        if !walk.eat_token(&Token::Comma) {
            return Ok((all, walk.at));
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
    let parts = comma_parts(inner)?;
    (parts.len() == width).then_some(parts)
}

/// The parts of a list between its commas.
pub(super) fn comma_parts(list: &[&Tok]) -> Option<Vec<Slice>> {
    let commas: Vec<usize> =
        at_depth_0(list, 0).filter(|(_, t)| t.is(&Token::Comma)).map(|(at, _)| at).collect();
    let mut parts = Vec::new();
    let mut from = 0;
    for end in commas.into_iter().chain([list.len()]) {
        parts.push(whole(list.get(from..end)?));
        from = end + 1;
    }
    Some(parts)
}
