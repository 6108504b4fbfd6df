//! Exit statuses: the constants, their meaning, and which end gets which. Nowhere else.

use marktwice_port::{EngineError, Unusable};
use marktwice_run::{Answer, End, Failure, Preview};

/// Done.
pub(crate) const DONE: u8 = 0;
/// Failed; no row changed.
pub(crate) const FAILED: u8 = 1;
/// The command line, the configuration or the change file cannot be meant as it stands.
pub(crate) const USAGE: u8 = 2;
/// Stopped by a finding.
pub(crate) const STOPPED: u8 = 3;
/// Rolled back or not begun: an expectation, a check or a verification failed.
pub(crate) const NOT_AS_EXPECTED: u8 = 4;
/// Rolled back or not begun: rows have moved.
pub(crate) const MOVED: u8 = 5;
/// Declined, or no answer.
pub(crate) const DECLINED: u8 = 6;
/// Outcome unknown.
pub(crate) const UNKNOWN: u8 = 7;
/// Committed, but the receipt could not be completed.
pub(crate) const RECEIPT_INCOMPLETE: u8 = 8;
/// Done, but the output could not be written.
pub(crate) const OUTPUT_LOST: u8 = 9;

/// The list as it stands in `--help` and in the documentation.
pub(crate) const HELP: &str = "\
Exit status:
  0  done
  1  failed; no row changed
  2  usage: the command line, the configuration or the change file
  3  stopped by a finding
  4  rolled back or not begun: an expectation, a check or a verification failed
  5  rolled back or not begun: rows have moved
  6  declined, or no answer
  7  outcome unknown: run marktwice settle
  8  committed, but the receipt could not be completed
  9  done, but the output could not be written";

/// The status of a failure.
pub(crate) fn of_failure(failure: &Failure) -> u8 {
    match failure {
        Failure::Engine(EngineError::Refused(_)) => STOPPED,
        Failure::Engine(EngineError::Interrupted) => DECLINED,
        Failure::Engine(EngineError::Unusable(Unusable::Address, _)) => USAGE,
        Failure::Engine(_) | Failure::Log(_) => FAILED,
        Failure::Usage { .. } => USAGE,
        Failure::Unsettled { .. } => UNKNOWN,
    }
}

/// The status of an attempt's end.
pub(crate) fn of_end(end: &End) -> u8 {
    match end {
        End::Committed | End::NothingToDo(_) => DONE,
        End::ReceiptIncomplete(_) => RECEIPT_INCOMPLETE,
        End::Stopped(_) => STOPPED,
        End::Expectation(_)
        | End::Checks(..)
        | End::Queries(_)
        | End::Verification(_)
        | End::SideEffects(..)
        | End::NoUndo(_) => NOT_AS_EXPECTED,
        End::Moved(_) | End::Conflicts(_) | End::Changed(_) => MOVED,
        End::Declined(
            Answer::Yes | Answer::No | Answer::NobodyThere | Answer::TooLate | Answer::Interrupted,
        ) => DECLINED,
        End::Failed(failure) => of_failure(failure),
        End::Unknown(_) => UNKNOWN,
    }
}

/// The status of a comparison.
pub(crate) fn of_comparison(same: bool) -> u8 {
    if same { DONE } else { NOT_AS_EXPECTED }
}

/// The status of a preview by itself.
pub(crate) fn of_preview(preview: &Preview) -> u8 {
    if !preview.stops().is_empty() {
        STOPPED
    } else if !preview.unmet().is_empty() || preview.fails() {
        NOT_AS_EXPECTED
    } else {
        DONE
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The documentation states these numbers; it must not drift from them.
    #[test]
    fn the_documentation_has_the_same_list() {
        let commands = include_str!("../../../docs/COMMANDS.md");
        for line in HELP.lines().skip(1) {
            let (number, meaning) = line.trim().split_once("  ").unwrap();
            let row = format!("| {number} | {meaning} |");
            assert!(commands.contains(&row), "docs/COMMANDS.md lacks: {row}");
        }
    }
}
