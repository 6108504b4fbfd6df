//! What relational engines do alike, written once: the layout of held rows, what can be foreseen of a statement, what it
//! reads and writes, foreign keys' actions, putting rows back.
//!
//! Nothing here speaks a protocol; it knows SQL only in so far as the engines write it alike.

pub mod along;
pub mod archive;
pub mod around;
pub mod asked;
pub mod breaches;
pub mod detail;
pub mod disclosure;
pub mod driver;
pub mod each;
pub mod finder;
pub mod foresee;
pub mod held;
pub mod insert;
pub mod insight;
pub mod layout;
pub mod links;
pub mod params;
pub mod put;
pub mod reach;
pub mod recipe;
pub mod secret;
pub mod session;
pub mod sheet;
pub mod shell;
pub mod statement;
pub mod through;
pub mod ties;
pub mod touches;
pub mod transaction;
pub mod triggered;
pub mod understood;
pub mod unknown;
pub mod view;
pub mod walk;
pub mod way_back;
pub mod witness;

pub use layout::Layout;
