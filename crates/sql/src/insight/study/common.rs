//! What some rows have in common and the others have not: conditions of one or two columns, each counted by the engine.

use marktwice_core::Value;
use marktwice_core::study::Alike;
use marktwice_core::value::is_day;

use super::{Questions, Subject};
use crate::dialect::classes::{Class, class};

/// Conditions that are offered.
const OFFERED: usize = 3;
/// Conditions that are tried in pairs.
const PAIRED: usize = 10;
/// Different values that are named in one condition.
const NAMED: usize = 4;
/// The longest text that is named.
const LONGEST: usize = 60;
/// The shortest beginning or end of texts that is offered.
const SHORTEST: usize = 3;
/// Other rows that are named.
const OTHERS: usize = 3;

/// A condition that holds for all of the rows.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Term {
    column: usize,
    text: String,
    /// How plain it is; the plainest is 0.
    weight: u8,
    /// Other rows for which it holds.
    others: u64,
}

pub(super) fn common<E>(
    subject: Subject<'_>,
    alike: &[Vec<Value>],
    questions: &mut Questions<'_, '_, E>,
) -> (Vec<Alike>, Option<String>) {
    let step = subject.step;
    let rows = alike.len() as u64;
    let Some(filter) = step.filter.as_ref().map(|f| format!("({})", step.text(f.slice).trim())) else {
        return (Vec::new(), None);
    };
    let mut unasked: Vec<&str> = Vec::new();
    let from = step.text(step.table.slice);
    let counted = |condition: &str| format!("count(CASE WHEN {condition} THEN 1 END)");
    let mut terms: Vec<Term> = Vec::new();
    for at in (0..subject.target.columns.len()).filter(|at| !subject.target.key.columns.contains(at)) {
        let all = candidates(subject, at, alike);
        if all.is_empty() {
            continue;
        }
        let counts = all
            .iter()
            .flat_map(|term| [counted(&term.text), counted(&format!("{} AND {filter}", term.text))])
            .collect::<Vec<_>>();
        let sql = format!("SELECT count(*), {} FROM {from}", counts.join(", "));
        let Some(answer) = questions.try_ask(&sql) else {
            unasked.extend(subject.target.columns.get(at).map(|c| c.name.as_str()));
            continue;
        };
        let every = answer.count(0, 0);
        for (nth, term) in all.into_iter().enumerate() {
            let (hold, among) = (answer.count(0, 1 + nth * 2), answer.count(0, 2 + nth * 2));
            if among == rows && (hold < every || every == rows) {
                terms.push(Term { others: hold - rows, ..term });
            }
        }
    }
    terms.sort_by_key(|term| (term.others, term.weight, term.column));
    let mut offers: Vec<(u64, u8, String)> =
        terms.iter().map(|t| (t.others, t.weight, t.text.clone())).collect();
    let pairs = pairs(&terms);
    if !pairs.is_empty() {
        let texts: Vec<String> = pairs.iter().map(|(a, b)| format!("{} AND {}", a.text, b.text)).collect();
        let counts: Vec<String> = texts.iter().map(|text| counted(text)).collect();
        let answer = questions.try_ask(&format!("SELECT {} FROM {from}", counts.join(", ")));
        if answer.is_none() {
            unasked.push("pairs of columns");
        }
        for (nth, ((a, b), text)) in pairs.iter().zip(texts).enumerate() {
            let hold = answer.as_ref().map_or(0, |answer| answer.count(0, nth));
            if let Some(others) = hold.checked_sub(rows).filter(|n| *n < a.others.min(b.others)) {
                offers.push((others, 10 + a.weight + b.weight, text));
            }
        }
    }
    offers.sort();
    if offers.first().is_some_and(|(others, ..)| *others == 0) {
        offers.retain(|(others, ..)| *others == 0);
    }
    let mut told = Vec::new();
    for (others, _, condition) in offers {
        let whole = format!("WHERE {condition}");
        let so = subject.fitting(&whole, questions) == Some(rows + others)
            && subject.fitting(&format!("{whole} AND {filter}"), questions) == Some(rows);
        if so {
            let examples = examples(subject, &format!("{condition} AND NOT {filter}"), others, questions);
            told.push(Alike { condition, others, examples });
        }
        if told.len() == OFFERED {
            break;
        }
    }
    let skipped = (!unasked.is_empty()).then(|| {
        format!("not looked at: {} (cannot be compared, or not answered in time)", unasked.join(", "))
    });
    (told, skipped)
}

/// Conditions that together may hold for fewer rows than each.
fn pairs(terms: &[Term]) -> Vec<(&Term, &Term)> {
    let mut tried: Vec<&Term> = Vec::new();
    for term in terms.iter().filter(|t| t.others > 0) {
        if tried.len() < PAIRED && tried.iter().filter(|t| t.column == term.column).count() < 2 {
            tried.push(term);
        }
    }
    let firsts = tried.iter().enumerate();
    firsts
        .flat_map(|(at, first)| tried.iter().skip(at + 1).map(move |second| (*first, *second)))
        .filter(|(first, second)| first.column != second.column)
        .map(|(first, second)| if first.column < second.column { (first, second) } else { (second, first) })
        .collect()
}

/// The first other rows that a condition holds for, by key.
fn examples<E>(
    subject: Subject<'_>,
    condition: &str,
    others: u64,
    questions: &mut Questions<'_, '_, E>,
) -> Vec<String> {
    let key = subject.key();
    if others == 0 || key.is_empty() {
        return Vec::new();
    }
    let (key, from) = (key.join(", "), subject.step.text(subject.step.table.slice));
    let sql = format!("SELECT {key} FROM {from} WHERE {condition} ORDER BY {key} LIMIT {OTHERS}");
    let rows = questions.try_ask(&sql).map(|answer| answer.rows).unwrap_or_default();
    let text = |row: Vec<Option<String>>| row.into_iter().map(Option::unwrap_or_default).collect::<Vec<_>>();
    rows.into_iter().map(|row| text(row).join(", ")).collect()
}

/// Conditions on one column that seem to hold for all of the rows; the engine is asked whether they do.
fn candidates(subject: Subject<'_>, at: usize, rows: &[Vec<Value>]) -> Vec<Term> {
    let (language, Some(about)) = (subject.step.language, subject.target.columns.get(at)) else {
        return Vec::new();
    };
    let name = language.name(&about.name);
    let values: Vec<&Value> = rows.iter().filter_map(|row| row.get(at)).collect();
    let nulls = values.iter().filter(|v| v.is_null()).count();
    let mut all = Vec::new();
    let mut offer = |text: String, weight: u8| {
        all.push(Term { column: at, text: format!("{name} {text}"), weight, others: 0 })
    };
    if nulls > 0 {
        if nulls == values.len() {
            offer("IS NULL".to_owned(), 0);
        }
        return all;
    }
    let mut different: Vec<&Value> = Vec::new();
    for value in &values {
        if !different.contains(value) {
            different.push(value);
        }
    }
    let long = |v: &&&Value| matches!(v, Value::Text(text) if text.chars().count() > LONGEST);
    let literals: Option<Vec<String>> = different.iter().map(|v| language.literal(v)).collect();
    if let Some(literals) = literals.filter(|_| !different.iter().any(|v| long(&v))) {
        let few = literals.len() <= NAMED && literals.len() < values.len();
        match (literals.as_slice(), class(&about.declared)) {
            ([one], _) => offer(format!("= {one}"), 0),
            (several, _) if few => offer(format!("IN ({})", several.join(", ")), 1),
            _ => {}
        }
        if literals.len() > 1 {
            if let Some((least, greatest)) = ends(&different, class(&about.declared)) {
                let of = |value: &Value| language.literal(value).unwrap_or_default();
                let (least, greatest) = (of(least), of(greatest));
                offer(format!(">= {least}"), 2);
                offer(format!("<= {greatest}"), 2);
                offer(format!("BETWEEN {least} AND {greatest}"), 3);
            }
            let texts = !matches!(class(&about.declared), Class::Moment | Class::Number);
            if let Some((beginning, end)) = shared(&different).filter(|_| texts) {
                if beginning.chars().count() >= SHORTEST {
                    offer(format!("LIKE {}", language.text_literal(&format!("{beginning}%"))), 2);
                }
                if end.chars().count() >= SHORTEST {
                    offer(format!("LIKE {}", language.text_literal(&format!("%{end}"))), 2);
                }
            }
        }
    }
    if !about.not_null {
        offer("IS NOT NULL".to_owned(), 4);
    }
    all
}

/// The least and the greatest of values that have an order.
fn ends<'v>(values: &[&'v Value], of: Class) -> Option<(&'v Value, &'v Value)> {
    let mut sorted = values.to_vec();
    if sorted.iter().all(|v| v.roughly().is_some()) {
        sorted.sort_by(|a, b| a.roughly().unwrap_or(0.0).total_cmp(&b.roughly().unwrap_or(0.0)));
    } else if of == Class::Moment || sorted.iter().all(|v| matches!(v, Value::Text(t) if is_day(t))) {
        let text = |value: &Value| match value {
            Value::Text(text) => text.clone(),
            _ => String::new().into(),
        };
        sorted.sort_by_key(|v| text(v));
    } else {
        return None;
    }
    Some((sorted.first()?, sorted.last()?))
}

/// What texts begin and end with, all of them, where a pattern can say it.
fn shared(values: &[&Value]) -> Option<(String, String)> {
    let texts: Option<Vec<&str>> = values
        .iter()
        .map(|v| match v {
            Value::Text(text) => Some(text.as_str()),
            _ => None,
        })
        .collect();
    let texts = texts?;
    let (first, rest) = texts.split_first()?;
    let (mut beginning, mut end): (Vec<char>, Vec<char>) =
        (first.chars().collect(), first.chars().rev().collect());
    for text in rest {
        let same = |part: &[char], other: &mut dyn Iterator<Item = char>| {
            part.iter().zip(other).take_while(|(a, b)| **a == *b).count()
        };
        beginning.truncate(same(&beginning, &mut text.chars()));
        end.truncate(same(&end, &mut text.chars().rev()));
    }
    let plain = |part: String| if part.contains(['%', '_', '\\']) { String::new() } else { part };
    Some((plain(beginning.into_iter().collect()), plain(end.into_iter().rev().collect())))
}
