//! Faults at the nth action on the file system, for tests. Without the feature `faults` nothing of this is compiled in
//! but an empty function; with it, nothing happens until a test asks for it.

use std::io;

/// What happens at the chosen action.
#[cfg(feature = "faults")]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// It fails with "no space left".
    NoSpace,
    /// The process ends at once, before it.
    Death,
}

#[cfg(feature = "faults")]
mod armed {
    use std::cell::Cell;

    use super::Fault;

    thread_local! {
        static ACTIONS: Cell<u64> = const { Cell::new(0) };
        static FAULT: Cell<Option<(u64, Fault)>> = const { Cell::new(None) };
    }

    /// From now on counts actions of this thread from 1, and lets the nth one go wrong.
    pub fn arm(fault: Option<(u64, Fault)>) {
        ACTIONS.set(0);
        FAULT.set(fault);
    }

    /// How many actions there were since [`arm`].
    pub fn actions() -> u64 {
        ACTIONS.get()
    }

    pub(super) fn strike() -> Option<Fault> {
        ACTIONS.set(ACTIONS.get() + 1);
        FAULT.get().filter(|(at, _)| *at == ACTIONS.get()).map(|(_, fault)| fault)
    }
}

#[cfg(feature = "faults")]
pub use armed::{actions, arm};

/// Stands before every action on the file system.
pub(crate) fn action() -> io::Result<()> {
    #[cfg(feature = "faults")]
    match armed::strike() {
        Some(Fault::NoSpace) => return Err(io::ErrorKind::StorageFull.into()),
        Some(Fault::Death) => std::process::abort(),
        None => {}
    }
    Ok(())
}
