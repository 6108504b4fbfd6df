//! What is unique in the data of a table although nobody declared it.

use marktwice_core::survey::DeclaredKey;
use marktwice_core::table::Target;

use crate::dialect::classes::{Class, class};
use crate::dialect::language::Language;
use crate::query::ask::Asker;

/// Columns that are counted at once.
const COLUMNS: usize = 40;
/// Columns that are tried in pairs.
const PAIRED: usize = 7;

/// Columns that are unique in fact; where there is none, and no key, pairs of columns. `from` is the table as it stands
/// after FROM.
///
/// # Errors
/// What `ask` answers.
pub fn unique_in_fact<E>(
    language: Language,
    target: &Target,
    from: &str,
    keys: &[DeclaredKey],
    rows: u64,
    ask: &mut Asker<'_, E>,
) -> Result<Vec<Vec<String>>, E> {
    if rows < 2 {
        return Ok(Vec::new());
    }
    let single =
        |name: &str| keys.iter().any(|k| k.columns.len() == 1 && k.columns.iter().any(|c| c == name));
    let names: Vec<&str> = target
        .columns
        .iter()
        .filter(|c| !single(&c.name))
        .filter(|c| class(&c.declared) != Class::Other || language == Language::Sqlite)
        .take(COLUMNS)
        .map(|c| c.name.as_str())
        .collect();
    if names.is_empty() {
        return Ok(Vec::new());
    }
    let counts: Vec<String> =
        names.iter().map(|n| format!("count(DISTINCT {})", language.quoted(n))).collect();
    let answer = ask(&format!("SELECT {} FROM {from}", counts.join(", ")))?;
    let distinct = |at: usize| answer.count(0, at);
    let mut found: Vec<Vec<String>> = names
        .iter()
        .enumerate()
        .filter(|(at, _)| distinct(*at) == rows)
        .map(|(_, name)| vec![(*name).to_owned()])
        .collect();
    if !found.is_empty() || !keys.is_empty() {
        return Ok(found);
    }
    // The more different values two columns have, the likelier it is that they tell rows apart together.
    let mut order: Vec<usize> = (0..names.len()).collect();
    order.sort_by_key(|at| std::cmp::Reverse(distinct(*at)));
    order.truncate(PAIRED);
    for (nth, first) in order.iter().enumerate() {
        for second in order.iter().skip(nth + 1) {
            let mut pair = [*first, *second];
            pair.sort_unstable();
            if distinct(*first).saturating_mul(distinct(*second)) < rows {
                continue;
            }
            let pair: Vec<&str> = pair.iter().filter_map(|at| names.get(*at).copied()).collect();
            let list = pair.iter().map(|n| language.quoted(n)).collect::<Vec<_>>().join(", ");
            let there = pair.iter().map(|n| format!("{} IS NULL", language.quoted(n))).collect::<Vec<_>>();
            let several = ask(&format!(
                "SELECT count(*) FROM (SELECT 1 AS marktwice_one FROM {from} GROUP BY {list} HAVING count(*) > 1 LIMIT 1) AS x"
            ))?;
            let nulls = ask(&format!("SELECT count(*) FROM {from} WHERE {}", there.join(" OR ")))?;
            if several.count(0, 0) == 0 && nulls.count(0, 0) == 0 {
                found.push(pair.into_iter().map(str::to_owned).collect());
            }
        }
    }
    found.truncate(3);
    Ok(found)
}
