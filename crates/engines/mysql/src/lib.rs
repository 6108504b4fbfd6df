//! The MariaDB engine (MySQL speaks the same protocol): connecting, the catalogue, understanding a statement, holding
//! rows in a temporary table, the transaction, and putting rows back.
//!
//! Values are read and written through the binary protocol, under settings that are pinned for that purpose only; the
//! user's statement and filter run under the user's own settings. Nothing here prints, knows a logbook or decides
//! whether a change may go on.

mod calls;
mod catalog;
mod client;
mod complaint;
mod content;
mod copies;
mod detail;
mod driver;
mod error;
mod finder;
mod grants;
mod half_known;
mod held;
mod listing;
pub mod load;
mod nameless;
mod natives;
mod numbers;
mod open;
mod params;
mod plan;
mod sending;
mod server;
mod several;
mod touches;
mod values;
mod way_back;

pub use open::Mysql;
