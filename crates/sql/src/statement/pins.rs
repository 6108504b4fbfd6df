//! What in a filter pins single rows: the primary key, a unique column, or nothing.

use marktwice_core::table::{Pin, Target};
use sqlparser::ast::{BinaryOperator, Expr, UnaryOperator, Value};

use crate::statement::step::{Step, TableRef};

/// A unique key of the target.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UniqueKey {
    /// Whether it is the primary key.
    pub primary: bool,
    /// Positions of its columns.
    pub columns: Vec<usize>,
}

/// What pins the rows that `step` matches. `row_names` are the names of the engine's own row identity.
pub fn pin(step: &Step, target: &Target, keys: &[UniqueKey], row_names: &[&str]) -> Pin {
    let Some(filter) = step.filter.as_ref().and_then(|f| f.parsed.as_ref()) else { return Pin::Nothing };
    let mut fixed = Vec::new();
    for term in conjuncts(filter) {
        collect_fixed(term, &step.table, &mut fixed);
    }
    let has = |column: &usize| {
        target.columns.get(*column).is_some_and(|c| fixed.iter().any(|f| f.eq_ignore_ascii_case(&c.name)))
    };
    let mut sorted: Vec<&UniqueKey> = keys.iter().collect();
    sorted.sort_by_key(|k| !k.primary);
    if let Some(key) = sorted.into_iter().find(|k| !k.columns.is_empty() && k.columns.iter().all(has)) {
        let names = target.names(&key.columns);
        return if key.primary { Pin::PrimaryKey(names) } else { Pin::UniqueKey(names) };
    }
    match row_names.iter().find(|name| fixed.iter().any(|f| f.eq_ignore_ascii_case(name))) {
        Some(name) => Pin::RowIdentity(vec![(*name).to_owned()]),
        None => Pin::Nothing,
    }
}

/// The terms of a filter that are joined by AND at the top.
pub fn conjuncts(expr: &Expr) -> Vec<&Expr> {
    let mut terms = Vec::new();
    let mut open = vec![expr];
    while let Some(expr) = open.pop() {
        match expr {
            Expr::Nested(inner) => open.push(inner),
            Expr::BinaryOp { left, op: BinaryOperator::And, right } => {
                open.push(right);
                open.push(left);
            }
            other => terms.push(other),
        }
    }
    terms
}

/// The columns that a term compares with one value, or with a list of values.
fn collect_fixed(term: &Expr, table: &TableRef, fixed: &mut Vec<String>) {
    match term {
        Expr::BinaryOp { left, op: BinaryOperator::Eq, right } => {
            if let (Expr::Tuple(columns), Expr::Tuple(values)) = (strip(left), strip(right)) {
                for (column, value) in columns.iter().zip(values) {
                    fixed.extend(is_value(value).then(|| column_name(column, table)).flatten());
                }
            } else if is_value(right) {
                fixed.extend(column_name(left, table));
            } else if is_value(left) {
                fixed.extend(column_name(right, table));
            }
        }
        Expr::Nested(inner) => collect_fixed(inner, table, fixed),
        Expr::BinaryOp { op: BinaryOperator::Or, .. } => fixed.extend(fixed_by_each(term, table)),
        Expr::IsNotDistinctFrom(left, right) if is_value(right) => fixed.extend(column_name(left, table)),
        Expr::InList { expr, list, negated: false } if list.iter().all(is_value) => match strip(expr) {
            Expr::Tuple(columns) => fixed.extend(columns.iter().filter_map(|c| column_name(c, table))),
            one => fixed.extend(column_name(one, table)),
        },
        _ => {}
    }
}

/// The columns that every branch of a chain of OR compares with values.
fn fixed_by_each(expr: &Expr, table: &TableRef) -> Vec<String> {
    let mut branches = Vec::new();
    let mut open = vec![expr];
    while let Some(expr) = open.pop() {
        match strip(expr) {
            Expr::BinaryOp { left, op: BinaryOperator::Or, right } => open.extend([&**left, &**right]),
            other => branches.push(other),
        }
    }
    let mut common: Option<Vec<String>> = None;
    for branch in branches {
        let mut own = Vec::new();
        for term in conjuncts(branch) {
            collect_fixed(term, table, &mut own);
        }
        common = Some(match common {
            None => own,
            Some(before) => {
                before.into_iter().filter(|c| own.iter().any(|o| o.eq_ignore_ascii_case(c))).collect()
            }
        });
        if common.as_ref().is_some_and(Vec::is_empty) {
            break;
        }
    }
    common.unwrap_or_default()
}

fn strip(mut expr: &Expr) -> &Expr {
    while let Expr::Nested(inner) = expr {
        expr = inner;
    }
    expr
}

/// Whether an expression is the same value for every row, as far as its form tells.
fn is_value(expr: &Expr) -> bool {
    match strip(expr) {
        Expr::Value(value) => !matches!(value.value, Value::Null),
        Expr::UnaryOp { op: UnaryOperator::Minus | UnaryOperator::Plus, expr } => is_value(expr),
        Expr::Cast { expr, .. } => is_value(expr),
        Expr::Tuple(items) => items.iter().all(is_value),
        _ => false,
    }
}

/// The name of a column of the target; `None` for anything else.
pub fn column_name(expr: &Expr, table: &TableRef) -> Option<String> {
    match strip(expr) {
        Expr::Identifier(ident) => Some(ident.value.clone()),
        Expr::CompoundIdentifier(parts) => {
            let [.., owner, column] = parts.as_slice() else { return None };
            owner.value.eq_ignore_ascii_case(&table.visible().text).then(|| column.value.clone())
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::language::Language;
    use crate::statement::slicing::understand;
    use marktwice_core::table::{Column, Key, KeyKind};

    fn hives() -> (Target, Vec<UniqueKey>) {
        let column = |name: &str| Column {
            name: name.into(),
            declared: String::new(),
            generated: false,
            not_null: true,
        };
        let target = Target {
            table: "hive_season".into(),
            schema: "main".into(),
            columns: ["hive", "season", "tag", "note"].map(column).to_vec(),
            key: Key {
                kind: KeyKind::Primary,
                names: vec!["hive".into(), "season".into()],
                columns: vec![0, 1],
            },
            definition: String::new(),
            naming: None,
            refers: Vec::new(),
            hidden: Vec::new(),
            veil: Default::default(),
            family: Vec::new(),
        };
        let keys = vec![
            UniqueKey { primary: false, columns: vec![2] },
            UniqueKey { primary: true, columns: vec![0, 1] },
        ];
        (target, keys)
    }

    #[test]
    fn what_pins() {
        let (target, keys) = hives();
        let primary = Pin::PrimaryKey(vec!["hive".into(), "season".into()]);
        let unique = Pin::UniqueKey(vec!["tag".into()]);
        for (filter, expected) in [
            ("hive = 3 AND season = 2026", &primary),
            ("(hive, season) = (3, 2026)", &primary),
            ("(hive, season) IN ((3, 2026), (4, 2026))", &primary),
            ("(hive = 3) AND note IS NULL AND s.season IN (2025, 2026)", &primary),
            ("hive = 3", &Pin::Nothing),
            ("hive = 3 OR season = 2026", &Pin::Nothing),
            ("hive = 3 AND season = 2026 OR (season = 2025 AND hive IN (3, 4))", &primary),
            ("tag = 'A7' OR tag = 'A8' OR tag IN ('A9')", &unique),
            ("tag = 'A7'", &unique),
            ("'A7' == tag", &unique),
            ("tag IS 'A7'", &unique),
            ("tag = note", &Pin::Nothing),
            ("other.tag = 'A7'", &Pin::Nothing),
            ("NOT tag = 'A7'", &Pin::Nothing),
            ("tag = NULL", &Pin::Nothing),
            ("rowid = 5", &Pin::RowIdentity(vec!["rowid".into()])),
        ] {
            let step = understand(&format!("DELETE FROM hive_season AS s WHERE {filter}"), Language::Sqlite)
                .unwrap();
            assert_eq!(&pin(&step, &target, &keys, &["rowid"]), expected, "{filter}");
        }
    }
}
