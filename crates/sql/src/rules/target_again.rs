//! `target-again`: the target is joined to itself, and nothing links the two.

use marktwice_core::{Code, Finding};
use sqlparser::tokenizer::Token;

use super::Facts;
use crate::statement::step::Step;

/// Looks for the target's own table among the joined ones, without a chain of comparisons from the one to the other:
/// every row of the target is then matched as soon as one row of the other is.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
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

/// Pairs of names whose columns one comparison brings together, in lower case.
fn links(step: &Step) -> Vec<(String, String)> {
    let ends = ["and", "or", "on", "where", "when", "then", "join", "having"];
    // In the list of tables a name by itself is a table, in the filter it is a whole row.
    let filter = step.filter.iter().map(|f| (f.slice, true));
    let conditions = filter.chain(step.sources.iter().map(|s| (s.slice, false)));
    let mut all: Vec<(String, String)> = Vec::new();
    let joined = step.sources.iter().flat_map(|s| &s.tables).filter_map(|t| t.visible());
    let known: Vec<&str> = joined.chain([step.table.visible()]).map(|name| name.text.as_str()).collect();
    for (slice, rows) in conditions {
        let tokens = step.words(slice);
        for run in tokens.split(|t| t.is_any(&ends)) {
            let compares = run.iter().any(|t| {
                matches!(t.token.token, Token::Eq | Token::DoubleEq | Token::Spaceship)
                    || t.is_any(&["is", "in"])
            });
            // `a.x = b.x`, or whole rows: `a IS NOT DISTINCT FROM b`.
            let owners: Vec<String> = run
                .iter()
                .enumerate()
                .filter(|(at, t)| {
                    let owner = run.get(at + 1).is_some_and(|next| next.is(&Token::Period));
                    let column =
                        at.checked_sub(1).and_then(|b| run.get(b)).is_some_and(|b| b.is(&Token::Period));
                    let row = t.name().is_some_and(|n| known.iter().any(|k| k.eq_ignore_ascii_case(n)));
                    compares && (owner || (rows && row && !column))
                })
                .filter_map(|(_, t)| t.name().map(str::to_ascii_lowercase))
                .collect();
            all.extend(owners.windows(2).filter_map(|w| Some((w.first()?.clone(), w.last()?.clone()))));
        }
    }
    let tokens = step.words(step.statement);
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
