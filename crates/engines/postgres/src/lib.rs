//! The PostgreSQL engine: connecting, the catalogue, understanding a statement, holding rows in a temporary table,
//! the transaction and what became of it, and putting rows back.
//!
//! Values are read and written in the server's own text forms, under settings that are pinned for that purpose only;
//! the user's statement and filter run under the user's own settings. Nothing here prints, knows a logbook or decides
//! whether a change may go on.

mod calls;
mod catalog;
mod client;
mod copy;
mod detail;
mod driver;
mod error;
mod finder;
mod held;
mod listing;
pub mod load;
mod measured;
mod open;
mod params;
mod plan;
mod pooler;
mod published;
mod sending;
mod touches;
mod way_back;

pub use open::Postgres;
