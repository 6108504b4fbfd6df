//! Rows that are read again and differ in columns of which only a sum was held: what those were is told from where the rows came
//! from.

use marktwice_core::mark::{Foreseen, HeldRow};
use marktwice_core::undo::RowChange;
use marktwice_core::value::Value;
use marktwice_core::verify::judge;
use marktwice_core::words;
use marktwice_port::EngineError;

use super::Sent;
use crate::faults::{Faults, NAMED};

/// Rows of which columns changed that are not held: what these were, where they came from tells.
#[derive(Default)]
pub(super) struct Odd {
    pub(super) count: u64,
    /// The first of them, with what is there now.
    first: Vec<(HeldRow, Vec<Value>)>,
}

impl Odd {
    pub(super) fn add(&mut self, held: &HeldRow, now: &[Value]) {
        self.count += 1;
        if self.first.len() < NAMED {
            self.first.push((held.clone(), now.to_vec()));
        }
    }

    /// Says of each what is wrong with it.
    ///
    /// # Errors
    /// Where what they came from cannot be read.
    pub(super) fn judge(
        &self,
        foreseen: &[Foreseen],
        source: Option<&mut dyn Sent>,
        faults: &mut Faults,
    ) -> Result<(), EngineError> {
        let mut told = 0;
        let mut tell = |change: &RowChange| {
            let Some((held, now)) = self.first.iter().find(|(held, _)| held.ordinal == change.ordinal) else {
                return;
            };
            let columns = held.rest.as_ref().map_or(&[][..], |rest| &rest.columns);
            let whole = held.filled(columns, change.image.before().unwrap_or_default());
            if let Err(fault) = judge(foreseen, &whole, Some(now)) {
                faults.add(&held.key, fault);
                told += 1;
            }
        };
        source.map_or(Ok(()), |source| source.each(&mut tell))?;
        faults.count += self.count - told;
        if told == 0 {
            let what = "columns that were not to change hold something else now";
            faults.whole = Some(format!("{what}, in {}", words::rows(self.count)));
        }
        Ok(())
    }
}
