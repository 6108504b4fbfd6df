//! The traits that an engine, a logbook and the surroundings implement, and the types that pass through them.
//!
//! Nothing here knows a query language, a file format or a terminal. An engine for a document store must be able
//! to implement the same traits: a change arrives as text in the engine's own language, and everything that
//! leaves is a typed value.

pub mod ambient;
pub mod engine;
pub mod logbook;

pub use ambient::{Ambient, Phase, Silent, Stamp, Stopper, Watch};
pub use engine::{
    CommitOutcome, Constraint, Engine, EngineError, Held, Intent, Keep, Plan, Restore, Session, SideHow,
    SideWrite, SinkError, Tx, Waits,
};
pub use logbook::{
    Damaged, DraftMark, LogError, LogErrorKind, Logbook, Mark, RunFolder, SnapshotReader, SnapshotWriter,
};
