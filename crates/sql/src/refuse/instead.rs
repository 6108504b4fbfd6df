//! What to write instead of a statement that is refused, ready to be pasted, where that is mechanical. The text is made
//! of the user's own; it is previewed like any other before anything happens.

use sqlparser::ast::{
    Expr, GroupByExpr, Ident, Query, Select, SelectItem, SetExpr, Statement, TableWithJoins,
};
use sqlparser::parser::Parser;
use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::statement::slicing::{at_depth_0, plain_table};
use crate::statement::step::Step;
use crate::text::slices::Slice;
use crate::text::{Tok, in_parentheses, tokenize};

fn span(tokens: &[&Tok]) -> Option<Slice> {
    Some(tokens.first()?.slice.to(tokens.last()?.slice))
}

fn text<'s>(source: &'s str, tokens: &[&Tok]) -> &'s str {
    span(tokens).map_or("", |s| s.of(source))
}

/// `TRUNCATE a, b` as one DELETE for each table.
pub(crate) fn truncate(source: &str, tokens: &[&Tok]) -> Option<String> {
    let words = ["table", "only", "restart", "continue", "identity", "cascade", "restrict"];
    let names: Vec<&&Tok> = tokens.get(1..)?.iter().filter(|t| !t.is_any(&words)).collect();
    let mut steps: Vec<String> = vec![String::new()];
    for token in names {
        if token.is(&Token::Comma) {
            steps.push(String::new());
        } else if token.is(&Token::Period) || token.name().is_some() {
            steps.last_mut()?.push_str(token.slice.of(source));
        } else if !token.is(&Token::Mul) {
            return None;
        }
    }
    let steps: Vec<String> =
        steps.into_iter().filter(|s| !s.is_empty()).map(|s| format!("DELETE FROM {s};")).collect();
    (!steps.is_empty()).then(|| steps.join("\n"))
}

/// A WITH clause that writes: its statement, and the main one without it, where the main one does not read it.
pub(crate) fn writing_with(source: &str, tokens: &[&Tok]) -> Option<String> {
    let open = tokens.windows(2).position(|pair| match pair {
        [open, verb] => open.is(&Token::LParen) && verb.is_any(&["update", "delete"]),
        _ => false,
    })?;
    let mut depth = 0;
    let close = tokens.iter().enumerate().skip(open).find_map(|(at, t)| {
        depth += i32::from(t.is(&Token::LParen)) - i32::from(t.is(&Token::RParen));
        (depth == 0).then_some(at)
    })?;
    let inner = tokens.get(open + 1..close)?;
    let end = at_depth_0(inner, 0).find(|(_, t)| t.is_word("returning")).map_or(inner.len(), |(at, _)| at);
    let first = text(source, inner.get(..end)?);
    // Only where it is the one member of the clause, and nobody reads it.
    let name = tokens.get(1).filter(|_| tokens.first().is_some_and(|t| t.is_word("with")))?.name()?;
    let rest = tokens.get(close + 1..)?;
    let read = rest.iter().any(|t| t.name().is_some_and(|n| n.eq_ignore_ascii_case(name)));
    if read || rest.first()?.is(&Token::Comma) {
        return None;
    }
    Some(format!("{first};\n{};", text(source, rest)))
}

/// A MERGE as one UPDATE or DELETE for each of its branches.
pub(crate) fn merge(source: &str, tokens: &[&Tok], language: Language) -> Option<String> {
    let mut at = 1 + usize::from(tokens.get(1)?.is_word("into"));
    let using = at_depth_0(tokens, at).find(|(_, t)| t.is_word("using"))?.0;
    let on = at_depth_0(tokens, using).find(|(_, t)| t.is_word("on"))?.0;
    let target = tokens.get(at..using)?;
    let table = text(source, target);
    let visible = target.iter().rev().find(|t| t.name().is_some())?.slice.of(source);
    let other = text(source, tokens.get(using + 1..on)?);
    let mut whens = Vec::new();
    let mut cases = 0;
    for (position, token) in at_depth_0(tokens, on) {
        cases += i32::from(token.is_word("case")) - i32::from(token.is_word("end"));
        if cases == 0 && token.is_word("when") {
            whens.push(position);
        }
    }
    let link = text(source, tokens.get(on + 1..*whens.first()?)?);
    let mut steps = Vec::new();
    let mut before: Vec<String> = Vec::new();
    let mut inserts = false;
    for (nth, start) in whens.iter().enumerate() {
        let end = whens.get(nth + 1).copied().unwrap_or(tokens.len());
        let branch = tokens.get(start + 1..end)?;
        let mut cases = 0;
        let then = at_depth_0(branch, 0).find_map(|(position, t)| {
            cases += i32::from(t.is_word("case")) - i32::from(t.is_word("end"));
            (cases == 0 && t.is_word("then")).then_some(position)
        })?;
        at = 0;
        let not = branch.get(at)?.is_word("not");
        at += 1 + usize::from(not);
        if branch.get(at).is_some_and(|t| t.is_word("by")) {
            return None;
        }
        let condition = (branch.get(at).is_some_and(|t| t.is_word("and")))
            .then(|| branch.get(at + 1..then).map(|t| text(source, t).to_owned()))
            .flatten();
        let action = branch.get(then + 1..)?;
        if not {
            inserts |= !action.first()?.is_word("do");
            continue;
        }
        let mut terms: Vec<String> = condition.iter().map(|c| format!("({c})")).collect();
        // An earlier branch has taken its rows; NULL counts as not taken.
        terms.extend(before.iter().map(|c| format!("({c}) IS NOT TRUE")));
        before.extend(condition);
        let verb = action.first()?;
        let more = terms.join(" AND ");
        let and = if more.is_empty() { String::new() } else { format!(" AND {more}") };
        let sets = || text(source, action.get(2..).unwrap_or_default());
        if verb.is_word("update") {
            steps.push(match language {
                Language::Mysql => {
                    let place = if more.is_empty() { String::new() } else { format!(" WHERE {more}") };
                    format!("UPDATE {table} JOIN {other} ON {link} SET {}{place};", sets())
                }
                _ => format!("UPDATE {table} SET {} FROM {other} WHERE ({link}){and};", sets()),
            });
        } else if verb.is_word("delete") {
            steps.push(match language {
                Language::Postgres => format!("DELETE FROM {table} USING {other} WHERE ({link}){and};"),
                Language::Sqlite => {
                    format!("DELETE FROM {table} WHERE EXISTS (SELECT 1 FROM {other} WHERE ({link}){and});")
                }
                Language::Mysql => {
                    let place = if more.is_empty() { String::new() } else { format!(" WHERE {more}") };
                    format!("DELETE {visible} FROM {table} JOIN {other} ON {link}{place};")
                }
            });
        } else if !verb.is_word("do") {
            return None;
        }
    }
    if inserts {
        steps.push("-- what is not there yet: INSERT … SELECT, in the engine's own shell".to_owned());
    }
    (!steps.is_empty()).then(|| steps.join("\n"))
}

/// ORDER BY and LIMIT, where the language has none, as a choice of keys. `key_of` gives the key of a table.
pub fn limited(
    source: &str,
    tokens: &[&Tok],
    language: Language,
    key_of: &mut dyn FnMut(Option<&str>, &str) -> Vec<String>,
) -> Option<String> {
    let tail = at_depth_0(tokens, 0).find(|(_, t)| t.is_any(&["order", "limit"]))?.0;
    let place = at_depth_0(tokens, 0).find(|(at, t)| *at < tail && t.is_word("where")).map(|(at, _)| at);
    let head = tokens.get(..place.unwrap_or(tail))?;
    let named = head.get(1..)?.iter().position(|t| t.name().is_some() && !t.is_any(&["from", "only"]))? + 1;
    let first = head.get(named)?;
    let qualified = head.get(named + 1).is_some_and(|t| t.is(&Token::Period));
    let (schema, name) =
        if qualified { (first.name(), head.get(named + 2)?.name()?) } else { (None, first.name()?) };
    let key: Vec<String> = key_of(schema, name).iter().map(|k| language.name(k)).collect();
    let list = key.join(", ");
    let of = match key.as_slice() {
        [] => return None,
        [one] => one.clone(),
        _ => format!("({list})"),
    };
    let behind = named + if qualified { 3 } else { 1 };
    // Up to SET stands what the table is called; a join would take more rows than it has.
    let set = at_depth_0(head, behind).find(|(_, t)| t.is_word("set")).map_or(head.len(), |(at, _)| at);
    if at_depth_0(head, behind)
        .any(|(_, t)| t.is_any(&["from", "using", "join"]) || t.is(&Token::Comma) && set == head.len())
    {
        return None;
    }
    // A number is a place in the list of what is read, and that list is another one here.
    let places = tokens.get(tail..)?.windows(2).any(|pair| match pair {
        [before, term] => {
            (before.is_word("by") || before.is(&Token::Comma))
                && matches!(term.token.token, Token::Number(..))
        }
        _ => false,
    });
    if places {
        return None;
    }
    let from = text(source, head.get(named..set)?);
    let filter = place
        .map_or(String::new(), |p| format!(" {}", text(source, tokens.get(p..tail).unwrap_or_default())));
    let tail = text(source, tokens.get(tail..)?);
    Some(format!("{}\n WHERE {of} IN (SELECT {list} FROM {from}{filter} {tail});", text(source, head)))
}

/// A change of a view as one of its base table, where the view is a plain choice of one table's rows and columns.
pub fn base_table(step: &Step, definition: &str) -> Option<String> {
    let language = step.language;
    let mut parsed = Parser::parse_sql(language.dialect(), definition).ok()?;
    let (query, listed) = match parsed.pop()? {
        Statement::Query(query) => (query, Vec::new()),
        Statement::CreateView(view) => {
            (view.query, view.columns.into_iter().map(|c| c.name.value).collect::<Vec<String>>())
        }
        _ => return None,
    };
    // Every clause is named, so that one that a later version of the parser reads cannot go unseen.
    let Query {
        with: None,
        body,
        order_by: _,
        limit_clause: None,
        fetch: None,
        locks: _,
        for_clause: None,
        settings: None,
        format_clause: None,
        pipe_operators: _,
    } = *query
    else {
        return None;
    };
    let SetExpr::Select(select) = *body else { return None };
    let Select {
        select_token: _,
        optimizer_hints: _,
        distinct: None,
        select_modifiers: _,
        top: None,
        top_before_distinct: _,
        projection,
        exclude: None,
        into: None,
        from,
        lateral_views: _,
        prewhere: None,
        selection,
        connect_by: _,
        group_by,
        cluster_by: _,
        distribute_by: _,
        sort_by: _,
        having: None,
        named_window: _,
        qualify: None,
        window_before_qualify: _,
        value_table_mode: None,
        flavor: _,
    } = *select
    else {
        return None;
    };
    if !matches!(&group_by, GroupByExpr::Expressions(by, _) if by.is_empty()) {
        return None;
    }
    let [TableWithJoins { relation, joins }] = from.as_slice() else { return None };
    let (name, alias) = plain_table(relation)?;
    if !joins.is_empty() || step.sources.is_some() {
        return None;
    }
    let mut columns: Vec<(String, String)> = Vec::new();
    // Shown names that no column of the base table stands behind.
    let mut computed: Vec<String> = Vec::new();
    for (at, item) in projection.iter().enumerate() {
        let (expr, alias) = match item {
            SelectItem::UnnamedExpr(expr) => (expr, None),
            SelectItem::ExprWithAlias { expr, alias } => (expr, Some(alias.value.clone())),
            // Behind a star nobody can tell here which listed name is which column's.
            SelectItem::Wildcard(_) | SelectItem::QualifiedWildcard(..) if listed.is_empty() => continue,
            _ => return None,
        };
        let own = match expr {
            Expr::Identifier(Ident { value, .. }) => Some(value.clone()),
            Expr::CompoundIdentifier(parts) => parts.last().map(|p| p.value.clone()),
            _ => None,
        };
        let shown = listed.get(at).cloned().or(alias).or(own.clone());
        match (shown, own) {
            (Some(shown), Some(own)) => columns.push((shown, own)),
            (Some(shown), None) => computed.push(shown),
            (None, _) => {}
        }
    }
    let base = name.to_string();
    let own = name.0.last().and_then(|p| p.as_ident()).map(|i| i.value.clone())?;
    if alias.is_some_and(|a| !a.columns.is_empty()) {
        return None;
    }
    let condition = match selection {
        Some(condition) => Some(unqualified(&condition.to_string(), language)?),
        None => None,
    };
    let view = &step.table.table.text;
    let tokens = step.words(step.statement);
    let names = |t: &Tok, name: &str| t.name().is_some_and(|n| n.eq_ignore_ascii_case(name));
    let renamed = |word: &str| {
        let found = columns.iter().find(|(shown, _)| shown.eq_ignore_ascii_case(word));
        found.filter(|(shown, own)| !shown.eq_ignore_ascii_case(own)).map(|(_, own)| language.name(own))
    };
    if tokens.iter().any(|t| computed.iter().any(|name| names(t, name))) {
        return None;
    }
    // Inside a subquery a name may be another table's.
    let outside = |t: &Tok| t.slice.start < step.table.slice.start || t.slice.end > step.table.slice.end;
    if tokens.iter().any(|t| t.is_word("select"))
        && tokens
            .iter()
            .any(|t| t.name().is_some_and(|n| renamed(n).is_some()) || (outside(t) && names(t, view)))
    {
        return None;
    }
    let rewritten = |range: Slice| {
        let mut out = String::new();
        let mut end = range.start;
        let mut skip = 0;
        let inside = tokens.iter().filter(|t| t.slice.start >= range.start && t.slice.end <= range.end);
        for token in inside {
            let gap = Slice { start: end, end: token.slice.start };
            end = token.slice.end;
            if skip > 0 {
                skip -= 1;
                continue;
            }
            out.push_str(gap.of(&step.source));
            let first = step.table.schema.as_ref().unwrap_or(&step.table.table).slice;
            if token.slice == first {
                out.push_str(&base);
                skip = if step.table.schema.is_some() { 2 } else { 0 };
            } else if names(token, view) && outside(token) && step.table.alias.is_none() {
                out.push_str(&language.name(&own));
            } else {
                let word = token.name().filter(|_| matches!(token.token.token, Token::Word(_)));
                out.push_str(
                    &word.and_then(renamed).unwrap_or_else(|| token.slice.of(&step.source).to_owned()),
                );
            }
        }
        out.push_str(Slice { start: end, end: range.end }.of(&step.source));
        out
    };
    let whole = step.statement;
    let Some(condition) = condition else { return Some(format!("{};", rewritten(whole))) };
    let tail = step.tail.as_ref().map_or(whole.end, |t| t.slice.start);
    let (before, filter, after) = match &step.filter {
        Some(filter) => {
            let own = in_parentheses(&rewritten(filter.slice));
            let before = rewritten(Slice { start: whole.start, end: filter.slice.start });
            (before, format!("{own}\n   AND "), Slice { start: filter.slice.end, end: whole.end })
        }
        None => {
            let before = rewritten(Slice { start: whole.start, end: tail });
            let before = before.trim_end();
            (format!("{before}\n WHERE "), String::new(), Slice { start: tail, end: whole.end })
        }
    };
    let after = rewritten(after);
    let space = if after.is_empty() || after.starts_with(char::is_whitespace) { "" } else { " " };
    Some(format!("{before}{filter}({condition}){space}{after};"))
}

/// A condition whose columns are written without their table; `None` where a subquery in it may mean another one's.
fn unqualified(condition: &str, language: Language) -> Option<String> {
    let tokens = tokenize(condition, language.dialect()).ok()?;
    if tokens.iter().any(|t| t.is_word("select")) {
        return None;
    }
    let mut out = String::new();
    for (at, token) in tokens.iter().enumerate() {
        let next = tokens.get(at + 1).is_some_and(|t| t.is(&Token::Period));
        if token.is(&Token::Period) || (next && token.name().is_some()) {
            continue;
        }
        out.push_str(token.slice.of(condition));
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statement::slicing::understand;
    use crate::text::within;

    fn with<T>(source: &str, language: Language, work: impl FnOnce(&[&Tok]) -> T) -> T {
        let toks = tokenize(source, language.dialect()).unwrap();
        work(&within(&toks, Slice { start: 0, end: source.len() }))
    }

    #[test]
    fn refused_statements_as_steps() {
        let source = "MERGE INTO keeper AS k USING sheet s ON s.email = k.email WHEN MATCHED AND s.gone THEN DELETE \
                      WHEN MATCHED THEN UPDATE SET name = CASE WHEN s.name = '' THEN k.name ELSE s.name END \
                      WHEN NOT MATCHED THEN INSERT (name) VALUES (s.name)";
        let steps = with(source, Language::Postgres, |t| merge(source, t, Language::Postgres)).unwrap();
        assert_eq!(
            steps.lines().collect::<Vec<_>>(),
            [
                "DELETE FROM keeper AS k USING sheet s WHERE (s.email = k.email) AND (s.gone);",
                "UPDATE keeper AS k SET name = CASE WHEN s.name = '' THEN k.name ELSE s.name END FROM sheet s \
                 WHERE (s.email = k.email) AND (s.gone) IS NOT TRUE;",
                "-- what is not there yet: INSERT … SELECT, in the engine's own shell",
            ]
        );
        let source = "TRUNCATE TABLE hive, public.\"Sale\" RESTART IDENTITY";
        assert_eq!(
            with(source, Language::Postgres, |t| truncate(source, t)).as_deref(),
            Some("DELETE FROM hive;\nDELETE FROM public.\"Sale\";")
        );
        let source = "WITH gone AS (DELETE FROM sale WHERE kilos = 0 RETURNING *) UPDATE keeper SET name = 'x' WHERE keeper_id = 1";
        assert_eq!(
            with(source, Language::Postgres, |t| writing_with(source, t)).as_deref(),
            Some("DELETE FROM sale WHERE kilos = 0;\nUPDATE keeper SET name = 'x' WHERE keeper_id = 1;")
        );
        let source = "DELETE FROM hive_season WHERE season < 2020 ORDER BY season LIMIT 5";
        let key = |key: &[&str]| key.iter().map(|k| (*k).to_owned()).collect::<Vec<_>>();
        assert_eq!(
            with(source, Language::Sqlite, |t| limited(source, t, Language::Sqlite, &mut |_, _| key(&[
                "hive_id", "season"
            ])))
            .as_deref(),
            Some(
                "DELETE FROM hive_season\n WHERE (hive_id, season) IN (SELECT hive_id, season FROM hive_season WHERE season < 2020 ORDER BY season LIMIT 5);"
            )
        );
    }

    #[test]
    fn a_plain_view_as_its_base_table() {
        for (definition, statement, expected) in [
            (
                "CREATE VIEW moor AS SELECT k.keeper_id AS id, k.name FROM keeper AS k WHERE k.region = 'Moor'",
                "UPDATE moor SET name = 'x' WHERE id = 3 AND moor.name <> 'id'",
                Some(
                    "UPDATE keeper SET name = 'x' WHERE (keeper_id = 3 AND keeper.name <> 'id')\n   AND (region = 'Moor');",
                ),
            ),
            (
                "CREATE VIEW v (a) AS SELECT b FROM t",
                "DELETE FROM v WHERE a = 1",
                Some("DELETE FROM t WHERE b = 1;"),
            ),
            // An OR of the user's own does not reach around the view's condition.
            (
                "CREATE VIEW v AS SELECT * FROM t WHERE t.b = 'x.y'",
                "DELETE FROM v WHERE a = 1 OR a = 2",
                Some("DELETE FROM t WHERE (a = 1 OR a = 2)\n   AND (b = 'x.y');"),
            ),
            ("CREATE VIEW v AS SELECT a FROM t WHERE b", "DELETE FROM v", Some("DELETE FROM t\n WHERE (b);")),
            // What the view computes is no column of its base table; a subquery may mean another table's column.
            ("CREATE VIEW v AS SELECT a, b + 1 AS c FROM t", "DELETE FROM v WHERE c = 1", None),
            (
                "CREATE VIEW v AS SELECT a, b + 1 AS c FROM t",
                "DELETE FROM v WHERE a = 1",
                Some("DELETE FROM t WHERE a = 1;"),
            ),
            ("CREATE VIEW v (x, y) AS SELECT * FROM t", "DELETE FROM v WHERE x = 1", None),
            ("CREATE VIEW v AS SELECT b AS a FROM t", "DELETE FROM v WHERE a IN (SELECT a FROM u)", None),
            ("CREATE VIEW v AS SELECT count(*) AS n FROM t GROUP BY b", "DELETE FROM v WHERE n = 1", None),
            ("CREATE VIEW v AS SELECT * FROM t JOIN u USING (x)", "DELETE FROM v WHERE n = 1", None),
        ] {
            let step = understand(statement, Language::Sqlite).unwrap();
            assert_eq!(base_table(&step, definition).as_deref(), expected, "{definition}");
        }
    }
}
