//! Faults at the nth action on the file system, for tests. Without the feature `faults` nothing of this is compiled in
//! but an empty function; with it, nothing happens until a test asks for it.

use std::io;
use std::path::Path;

/// What happens at the chosen action.
#[cfg(feature = "faults")]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// It fails with "no space left".
    NoSpace,
    /// The process ends at once, before it.
    Death,
}

/// An action that has a part in what a power cut leaves: what was synced stays, anything else may be lost.
#[cfg(feature = "faults")]
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    /// A folder was made; its name is durable once its parent is synced.
    Made(std::path::PathBuf),
    /// The contents of a file are durable from now on.
    Synced(std::path::PathBuf, Vec<u8>),
    /// A file got another name; durable once its folder is synced.
    Renamed(std::path::PathBuf, std::path::PathBuf),
    /// The names in a folder are durable from now on.
    FolderSynced(std::path::PathBuf),
}

#[cfg(feature = "faults")]
mod armed {
    use std::cell::{Cell, RefCell};

    use super::{Event, Fault};

    thread_local! {
        static ACTIONS: Cell<u64> = const { Cell::new(0) };
        static FAULT: Cell<Option<(u64, Fault)>> = const { Cell::new(None) };
        static EVENTS: RefCell<Vec<Event>> = const { RefCell::new(Vec::new()) };
    }

    /// From now on counts actions of this thread from 1, and lets the nth one go wrong.
    pub fn arm(fault: Option<(u64, Fault)>) {
        ACTIONS.set(0);
        FAULT.set(fault);
        EVENTS.take();
    }

    /// What happened on the file system since [`arm`].
    pub fn events() -> Vec<Event> {
        EVENTS.with_borrow(Clone::clone)
    }

    pub(super) fn record(event: Event) {
        EVENTS.with_borrow_mut(|all| all.push(event));
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
pub use armed::{actions, arm, events};

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

/// Notes that a folder was made.
pub(crate) fn made(_folder: &Path) {
    #[cfg(feature = "faults")]
    armed::record(Event::Made(_folder.to_owned()));
}

/// Notes that a file was synced.
pub(crate) fn synced(_file: &Path) {
    #[cfg(feature = "faults")]
    armed::record(Event::Synced(_file.to_owned(), std::fs::read(_file).unwrap_or_default()));
}

/// Notes that a file was renamed.
pub(crate) fn renamed(_from: &Path, _to: &Path) {
    #[cfg(feature = "faults")]
    armed::record(Event::Renamed(_from.to_owned(), _to.to_owned()));
}

/// Notes that a folder was synced.
pub(crate) fn folder_synced(_folder: &Path) {
    #[cfg(feature = "faults")]
    armed::record(Event::FolderSynced(_folder.to_owned()));
}
