//! Near misses: rows that only letter case, blanks or NULL keep out of one condition of the filter.

use marktwice_core::study::NearMiss;
use sqlparser::tokenizer::Token;

use super::{Questions, Subject};
use crate::dialect::classes::{Class, class};
use crate::dialect::language::Language;
use crate::statement::terms::terms;
use crate::text::slices::Slice;

/// Rows shown of each.
const SHOWN: usize = 3;

/// A condition that compares one column.
struct Compared {
    column: usize,
    /// The texts that it is compared with; none where only NULL is to be looked for.
    texts: Vec<String>,
    /// Whether the condition asks for rows that are unlike something.
    negative: bool,
}

pub(super) fn near_misses<E>(subject: Subject<'_>, questions: &mut Questions<'_, '_, E>) -> Vec<NearMiss> {
    let step = subject.step;
    if step.sources.is_some() || step.tail.is_some() {
        return Vec::new();
    }
    let conditions = terms(step);
    let mut all = Vec::new();
    for (at, condition) in conditions.iter().enumerate() {
        let Some(compared) = compared(subject, *condition) else { continue };
        let Some(column) = subject.column(compared.column) else { continue };
        let text = step.text(*condition);
        let others: Vec<String> = conditions
            .iter()
            .enumerate()
            .filter(|(other, _)| *other != at)
            .map(|(_, c)| format!("(\n{}\n)", step.text(*c)))
            .collect();
        let near = if compared.negative {
            format!("{column} IS NULL")
        } else {
            let texts: Vec<String> =
                compared.texts.iter().map(|t| step.language.text_literal(t.trim()).clone()).collect();
            let folded: Vec<String> = texts.iter().map(|t| format!("lower({t})")).collect();
            format!("lower(trim({column})) IN ({}) AND NOT (\n{text}\n)", folded.join(", "))
        };
        let mut place: Vec<String> = others;
        place.push(near);
        let with = step.with.map_or("", |w| step.text(w));
        let from = format!("FROM {} WHERE {}", step.text(step.table.slice), place.join(" AND "));
        let mut select = subject.key();
        select.push(column);
        let Some(first) =
            questions.ask(&format!("{with}\nSELECT {} {from} LIMIT {SHOWN}", select.join(", ")))
        else {
            continue;
        };
        if first.rows.is_empty() {
            continue;
        }
        let Some(counts) = questions.ask(&format!("{with}\nSELECT {} {from}", counts(subject, &compared)))
        else {
            continue;
        };
        let rows = counts.count(0, 0);
        let examples: Vec<(String, Option<String>)> = first
            .rows
            .into_iter()
            .map(|mut row| {
                let value = row.pop().flatten();
                let key: Vec<String> = row.into_iter().map(Option::unwrap_or_default).collect();
                (key.join(", "), value)
            })
            .collect();
        let by = by(&compared, rows, (counts.count(0, 1), counts.count(0, 2)));
        all.push(NearMiss { condition: text.to_owned(), by, rows, examples });
    }
    all
}

/// How many rows are kept out, and how many of them by letter case and by blanks.
fn counts(subject: Subject<'_>, compared: &Compared) -> String {
    let column = subject.column(compared.column).unwrap_or_default();
    let language = subject.step.language;
    if compared.negative {
        return "count(*), 0, 0".to_owned();
    }
    // Byte for byte, whatever the collation is.
    let exact = |text: &str| match language {
        Language::Sqlite => format!("{text} COLLATE BINARY"),
        Language::Postgres => format!("{text} COLLATE \"C\""),
        Language::Mysql => format!("BINARY {text}"),
    };
    let trimmed: Vec<String> =
        compared.texts.iter().map(|t| exact(&language.text_literal(t.trim()))).collect();
    let blanks = if compared.texts.iter().any(|t| t.trim() != t) {
        "count(*)".to_owned()
    } else {
        format!("count(CASE WHEN length({column}) <> length(trim({column})) THEN 1 END)")
    };
    format!(
        "count(*), count(CASE WHEN {} NOT IN ({}) THEN 1 END), {blanks}",
        exact(&format!("trim({column})")),
        trimmed.join(", ")
    )
}

/// What keeps the rows out, all of them.
fn by(compared: &Compared, rows: u64, (case, blanks): (u64, u64)) -> String {
    if compared.negative {
        return "NULL".to_owned();
    }
    match (case, blanks) {
        (0, _) => "blanks",
        (n, 0) if n == rows => "letter case",
        _ => "letter case or blanks",
    }
    .to_owned()
}

fn compared(subject: Subject<'_>, condition: Slice) -> Option<Compared> {
    let tokens = subject.step.words(condition);
    let mut rest = tokens.as_slice();
    let owner = subject.step.table.visible();
    if let [name, dot, ..] = rest
        && dot.is(&Token::Period)
    {
        name.name().filter(|n| n.eq_ignore_ascii_case(&owner.text))?;
        rest = rest.get(2..)?;
    }
    let (first, rest) = rest.split_first()?;
    let bare = matches!(&first.token.token, Token::Word(_));
    let column = subject.target.position(first.name().filter(|_| bare)?)?;
    let of = class(&subject.target.columns.get(column)?.declared);
    let texts_fit = of == Class::Text || (of == Class::Other && subject.step.language == Language::Sqlite);
    let nullable = !subject.target.columns.get(column)?.not_null;
    let text = |t: &crate::text::Tok| match &t.token.token {
        Token::SingleQuotedString(text) => Some(text.clone()),
        Token::DoubleQuotedString(text) if subject.step.language == Language::Mysql => Some(text.clone()),
        _ => None,
    };
    let negative = |texts: Vec<String>| nullable.then_some(Compared { column, texts, negative: true });
    match rest {
        [sign, value] if sign.is(&Token::Eq) || sign.is(&Token::DoubleEq) => {
            let texts = vec![text(value).filter(|_| texts_fit)?];
            Some(Compared { column, texts, negative: false })
        }
        [sign, ..] if sign.is(&Token::Neq) => negative(Vec::new()),
        [not, word, ..]
            if not.is_word("not") && word.is_any(&["in", "like", "ilike", "glob", "regexp", "rlike"]) =>
        {
            negative(Vec::new())
        }
        [word, open, items @ .., close]
            if word.is_word("in") && open.is(&Token::LParen) && close.is(&Token::RParen) =>
        {
            let texts: Option<Vec<String>> =
                items.iter().filter(|t| !t.is(&Token::Comma)).map(|t| text(t)).collect();
            Some(Compared { column, texts: texts.filter(|t| texts_fit && !t.is_empty())?, negative: false })
        }
        _ => None,
    }
}
