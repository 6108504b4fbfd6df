//! Questions that look closer at a statement and at a table; nothing depends on their answers.

pub mod study;
pub mod survey;
