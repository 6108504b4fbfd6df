//! `type-mix`: a text compared with a number, or the reverse.

use marktwice_core::{Code, Finding};
use sqlparser::ast::{BinaryOperator, Expr, UnaryOperator, Value};

use super::Facts;
use crate::dialect::classes::{Class, class};
use crate::dialect::language::Language;
use crate::statement::pins::{column_name, conjuncts};

/// Looks at comparisons of the target's columns with literals. What the engine does then differs: it compares as
/// texts ('10' comes before '9'), or as numbers (every text without a digit is 0).
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let Some(filter) = &seen.step.filter else { return Vec::new() };
    let Some(parsed) = &filter.parsed else { return Vec::new() };
    let mut open = conjuncts(parsed);
    let mut found = Vec::new();
    while let Some(expr) = open.pop() {
        match expr {
            Expr::Nested(inner) => open.push(inner),
            Expr::BinaryOp { left, op: BinaryOperator::And | BinaryOperator::Or, right } => {
                open.push(right);
                open.push(left);
            }
            Expr::UnaryOp { op: UnaryOperator::Not, expr } => open.push(expr),
            Expr::BinaryOp { left, op, right } if compares(op) => {
                let ordered = orders(op);
                let either = mixed(seen, left, right, ordered);
                found.extend(either.or_else(|| mixed(seen, right, left, ordered)));
            }
            Expr::InList { expr, list, .. } => {
                found.extend(list.iter().find_map(|item| mixed(seen, expr, item, false)));
            }
            Expr::Between { expr, low, high, .. } => {
                found.extend(mixed(seen, expr, low, true).or_else(|| mixed(seen, expr, high, true)));
            }
            _ => {}
        }
    }
    found
}

fn compares(op: &BinaryOperator) -> bool {
    use BinaryOperator::{Eq, Gt, GtEq, Lt, LtEq, NotEq, Spaceship};
    matches!(op, Eq | NotEq | Lt | LtEq | Gt | GtEq | Spaceship)
}

fn orders(op: &BinaryOperator) -> bool {
    use BinaryOperator::{Gt, GtEq, Lt, LtEq};
    matches!(op, Lt | LtEq | Gt | GtEq)
}

/// How a column of texts is compared with a number where their order matters: as a text the number would keep the order of
/// letters, which is what nobody means.
fn as_number(language: Language, column: &str) -> String {
    let (column, number) = (
        language.quoted(column),
        match language {
            Language::Sqlite => "NUMERIC",
            Language::Postgres => "numeric",
            Language::Mysql => "DECIMAL(65, 30)",
        },
    );
    format!("compare it as a number: CAST({column} AS {number}); as a text '10' comes before '9'")
}

fn mixed(seen: Facts<'_>, column: &Expr, literal: &Expr, ordered: bool) -> Option<Finding> {
    let name = column_name(column, &seen.step.table)?;
    let about = seen.target.columns.get(seen.target.position(&name)?)?;
    let literal = match literal {
        Expr::UnaryOp { op: UnaryOperator::Minus, expr } => expr,
        other => other,
    };
    let Expr::Value(value) = literal else { return None };
    let (message, hint) = match (class(&about.declared), &value.value) {
        (Class::Text, Value::Number(number, _)) => (
            format!("{} holds texts and is compared with the number {number}", about.name),
            if ordered { as_number(seen.step.language, &about.name) } else { format!("write '{number}'") },
        ),
        (Class::Number, Value::SingleQuotedString(text) | Value::DoubleQuotedString(text))
            if text.trim().parse::<f64>().is_err() =>
        {
            (
                format!("{} holds numbers and is compared with the text '{text}'", about.name),
                "compare it with a number".to_owned(),
            )
        }
        _ => return None,
    };
    let slice = name_slice(seen, &name)?;
    Some(Finding::new(Code::TypeMix, message).at(slice).hint(hint))
}

/// Where the column stands in the filter: the parser's own places cannot be relied on.
fn name_slice(seen: Facts<'_>, name: &str) -> Option<marktwice_core::TextPlace> {
    let filter = seen.step.filter.as_ref()?;
    let tokens = seen.step.words(filter.slice);
    let token = tokens.iter().find(|t| t.name().is_some_and(|n| n.eq_ignore_ascii_case(name)))?;
    Some(seen.step.place(token.slice))
}
