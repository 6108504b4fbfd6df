//! Rows of a join without a partner: of the target, rows that no source row is joined to, and source rows that reach no row of
//! the target. Asked only where the join's conditions can be told apart, and told only where the numbers agree with the
//! rows that the statement matches.

use marktwice_core::sheet::LINE;
use marktwice_core::study::{Partnerless, Side, Wish};
use sqlparser::tokenizer::Token;

use super::{Questions, Subject};
use crate::statement::slicing::{own_columns, subqueries};
use crate::statement::step::{Source, Step};
use crate::statement::terms::{terms, terms_of};
use crate::text::slices::Slice;
use crate::text::{Tok, in_parentheses};

/// Rows shown of each side.
const SHOWN: usize = 3;
/// Columns that such a row is named by.
const COLUMNS: usize = 4;

/// A join, taken apart.
#[derive(Debug, Default, PartialEq, Eq)]
struct Joined {
    /// The target, as it can stand behind FROM.
    own: String,
    /// All that is joined to it, likewise.
    others: String,
    /// Where it is one: the name under which expressions see it, and its table.
    other: Option<(String, String)>,
    /// Conditions that stand behind ON.
    on: Vec<Slice>,
    /// Columns of USING.
    using: Vec<String>,
    /// Whether rows of the target without a partner are matched all the same.
    outer: bool,
}

/// Conditions by what they ask of.
#[derive(Debug, Default, PartialEq, Eq)]
struct Sides {
    own: Vec<String>,
    other: Vec<String>,
    both: Vec<String>,
    /// Columns of the source that are compared with the target's, as they are written.
    columns: Vec<String>,
}

pub(super) fn partners<E>(
    subject: Subject<'_>,
    wish: &Wish,
    questions: &mut Questions<'_, '_, E>,
) -> Vec<Partnerless> {
    let step = subject.step;
    let Some(joined) = joined(step).filter(|_| step.tail.is_none()) else { return Vec::new() };
    let sides = sides(subject, &joined);
    // In an outer join a condition on the source is asked of rows without a partner too.
    if sides.both.is_empty() || (joined.outer && !sides.other.is_empty()) {
        return Vec::new();
    }
    let with = step.with.map_or("", |w| step.text(w));
    let all = |conditions: &[&[String]]| {
        let terms: Vec<&str> = conditions.iter().flat_map(|c| c.iter()).map(String::as_str).collect();
        if terms.is_empty() { String::new() } else { format!("\nWHERE {}", terms.join(" AND ")) }
    };
    let alone = |from: &str, conditions: &[&[String]]| {
        vec![format!("NOT EXISTS (SELECT 1 FROM {from}{})", all(conditions))]
    };
    let mut told = Vec::new();
    let mut tell = |side: Side, from: &str, (own, without): (&[String], &[String]), names: &[String]| {
        let select = format!("count(*), count(CASE WHEN {} THEN 1 END)", without.join(" AND "));
        let answer = questions.ask(&format!("{with}\nSELECT {select}\nFROM {from}{}", all(&[own])))?;
        let (of, rows) = (answer.count(0, 0), answer.count(0, 1));
        let order: Vec<String> = (1..=names.len()).map(|n| n.to_string()).collect();
        let first = format!(
            "{with}\nSELECT {}\nFROM {from}{}\nORDER BY {} LIMIT {SHOWN}",
            names.join(", "),
            all(&[own, without]),
            order.join(", ")
        );
        let first = (rows > 0 && !names.is_empty()).then(|| questions.try_ask(&first)).flatten();
        let (columns, examples) = first.map_or_else(Default::default, |f| (f.columns, f.rows));
        let other = joined.other.as_ref().map(|(_, table)| table.clone());
        let narrowed = !own.is_empty();
        told.push(Partnerless {
            side,
            source: other,
            rows,
            of,
            narrowed,
            kept: joined.outer,
            columns,
            examples,
        });
        Some((of, rows))
    };
    let without = alone(&joined.others, &[&sides.other, &sides.both]);
    let key: Vec<String> = subject.key().into_iter().take(COLUMNS).collect();
    let counted = tell(Side::Target, &joined.own, (&sides.own, &without), &key);
    let agree = counted.is_some_and(|(of, rows)| {
        let matched = if joined.outer { of } else { of - rows };
        matched == wish.matched
    });
    if !agree {
        return Vec::new();
    }
    if joined.other.is_some() {
        let without = alone(&joined.own, &[&sides.own, &sides.both]);
        let numbered =
            |(_, table): &&(String, String)| wish.numbered.iter().any(|s| s.eq_ignore_ascii_case(table));
        let line = joined.other.as_ref().filter(numbered);
        let line = line.map(|(visible, _)| format!("{}.{LINE}", step.language.quoted(visible)));
        let columns: Vec<String> = line.into_iter().chain(sides.columns.iter().cloned()).collect();
        tell(Side::Source, &joined.others, (&sides.other, &without), &columns);
    }
    told
}

/// The join of a step; `None` where it is none, or where it is not plainly one of rows that find each other.
fn joined(step: &Step) -> Option<Joined> {
    let sources = step.sources.as_ref()?;
    let named = |source: &Source| {
        let visible = source.visible()?.text.clone();
        let table = source.table.as_ref().map_or_else(|| visible.clone(), |table| table.text.clone());
        Some((visible, table))
    };
    if !sources.with_target {
        return Some(Joined {
            own: step.text(step.table.slice).to_owned(),
            others: step.text(sources.slice).to_owned(),
            other: match sources.tables.as_slice() {
                [one] => named(one),
                _ => None,
            },
            ..Joined::default()
        });
    }
    let visible = &step.table.visible().text;
    let is_own = |s: &&Source| s.visible().is_some_and(|name| name.text.eq_ignore_ascii_case(visible));
    let at = sources.tables.iter().position(|s| is_own(&s))?;
    let others: Vec<_> =
        sources.tables.iter().enumerate().filter(|(nth, _)| *nth != at).map(|(_, s)| s).collect();
    let mut found = Joined {
        own: step.text(sources.tables.get(at)?.slice).to_owned(),
        others: others.iter().map(|s| step.text(s.slice)).collect::<Vec<_>>().join(", "),
        other: match others.as_slice() {
            [one] => named(one),
            _ => None,
        },
        ..Joined::default()
    };
    // What stands behind each table of the list: the condition of its join, and how the next one is joined.
    for (nth, source) in sources.tables.iter().enumerate() {
        let end = sources.tables.get(nth + 1).map_or(sources.slice.end, |next| next.slice.start);
        let between = step.words(Slice { start: source.slice.end, end });
        let joints = ["join", "inner", "cross", "left", "right", "outer", "straight_join"];
        let is_joint = |t: &&Tok| t.is(&Token::Comma) || t.is_any(&joints);
        let from = between.iter().rposition(|t| !is_joint(t)).map_or(0, |last| last + 1);
        let (condition, joint) = between.split_at(from);
        if joint.iter().any(|t| t.is_any(&["left", "right"])) {
            let left = joint.iter().any(|t| t.is_word("left"));
            found.outer = found.other.is_some() && left == (at == 0);
            found.other.as_ref()?;
        }
        match condition {
            [] => {}
            [on, rest @ ..] if on.is_word("on") && balanced(rest) => {
                found.on.extend(terms_of(step, rest.first()?.slice.to(rest.last()?.slice)));
            }
            [using, open, names @ .., close]
                if using.is_word("using") && open.is(&Token::LParen) && close.is(&Token::RParen) =>
            {
                found.using.extend(names.iter().filter_map(|t| t.name()).map(str::to_owned));
                found.other.as_ref()?;
            }
            _ => return None,
        }
    }
    Some(found)
}

fn balanced(tokens: &[&Tok]) -> bool {
    let mut depth = 0i32;
    let whole = tokens.iter().all(|t| {
        depth += i32::from(t.is(&Token::LParen)) - i32::from(t.is(&Token::RParen));
        depth >= 0
    });
    whole && depth == 0 && !tokens.is_empty()
}

/// Sorts all conditions by what they ask of. One that cannot be told is one of both: that asks no less.
fn sides(subject: Subject<'_>, joined: &Joined) -> Sides {
    let step = subject.step;
    let mut found = Sides::default();
    for slice in terms(step).into_iter().chain(joined.on.iter().copied()) {
        let wrapped = format!("(\n{}\n)", step.text(slice));
        match asks_of(subject, slice) {
            (true, false) => found.own.push(wrapped),
            (false, true) => found.other.push(wrapped),
            _ => {
                for column in columns_of(subject, joined, slice) {
                    if found.columns.len() < COLUMNS && !found.columns.contains(&column) {
                        found.columns.push(column);
                    }
                }
                found.both.push(wrapped);
            }
        }
    }
    if let Some((other, _)) = &joined.other {
        for name in &joined.using {
            let (name, other) = (step.language.quoted(name), step.language.quoted(other));
            found.both.push(in_parentheses(&format!("{}.{name} = {other}.{name}", subject.visible())));
            found.columns.push(format!("{other}.{name}"));
        }
    }
    found
}

/// Whether a condition asks something of the target, and of anything else.
fn asks_of(subject: Subject<'_>, slice: Slice) -> (bool, bool) {
    if !subqueries(subject.step, slice).is_empty() {
        return (true, true);
    }
    let own = own_columns(subject.step, subject.target, slice);
    (!own.is_empty(), !not_own(subject, slice).is_empty())
}

/// The columns of the source that a condition names, as they stand there.
fn columns_of(subject: Subject<'_>, joined: &Joined, slice: Slice) -> Vec<String> {
    let Some((visible, _)) = joined.other.as_ref().filter(|_| subqueries(subject.step, slice).is_empty())
    else {
        return Vec::new();
    };
    let named = not_own(subject, slice).into_iter();
    let named = named.filter(|(owner, _)| owner.as_ref().is_none_or(|o| o.eq_ignore_ascii_case(visible)));
    named.map(|(_, slice)| subject.step.text(slice).to_owned()).collect()
}

/// Columns that are not the target's: what stands before the point, where there is one, and where they stand.
fn not_own(subject: Subject<'_>, slice: Slice) -> Vec<(Option<String>, Slice)> {
    let step = subject.step;
    let visible = &step.table.visible().text;
    let tokens = step.words(slice);
    let named = tokens.iter().enumerate().filter_map(|(at, token)| {
        let name = token.name()?;
        let back = at.checked_sub(1).and_then(|back| tokens.get(back));
        if back.is_some_and(|t| t.is(&Token::Period) || t.is(&Token::DoubleColon) || t.is_word("as")) {
            return None;
        }
        match (tokens.get(at + 1), tokens.get(at + 2)) {
            (Some(point), Some(column)) if point.is(&Token::Period) => {
                let other = !name.eq_ignore_ascii_case(visible);
                other.then(|| (Some(name.to_owned()), token.slice.to(column.slice)))
            }
            (Some(open), _) if open.is(&Token::LParen) => None,
            _ => (is_name(token) && subject.target.position(name).is_none()).then_some((None, token.slice)),
        }
    });
    named.collect()
}

/// Words of conditions that name no column.
const GRAMMAR: &[&str] = &[
    "and",
    "or",
    "not",
    "xor",
    "in",
    "is",
    "null",
    "isnull",
    "notnull",
    "like",
    "ilike",
    "glob",
    "regexp",
    "rlike",
    "match",
    "similar",
    "to",
    "escape",
    "between",
    "symmetric",
    "case",
    "when",
    "then",
    "else",
    "end",
    "true",
    "false",
    "unknown",
    "distinct",
    "from",
    "collate",
    "any",
    "all",
    "some",
    "binary",
    "div",
    "mod",
    "interval",
    "at",
    "as",
];

/// Whether a word may name a column; one that does not is asked for in vain, and then nothing is told.
fn is_name(token: &Tok) -> bool {
    matches!(&token.token.token, Token::Word(w) if w.quote_style.is_some() || !token.is_any(GRAMMAR))
}
