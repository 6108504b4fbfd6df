//! The first rows of a run, before and after, as its snapshot keeps them. The database's own rows are not looked at.

use marktwice_core::image::Place;
use marktwice_port::Intent;

use crate::collect::Fired;
use crate::context::Context;
use crate::history::Entry;
use crate::outcome::Failure;
use crate::preview::{Block, Show};

/// Rows of a snapshot that are read where not all are to be shown.
const LOOKED: u64 = 10_000;

/// Rows of a run in one place, all written alike.
#[derive(Debug, Clone)]
pub struct KeptRows {
    /// Where.
    pub place: Place,
    /// The first of them, and how many there are among those that were read.
    pub block: Block,
}

/// What a snapshot has shown.
#[derive(Debug, Clone, Default)]
pub struct Kept {
    /// By place, and by what was done.
    pub rows: Vec<KeptRows>,
    /// Tables that rows were put away in.
    pub archives: Vec<String>,
    /// How many rows were read, where there are more.
    pub among: Option<u64>,
}

/// Reads the first rows of a run; nothing where the logbook has none.
///
/// # Errors
/// When the database cannot be opened, or the snapshot cannot be read.
pub fn kept_rows(context: &Context<'_>, entry: &Entry, show: Show) -> Result<Kept, Failure> {
    let receipt = &entry.receipt;
    let Some(snapshot) = receipt.snapshot.as_ref().filter(|_| receipt.forgotten.is_none()) else {
        return Ok(Kept::default());
    };
    let session = context.open(Intent::Read)?;
    let book = (context.book)(session.database())?;
    let mut reader = book.snapshot(&receipt.run, snapshot)?;
    let header = reader.header().clone();
    let mut places: Vec<(Place, Fired)> = Vec::new();
    let (mut read, mut among) = (0, None);
    while let Some(change) = reader.next()? {
        if read == LOOKED && show != Show::All {
            among = Some(read);
            break;
        }
        read += 1;
        let Some(target) = header.tables.get(change.place.table) else { continue };
        let at = places.iter().position(|(place, _)| *place == change.place).unwrap_or_else(|| {
            places.push((change.place, Fired::new(show)));
            places.len() - 1
        });
        if let Some((_, rows)) = places.get_mut(at) {
            rows.row(target, &change.key, (change.image.before(), change.image.after()));
        }
    }
    places.sort_by_key(|(place, _)| (place.step, place.role, place.table));
    let archives = receipt.triggered.iter().flatten().filter(|table| table.archive);
    let archives = archives.map(|table| table.table.clone()).collect();
    let of =
        |(place, fired): (Place, Fired)| fired.blocks.into_iter().map(move |block| KeptRows { place, block });
    Ok(Kept { rows: places.into_iter().flat_map(of).collect(), archives, among })
}
