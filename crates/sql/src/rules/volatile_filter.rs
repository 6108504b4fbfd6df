//! `volatile-filter`: a filter that matches other rows at each reading.

use marktwice_core::{Code, Finding};

use super::Facts;
use crate::dialect::volatile::{Volatile, find};

/// Looks for dice in the filter. A clock is let pass: if time moves a row in or out, the second mark says so.
pub fn look(seen: Facts<'_>) -> Vec<Finding> {
    let Some(filter) = &seen.step.filter else { return Vec::new() };
    match find(seen.step, filter.slice) {
        Some((Volatile::Random | Volatile::Session, place)) => {
            let message = format!("{}() gives another value at each call", seen.step.text(place));
            vec![Finding::new(Code::VolatileFilter, message).at(seen.step.place(place))]
        }
        Some((Volatile::Clock, _)) | None => Vec::new(),
    }
}
