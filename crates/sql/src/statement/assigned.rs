//! The assigned columns of a step, as what is noticed about their values needs them.

use marktwice_core::notice::Assigned;
use marktwice_core::table::Target;
use sqlparser::tokenizer::Token;

use crate::dialect::classes::length;
use crate::dialect::language::Language;
use crate::statement::slicing::own_columns;
use crate::statement::step::Step;
use crate::text::slices::Slice;

/// The assigned columns with their places.
pub fn assigned(step: &Step, target: &Target) -> Vec<Assigned> {
    let mut all = Vec::new();
    for assignment in &step.assignments {
        for (nth, name) in assignment.columns.iter().enumerate() {
            let Some(column) = target.position(&name.text) else { continue };
            if target.columns.get(column).is_some_and(|c| c.generated) {
                continue;
            }
            let value = assignment.parts.as_ref().and_then(|p| p.get(nth)).map(|s| step.text(*s));
            let own =
                assignment.parts.as_ref().and_then(|p| p.get(nth)).map(|s| own_columns(step, target, *s));
            let mut operands: Vec<usize> = own.iter().flatten().map(|(at, _)| *at).collect();
            operands.dedup();
            let strict =
                assignment.parts.as_ref().and_then(|p| p.get(nth)).is_some_and(|s| computes(step, *s));
            let from_itself = operands.contains(&column);
            let plain = |word: &str| value.is_some_and(|v| v.eq_ignore_ascii_case(word));
            all.push(Assigned {
                column,
                place: step.place(name.slice),
                null: plain("null") || plain("default"),
                from_itself,
                room: target.columns.get(column).and_then(|c| length(&c.declared)),
                operands: if strict { operands } else { Vec::new() },
            });
        }
    }
    for name in step.inserted.iter().flat_map(|inserted| inserted.named()) {
        let Some(column) = target.position(&name.text) else { continue };
        let room = target.columns.get(column).and_then(|c| length(&c.declared));
        let place = step.place(name.slice);
        all.push(Assigned { column, place, null: true, from_itself: false, room, operands: Vec::new() });
    }
    all
}

/// Whether a value is computed by an operator whose result is NULL as soon as an operand is: there a NULL that stays
/// NULL is a row missed, where `nullif(phone, '')` means it.
fn computes(step: &Step, value: Slice) -> bool {
    let operators = [
        Token::Plus,
        Token::Minus,
        Token::Mul,
        Token::Div,
        Token::Mod,
        Token::StringConcat,
        Token::Ampersand,
        Token::Pipe,
        Token::ShiftLeft,
        Token::ShiftRight,
    ];
    let tokens = step.words(value);
    tokens.iter().zip(tokens.iter().skip(1)).any(|(first, second)| {
        // A sign before a number, and the star of `count(*)`, compute nothing.
        let after_operand = !(first.is(&Token::LParen) || first.is(&Token::Comma));
        let joins = first.is_word("concat") && second.is(&Token::LParen);
        (after_operand && operators.iter().any(|o| second.is(o)))
            || (joins && step.language == Language::Mysql)
    })
}
