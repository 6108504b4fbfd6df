//! The traits that an engine, a logbook and the surroundings implement, and the types that pass through them.
//!
//! Nothing here knows a query language, a file format or a terminal. An engine for a document store must be able
//! to implement the same traits: a change arrives as text in the engine's own language, and everything that
//! leaves is a typed value.

pub mod ambient;
pub mod around;
pub mod error;
pub mod language;
pub mod logbook;
pub mod plan;
pub mod session;
pub mod transaction;

pub use ambient::{Ambient, CommitState, Phase, SheetLine, SheetLines, Silent, Stamp, Stopper, Watch};
pub use error::{Broken, Constraint, EngineError, Overtaken, SinkError, Unusable};
pub use language::{
    Composed, Cut, Days, Draft, Language, Merge, Merged, Said, SheetUse, Uncomposed, Which, Work,
};
pub use logbook::{
    Damaged, DraftMark, LogError, LogErrorKind, Logbook, Mark, RunFolder, SnapshotReader, SnapshotWriter,
};
pub use marktwice_core::side::{SideHow, SideWrite};
pub use plan::{Batch, Matched, Plan, Reach};
pub use session::{
    Engine, FoundSink, Intent, Limits, PATIENCE, PATIENCE_IN_ALL, Session, SheetColumn, SheetRows,
    SheetTable, Told, Viewing,
};
pub use transaction::{ChangeSource, CommitOutcome, Hold, Keep, KeepSink, PairSink, RowSink, Settings, Tx};
