//! Looking on while a server is at work: it is asked to stop when somebody wants that, and given up when it has gone
//! silent.

use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::{Duration, Instant};

use marktwice_port::{Silent, Stopper};

/// How often it is looked whether somebody asked to stop.
const TICK: Duration = Duration::from_millis(100);
/// How long after its limit a server may still answer.
pub const GRACE: Duration = Duration::from_secs(10);

/// When a server counts as silent.
#[derive(Clone)]
pub struct GiveUp {
    /// After so long.
    pub after: Duration,
    /// Who is told.
    pub silent: Silent,
    /// Whether COMMIT was asked for.
    pub commit: bool,
}

/// Does `work`; when `stop` says so meanwhile, `cancel` is called (again every second, until the work is over). When the
/// time of `give_up` is over, and asking to stop has not helped, the silence is told.
pub fn watched<T>(
    stop: Option<&Stopper>,
    give_up: Option<&GiveUp>,
    cancel: &(dyn Fn() + Sync),
    work: impl FnOnce() -> T,
) -> T {
    let since = Instant::now();
    std::thread::scope(|scope| {
        let (alive, over) = channel::<()>();
        // Where the system gives no thread, Ctrl-C is heard between the calls, and limits are the server's alone.
        let _ = std::thread::Builder::new().spawn_scoped(scope, move || {
            let mut wait = TICK;
            while over.recv_timeout(wait) == Err(RecvTimeoutError::Timeout) {
                if stop.is_some_and(|stop| stop()) {
                    cancel();
                    wait = Duration::from_secs(1);
                }
                if let Some(give_up) = give_up.filter(|g| since.elapsed() >= g.after) {
                    (give_up.silent)(give_up.commit);
                    wait = Duration::from_secs(1);
                }
            }
        });
        let done = work();
        drop(alive);
        done
    })
}
