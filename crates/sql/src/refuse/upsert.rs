//! An INSERT that updates what is there already, as two steps: the UPDATE of what is there, then the INSERT of what is not.

use marktwice_core::table::Target;
use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::statement::step::Step;
use crate::text::slices::Slice;

/// The two steps, ready to be pasted, or the one where rows that are there are passed over. `key` is what tells rows where the
/// statement does not say it. `None` where they cannot be told from the text.
pub fn two_steps(step: &Step, target: &Target, key: &[String]) -> Option<String> {
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
    let same: Vec<String> =
        keys.iter().map(|key| format!("{own}.{} = incoming.{}", name(key), name(key))).collect();
    let same = same.join(" AND ");
    let with = format!("WITH incoming ({columns}) AS (\n  {}\n)", step.text(inserted.source));
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
