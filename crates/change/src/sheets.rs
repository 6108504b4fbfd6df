//! Sheets as a block declares them: `[sheet.NAME]`.

use std::collections::BTreeMap;

use marktwice_core::param::ParamKind;
use marktwice_core::sheet::Days;
use serde::Deserialize;

/// What `[sheet.NAME]` says.
#[derive(Debug, Clone, PartialEq, Eq, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SheetBlock {
    /// The file, beside the change file where it is no whole path.
    pub file: Option<String>,
    /// What stands between the cells of a line.
    pub separator: Option<char>,
    /// What stands before the decimals: `,` or `.`.
    pub decimal: Option<char>,
    /// How days are written.
    pub days: Option<Days>,
    /// The text that stands for NULL.
    pub null: Option<String>,
    /// What columns are.
    #[serde(default)]
    pub types: BTreeMap<String, ParamKind>,
}
