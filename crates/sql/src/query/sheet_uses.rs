//! What a statement does with the columns of a spreadsheet that it reads as a table: which columns they are compared with and
//! assigned to tells what their cells are.

use marktwice_core::param::ParamKind;
use marktwice_port::SheetUse;
use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::statement::slicing::understand_with;
use crate::statement::step::Brought;
use crate::text::tables::NO_ALIAS;
use crate::text::{Tok, tokenize};

/// A table's schema, where it is said, and its name.
type Named = (Option<String>, String);

/// A column as a text names it.
struct Ref {
    owner: Option<String>,
    name: String,
    /// Its tokens.
    from: usize,
    to: usize,
}

struct Reader<'t> {
    tokens: Vec<&'t Tok>,
    /// Other names of tables, in lower case.
    tables: Vec<(String, Named)>,
    sheet: String,
    columns: &'t [String],
}

impl Reader<'_> {
    fn token(&self, at: usize) -> Option<&Tok> {
        self.tokens.get(at).copied()
    }

    fn is(&self, at: usize, token: &Token) -> bool {
        self.token(at).is_some_and(|t| t.is(token))
    }

    /// The column that begins here.
    fn starting(&self, at: usize) -> Option<Ref> {
        let first = self.token(at)?.name()?.to_owned();
        if self.is(at + 1, &Token::LParen) {
            return None;
        }
        if !self.is(at + 1, &Token::Period) {
            return Some(Ref { owner: None, name: first, from: at, to: at });
        }
        let second = self.token(at + 2)?.name()?.to_owned();
        if self.is(at + 3, &Token::Period) {
            let third = self.token(at + 4)?.name()?.to_owned();
            return Some(Ref { owner: Some(second), name: third, from: at, to: at + 4 });
        }
        Some(Ref { owner: Some(first), name: second, from: at, to: at + 2 })
    }

    /// The column that ends here.
    fn ending(&self, at: usize) -> Option<Ref> {
        let name = self.token(at)?.name()?.to_owned();
        let mut from = at;
        let mut owner = None;
        while let Some(point) = from.checked_sub(1).filter(|p| self.is(*p, &Token::Period)) {
            from = point.checked_sub(1)?;
            if owner.is_none() {
                owner = self.token(from)?.name().map(str::to_owned);
            }
        }
        Some(Ref { owner, name, from, to: at })
    }

    fn named(&self, owner: &str) -> Option<&Named> {
        let owner = owner.to_ascii_lowercase();
        self.tables.iter().find(|(alias, _)| *alias == owner).map(|(_, table)| table)
    }

    /// The sheet's column that this is.
    fn own(&self, of: &Ref) -> Option<usize> {
        let owner = of.owner.as_ref()?;
        let is_it = owner.eq_ignore_ascii_case(&self.sheet)
            || self.named(owner).is_some_and(|(_, table)| table.eq_ignore_ascii_case(&self.sheet));
        is_it.then(|| self.position(&of.name)).flatten()
    }

    /// The sheet's column in `IN (SELECT column FROM sheet …)` or `= (SELECT …)`, the word or the sign standing here.
    fn in_its_list(&self, at: usize) -> Option<(Ref, usize)> {
        if !self.is(at + 1, &Token::LParen) || !self.token(at + 2)?.is_word("select") {
            return None;
        }
        let distinct = usize::from(self.token(at + 3)?.is_word("distinct"));
        let of = self.starting(at + 3 + distinct)?;
        if !self.token(of.to + 1)?.is_word("from") {
            return None;
        }
        let column = match &of.owner {
            Some(_) => self.own(&of)?,
            // Without a table before it the column is that of the one table there.
            None => self.position(&of.name).filter(|_| {
                self.token(of.to + 2)
                    .and_then(|t| t.name())
                    .is_some_and(|name| name.eq_ignore_ascii_case(&self.sheet))
            })?,
        };
        Some((of, column))
    }

    fn position(&self, name: &str) -> Option<usize> {
        self.columns.iter().position(|column| column.eq_ignore_ascii_case(name))
    }

    /// Another table's column, as it is told.
    fn other(&self, of: &Ref) -> (Option<String>, Option<String>, String) {
        let name = of.name.clone();
        match of.owner.as_ref().map(|owner| (owner, self.named(owner))) {
            None => (None, None, name),
            Some((_, Some((schema, table)))) => (schema.clone(), Some(table.clone()), name),
            Some((owner, None)) => (None, Some(owner.clone()), name),
        }
    }

    fn range(&self, of: &Ref) -> std::ops::Range<usize> {
        let start = self.token(of.from).map_or(0, |t| t.slice.start);
        start..self.token(of.to).map_or(start, |t| t.slice.end)
    }

    fn computes(&self, of: &Ref) -> bool {
        let signs = [Token::Plus, Token::Minus, Token::Mul, Token::Div, Token::Mod];
        let sign = |at: usize| signs.iter().any(|sign| self.is(at, sign));
        of.from.checked_sub(1).is_some_and(sign) || sign(of.to + 1)
    }
}

/// Other names of tables: `FROM hive AS h`.
fn tables(tokens: &[&Tok]) -> Vec<(String, Named)> {
    let opens = ["from", "join", "update", "into", "using", "only"];
    let mut all = Vec::new();
    let mut at = 0;
    while let Some(token) = tokens.get(at) {
        at += 1;
        if !token.is_any(&opens) && !token.is(&Token::Comma) {
            continue;
        }
        let name = |at: usize| tokens.get(at).and_then(|t| t.name()).map(str::to_owned);
        let Some(first) = name(at) else { continue };
        let point = tokens.get(at + 1).is_some_and(|t| t.is(&Token::Period));
        let (table, mut next) = match (point, name(at + 2)) {
            (true, Some(second)) => ((Some(first), second), at + 3),
            _ => ((None, first), at + 1),
        };
        next += usize::from(tokens.get(next).is_some_and(|t| t.is_word("as")));
        if let Some(alias) = tokens.get(next).filter(|t| !t.is_any(NO_ALIAS)).and_then(|t| t.name()) {
            all.push((alias.to_ascii_lowercase(), table.clone()));
        }
        all.push((table.1.to_ascii_lowercase(), table));
    }
    all
}

/// All uses, in the order of the text.
pub fn sheet_uses(text: &str, sheet: &str, columns: &[String], language: Language) -> Vec<SheetUse> {
    let Ok(all) = tokenize(text, language.dialect()) else { return Vec::new() };
    let tokens: Vec<&Tok> = all.iter().filter(|t| !t.is_blank()).collect();
    let tables = tables(&tokens);
    let reader = Reader { tokens, tables, sheet: sheet.to_owned(), columns };
    let mut found: Vec<SheetUse> = Vec::new();
    let mut assigns = false;
    let mut assigned: Option<Ref> = None;
    let signs = [Token::Eq, Token::Neq, Token::Lt, Token::Gt, Token::LtEq, Token::GtEq];
    for (at, token) in reader.tokens.iter().enumerate() {
        if token.is_word("set") {
            assigns = true;
        } else if token.is_any(&["from", "where", "on", "join"]) {
            (assigns, assigned) = (false, None);
        }
        if (token.is_word("in") || token.is(&Token::Eq))
            && let Some((own, column)) = reader.in_its_list(at)
            && let Some(left) = before_in(&reader, at)
        {
            let with = Some(reader.other(&left)).filter(|_| reader.own(&left).is_none());
            let (compared, range) = (!assigns && with.is_some(), reader.range(&own));
            found.push(SheetUse { column, with, compared, number: false, range });
        }
        if signs.iter().any(|sign| token.is(sign)) {
            let left = at.checked_sub(1).and_then(|before| reader.ending(before));
            let right = reader.starting(at + 1);
            let mut pair = |own: &Ref, other: Option<&Ref>| {
                let Some(column) = reader.own(own) else { return };
                let literal = match at == own.to + 1 {
                    true => reader.token(at + 1),
                    false => at.checked_sub(1).and_then(|before| reader.token(before)),
                };
                let number = literal.is_some_and(|t| matches!(t.token.token, Token::Number(..)));
                let with = other.filter(|other| reader.own(other).is_none()).map(|other| reader.other(other));
                let computes = reader.computes(own);
                let with = with.filter(|_| !computes);
                found.push(SheetUse {
                    column,
                    compared: !assigns && with.is_some(),
                    with,
                    number: number || computes,
                    range: reader.range(own),
                });
            };
            if let Some(left) = &left {
                pair(left, right.as_ref());
            }
            if let Some(right) = &right {
                pair(right, left.as_ref());
            }
            if assigns && let Some(left) = left {
                assigned = Some(left);
            }
            continue;
        }
        // Elsewhere in what is assigned it has the type of the column, unless it is computed with.
        let begins =
            token.name().is_some() && !at.checked_sub(1).is_some_and(|b| reader.is(b, &Token::Period));
        let Some(own) = Some(at).filter(|_| begins).and_then(|at| reader.starting(at)) else { continue };
        let Some(column) = reader.own(&own) else { continue };
        let computes = reader.computes(&own);
        let with = assigned.as_ref().filter(|_| assigns && !computes).map(|to| reader.other(to));
        let known = found.iter().any(|known| known.range == reader.range(&own));
        if (computes || with.is_some()) && !known {
            found.push(SheetUse {
                column,
                with,
                compared: false,
                number: computes,
                range: reader.range(&own),
            });
        }
    }
    inserted(&reader, text, language, &mut found);
    // A column without a table before it is the target's.
    let written = understand_with(text, language, &mut |_, _| false).ok().map(|step| {
        (step.table.schema.as_ref().map(|schema| schema.text.clone()), step.table.table.text.clone())
    });
    let first =
        reader.tables.iter().map(|(_, table)| table).find(|t| !t.1.eq_ignore_ascii_case(&reader.sheet));
    if let Some((schema, table)) = written.or_else(|| first.cloned()) {
        for (of, known, _) in found.iter_mut().filter_map(|use_of| use_of.with.as_mut()) {
            if known.is_none() {
                (*of, *known) = (schema.clone(), Some(table.clone()));
            }
        }
    }
    found
}

/// The column before IN, before NOT IN, or before an equals sign.
fn before_in(reader: &Reader<'_>, at: usize) -> Option<Ref> {
    let before = at.checked_sub(1)?;
    match reader.token(before)?.is_word("not") {
        true => reader.ending(before.checked_sub(1)?),
        false => reader.ending(before),
    }
}

/// What an INSERT gives its columns by name alone.
fn inserted(reader: &Reader<'_>, text: &str, language: Language, found: &mut Vec<SheetUse>) {
    let Ok(step) = understand_with(text, language, &mut |_, _| false) else { return };
    let Some(inserted) = &step.inserted else { return };
    let Brought::Query(Some(items)) = &inserted.brought else { return };
    let reads = step
        .words(inserted.source)
        .iter()
        .any(|t| t.name().is_some_and(|name| name.eq_ignore_ascii_case(&reader.sheet)));
    for (name, item) in inserted.named().iter().zip(items).filter(|_| reads) {
        let words = step.words(*item);
        let column = match words.as_slice() {
            [one] => one.name().and_then(|name| reader.position(name)),
            [owner, point, one] if point.is(&Token::Period) => {
                let of = Ref {
                    owner: owner.name().map(str::to_owned),
                    name: one.name().unwrap_or_default().to_owned(),
                    from: 0,
                    to: 0,
                };
                reader.own(&of)
            }
            _ => None,
        };
        if let Some(column) = column {
            let schema = step.table.schema.as_ref().map(|schema| schema.text.clone());
            let with = Some((schema, Some(step.table.table.text.clone()), name.text.clone()));
            found.push(SheetUse {
                column,
                with,
                compared: false,
                number: false,
                range: item.start..item.end,
            });
        }
    }
}

/// What a declared type holds.
pub fn kind(declared: &str) -> ParamKind {
    let lower = declared.trim().to_ascii_lowercase();
    let word: String = lower.chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect();
    if lower.ends_with(']') {
        return ParamKind::Text;
    }
    match word.as_str() {
        "tinyint" if lower.starts_with("tinyint(1)") => ParamKind::Integer,
        "int" | "integer" | "bigint" | "smallint" | "tinyint" | "mediumint" | "int2" | "int4" | "int8"
        | "serial" | "bigserial" | "smallserial" | "year" => ParamKind::Integer,
        "real" | "double" | "float" | "float4" | "float8" => ParamKind::Real,
        "decimal" | "dec" | "numeric" | "number" | "money" | "fixed" => ParamKind::Decimal,
        "boolean" | "bool" => ParamKind::Boolean,
        "date" => ParamKind::Date,
        "datetime" | "timestamp" | "timestamptz" => ParamKind::Moment,
        "time" | "timetz" => ParamKind::Time,
        _ => ParamKind::Text,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_sheets_are_used_for() {
        let columns: Vec<String> = ["line", "id", "price", "factor", "note"].map(str::to_owned).to_vec();
        let uses = |text: &str, language| {
            let told = |u: SheetUse| {
                let with = u.with.map_or("-".to_owned(), |(_, table, column)| {
                    format!("{}.{column}", table.unwrap_or_default())
                });
                format!(
                    "{} {with}{}{}",
                    columns[u.column],
                    if u.compared { " compared" } else { "" },
                    if u.number { " number" } else { "" }
                )
            };
            sheet_uses(text, "prices", &columns, language).into_iter().map(told).collect::<Vec<_>>()
        };
        for text in [
            "DELETE FROM batch WHERE batch_id IN (SELECT id FROM prices)",
            "DELETE FROM batch b WHERE b.batch_id NOT IN (SELECT DISTINCT p.id FROM prices AS p WHERE p.id > 3)",
        ] {
            let found = uses(text, Language::Postgres);
            assert_eq!(
                found.first().map(String::as_str),
                Some("id batch.batch_id compared"),
                "{text}: {found:?}"
            );
        }
        let value = "UPDATE batch SET price = (SELECT price FROM prices p WHERE p.id = batch.batch_id)";
        assert_eq!(uses(value, Language::Sqlite), ["price batch.price", "id batch.batch_id compared"]);
        assert!(uses("DELETE FROM batch WHERE id IN (SELECT id FROM hive)", Language::Sqlite).is_empty());
        assert_eq!(
            uses(
                "UPDATE batch AS b SET price = p.price, cost = cost * p.factor, note = coalesce(p.note, '') FROM prices p WHERE b.batch_id = p.id",
                Language::Postgres
            ),
            ["price batch.price", "factor - number", "note batch.note", "id batch.batch_id compared"]
        );
        assert_eq!(
            uses(
                "UPDATE batch JOIN prices ON prices.id = batch.batch_id SET batch.price = prices.price WHERE prices.factor > 2",
                Language::Mysql
            ),
            ["id batch.batch_id compared", "price batch.price", "factor - number"]
        );
        assert_eq!(
            uses("INSERT INTO batch (batch_id, price) SELECT id, prices.price FROM prices", Language::Sqlite),
            ["id batch.batch_id", "price batch.price"]
        );
    }
}
