//! What Mark Twice computes: values and their hashes, marks and what moved between two of them, findings,
//! expected counts, receipts, totals, and the comparison that guards an undo.
//!
//! This crate may depend on serialisation and hashing only. It must never print, read a clock, the environment
//! or the command line, touch a file, or know a query language.

pub mod along;
pub mod archive;
pub mod asked;
pub mod breach;
pub mod cell;
pub mod change;
pub mod check;
mod decimal;
pub mod edited;
pub mod expect;
pub mod finding;
pub mod hash;
pub mod image;
pub mod kind;
pub mod many;
pub mod mark;
pub mod moved;
pub mod near;
pub mod notice;
pub mod param;
pub mod receipt;
pub mod record;
pub mod secret;
pub mod shape;
pub mod sheet;
pub mod side;
pub mod steps;
pub mod study;
pub mod survey;
pub mod table;
pub mod totals;
pub mod triggered;
pub mod undo;
pub mod value;
pub mod veil;
pub mod verify;
pub mod way_back;
pub mod witness;
pub mod words;

pub use cell::CellDiff;
pub use change::{Change, ChangeStep, Terms};
pub use expect::Expect;
pub use finding::{Code, Finding, Level, TextPlace};
pub use hash::{Fingerprint, ShortHash};
pub use image::{Image, Role};
pub use mark::{MarkRow, MarkSummary};
pub use receipt::{Receipt, RunKind, RunState};
pub use side::{SideHow, SideWrite};
pub use table::{Column, Key, KeyKind, Pin, Target};
pub use value::Value;
