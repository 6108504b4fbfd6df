//! The clock, Ctrl-C, and progress on standard error.

use std::io::IsTerminal;
use std::sync::atomic::{AtomicBool, AtomicU8, Ordering};
use std::sync::{Arc, Mutex, Once, PoisonError};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressStyle};
use marktwice_core::sheet::Sheet;
use marktwice_core::words;
use marktwice_port::{Ambient, CommitState, Phase, SheetLines, Silent, Stamp, Stopper};

use crate::{csv_file, exit};

static STOP: AtomicBool = AtomicBool::new(false);

/// From now on Ctrl-C is a request to stop, not the end of the process: what is at work is stopped, on a server too, a run
/// rolls back, and both say so. A second one ends the process at once; the next command then tidies up.
pub(crate) fn catch_interrupts() {
    // Should the handler not be possible, Ctrl-C ends the process.
    let _ = ctrlc::set_handler(|| {
        if STOP.swap(true, Ordering::SeqCst) {
            let (said, status) = if_ended_now();
            crate::out::tell(&format!("stopped: {said}\n"));
            std::process::exit(i32::from(status));
        }
    });
}

/// From now on a file that grows beyond the limit on this process is an error of the write, and not the end of the process.
pub(crate) fn catch_file_limit() {
    // Should the handler not be possible, the process ends there as it would have.
    let _ = signal_hook::flag::register(signal_hook::consts::SIGXFSZ, Arc::default());
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

/// How far the commit of this process's run has come.
static COMMIT: AtomicU8 = AtomicU8::new(0);

/// What is true of the run where the process ends at this moment, and its exit status.
fn if_ended_now() -> (&'static str, u8) {
    match COMMIT.load(Ordering::SeqCst) {
        0 => ("nothing was committed; an open transaction is rolled back", exit::DECLINED),
        1 => (
            "COMMIT was asked for and not answered, so the outcome is unknown: run marktwice settle",
            exit::UNKNOWN,
        ),
        2 => (
            "the run is committed, and its receipt is not complete: run marktwice settle",
            exit::RECEIPT_INCOMPLETE,
        ),
        _ => ("the run is committed, and its receipt says so", exit::DONE),
    }
}

/// A server does not answer any more, and the connection cannot be waited for: says what is known, and ends.
fn gone_silent(_: bool) {
    let (said, status) = match if_ended_now() {
        (_, exit::DECLINED) => ("COMMIT was not asked for, so the server rolls back", exit::FAILED),
        known => known,
    };
    let kind = if status == exit::DONE { "note" } else { "error" };
    crate::out::tell(&format!("{kind}: the server has gone silent; {said}\n"));
    std::process::exit(i32::from(status));
}

/// Whether Ctrl-C was pressed.
pub(crate) fn interrupted() -> bool {
    STOP.load(Ordering::SeqCst)
}

/// Work that is over sooner shows no progress.
const PATIENCE: Duration = Duration::from_secs(1);
/// How often progress is drawn.
const TICK: Duration = Duration::from_millis(200);
/// A commit that takes longer is told even where nobody looks on.
const SLOW_COMMIT: Duration = Duration::from_secs(5);

/// What is being done, how far it is, and the line that tells it.
struct Busy {
    phase: Phase,
    since: Instant,
    done: u64,
    of: Option<u64>,
    bar: Option<ProgressBar>,
    told: bool,
}

impl Busy {
    /// Draws or says what is due: an engine that is at work calls nobody meanwhile.
    fn tick(&mut self, shows: bool) {
        let elapsed = self.since.elapsed();
        if self.phase == Phase::Committing && elapsed >= SLOW_COMMIT && !self.told {
            self.told = true;
            self.end();
            crate::out::tell(&format!(
                "note: COMMIT was asked for {} s ago and is not answered yet (a server may wait for a standby, a file for a reader)\n",
                elapsed.as_secs()
            ));
        }
        if !shows || elapsed < PATIENCE {
            return;
        }
        let line = self.line(elapsed);
        let bar = self.bar.get_or_insert_with(|| {
            let bar = ProgressBar::new_spinner();
            bar.set_style(
                ProgressStyle::with_template("{msg}").unwrap_or_else(|_| ProgressStyle::default_spinner()),
            );
            bar
        });
        bar.set_message(line);
    }

    fn line(&self, elapsed: Duration) -> String {
        let seconds = elapsed.as_secs();
        if self.done == 0 {
            return format!("{}: {seconds} s", name(self.phase));
        }
        let of = self.of.map_or(String::new(), |of| format!(" of {}", words::number(of)));
        let each = u128::from(self.done) * 1000 / elapsed.as_millis().max(1);
        let each = words::number(u64::try_from(each).unwrap_or(u64::MAX));
        format!("{}: {}{of} rows, {each} a second", name(self.phase), words::number(self.done))
    }

    fn end(&mut self) {
        if let Some(bar) = self.bar.take() {
            bar.finish_and_clear();
        }
    }
}

/// What is shared with the thread that draws.
type State = Mutex<Option<Busy>>;

fn lock(state: &State) -> std::sync::MutexGuard<'_, Option<Busy>> {
    state.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The real surroundings.
pub(crate) struct Real {
    state: Arc<State>,
    drawing: Once,
}

impl Real {
    pub(crate) fn new() -> Self {
        Real { state: Arc::default(), drawing: Once::new() }
    }

    /// Takes the progress off the terminal.
    pub(crate) fn quiet(&self) {
        if let Some(mut busy) = lock(&self.state).take() {
            busy.end();
        }
    }

    /// Draws until nobody is there any more who could be busy.
    fn draw(&self) {
        let (state, shows) = (Arc::downgrade(&self.state), std::io::stderr().is_terminal());
        // Without a thread for it there is no progress to be seen, and all else goes on.
        let _ = std::thread::Builder::new().spawn(move || {
            while let Some(state) = state.upgrade() {
                if let Some(busy) = lock(&state).as_mut() {
                    busy.tick(shows);
                }
                drop(state);
                std::thread::sleep(TICK);
            }
        });
    }
}

fn name(phase: Phase) -> &'static str {
    match phase {
        Phase::Sheet => "reading a sheet",
        Phase::Planning => "asking what the statement means here",
        Phase::Finding => "finding the rows",
        Phase::Closer => "looking closer",
        Phase::ReadingBack => "reading the snapshot back",
        Phase::Reading => "reading the matched rows",
        Phase::Holding => "holding the rows in the transaction",
        Phase::Executing => "executing the statement",
        Phase::Proving => "verifying every row, writing the snapshot",
        Phase::Comparing => "comparing with what the run left",
        Phase::Copying => "copying the whole database",
        Phase::Restoring => "putting the rows back",
        Phase::Committing => "committing",
    }
}

impl Ambient for Real {
    fn sheet(&self, sheet: &Sheet) -> Result<SheetLines, String> {
        csv_file::lines(sheet)
    }

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

    fn commit_state(&self, state: CommitState) {
        let number = match state {
            CommitState::NotAsked => 0,
            CommitState::Asked => 1,
            CommitState::Answered => 2,
            CommitState::Recorded => 3,
        };
        COMMIT.store(number, Ordering::SeqCst);
    }

    fn progress(&self, phase: Phase, done: u64, of: Option<u64>) {
        self.drawing.call_once(|| self.draw());
        let mut state = lock(&self.state);
        match state.as_mut().filter(|busy| busy.phase == phase) {
            Some(busy) => (busy.done, busy.of) = (done, of),
            None => {
                let busy = Busy { phase, since: Instant::now(), done, of, bar: None, told: false };
                if let Some(mut old) = state.replace(busy) {
                    old.end();
                }
            }
        }
    }
}
