//! Reading ahead on a second thread: while rows that were read are at work, the next ones are unpacked and decoded, in bundles of
//! bounded size. Few rows need no thread.

use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::JoinHandle;

use marktwice_port::LogError;

use crate::worker::{BYTES, WAITING, lost, thread};

/// Rows that are read before a thread is begun, and rows of a bundle at most.
const ROWS: usize = 256;

/// Where rows come from.
pub(crate) trait Source: Send + 'static {
    /// A row.
    type Row: Send + 'static;

    /// The next one; `None` at the end, which is asked for once.
    fn next(&mut self) -> Result<Option<Self::Row>, LogError>;

    /// How many bytes a row takes.
    fn weight(row: &Self::Row) -> usize;
}

type Bundle<R> = Result<Vec<R>, LogError>;

enum Place<S: Source> {
    Here(S),
    There(Receiver<Bundle<S::Row>>, JoinHandle<()>),
    Ended,
}

/// Rows of a source, read ahead.
pub(crate) struct Ahead<S: Source> {
    place: Place<S>,
    given: usize,
    bundle: std::vec::IntoIter<S::Row>,
}

fn read<S: Source>(mut source: S, to: &SyncSender<Bundle<S::Row>>) {
    loop {
        let (mut bundle, mut bytes) = (Vec::new(), 0);
        let end = loop {
            match source.next() {
                Ok(Some(row)) => {
                    bytes += S::weight(&row);
                    bundle.push(row);
                }
                Ok(None) => break Some(Ok(Vec::new())),
                Err(error) => break Some(Err(error)),
            }
            if bundle.len() == ROWS || bytes >= BYTES {
                break None;
            }
        };
        // Nobody may be there any more to take them. What was read before an error comes before it.
        if !bundle.is_empty() && to.send(Ok(bundle)).is_err() {
            return;
        }
        if let Some(end) = end {
            let _ = to.send(end);
            return;
        }
    }
}

impl<S: Source> Ahead<S> {
    /// Rows of a source of which none was read.
    pub(crate) fn new(source: S) -> Ahead<S> {
        Ahead { place: Place::Here(source), given: 0, bundle: Vec::new().into_iter() }
    }

    /// The next row; `None` at the end. After an error there is no more.
    pub(crate) fn next(&mut self) -> Result<Option<S::Row>, LogError> {
        if let Some(row) = self.bundle.next() {
            return Ok(Some(row));
        }
        if self.given >= ROWS
            && let Place::Here(source) = std::mem::replace(&mut self.place, Place::Ended)
        {
            let (sender, receiver) = sync_channel(WAITING);
            self.place = Place::There(receiver, thread("marktwice-read", move || read(source, &sender))?);
            self.given = 0;
        }
        match &mut self.place {
            Place::Here(source) => {
                self.given += 1;
                let next = source.next();
                if !matches!(next, Ok(Some(_))) {
                    self.place = Place::Ended;
                }
                next
            }
            Place::There(receiver, _) => match receiver.recv() {
                Ok(Ok(bundle)) if bundle.is_empty() => {
                    self.place = Place::Ended;
                    Ok(None)
                }
                Ok(Ok(bundle)) => {
                    self.bundle = bundle.into_iter();
                    Ok(self.bundle.next())
                }
                Ok(Err(error)) => {
                    self.place = Place::Ended;
                    Err(error)
                }
                Err(_) => {
                    self.place = Place::Ended;
                    Err(lost("reads"))
                }
            },
            Place::Ended => Ok(None),
        }
    }
}

impl<S: Source> Drop for Ahead<S> {
    fn drop(&mut self) {
        if let Place::There(receiver, handle) = std::mem::replace(&mut self.place, Place::Ended) {
            drop(receiver);
            let _ = handle.join();
        }
    }
}

#[cfg(test)]
mod tests {
    use marktwice_port::LogErrorKind;

    use super::*;

    /// Counts up, and fails, ends or is lost at some row.
    struct Counting {
        at: usize,
        end: usize,
        error: usize,
    }

    impl Source for Counting {
        type Row = usize;

        fn next(&mut self) -> Result<Option<usize>, LogError> {
            self.at += 1;
            assert_ne!(self.at, 8_888, "a panic");
            if self.at == self.error {
                return Err(LogError::new(LogErrorKind::Damaged, "torn".to_owned()));
            }
            Ok((self.at <= self.end).then_some(self.at))
        }

        fn weight(_: &usize) -> usize {
            1_000
        }
    }

    fn all(end: usize, error: usize) -> (usize, Option<LogErrorKind>) {
        let mut ahead = Ahead::new(Counting { at: 0, end, error });
        let mut last = 0;
        loop {
            match ahead.next() {
                Ok(Some(row)) => {
                    assert_eq!(row, last + 1);
                    last = row;
                }
                Ok(None) => return (last, None),
                Err(error) => {
                    assert!(matches!(ahead.next(), Ok(None)), "after an error there is no more");
                    return (last, Some(error.kind));
                }
            }
        }
    }

    #[test]
    fn rows_come_in_their_order_and_errors_where_they_are() {
        for end in [0, 1, ROWS - 1, ROWS, ROWS + 1, 5_000] {
            assert_eq!(all(end, usize::MAX), (end, None));
        }
        for error in [1, ROWS, ROWS + 1, 4_000] {
            assert_eq!(all(5_000, error), (error - 1, Some(LogErrorKind::Damaged)));
        }
        let (rows, lost) = all(20_000, usize::MAX);
        assert!(rows < 8_888 && lost == Some(LogErrorKind::Io), "{rows} {lost:?}");
        // Whoever stops early waits for nothing.
        let mut ahead = Ahead::new(Counting { at: 0, end: 8_000, error: usize::MAX });
        (0..600).for_each(|_| assert!(ahead.next().unwrap().is_some()));
    }
}
