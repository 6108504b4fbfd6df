//! The logbook on disk: marks, runs, snapshots and receipts, one folder a database. `docs/FORMAT.md` describes
//! every file. This crate knows files and formats; it knows no engine, no query language and no terminal.

mod ahead;
pub mod atomic;
mod book;
mod bounded;
mod cipher;
mod codec;
pub mod faults;
mod known;
mod lines;
mod marks;
mod runs;
mod snapshot;
mod worker;

pub use book::{Overview, Shelf, databases};
pub use cipher::FileKey;
pub use known::ReadReceipts;
pub use runs::seal;
