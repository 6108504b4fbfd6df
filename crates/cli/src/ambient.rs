//! The clock, Ctrl-C, and progress on standard error.

use std::io::IsTerminal;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressStyle};
use marktwice_port::{Ambient, Phase, Silent, Stamp, Stopper};

use crate::exit;

static STOP: AtomicBool = AtomicBool::new(false);

/// From now on Ctrl-C is a request to stop, not the end of the process: what is at work is stopped, on a server too, a run
/// rolls back, and both say so. A second one ends the process at once; the next command then tidies up.
pub(crate) fn catch_interrupts() {
    // Should the handler not be possible, Ctrl-C ends the process.
    let _ = ctrlc::set_handler(|| {
        if STOP.swap(true, Ordering::SeqCst) {
            std::process::exit(i32::from(exit::DECLINED));
        }
    });
}

/// What the last panic said.
static PANIC: Mutex<String> = Mutex::new(String::new());

/// From now on a panic is kept, to be told in our own words by whoever catches it.
pub(crate) fn catch_panics() {
    std::panic::set_hook(Box::new(|info| {
        let mut last = PANIC.lock().unwrap_or_else(PoisonError::into_inner);
        *last = info.to_string();
    }));
}

/// The last panic, for the person who has to go on.
pub(crate) fn last_panic() -> String {
    let said = PANIC.lock().unwrap_or_else(PoisonError::into_inner);
    format!(
        "error: a fault of the program itself, or of a library: {said}\n  what was not committed was rolled back; a run \
         that was being committed is told by: marktwice settle\n"
    )
}

/// A server does not answer any more, and the connection cannot be waited for: says what is known, and ends.
fn gone_silent(commit: bool) {
    let (said, status) = if commit {
        (
            "the server has gone silent while it committed: the outcome is unknown\n  find out with: marktwice settle\n",
            exit::UNKNOWN,
        )
    } else {
        (
            "the server has gone silent, and COMMIT was not asked for: without it the server rolls back\n",
            exit::FAILED,
        )
    };
    crate::out::tell(&format!("error: {said}"));
    std::process::exit(i32::from(status));
}

/// Whether Ctrl-C was pressed.
pub(crate) fn interrupted() -> bool {
    STOP.load(Ordering::SeqCst)
}

/// Work that is over sooner shows no progress.
const PATIENCE: Duration = Duration::from_secs(1);

/// The real surroundings.
pub(crate) struct Real {
    bar: Mutex<Option<(Phase, Instant, Option<ProgressBar>)>>,
    shows: bool,
}

impl Real {
    pub(crate) fn new() -> Self {
        Real { bar: Mutex::new(None), shows: std::io::stderr().is_terminal() }
    }

    /// Takes the progress off the terminal.
    pub(crate) fn quiet(&self) {
        let mut bar = self.bar.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, _, Some(bar))) = bar.take() {
            bar.finish_and_clear();
        }
    }
}

fn name(phase: Phase) -> &'static str {
    match phase {
        Phase::Reading => "reading the matched rows",
        Phase::Holding => "holding the rows in the transaction",
        Phase::Executing => "executing the statement",
        Phase::Proving => "verifying every row, writing the snapshot",
        Phase::Comparing => "comparing with what the run left",
        Phase::Restoring => "putting the rows back",
    }
}

impl Ambient for Real {
    fn now(&self) -> Stamp {
        let now = jiff::Timestamp::now();
        Stamp {
            rfc3339: now.strftime("%Y-%m-%dT%H:%M:%SZ").to_string(),
            compact: now.strftime("%Y%m%dT%H%M%S%.6fZ").to_string(),
        }
    }

    fn stopper(&self) -> Stopper {
        Arc::new(interrupted)
    }

    fn silent(&self) -> Silent {
        Arc::new(gone_silent)
    }

    fn progress(&self, phase: Phase, done: u64, of: Option<u64>) {
        if !self.shows {
            return;
        }
        let mut state = self.bar.lock().unwrap_or_else(PoisonError::into_inner);
        let current = state.as_ref().is_some_and(|(shown, ..)| *shown == phase);
        if !current && let Some((_, _, Some(old))) = state.replace((phase, Instant::now(), None)) {
            old.finish_and_clear();
        }
        let Some((_, since, bar)) = state.as_mut() else { return };
        if since.elapsed() < PATIENCE {
            return;
        }
        let bar = bar.get_or_insert_with(|| {
            let bar = of.map_or_else(ProgressBar::new_spinner, ProgressBar::new);
            let template = "{msg}: {human_pos} rows, {per_sec}";
            bar.set_style(
                ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar()),
            );
            bar.set_message(name(phase));
            bar
        });
        bar.set_position(done);
    }
}
