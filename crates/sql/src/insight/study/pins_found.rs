//! What would pin the matched rows: a declared key, or columns that are unique in the data as it is.

use marktwice_core::Value;
use marktwice_core::study::{PinOffer, Wish};
use marktwice_core::table::KeyKind;

use super::{Questions, Subject};

/// Columns that are tried in pairs.
const CANDIDATES: usize = 8;
/// Offers from the data.
const OFFERS: usize = 2;
/// Matched rows that are named by key in one filter.
const NAMED: usize = 10;

pub(super) fn pins<E>(
    subject: Subject<'_>,
    wish: &Wish,
    questions: &mut Questions<'_, '_, E>,
) -> Vec<PinOffer> {
    let step = subject.step;
    if subject.pinned || step.sources.is_some() || wish.matched == 0 || step.filter.is_none() {
        return Vec::new();
    }
    let mut all: Vec<PinOffer> = declared(subject, wish).into_iter().collect();
    if wish.matched == 1 {
        all.extend(from_data(subject, wish, questions));
    }
    // Each is asked: it matches as many rows, and they are the same ones.
    all.retain(|offer| {
        let condition = offer.filter.trim_start_matches("WHERE ");
        subject.fitting(&offer.filter, questions) == Some(wish.matched)
            && subject.fitting(&subject.narrowed(&format!("({condition})")), questions) == Some(wish.matched)
    });
    all
}

fn declared(subject: Subject<'_>, wish: &Wish) -> Option<PinOffer> {
    let key = &subject.target.key;
    if wish.keys.is_empty() || wish.keys.len() > NAMED || key.kind == KeyKind::WholeRow {
        return None;
    }
    let filter = format!("WHERE {}", with_keys(subject, &wish.keys)?);
    Some(PinOffer { columns: key.names.clone(), declared: key.kind != KeyKind::RowIdentity, filter })
}

/// A condition that holds for the rows of these keys and no others.
fn with_keys(subject: Subject<'_>, keys: &[Vec<Value>]) -> Option<String> {
    let language = subject.step.language;
    let names: Vec<String> = subject.target.key.names.iter().map(|n| language.name(n)).collect();
    Some(match names.as_slice() {
        [] => return None,
        [one] => {
            let values: Vec<String> =
                keys.iter().map(|k| language.literal(k.first()?)).collect::<Option<_>>()?;
            match values.as_slice() {
                [value] => format!("{one} = {value}"),
                many => format!("{one} IN ({})", many.join(", ")),
            }
        }
        several => {
            let rows: Vec<String> = keys
                .iter()
                .map(|key| {
                    let terms: Vec<String> = several
                        .iter()
                        .zip(key)
                        .map(|(name, value)| Some(format!("{name} = {}", language.literal(value)?)))
                        .collect::<Option<_>>()?;
                    Some(terms.join(" AND "))
                })
                .collect::<Option<_>>()?;
            match rows.as_slice() {
                [one] => one.clone(),
                many => format!("({})", many.join(") OR (")),
            }
        }
    })
}

/// A condition that holds for all rows but those of these keys.
pub(super) fn without_keys(subject: Subject<'_>, keys: &[Vec<Value>]) -> Option<String> {
    let with = with_keys(subject, keys)?;
    let one = subject.target.key.names.len() == 1;
    Some(match keys {
        [_] if one => with.replacen(" = ", " <> ", 1),
        _ if one => with.replacen(" IN ", " NOT IN ", 1),
        _ => format!("NOT ({with})"),
    })
}

/// Columns, or pairs of them, whose values only one row has.
fn from_data<E>(subject: Subject<'_>, wish: &Wish, questions: &mut Questions<'_, '_, E>) -> Vec<PinOffer> {
    let language = subject.step.language;
    let filter = subject.named(false);
    let mut candidates: Vec<(usize, String)> = wish
        .example
        .iter()
        .enumerate()
        .filter(|(at, _)| !subject.target.key.columns.contains(at))
        .filter(|(_, value)| match value {
            Value::Text(text) => text.chars().count() <= 60,
            Value::Int(_) | Value::Decimal(_) => true,
            _ => false,
        })
        .filter_map(|(at, value)| Some((at, language.literal(value)?)))
        .collect();
    // What the filter names already comes first: that is how the row was thought of.
    candidates.sort_by_key(|(at, _)| (!filter.contains(at), *at));
    candidates.truncate(CANDIDATES);
    let mut sets: Vec<Vec<&(usize, String)>> = candidates.iter().map(|c| vec![c]).collect();
    for (at, first) in candidates.iter().enumerate() {
        sets.extend(candidates.iter().skip(at + 1).map(|second| vec![first, second]));
    }
    let Some(columns) = sets.iter().map(|set| subject_columns(subject, set)).collect::<Option<Vec<_>>>()
    else {
        return Vec::new();
    };
    if columns.is_empty() {
        return Vec::new();
    }
    let counts: Vec<String> = sets
        .iter()
        .zip(&columns)
        .map(|(set, names)| {
            let terms: Vec<String> =
                names.iter().zip(set).map(|(name, (_, literal))| format!("{name} = {literal}")).collect();
            format!("count(CASE WHEN {} THEN 1 END)", terms.join(" AND "))
        })
        .collect();
    let from = subject.step.text(subject.step.table.slice);
    let Some(answer) = questions.ask(&format!("SELECT {} FROM {from}", counts.join(", "))) else {
        return Vec::new();
    };
    let mut offers: Vec<PinOffer> = Vec::new();
    let mut alone: Vec<usize> = Vec::new();
    for (at, set) in sets.iter().enumerate() {
        if answer.count(0, at) != 1 || offers.len() >= OFFERS || set.iter().any(|(c, _)| alone.contains(c)) {
            continue;
        }
        let names = columns.get(at).map(|c| c.join(", ")).unwrap_or_default();
        let several = format!(
            "SELECT count(*) FROM (SELECT 1 AS marktwice_one FROM {from} GROUP BY {names} HAVING count(*) > 1 LIMIT 1) AS x"
        );
        let unique = questions.ask(&several).is_some_and(|a| a.count(0, 0) == 0);
        if !unique {
            continue;
        }
        if let [(only, _)] = set.as_slice() {
            alone.push(*only);
        }
        let bare: Vec<String> =
            set.iter().filter_map(|(c, _)| subject.target.columns.get(*c).map(|c| c.name.clone())).collect();
        let terms: Vec<String> = bare
            .iter()
            .zip(set)
            .map(|(name, (_, literal))| format!("{} = {literal}", language.name(name)))
            .collect();
        offers.push(PinOffer {
            columns: bare,
            declared: false,
            filter: format!("WHERE {}", terms.join(" AND ")),
        });
    }
    offers
}

fn subject_columns(subject: Subject<'_>, set: &[&(usize, String)]) -> Option<Vec<String>> {
    set.iter().map(|(at, _)| subject.column(*at)).collect()
}
