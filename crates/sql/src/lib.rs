//! Understanding SQL text, a room for each part of it:
//!
//! - [`text`]: characters, tokens and slices with their exact places;
//! - [`dialect`]: what differs between the languages;
//! - [`statement`]: one statement, cut into its slices and understood;
//! - [`query`]: the queries of our own that are made of such slices;
//! - [`rules`]: what is wrong with a statement, seen before anything runs;
//! - [`refuse`]: what to write instead;
//! - [`insight`]: what a closer look asks;
//! - [`compose`]: statements for `set` and `draft`.
//!
//! Text is sliced, never re-rendered: what is sent to an engine is always the user's own characters. This crate
//! opens no connection and reads no file.

pub mod compose;
pub mod dialect;
pub mod insight;
pub mod query;
pub mod refuse;
pub mod rules;
mod spoken;
pub mod statement;
pub mod text;

pub use dialect::language::Language;
pub use statement::step::{Assignment, Filter, Name, Step, TableRef};
pub use text::slices::Slice;
