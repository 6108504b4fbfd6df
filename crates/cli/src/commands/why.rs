//! `why`: what a finding means and what to do.

use marktwice_core::Code;
use marktwice_core::near::nearest;

use crate::args::Common;
use crate::exit;
use crate::report::Trouble;
use crate::screen::{Screen, show};

/// Explains one code, or lists all.
pub(crate) fn run(common: &Common, code: Option<&str>) -> Result<u8, Trouble> {
    let codes: Vec<Code> = match code {
        None => Code::ALL.to_vec(),
        Some(text) => vec![text.parse().map_err(|()| unknown(text))?],
    };
    show(common, &Screen::Findings(&codes, code.is_some()));
    Ok(exit::DONE)
}

fn unknown(text: &str) -> Trouble {
    let hint = match nearest(text, Code::ALL.iter().map(|c| c.as_str())) {
        Some(near) => format!("did you mean {near}?"),
        None => "marktwice why lists all of them".to_owned(),
    };
    Trouble::usage(format!("there is no finding {text}"), hint)
}
