//! What a transaction has written so far, by the server's own books: the counters by table, the locks that it holds, and
//! what neither shows.
//!
//! The counters miss TRUNCATE, dropped and made tables, and everything while `track_counts` is off, which a trigger may
//! switch off for a moment. Every relation that is written is locked for writing until the transaction ends, so the
//! locks name what may have been written besides. Large objects are counted by themselves.

use std::collections::{BTreeMap, HashMap};

use marktwice_port::{EngineError, SideHow, SideWrite};

use crate::catalog::cell;
use crate::client::{Pg, TextRow};

/// Rows inserted, updated and deleted, by table.
type Counters = HashMap<String, (String, [u64; 3])>;

/// The books at one moment.
#[derive(Debug, Clone, Default)]
pub(crate) struct Books {
    counters: Counters,
    /// Relations locked for writing, by number: name, kind, and the table that a sequence belongs to.
    locks: BTreeMap<String, (String, String, String)>,
    large_objects: u64,
    counting: bool,
}

/// Reads the books of the transaction that is open. A view that is written through has no rows: its tables are locked too. Temporary relations, indexes and the server's own tables are left
/// out. With them the numbers that another query gives.
pub(crate) fn books(pg: &mut Pg, beside: &str) -> Result<(Books, Vec<String>), EngineError> {
    let number = |row: &TextRow, at: usize| cell(row, at).parse::<u64>().unwrap_or(0);
    let mut answers = pg
        .several(&[
        "SELECT relid, relid::pg_catalog.regclass::text, n_tup_ins, n_tup_upd, n_tup_del FROM pg_catalog.pg_stat_xact_user_tables \
         WHERE schemaname NOT LIKE 'pg\\_temp%' AND n_tup_ins + n_tup_upd + n_tup_del > 0",
        "SELECT DISTINCT l.relation, coalesce(c.oid::pg_catalog.regclass::text, ''), coalesce(c.relkind::text, ''), \
         coalesce((SELECT d.refobjid::text FROM pg_catalog.pg_depend d WHERE d.classid = 'pg_catalog.pg_class'::pg_catalog.regclass AND d.objid = c.oid \
          AND d.refclassid = 'pg_catalog.pg_class'::pg_catalog.regclass AND d.deptype IN ('a', 'i') LIMIT 1), '') \
         FROM pg_catalog.pg_locks l LEFT JOIN pg_catalog.pg_class c ON c.oid = l.relation \
         WHERE l.pid = pg_catalog.pg_backend_pid() AND l.locktype = 'relation' AND l.granted \
         AND l.mode IN ('RowExclusiveLock', 'ShareUpdateExclusiveLock', 'ShareLock', 'ShareRowExclusiveLock', \
          'ExclusiveLock', 'AccessExclusiveLock') \
         AND l.database IN (0, (SELECT oid FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database())) \
         AND (c.oid IS NULL OR (c.relkind IN ('r', 'p', 'S', 'm', 'f', 'v') \
          AND (c.relkind <> 'v' OR l.mode <> 'RowExclusiveLock') AND c.relpersistence <> 't' \
          AND c.relnamespace NOT IN ('pg_catalog'::pg_catalog.regnamespace, 'pg_toast'::pg_catalog.regnamespace)))",
        "SELECT (SELECT count(*) FROM pg_catalog.pg_largeobject_metadata), pg_catalog.current_setting('track_counts') = 'on'",
            beside,
        ])?
        .into_iter();
    let mut next = || answers.next().unwrap_or_default();
    let counters = next()
        .iter()
        .map(|row| {
            (
                cell(row, 0).to_owned(),
                (cell(row, 1).to_owned(), [number(row, 2), number(row, 3), number(row, 4)]),
            )
        })
        .collect();
    let locks = next()
        .iter()
        .map(|row| {
            (
                cell(row, 0).to_owned(),
                (cell(row, 1).to_owned(), cell(row, 2).to_owned(), cell(row, 3).to_owned()),
            )
        })
        .collect();
    let rest = next().into_iter().next().unwrap_or_default();
    let books = Books { counters, locks, large_objects: number(&rest, 0), counting: cell(&rest, 1) == "t" };
    Ok((books, next().iter().map(|row| cell(row, 0).to_owned()).collect()))
}

fn in_words([inserted, updated, deleted]: [u64; 3]) -> String {
    let parts = [(inserted, "inserted"), (updated, "updated"), (deleted, "deleted")];
    parts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}")).collect::<Vec<_>>().join(", ")
}

/// What was written between two moments.
pub(crate) struct Measured {
    /// Writes to other tables than the own ones, and what may have been written or done without being counted.
    pub(crate) elsewhere: Vec<SideWrite>,
    /// Rows of the own tables, inserted, updated and deleted.
    pub(crate) own: [u64; 3],
    /// Whether the counters can be believed.
    pub(crate) counted: bool,
}

/// Compares two moments. `own` are the numbers of the target and its partitions; `children` those of tables that
/// foreign keys' actions look at, and `fired` the names of those that triggers are known to write: these are locked for
/// writing even where no row is found.
pub(crate) fn between(
    before: &Books,
    after: &Books,
    own: &[String],
    (children, fired): (&[String], &[String]),
) -> Measured {
    let counted = before.counting && after.counting;
    let mut target = [0; 3];
    let mut elsewhere = Vec::new();
    let mut accounted: Vec<&str> = Vec::new();
    for (relid, (name, now)) in &after.counters {
        let mut written = *now;
        if let Some((_, then)) = before.counters.get(relid) {
            for (count, then) in written.iter_mut().zip(then) {
                *count = count.saturating_sub(*then);
            }
        }
        if own.contains(relid) {
            target.iter_mut().zip(written).for_each(|(sum, count)| *sum += count);
        } else if written != [0; 3] {
            accounted.push(relid);
            let how = SideHow::Measured(in_words(written));
            let rows = Some(written.iter().sum());
            elsewhere.push(SideWrite::new(name.clone(), how, rows));
        }
    }
    let mut unmeasured = |table: &str, what: String| {
        elsewhere.push(SideWrite::new(table.to_owned(), SideHow::Unmeasured(what), None));
    };
    for (relid, (name, kind, of)) in &after.locks {
        let known = own.contains(relid)
            || before.locks.contains_key(relid)
            || accounted.contains(&relid.as_str())
            // The numbers that a written table takes for itself.
            || (kind == "S" && (own.contains(of) || accounted.contains(&of.as_str())))
            || (counted && (children.contains(relid) || (kind != "S" && fired.contains(name))));
        if known {
            continue;
        }
        match (name.as_str(), kind.as_str()) {
            ("", _) => {
                unmeasured("", "a table that was there before the statement is there no more".to_owned())
            }
            (_, "S") => unmeasured(name, format!("the sequence {name} was set or taken from, and stays so")),
            _ => unmeasured(
                name,
                format!(
                    "{name} is locked for writing and the server counts no row of it: it may have been written"
                ),
            ),
        }
    }
    if before.large_objects != after.large_objects {
        let (then, now) = (before.large_objects, after.large_objects);
        unmeasured("", format!("large objects were made or removed ({then} before, {now} now)"));
    }
    elsewhere.sort_by(|a, b| a.table.cmp(&b.table));
    Measured { elsewhere, own: target, counted }
}
