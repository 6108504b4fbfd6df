//! Queries made of slices of a statement, and small questions with their answers.

pub mod ask;
pub mod check;
pub mod each;
pub mod many;
pub mod mentions;
pub mod placeholders;
pub mod row_query;
pub mod sheet_uses;
