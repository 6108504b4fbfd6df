//! `target-again`: the target is joined to itself, and nothing links the two.

use marktwice_core::{Code, Finding};
use sqlparser::tokenizer::Token;

use super::Seen;
use crate::step::Step;

/// Looks for the target's own table among the joined ones, without a chain of comparisons from the one to the other:
/// every row of the target is then matched as soon as one row of the other is.
pub fn look(seen: Seen<'_>) -> Vec<Finding> {
    let step = seen.step;
    let Some(sources) = &step.sources else { return Vec::new() };
    let own = step.table.visible().text.to_ascii_lowercase();
    let links = links(step);
    let again = sources.tables.iter().filter(|t| {
        t.slice != step.table.slice
            && t.table.as_ref().is_some_and(|name| name.text.eq_ignore_ascii_case(&seen.target.table))
            && t.visible().is_some_and(|name| !reaches(&links, &own, &name.text.to_ascii_lowercase()))
    });
    again
        .map(|t| {
            let name = t.visible().map_or("", |n| n.text.as_str());
            Finding::new(
                Code::TargetAgain,
                format!("{} is joined to itself as {name}, and nothing links the two", seen.target.table),
            )
            .at(step.place(t.slice))
            .hint(match seen.target.key.names.as_slice() {
                [] => format!("compare a column of {own} with one of {name}"),
                keys => {
                    let terms: Vec<String> = keys.iter().map(|k| format!("{own}.{k} = {name}.{k}")).collect();
                    format!("leave it out, or link it: {}", terms.join(" AND "))
                }
            })
        })
        .collect()
}

/// Pairs of names whose columns are compared with each other, in lower case.
fn links(step: &Step) -> Vec<(String, String)> {
    let tokens = step.words(step.statement);
    let owner = |at: usize| -> Option<String> {
        let [name, dot, column] = tokens.get(at..at + 3)? else { return None };
        (dot.is(&Token::Period) && column.name().is_some())
            .then(|| name.name().map(str::to_ascii_lowercase))?
    };
    let mut all: Vec<(String, String)> = (0..tokens.len())
        .filter_map(|at| {
            let left = owner(at)?;
            let sign = tokens.get(at + 3)?;
            let compares = matches!(sign.token.token, Token::Eq | Token::DoubleEq | Token::Spaceship)
                || sign.is_word("is");
            // The right side may stand in parentheses or behind NOT DISTINCT FROM.
            (compares.then(|| (at + 4..at + 9).find_map(owner)).flatten()).map(|right| (left, right))
        })
        .collect();
    // USING and NATURAL link all that is joined.
    if tokens.iter().any(|t| t.is_word("natural"))
        || tokens.windows(2).any(|w| matches!(w, [u, p] if u.is_word("using") && p.is(&Token::LParen)))
    {
        let names: Vec<String> = step
            .sources
            .iter()
            .flat_map(|s| &s.tables)
            .filter_map(|t| Some(t.visible()?.text.to_ascii_lowercase()))
            .collect();
        all.extend(names.windows(2).filter_map(|w| match w {
            [a, b] => Some((a.clone(), b.clone())),
            _ => None,
        }));
    }
    all
}

fn reaches(links: &[(String, String)], from: &str, to: &str) -> bool {
    let mut seen = vec![from];
    let mut at = 0;
    while let Some(&name) = seen.get(at) {
        at += 1;
        for (a, b) in links {
            for (one, other) in [(a, b), (b, a)] {
                if one == name && !seen.contains(&other.as_str()) {
                    seen.push(other);
                }
            }
        }
    }
    seen.contains(&to)
}
