//! Asking a server to stop while a statement is at work.

use std::sync::mpsc::{RecvTimeoutError, channel};
use std::time::Duration;

use marktwice_port::Stopper;

/// How often it is looked whether somebody asked to stop.
const TICK: Duration = Duration::from_millis(100);

/// Does `work`; when `stop` says so meanwhile, `cancel` is called (again every second, until the work is over).
pub fn watched<T>(stop: &Stopper, cancel: &(dyn Fn() + Sync), work: impl FnOnce() -> T) -> T {
    std::thread::scope(|scope| {
        let (alive, over) = channel::<()>();
        scope.spawn(move || {
            let mut wait = TICK;
            while over.recv_timeout(wait) == Err(RecvTimeoutError::Timeout) {
                if stop() {
                    cancel();
                    wait = Duration::from_secs(1);
                }
            }
        });
        let done = work();
        drop(alive);
        done
    })
}
