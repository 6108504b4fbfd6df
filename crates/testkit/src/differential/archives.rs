//! Random cases of rows that are put away before they go: families of tables, and one that takes the rows of a DELETE.

use fastrand::Rng;
use marktwice_core::Value;
use marktwice_run::Preview;

use super::{Case, Contents, families, sorted};
use crate::stage::On;

/// From this seed on rows are put away.
pub const FROM: u64 = 3_000_000_000;
/// The table that takes them.
const AWAY: &str = "away";

/// Makes a case.
pub(super) fn case(seed: u64, on: On) -> Case {
    let case = families::case(families::FROM + (seed - FROM), on);
    let mut dice = Rng::with_seed(seed);
    let statement = if case.statement.starts_with("DELETE") {
        case.statement.clone()
    } else {
        let n = dice.u32(..7);
        let conditions = [
            format!("k <= {n}"),
            format!("a = {n}"),
            "b IS NULL".to_owned(),
            format!("k <> {n} OR a IS NULL"),
        ];
        format!("DELETE FROM t WHERE {}", conditions[dice.usize(..conditions.len())])
    };
    let away: &[&str] = match on {
        On::Sqlite => &[
            "CREATE TABLE away AS SELECT * FROM t WHERE 0;",
            "CREATE TABLE away AS SELECT *, 7 AS more FROM t WHERE 0; CREATE UNIQUE INDEX away_k ON away (k);",
        ],
        On::Postgres => &[
            "CREATE TABLE away (LIKE t, nr serial PRIMARY KEY);",
            "CREATE TABLE away (LIKE t INCLUDING INDEXES);",
            "CREATE TABLE away (LIKE t, nr int PRIMARY KEY GENERATED ALWAYS AS IDENTITY, at timestamp DEFAULT '2026-05-11');",
        ],
        On::Maria => &[
            "CREATE TABLE away LIKE t;",
            "CREATE TABLE away LIKE t; ALTER TABLE away ADD COLUMN more int DEFAULT 7;",
        ],
    };
    let script = format!("{}{}\n", case.script, away[dice.usize(..away.len())]);
    let statement = format!("/* marktwice step\narchive_to = \"{AWAY}\"\n*/\n{statement}");
    Case { script, statement, more: Vec::new(), between: false, ..case }
}

/// Whether the rows of a case are put away.
pub(super) fn is_one(case: &Case) -> bool {
    case.statement.contains("archive_to")
}

/// What the database must hold: what the bare statement leaves, and in the table that takes the rows those that the preview
/// has shown.
pub(super) fn expected(preview: &Preview, tables: &[String], bare: &Contents) -> Contents {
    let mut all = bare.clone();
    let rows = preview.steps.iter().flat_map(|step| &step.block.rows).map(|row| row.image.row().to_vec());
    if let Some(away) = tables.iter().position(|table| table == AWAY).and_then(|at| all.get_mut(at)) {
        *away = sorted(rows.collect());
    }
    all
}

/// The same database without what the table that takes the rows has of its own.
pub(super) fn without_own(preview: &Preview, tables: &[String], now: &Contents) -> Contents {
    let mut all = now.clone();
    let width = preview.steps.first().map_or(0, |step| step.block.target.columns.len());
    if let Some(away) = tables.iter().position(|table| table == AWAY).and_then(|at| all.get_mut(at)) {
        let cut: Vec<Vec<Value>> = away.iter().map(|row| row.iter().take(width).cloned().collect()).collect();
        *away = sorted(cut);
    }
    all
}
