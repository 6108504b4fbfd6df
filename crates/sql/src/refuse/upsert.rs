//! An INSERT that updates what is there already, as two steps: the UPDATE of what is there, then the INSERT of what is not.

use marktwice_core::table::Target;
use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::statement::step::{Brought, Inserted, Step};
use crate::text::slices::Slice;

/// Why two steps would not be the same as the statement; `None` where nothing speaks against them. `unique` are the keys of the table.
pub fn why_not(step: &Step, unique: &[Vec<String>]) -> Option<String> {
    let inserted = step.inserted.as_ref()?;
    let conflict = inserted.conflict.as_ref()?;
    let same = |a: &String, b: &String| a.eq_ignore_ascii_case(b);
    let keys: Vec<String> = conflict.keys.iter().map(|name| name.text.clone()).collect();
    if conflict.narrower {
        return Some(
            "what must not be there twice is more than columns (an expression, a condition, a constraint)"
                .to_owned(),
        );
    }
    let is_key = |key: &Vec<String>| {
        key.len() == keys.len() && key.iter().all(|k| keys.iter().any(|other| same(k, other)))
    };
    if !keys.is_empty() && !unique.iter().any(is_key) {
        return Some(format!("{} is no unique key of the table by itself", keys.join(", ")));
    }
    let met = met(inserted, unique);
    let passes = conflict.set.is_empty() && !conflict.replaces;
    if keys.is_empty() && met.len() > 1 && !passes {
        let all: Vec<String> = met.iter().map(|key| key.join(", ")).collect();
        return Some(format!(
            "a row that is there may be met by more than one unique key ({})",
            all.join("; ")
        ));
    }
    let told = if keys.is_empty() { met.first().map(|key| (*key).clone()).unwrap_or_default() } else { keys };
    if let Some((column, _)) =
        conflict.set.iter().find(|(column, _)| told.iter().any(|key| same(key, &column.text)))
    {
        return Some(format!("it assigns {}, by which the row is found", column.text));
    }
    let places: Vec<usize> = told
        .iter()
        .filter_map(|key| inserted.named().iter().position(|name| same(key, &name.text)))
        .collect();
    if let Brought::Rows(rows) = &inserted.brought {
        let mut seen = Vec::new();
        for row in rows {
            let key: Vec<String> = places
                .iter()
                .filter_map(|at| row.get(*at))
                .map(|value| step.text(*value).trim().to_ascii_lowercase())
                .collect();
            if !key.is_empty() && seen.contains(&key) {
                return Some("two of its rows are for one row of the table".to_owned());
            }
            seen.push(key);
        }
    }
    None
}

/// Unique keys that the rows that come in may meet: all of whose columns are given.
fn met<'k>(inserted: &Inserted, unique: &'k [Vec<String>]) -> Vec<&'k Vec<String>> {
    let given = |key: &String| inserted.named().iter().any(|name| name.text.eq_ignore_ascii_case(key));
    let mut all: Vec<&Vec<String>> = Vec::new();
    for key in unique.iter().filter(|key| !key.is_empty() && key.iter().all(given)) {
        if !all.contains(&key) {
            all.push(key);
        }
    }
    all
}

/// The two steps where nothing speaks against them (see [`why_not`]), ready to be pasted, or the one where rows that are there are passed over. `key` is what tells rows where the
/// statement does not say it. `None` where they cannot be told from the text.
pub fn two_steps(step: &Step, target: &Target, key: &[String], unique: &[Vec<String>]) -> Option<String> {
    let inserted = step.inserted.as_ref()?;
    let conflict = inserted.conflict.as_ref()?;
    let language = step.language;
    if step.with.is_some() || conflict.filter.is_some() && conflict.set.is_empty() {
        return None;
    }
    let named: Vec<String> = inserted.named().iter().map(|name| name.text.clone()).collect();
    let keys: Vec<String> = match conflict.keys.as_slice() {
        [] => key.to_vec(),
        given => given.iter().map(|name| name.text.clone()).collect(),
    };
    let among = |key: &String| named.iter().any(|name| name.eq_ignore_ascii_case(key));
    if keys.is_empty() || !keys.iter().all(among) {
        return None;
    }
    let name = |name: &String| language.name(name);
    let columns = named.iter().map(name).collect::<Vec<_>>().join(", ");
    let table = step.text(step.table.slice);
    let own = language.name(&step.table.visible().text);
    let by = |keys: &[String]| -> String {
        let all = keys.iter().map(|key| format!("{own}.{} = incoming.{}", name(key), name(key)));
        all.collect::<Vec<_>>().join(" AND ")
    };
    // Whichever key a row meets that is passed over, it is.
    let same = match met(inserted, unique).as_slice() {
        several @ [_, _, ..] if conflict.keys.is_empty() => {
            several.iter().map(|key| format!("({})", by(key))).collect::<Vec<_>>().join(" OR ")
        }
        _ => by(&keys),
    };
    let source = match &inserted.brought {
        // One server of the family writes rows as ROW (…), the other does not know that; both read this.
        Brought::Rows(rows) if language == Language::Mysql => {
            let row = |row: &Vec<Slice>| row.iter().map(|v| step.text(*v)).collect::<Vec<_>>().join(", ");
            rows.iter()
                .map(|values| format!("SELECT {}", row(values)))
                .collect::<Vec<_>>()
                .join(" UNION ALL ")
        }
        _ => step.text(inserted.source).to_owned(),
    };
    let with = format!("WITH incoming ({columns}) AS (\n  {source}\n)");
    let mut steps = Vec::new();
    let others: Vec<&String> =
        named.iter().filter(|n| !keys.iter().any(|key| key.eq_ignore_ascii_case(n))).collect();
    // A REPLACE sets every column that it names.
    let sets: Option<Vec<(String, String)>> = match conflict.replaces {
        true => Some(others.iter().map(|n| (name(n), format!("incoming.{}", name(n)))).collect()),
        false => {
            let set = conflict.set.iter();
            set.map(|(column, value)| Some((name(&column.text), renamed(step, target, *value)?))).collect()
        }
    };
    let sets = sets?;
    if !sets.is_empty() {
        let of = if language == Language::Mysql { format!("{own}.") } else { String::new() };
        let sets: Vec<String> =
            sets.iter().map(|(column, value)| format!("{of}{column} = {value}")).collect();
        let sets = sets.join(", ");
        let only = match conflict.filter {
            Some(filter) => format!(" AND ({})", renamed(step, target, filter)?),
            None => String::new(),
        };
        steps.push(match language {
            Language::Mysql => {
                format!(
                    "UPDATE {table} JOIN ({with} SELECT * FROM incoming) AS incoming ON {same} SET {sets};"
                )
            }
            Language::Sqlite | Language::Postgres => {
                format!("{with}\nUPDATE {table} SET {sets} FROM incoming WHERE {same}{only};")
            }
        });
    }
    let list = named.iter().map(|n| format!("incoming.{}", name(n))).collect::<Vec<_>>().join(", ");
    let query = format!("SELECT {list} FROM incoming WHERE NOT EXISTS (SELECT 1 FROM {table} WHERE {same})");
    steps.push(match language {
        Language::Mysql => format!("INSERT INTO {table} ({columns})\n{with}\n{query};"),
        Language::Sqlite | Language::Postgres => format!("{with}\nINSERT INTO {table} ({columns})\n{query};"),
    });
    Some(steps.join("\n"))
}

/// A value that is assigned to a row which is there, with the incoming one's columns under the name that they have in the two
/// steps, and the row's own under the table's.
fn renamed(step: &Step, target: &Target, value: Slice) -> Option<String> {
    let tokens = step.words(value);
    let own = step.language.name(&step.table.visible().text);
    let (mut text, mut at) = (String::new(), value.start);
    let mut nth = 0;
    while let Some(token) = tokens.get(nth) {
        let next = tokens.get(nth + 1);
        let qualified = nth.checked_sub(1).and_then(|b| tokens.get(b)).is_some_and(|b| b.is(&Token::Period));
        let mut put = |start: usize, end: usize, new: &str| {
            text.push_str(step.text(Slice { start: at, end: start }));
            text.push_str(new);
            at = end;
        };
        if token.is_word("excluded") && next.is_some_and(|t| t.is(&Token::Period)) {
            put(token.slice.start, token.slice.end, "incoming");
        } else if step.language == Language::Mysql
            && token.is_any(&["values", "value"])
            && next.is_some_and(|t| t.is(&Token::LParen))
        {
            let (name, close) = (tokens.get(nth + 2)?, tokens.get(nth + 3)?);
            if !close.is(&Token::RParen) {
                return None;
            }
            put(token.slice.start, close.slice.end, &format!("incoming.{}", step.text(name.slice)));
            nth += 3;
        } else if !qualified
            && !next.is_some_and(|t| t.is(&Token::Period) || t.is(&Token::LParen))
            && token.name().is_some_and(|name| target.position(name).is_some())
        {
            put(token.slice.start, token.slice.end, &format!("{own}.{}", step.text(token.slice)));
        }
        nth += 1;
    }
    text.push_str(step.text(Slice { start: at, end: value.end }));
    Some(text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statement::slicing::understand;

    #[test]
    fn what_speaks_against_two_steps() {
        let keys = [vec!["id".to_owned()], vec!["mark".to_owned()]];
        for (sql, why) in [
            ("INSERT INTO k (id, v) VALUES (1, 'x') ON CONFLICT (id) DO UPDATE SET v = excluded.v", None),
            ("INSERT INTO k (id, mark) VALUES (1, 'x') ON CONFLICT DO NOTHING", None),
            ("INSERT INTO k (id, mark) VALUES (1, 'x') ON CONFLICT (v) DO NOTHING", Some("no unique key")),
            (
                "INSERT INTO k (id) VALUES (1) ON CONFLICT (id) WHERE dead = 0 DO NOTHING",
                Some("more than columns"),
            ),
            ("INSERT INTO k (id) VALUES (1) ON CONFLICT (lower(mark)) DO NOTHING", Some("more than columns")),
            ("INSERT INTO k (id) VALUES (1) ON CONFLICT (id) DO UPDATE SET id = 2", Some("assigns id")),
            (
                "INSERT INTO k (id) VALUES (1), ( 1 ) ON CONFLICT (id) DO UPDATE SET v = 2",
                Some("two of its rows"),
            ),
            ("REPLACE INTO k (id, mark) VALUES (1, 'x')", Some("more than one unique key")),
        ] {
            let step = understand(sql, Language::Sqlite).unwrap();
            let said = why_not(&step, &keys);
            assert_eq!(said.is_some(), why.is_some(), "{sql}: {said:?}");
            assert!(why.is_none_or(|why| said.unwrap().contains(why)), "{sql}");
        }
    }
}
