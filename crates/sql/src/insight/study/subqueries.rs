//! Subqueries that give no value, several values, or NULL where that matters: asked for the rows that match.

use marktwice_core::study::Wish;
use marktwice_core::words;
use marktwice_core::{Code, Finding};
use sqlparser::tokenizer::Token;

use super::{Questions, Subject, matched};
use crate::dialect::language::Language;
use crate::statement::slicing::subqueries;
use crate::statement::step::Step;
use crate::text::slices::Slice;

/// Functions that make one value of many rows.
const AGGREGATES: &[&str] = &[
    "count",
    "sum",
    "min",
    "max",
    "avg",
    "total",
    "group_concat",
    "string_agg",
    "array_agg",
    "json_agg",
    "jsonb_agg",
    "json_group_array",
    "json_arrayagg",
    "bool_and",
    "bool_or",
    "every",
    "bit_and",
    "bit_or",
    "stddev",
    "variance",
];

/// A plain subquery of one value: `(SELECT item FROM …)`.
struct Scalar {
    item: Slice,
    /// From FROM to before ORDER BY and LIMIT.
    rest: Slice,
    ordered: bool,
    limited: bool,
    aggregate: bool,
}

pub(super) fn look<E>(
    subject: Subject<'_>,
    wish: &Wish,
    questions: &mut Questions<'_, '_, E>,
) -> Vec<Finding> {
    let step = subject.step;
    let mut found = Vec::new();
    if wish.matched > 0 {
        for assignment in &step.assignments {
            for part in assignment.parts.iter().flatten() {
                for query in subqueries(step, *part) {
                    found.extend(assigned(subject, assignment.columns.first(), *part, query, questions));
                }
            }
        }
    }
    if let Some(filter) = &step.filter {
        for query in subqueries(step, filter.slice) {
            found.extend(not_in(subject, query, questions));
            found.extend(compared(subject, filter.slice, query, questions));
        }
    }
    found
}

fn assigned<E>(
    subject: Subject<'_>,
    column: Option<&crate::statement::step::Name>,
    value: Slice,
    query: Slice,
    questions: &mut Questions<'_, '_, E>,
) -> Vec<Finding> {
    let step = subject.step;
    let Some(scalar) = scalar(step, query) else { return Vec::new() };
    let (item, rest) = (step.text(scalar.item), step.text(scalar.rest));
    let number = |what: &str| format!("(SELECT {what}\n{rest}\n)");
    // NULL is a value of its own here.
    let different = if scalar.aggregate {
        "count(*)".to_owned()
    } else {
        format!("count(DISTINCT {item}) + CASE WHEN count(*) > count({item}) THEN 1 ELSE 0 END")
    };
    let rows = |condition: String| format!("count(CASE WHEN {condition} THEN 1 END)");
    let select = [rows(format!("{} = 0", number("count(*)"))), rows(format!("{} > 1", number(&different)))];
    let Some(answer) = questions.try_ask(&matched(step, &select.join(", "))) else { return Vec::new() };
    let column = column.map_or("", |c| c.text.as_str());
    let of = words::rows;
    let mut found = Vec::new();
    let (none, several) = (answer.count(0, 0), answer.count(0, 1));
    if none > 0 && query == value {
        let count = scalar.aggregate && item.to_ascii_lowercase().starts_with("count");
        if !count {
            let message = format!("for {} the subquery finds nothing: {column} becomes NULL", of(none));
            found.push(Finding::new(Code::SubqueryNone, message).at(step.place(query)));
        }
    }
    if several > 0 && !scalar.aggregate {
        if !scalar.limited {
            let message =
                format!("for {} the subquery finds several different values for {column}", of(several));
            found.push(Finding::new(Code::ManyValues, message).at(step.place(query)));
        } else if !scalar.ordered {
            let message = format!(
                "for {} LIMIT hides that there are several different values for {column}",
                of(several)
            );
            found.push(Finding::new(Code::HiddenValues, message).at(step.place(query)));
        }
    }
    found
}

/// `column = (SELECT …)` in the filter, where the engine silently takes the first of several values.
fn compared<E>(
    subject: Subject<'_>,
    filter: Slice,
    query: Slice,
    questions: &mut Questions<'_, '_, E>,
) -> Option<Finding> {
    let step = subject.step;
    if step.language != Language::Sqlite {
        return None;
    }
    let tokens = step.words(filter);
    let open = tokens.iter().position(|t| t.slice.start == query.start)?;
    let sign = open.checked_sub(1).and_then(|at| tokens.get(at))?;
    if !matches!(
        sign.token.token,
        Token::Eq | Token::DoubleEq | Token::Neq | Token::Lt | Token::LtEq | Token::Gt | Token::GtEq
    ) {
        return None;
    }
    let scalar = scalar(step, query).filter(|s| !s.aggregate && !s.limited)?;
    let (item, rest) = (step.text(scalar.item), step.text(scalar.rest));
    let with = step.with.map_or("", |w| step.text(w));
    let sql = format!(
        "{with}\nSELECT count(*) FROM {} WHERE (SELECT count(DISTINCT {item})\n{rest}\n) > 1",
        step.from_list()
    );
    let several = questions.try_ask(&sql)?.count(0, 0);
    (several > 0).then(|| {
        let message = "this subquery finds several different values, and only the first is compared";
        Finding::new(Code::ManyValues, message)
            .at(step.place(query))
            .hint("write IN, or say which one is meant")
    })
}

/// `NOT IN (SELECT …)` whose query yields NULL.
fn not_in<E>(subject: Subject<'_>, query: Slice, questions: &mut Questions<'_, '_, E>) -> Option<Finding> {
    let step = subject.step;
    let filter = step.filter.as_ref()?;
    let tokens = step.words(filter.slice);
    let open = tokens.iter().position(|t| t.slice.start == query.start)?;
    let word = |back: usize, word: &str| {
        open.checked_sub(back).and_then(|at| tokens.get(at)).is_some_and(|t| t.is_word(word))
    };
    if !(word(1, "in") && word(2, "not")) {
        return None;
    }
    let with = step.with.map_or("WITH".to_owned(), |w| format!("{},", step.text(w)));
    let sql = format!(
        "{with} marktwice_q(marktwice_c) AS {} SELECT count(*) FROM marktwice_q WHERE marktwice_c IS NULL",
        step.text(query)
    );
    // One that depends on the row cannot be asked by itself.
    let nulls = questions.try_ask(&sql)?.count(0, 0);
    (nulls > 0).then(|| {
        let message = "the subquery behind NOT IN yields NULL, so the condition is never true";
        Finding::new(Code::NotInNull, message).at(step.place(query))
    })
}

fn scalar(step: &Step, query: Slice) -> Option<Scalar> {
    let tokens = step.words(query);
    let inner = tokens.get(1..tokens.len().checked_sub(1)?)?;
    let (select, rest) = inner.split_first()?;
    if !select.is_word("select") || rest.first()?.is_any(&["distinct", "all"]) {
        return None;
    }
    let outside: Vec<(usize, &crate::text::Tok)> = crate::statement::slicing::at_depth_0(inner, 0).collect();
    let word = |words: &[&str]| outside.iter().find(|(_, t)| t.is_any(words)).map(|(at, _)| *at);
    if word(&["union", "intersect", "except", "group", "having", "window", "offset", "fetch", "for"])
        .is_some()
    {
        return None;
    }
    let from = word(&["from"])?;
    let order = word(&["order"]);
    let limit = word(&["limit"]);
    let end = order.or(limit).unwrap_or(inner.len());
    let item = inner.get(1..from)?;
    let commas =
        crate::statement::slicing::at_depth_0(item, 0).any(|(_, t)| t.is(&Token::Comma) || t.is(&Token::Mul));
    if commas && item.len() == 1 {
        return None;
    }
    // An alias of the item is of no use inside an aggregate.
    let item = match item {
        [expr @ .., word, _] if word.is_word("as") => expr,
        other => other,
    };
    let aggregate = item
        .windows(2)
        .any(|pair| matches!(pair, [name, open] if name.is_any(AGGREGATES) && open.is(&Token::LParen)));
    Some(Scalar {
        item: item.first()?.slice.to(item.last()?.slice),
        rest: inner.get(from)?.slice.to(inner.get(end.checked_sub(1)?)?.slice),
        ordered: order.is_some(),
        limited: limit.is_some(),
        aggregate,
    })
}
