//! `receipt`: one run in full.

use marktwice_run::find_run;

use super::{Desk, history, print, print_json};
use crate::args::{Common, Format};
use crate::report::Trouble;
use crate::{exit, human, json};

/// Shows one run.
pub(crate) fn run(common: &Common, name: Option<&str>) -> Result<u8, Trouble> {
    let (_, entries) = history::entries(&Desk::find(common)?)?;
    let entry = find_run(&entries, name).map_err(|failure| Trouble::failure(&failure, "the logbook"))?;
    match common.format {
        Format::Json => print_json(&json::receipt(&entry)),
        Format::Human => print(&human::receipt(&entry)),
    }
    Ok(exit::DONE)
}
