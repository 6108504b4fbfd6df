//! Matched rows that are different in kind from the others, when another count is expected: NULL, another spelling,
//! another value; with the filter that leaves them out.

use marktwice_core::study::{KindOffer, Wish};

use super::{Questions, Subject, matched};
use crate::dialect::classes::{Class, class};
use crate::dialect::language::Language;

/// Values of one column that are looked at.
const VALUES: usize = 12;

pub(super) fn kinds<E>(
    subject: Subject<'_>,
    wish: &Wish,
    questions: &mut Questions<'_, '_, E>,
) -> Vec<KindOffer> {
    let Some(expected) = wish.expected else { return Vec::new() };
    if subject.step.sources.is_some() || subject.step.tail.is_some() || wish.matched < 2 {
        return Vec::new();
    }
    let language = subject.step.language;
    let mut all = Vec::new();
    let mut offer = |what: String, rows: u64, condition: String| {
        let fits = expected.met(wish.matched.saturating_sub(rows), wish.total);
        if rows > 0 && rows < wish.matched {
            all.push(KindOffer { what, rows, filter: condition, fits });
        }
    };
    for at in subject.named(true) {
        let (Some(column), Some(about)) = (subject.column(at), subject.target.columns.get(at)) else {
            continue;
        };
        let name = language.name(&about.name);
        if !about.not_null
            && let Some(answer) =
                questions.ask(&matched(subject.step, &format!("count(*) - count({column})")))
        {
            offer(format!("{} is NULL", about.name), answer.count(0, 0), format!("{name} IS NOT NULL"));
        }
        if subject.target.key.columns.contains(&at)
            || !matches!(class(&about.declared), Class::Text | Class::Other)
        {
            continue;
        }
        let exact = match language {
            Language::Sqlite => format!("{column} COLLATE BINARY"),
            Language::Postgres => column.clone(),
            Language::Mysql => format!("BINARY {column}"),
        };
        let query = matched(subject.step, &format!("min({column}) AS marktwice_v, count(*) AS marktwice_n"));
        let sql = format!("{query}\nGROUP BY {exact} ORDER BY marktwice_n DESC LIMIT {VALUES}");
        let Some(answer) = questions.ask(&sql) else { continue };
        if answer.rows.len() < 2 || answer.rows.len() >= VALUES {
            continue;
        }
        let first = answer.text(0, 0).unwrap_or("").to_owned();
        for row in 1..answer.rows.len() {
            let Some(value) = answer.text(row, 0) else { continue };
            let literal = language.text_literal(value);
            let spelling = value.trim().to_lowercase() == first.trim().to_lowercase();
            let differs = match language {
                // Rows without a value stay.
                Language::Sqlite if spelling => format!("{name} IS NOT ({literal} COLLATE BINARY)"),
                Language::Mysql if spelling => language.differs(&format!("BINARY {name}"), &literal),
                _ => language.differs(&name, &literal),
            };
            let what = if spelling {
                format!("{} is written {literal}, not {}", about.name, language.text_literal(&first))
            } else {
                format!("{} is {literal}", about.name)
            };
            offer(what, answer.count(row, 1), differs);
        }
    }
    // Other values only help where they explain the count; NULL and spellings are of interest by themselves.
    all.retain(|o| o.fits || o.what.contains(" is written ") || o.what.ends_with(" is NULL"));
    all.sort_by_key(|o| !o.fits);
    all.truncate(4);
    // So far the filters are conditions; the engine is asked what each leaves.
    all.into_iter()
        .filter_map(|offer| {
            let filter = subject.leaving(&offer.filter, wish.matched - offer.rows, questions)?;
            Some(KindOffer { filter, ..offer })
        })
        .collect()
}
