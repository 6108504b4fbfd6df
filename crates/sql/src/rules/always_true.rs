//! `always-true`: a filter that keeps nothing out.

use marktwice_core::{Code, Finding};
use sqlparser::ast::{BinaryOperator, Expr, UnaryOperator, Value};

use super::Facts;
use crate::statement::step::TableRef;

/// Looks whether the whole filter is true whatever a row holds. A column compared with itself counts: it is true
/// for every row in which the column is not NULL, which nobody writes on purpose.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let Some(filter) = &seen.step.filter else { return Vec::new() };
    let Some(parsed) = &filter.parsed else { return Vec::new() };
    if truth(parsed, &seen.step.table) != Some(true) {
        return Vec::new();
    }
    let message = format!("the filter is true for every row of {}", seen.target.table);
    vec![Finding::new(Code::AlwaysTrue, message).at(seen.step.place(filter.slice))]
}

/// The truth of an expression when it is the same for every row.
fn truth(expr: &Expr, table: &TableRef) -> Option<bool> {
    match expr {
        Expr::Nested(inner) => truth(inner, table),
        Expr::Value(value) => literal_truth(&value.value),
        Expr::UnaryOp { op: UnaryOperator::Not, expr } => truth(expr, table).map(|t| !t),
        Expr::IsTrue(inner) => truth(inner, table).filter(|t| *t),
        Expr::BinaryOp { op: BinaryOperator::And | BinaryOperator::Or, .. } => chain(expr, table),
        Expr::BinaryOp { left, op, right } => compare(left, op, right, table),
        Expr::IsNotDistinctFrom(left, right) => same(left, right, table).then_some(true),
        Expr::Between { expr, negated: false, low, high } => {
            (same(expr, low, table) && same(expr, high, table)).then_some(true)
        }
        Expr::InList { expr, list, negated: false } => {
            list.iter().any(|item| same(expr, item, table)).then_some(true)
        }
        _ => None,
    }
}

/// A chain of AND and OR, walked without recursion along its left side: generated filters have thousands of terms.
fn chain(expr: &Expr, table: &TableRef) -> Option<bool> {
    let mut terms = Vec::new();
    let mut at = expr;
    while let Expr::BinaryOp { left, op: op @ (BinaryOperator::And | BinaryOperator::Or), right } = at {
        terms.push((op == &BinaryOperator::And, right.as_ref()));
        at = left;
    }
    let mut result = truth(at, table);
    for (and, term) in terms.into_iter().rev() {
        let right = truth(term, table);
        result = match (and, result, right) {
            (true, Some(false), _) | (true, _, Some(false)) => Some(false),
            (true, Some(true), Some(true)) => Some(true),
            (false, Some(true), _) | (false, _, Some(true)) => Some(true),
            (false, Some(false), Some(false)) => Some(false),
            _ => None,
        };
    }
    result
}

fn literal_truth(value: &Value) -> Option<bool> {
    match value {
        Value::Boolean(b) => Some(*b),
        Value::Number(text, _) => text.parse::<f64>().ok().map(|n| n != 0.0),
        _ => None,
    }
}

fn compare(left: &Expr, op: &BinaryOperator, right: &Expr, table: &TableRef) -> Option<bool> {
    use BinaryOperator::{Eq, Gt, GtEq, Lt, LtEq, NotEq};
    if same(left, right, table) {
        return match op {
            Eq | GtEq | LtEq => Some(true),
            NotEq | Lt | Gt => Some(false),
            _ => None,
        };
    }
    let order = match (constant(left)?, constant(right)?) {
        (Constant::Number(a), Constant::Number(b)) => a.partial_cmp(&b)?,
        (Constant::Text(a), Constant::Text(b)) => a.cmp(b),
        _ => return None,
    };
    match op {
        Eq => Some(order.is_eq()),
        NotEq => Some(order.is_ne()),
        Lt => Some(order.is_lt()),
        LtEq => Some(order.is_le()),
        Gt => Some(order.is_gt()),
        GtEq => Some(order.is_ge()),
        _ => None,
    }
}

enum Constant<'a> {
    Number(f64),
    Text(&'a str),
}

fn constant(expr: &Expr) -> Option<Constant<'_>> {
    match expr {
        Expr::Nested(inner) => constant(inner),
        Expr::Value(value) => match &value.value {
            Value::Number(text, _) => text.parse().ok().map(Constant::Number),
            Value::SingleQuotedString(text) => Some(Constant::Text(text)),
            Value::Boolean(b) => Some(Constant::Number(f64::from(u8::from(*b)))),
            _ => None,
        },
        Expr::UnaryOp { op: UnaryOperator::Minus, expr } => match constant(expr)? {
            Constant::Number(n) => Some(Constant::Number(-n)),
            Constant::Text(_) => None,
        },
        _ => None,
    }
}

/// Whether two expressions are one and the same column.
fn same(left: &Expr, right: &Expr, table: &TableRef) -> bool {
    match (
        crate::statement::pins::column_name(left, table),
        crate::statement::pins::column_name(right, table),
    ) {
        (Some(a), Some(b)) => a.eq_ignore_ascii_case(&b),
        _ => false,
    }
}
