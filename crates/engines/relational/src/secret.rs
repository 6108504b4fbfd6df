//! Refusals about secret parameters.

use marktwice_core::finding::{Code, Finding};
use marktwice_port::EngineError;

/// Refuses a statement because of a secret.
pub(crate) fn refused(message: String, hint: &str) -> EngineError {
    EngineError::Refused(Box::new(Finding::new(Code::NotUnderstood, message).hint(hint)))
}
