//! Understanding SQL text: tokens with their exact places, the slices of a statement, the change file, and the
//! rules that find what is wrong before anything runs.
//!
//! Text is sliced, never re-rendered: what is sent to an engine is always the user's own characters. This crate
//! opens no connection and reads no file.

pub mod ask;
pub mod assigned;
pub mod change;
pub mod classes;
pub mod compose;
pub mod instead;
pub mod language;
pub mod leave_out;
pub mod many;
pub mod near;
pub mod ours;
pub mod pins;
pub mod routine;
pub mod row_query;
pub mod rules;
pub mod slices;
pub mod slicing;
pub mod slips;
pub mod step;
pub mod study;
pub mod survey;
pub mod terms;
pub mod text;
pub mod volatile;

pub use change::{Change, ChangeError};
pub use language::Language;
pub use slices::Slice;
pub use step::{Assignment, Filter, Name, Step, TableRef};
