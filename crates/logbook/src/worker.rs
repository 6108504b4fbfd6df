//! A second thread for what is written: rows are handed over in bundles of bounded size, and encoded, hashed and compressed there while
//! the engine is read. Few rows need no thread.

use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::JoinHandle;

use marktwice_port::{LogError, LogErrorKind};

/// Rows of a bundle, at most.
const ROWS: usize = 512;
/// Bytes of a bundle, at most, but for its last row.
pub(crate) const BYTES: usize = 128 * 1024;
/// Bundles that wait.
pub(crate) const WAITING: usize = 4;

/// What is done with rows, one after the other.
pub(crate) trait Work: Send + 'static {
    /// A row.
    type Row: Send + 'static;

    /// Takes one.
    fn take(&mut self, row: &Self::Row) -> Result<(), LogError>;
}

/// Where the work is.
enum Place<W: Work> {
    /// Here: nothing was handed over yet.
    Here(W),
    /// On its own thread.
    There(SyncSender<Vec<W::Row>>, JoinHandle<Result<W, LogError>>),
    /// It has failed, and said so.
    Gone,
}

/// Work that rows are handed over to.
pub(crate) struct Worker<W: Work> {
    place: Place<W>,
    bundle: Vec<W::Row>,
    bytes: usize,
}

fn gone() -> LogError {
    LogError::new(LogErrorKind::Io, "writing has failed already".to_owned())
}

/// The thread that does this has come to grief.
pub(crate) fn lost(does: &str) -> LogError {
    LogError::new(LogErrorKind::Io, format!("the thread that {does} has come to grief"))
}

/// Begins a thread.
pub(crate) fn thread<T: Send + 'static>(
    name: &str,
    work: impl FnOnce() -> T + Send + 'static,
) -> Result<JoinHandle<T>, LogError> {
    let begun = std::thread::Builder::new().name(name.to_owned()).spawn(work);
    begun.map_err(|e| LogError::new(LogErrorKind::Io, format!("no thread can be begun: {e}")))
}

fn ended<W>(handle: JoinHandle<Result<W, LogError>>) -> Result<W, LogError> {
    handle.join().unwrap_or_else(|_| Err(lost("writes")))
}

impl<W: Work> Worker<W> {
    /// Work that has not begun.
    pub(crate) fn new(work: W) -> Worker<W> {
        Worker { place: Place::Here(work), bundle: Vec::new(), bytes: 0 }
    }

    /// Hands a row of so many bytes over. What goes wrong with it may be said by a later call, or by [`Worker::finish`].
    pub(crate) fn row(&mut self, row: W::Row, bytes: usize) -> Result<(), LogError> {
        self.bundle.push(row);
        self.bytes += bytes;
        if self.bundle.len() < ROWS && self.bytes < BYTES {
            return Ok(());
        }
        self.bytes = 0;
        let bundle = std::mem::take(&mut self.bundle);
        self.begin()?;
        let Place::There(sender, _) = &self.place else { return Err(gone()) };
        if sender.send(bundle).is_ok() {
            return Ok(());
        }
        // Who takes no more rows has a reason.
        match std::mem::replace(&mut self.place, Place::Gone) {
            Place::There(sender, handle) => {
                drop(sender);
                ended(handle).and(Err(gone()))
            }
            Place::Here(_) | Place::Gone => Err(gone()),
        }
    }

    /// Lets the thread begin.
    fn begin(&mut self) -> Result<(), LogError> {
        if let Place::Here(_) = &self.place
            && let Place::Here(mut work) = std::mem::replace(&mut self.place, Place::Gone)
        {
            let (sender, receiver) = sync_channel::<Vec<W::Row>>(WAITING);
            let writing = move || {
                for bundle in receiver {
                    for row in &bundle {
                        work.take(row)?;
                    }
                }
                Ok(work)
            };
            self.place = Place::There(sender, thread("marktwice-write", writing)?);
        }
        Ok(())
    }

    /// Waits until all rows are taken, and gives the work back.
    pub(crate) fn finish(mut self) -> Result<W, LogError> {
        let rest = std::mem::take(&mut self.bundle);
        let mut work = match std::mem::replace(&mut self.place, Place::Gone) {
            Place::Here(work) => work,
            Place::There(sender, handle) => {
                drop(sender);
                ended(handle)?
            }
            Place::Gone => return Err(gone()),
        };
        rest.iter().try_for_each(|row| work.take(row))?;
        Ok(work)
    }
}

impl<W: Work> Drop for Worker<W> {
    fn drop(&mut self) {
        // What is given up is gone when this returns: its draft too.
        if let Place::There(sender, handle) = std::mem::replace(&mut self.place, Place::Gone) {
            drop(sender);
            let _ = handle.join();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Counts rows, and fails at one.
    struct Counting {
        rows: Vec<usize>,
        fails_at: usize,
    }

    impl Work for Counting {
        type Row = usize;

        fn take(&mut self, row: &usize) -> Result<(), LogError> {
            if *row == self.fails_at {
                return Err(LogError::new(LogErrorKind::NoSpace, "full".to_owned()));
            }
            assert_ne!(*row, 7_777, "a panic");
            self.rows.push(*row);
            Ok(())
        }
    }

    fn counted(rows: usize, fails_at: usize, bytes: usize) -> Result<Vec<usize>, LogError> {
        let mut worker = Worker::new(Counting { rows: Vec::new(), fails_at });
        for row in 0..rows {
            worker.row(row, bytes)?;
        }
        worker.finish().map(|work| work.rows)
    }

    #[test]
    fn all_rows_come_in_their_order() {
        for rows in [0, 1, ROWS - 1, ROWS, 5_000] {
            for bytes in [1, BYTES / 3, BYTES * 2] {
                assert_eq!(counted(rows, usize::MAX, bytes).unwrap(), (0..rows).collect::<Vec<_>>());
            }
        }
    }

    #[test]
    fn what_fails_is_said_with_its_own_error() {
        for at in [0, ROWS - 1, ROWS, 4_999] {
            let error = counted(5_000, at, 1).unwrap_err();
            assert_eq!(error.kind, LogErrorKind::NoSpace, "row {at}: {error}");
        }
        // A thread that is lost is an error too, and dropping it hangs nowhere.
        let error = counted(9_000, usize::MAX, 1).unwrap_err();
        assert!(error.to_string().contains("grief"), "{error}");
        let mut worker = Worker::new(Counting { rows: Vec::new(), fails_at: usize::MAX });
        (0..2_000).for_each(|row| worker.row(row, 1).unwrap());
        drop(worker);
    }
}
