//! `unstable-limit`: LIMIT without an order that decides which rows it takes.

use marktwice_core::{Code, Finding};

use super::Facts;

/// Looks whether the order names a whole key of the target; rows that are equal in the order could else be taken or
/// left, another time the other ones.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let Some(tail) = &seen.step.tail else { return Vec::new() };
    let Some(limit) = tail.limit else { return Vec::new() };
    let ordered: Vec<String> = tail
        .order
        .iter()
        .filter_map(|term| {
            let tokens = seen.step.words(*term);
            let name = match tokens.as_slice() {
                [one] => one,
                [one, way] if way.is_any(&["asc", "desc"]) => one,
                [_, _, one] => one,
                [_, _, one, way] if way.is_any(&["asc", "desc"]) => one,
                _ => return None,
            };
            name.name().map(str::to_owned)
        })
        .collect();
    let has = |column: &usize| {
        seen.target
            .columns
            .get(*column)
            .is_some_and(|c| ordered.iter().any(|o| o.eq_ignore_ascii_case(&c.name)))
    };
    if seen.keys.iter().any(|key| {
        let filled = |c: &usize| seen.target.columns.get(*c).is_some_and(|c| c.not_null);
        !key.columns.is_empty()
            && key.columns.iter().all(has)
            && (key.primary || key.columns.iter().all(filled))
    }) {
        return Vec::new();
    }
    let message = if tail.order.is_empty() {
        "LIMIT without ORDER BY takes any rows that match".to_owned()
    } else {
        "rows that are equal in this order may be taken or left by LIMIT".to_owned()
    };
    let key = seen.target.key.names.join(", ");
    let finding = Finding::new(Code::UnstableLimit, message).at(seen.step.place(limit));
    vec![match (key.is_empty(), tail.order.is_empty()) {
        (true, _) => finding.hint("name the rows in the filter instead"),
        (false, true) => finding.hint(format!("order by the key: ORDER BY {key} LIMIT …")),
        (false, false) => finding.hint(format!("let the key decide between equals: ORDER BY …, {key}")),
    }]
}
