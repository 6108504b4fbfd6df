//! What is said where a statement is not taken: what to write instead, what to leave out, what was probably meant.

pub mod derived;
pub mod dialects;
pub mod instead;
pub mod leave_out;
pub mod slips;
pub mod upsert;
