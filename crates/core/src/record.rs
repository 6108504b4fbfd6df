//! Headers and trailers of marks and snapshots: what they say about themselves. `docs/FORMAT.md` describes the
//! files; the constants here are the versions.

use serde::{Deserialize, Serialize};

use crate::along::AlongRecord;
use crate::asked::QueryCheck;
use crate::hash::Fingerprint;
use crate::mark::{Foreseen, MarkSummary, Parts, StepKind};
use crate::receipt::DatabaseId;
use crate::sheet::Sheet;
use crate::table::Target;

/// Version of the mark format written, and the newest read. Version 1: the first.
///
/// Version 2: several steps. Each row says its step, and parts and totals come by step. Version 3: hashes under a seed.
pub const MARK_VERSION: u32 = 3;
/// Version of the snapshot format written, and the newest read. Version 1: the first, with one step and one table.
///
/// Version 2: rows of several steps and tables. Version 3: rows that a step takes along.
pub const SNAPSHOT_VERSION: u32 = 3;
/// What a mark's header calls its format.
pub const MARK_FORMAT: &str = "marktwice-mark";
/// What a snapshot's header calls its format.
pub const SNAPSHOT_FORMAT: &str = "marktwice-snapshot";

/// One step as a mark or a snapshot knows it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepRecord {
    /// What it does.
    pub kind: StepKind,
    /// The statement, verbatim; for an undo a sentence in words.
    pub statement: String,
    /// Hash of its tokens.
    pub statement_hash: String,
    /// Position of its target among the header's tables.
    pub table: usize,
    /// Columns it may change, and how their after-values are known.
    pub foreseen: Vec<Foreseen>,
}

/// The first line of a mark.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MarkHeader {
    /// [`MARK_FORMAT`].
    pub format: String,
    /// [`MARK_VERSION`].
    pub version: u32,
    /// The mark's short name.
    pub mark: String,
    /// When it was taken, UTC, RFC 3339.
    pub taken: String,
    /// On which database.
    pub database: DatabaseId,
    /// The command that took it: a bare `apply` takes the last one of a preview or a rehearsal only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// The file that the change was read from: its real path.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub origin: Option<String>,
    /// The whole text of the change.
    pub change: String,
    /// Checks of the whole change, those too that were said on the line.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checks: Vec<QueryCheck>,
    /// Values of parameters by name (none in this version of the program).
    #[serde(default)]
    pub params: serde_json::Map<String, serde_json::Value>,
    /// Whether its hashes are taken under a key that the logbook keeps, since the change has a secret.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub keyed: bool,
    /// The public name of that key, where it is one that a file holds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// The seed of its hashes, in hexadecimal digits; without one they are BLAKE3.
    #[serde(default, with = "hexadecimal", skip_serializing_if = "Option::is_none")]
    pub seed: Option<u64>,
    /// Spreadsheets that are read as tables.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub sheets: Vec<Sheet>,
    /// Settings that bear on meaning.
    pub settings: Vec<String>,
    /// The steps, in order.
    pub steps: Vec<StepRecord>,
    /// Their targets.
    pub tables: Vec<Target>,
    /// Which columns play which part, by step.
    #[serde(deserialize_with = "one_or_many")]
    pub parts: Vec<Parts>,
    /// Steps whose rows are not in the mark, because only a rehearsal can tell them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub open: Vec<usize>,
}

/// A number of 64 bits, which not every reader of JSON keeps, as its digits.
mod hexadecimal {
    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    #[expect(clippy::ref_option, reason = "the form that serde calls")]
    pub(super) fn serialize<S: Serializer>(seed: &Option<u64>, to: S) -> Result<S::Ok, S::Error> {
        match seed {
            Some(seed) => to.serialize_str(&format!("{seed:016x}")),
            None => to.serialize_none(),
        }
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Option<u64>, D::Error> {
        let text = Option::<String>::deserialize(from)?;
        text.map(|text| u64::from_str_radix(&text, 16).map_err(D::Error::custom)).transpose()
    }
}

/// Version 1 had one step, and gave its parts and totals without a list.
fn one_or_many<'de, T: Deserialize<'de>, D: serde::Deserializer<'de>>(reader: D) -> Result<Vec<T>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Form<T> {
        Many(Vec<T>),
        One(T),
    }
    Ok(match Form::deserialize(reader)? {
        Form::Many(many) => many,
        Form::One(one) => vec![one],
    })
}

/// The last line of a mark.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MarkTrailer {
    /// Its totals, by step.
    #[serde(deserialize_with = "one_or_many")]
    pub end: Vec<MarkSummary>,
    /// BLAKE3 over every byte before this line, uncompressed, in hexadecimal.
    pub checksum: String,
}

/// The first line of a snapshot.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SnapshotHeader {
    /// [`SNAPSHOT_FORMAT`].
    pub format: String,
    /// [`SNAPSHOT_VERSION`].
    pub version: u32,
    /// The run it belongs to.
    pub run: String,
    /// On which database.
    pub database: DatabaseId,
    /// Values of parameters by name (none in this version of the program).
    #[serde(default)]
    pub params: serde_json::Map<String, serde_json::Value>,
    /// The steps, in order.
    pub steps: Vec<StepRecord>,
    /// Their targets, and the tables of which they may take rows along.
    pub tables: Vec<Target>,
    /// Of which tables the steps may take rows along, for each step parents before children.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub along: Vec<AlongRecord>,
}

/// The last line of a snapshot.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SnapshotTrailer {
    /// Its totals.
    pub end: SnapshotTotals,
    /// BLAKE3 over every byte before this line, uncompressed, in hexadecimal.
    pub checksum: String,
}

/// The totals of a snapshot.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct SnapshotTotals {
    /// Rows in it.
    pub rows: u64,
    /// Rows that the run changed.
    pub changed: u64,
    /// Over all rows before (rows that were not there left out).
    pub before: Fingerprint,
    /// Over all rows after (rows that are gone left out).
    pub after: Fingerprint,
}
