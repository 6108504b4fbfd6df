//! Rows of tables without a key of which only the run knows some values. Their known contents tell which they may be; the rows
//! that were there before, by their whole contents, tell which of those they are. Of rows that are alike in all that is known,
//! which became which makes no difference to a table without a key.

use marktwice_port::EngineError;
use marktwice_sql::dialect::ours::{self, ORDINAL, WAS, WILL};

use crate::catalog::ident;
use crate::client::My;
use crate::content::{content, known_content};
use crate::held::Held;

/// The columns of held rows that only the run knows.
pub(crate) fn open(held: &Held) -> Vec<usize> {
    (0..held.layout.target.columns.len()).filter(|at| held.layout.is_open(*at)).collect()
}

/// The temporary table of rows that are there already, as it stands in a statement.
fn earlier(held: &Held) -> String {
    format!("{}.{}", ident(&held.layout.target.schema), ours::earlier(held.layout.step))
}

fn of_table(held: &Held) -> impl Fn(usize) -> String {
    |at| held.layout.target.columns.get(at).map_or(String::new(), |c| format!("t.{}", ident(&c.name)))
}

/// Notes the whole contents of rows that are there already and hold what one of the held rows is known to hold afterwards; the
/// held ones themselves are left out. What they were and will be must be noted with them.
pub(crate) fn note_earlier(held: &Held, my: &mut My) -> Result<(), EngineError> {
    let (name, earlier) = (held.name(), earlier(held));
    let whole = content(&held.table, of_table(held));
    let known = known_content(&held.table, &open(held), of_table(held));
    my.later(&format!("DROP TEMPORARY TABLE IF EXISTS {earlier}"))?;
    my.run(&format!(
        "CREATE TEMPORARY TABLE {earlier} (c char(64) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin PRIMARY KEY, n bigint NOT NULL) ENGINE=InnoDB"
    ))?;
    my.run(&format!(
        "INSERT INTO {earlier} SELECT x.c, count(*) FROM (SELECT {whole} AS c, {known} AS k FROM {} AS t) AS x \
         WHERE x.k IN (SELECT h.{WILL} FROM {name} AS h) GROUP BY x.c",
        held.table.name
    ))?;
    my.run(&format!(
        "UPDATE {earlier} AS e JOIN (SELECT h.{WAS} AS c, count(*) AS n FROM {name} AS h GROUP BY h.{WAS}) AS h ON h.c = e.c \
         SET e.n = e.n - h.n"
    ))
}

/// A query that gives the held rows, each with the row that it has become: of each content as many are new as there are more
/// than before.
pub(crate) fn pairs(held: &Held, columns: &str, range: &str) -> String {
    let whole = content(&held.table, of_table(held));
    let known = known_content(&held.table, &open(held), of_table(held));
    format!(
        "SELECT {columns}, t.marktwice_n IS NOT NULL, {now} \
         FROM (SELECT h.*, row_number() OVER (PARTITION BY h.{WILL} ORDER BY h.{ORDINAL}) AS marktwice_n FROM {name} AS h) AS h \
         LEFT JOIN (SELECT x.*, row_number() OVER (PARTITION BY x.marktwice_k ORDER BY x.marktwice_c) AS marktwice_n \
         FROM (SELECT t.*, {known} AS marktwice_k, {whole} AS marktwice_c, row_number() OVER (PARTITION BY {whole}) AS marktwice_i \
         FROM {table} AS t) AS x LEFT JOIN {earlier} AS e ON e.c = x.marktwice_c \
         WHERE x.marktwice_i > IFNULL(e.n, 0)) AS t ON t.marktwice_k = h.{WILL} AND t.marktwice_n = h.marktwice_n \
         {range} ORDER BY h.{ORDINAL}",
        now = held.now("t"),
        name = held.name(),
        table = held.table.name,
        earlier = earlier(held),
    )
}
