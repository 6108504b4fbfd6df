//! The SQLite engine, over the bundled library: opening, the catalogue, understanding a statement, holding rows
//! in temporary tables, the transaction, and putting rows back.
//!
//! Everything that is specific to SQLite lives here and in `marktwice-sql`'s SQLite dialect. Nothing here prints,
//! knows a logbook or decides whether a change may go on.

mod affinity;
mod ask;
mod backup;
mod catalog;
mod complaint;
mod definition;
mod detail;
mod driver;
mod error;
mod exactness;
mod held;
pub mod load;
mod look;
mod names;
mod open;
mod params;
mod plan;
mod probe;
mod reach;
mod rules;
mod session;
mod touches;
mod values;
mod way_back;

pub use open::{Sqlite, file_of};
