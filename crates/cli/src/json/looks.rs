//! The documents of what is only read: a draft, the tables, one table, what columns hold, and the rows of a run looked at
//! again.

use marktwice_core::Value;
use marktwice_core::survey::{Survey, TableSummary};
use marktwice_core::value::list_to_json;
use marktwice_run::{Again, AgainRow, AgainTable, Group, InCommon, Seen, Show, Stands, Values};
use serde_json::{Value as Json, json};

use super::{document, named};

/// A draft, and the file that it was written to.
pub(crate) fn draft(on: &str, (text, found): (&str, &InCommon), written: Option<&std::path::Path>) -> Json {
    let written = written.map(|path| path.display().to_string());
    document(
        "marktwice-draft",
        json!({ "database": on, "text": text, "common": found.common, "skipped": found.skipped, "written": written }),
    )
}

/// All tables.
pub(crate) fn tables(seen: &Seen<Vec<TableSummary>>) -> Json {
    document("marktwice-tables", json!({ "database": seen.database, "tables": seen.seen }))
}

/// One table in full, without the rows of it that are handed out behind: what a condition (as it runs) chose, and when.
pub(crate) fn look(seen: &Seen<Survey>, condition: Option<&str>, when: &str) -> Json {
    let survey = &seen.seen;
    let target = &survey.target;
    document(
        "marktwice-look",
        json!({
            "database": seen.database,
            "table": target.table,
            "schema": target.schema,
            "columns": target.columns,
            "key": target.key,
            "declared": survey.declared,
            "view": survey.view,
            "unique_in_fact": survey.unique_in_fact,
            "total": survey.rows,
            "skipped": survey.skipped,
            "notes": seen.notes,
            "where": condition,
            "read": when,
        }),
    )
}

/// The rows of a run, looked at again.
pub(crate) fn looked_again(seen: &Again) -> Json {
    let table = |table: &AgainTable| {
        let target = &table.target;
        let image = |row: &Option<Vec<Value>>| row.as_ref().map(|row| named(target, row));
        let row = |row: &AgainRow| {
            let changed = match &row.stands {
                Stands::Changed(columns) => target.names(columns),
                _ => Vec::new(),
            };
            json!({
                "key": list_to_json(&row.key),
                "before": image(&row.before),
                "left": image(&row.left),
                "now": image(&row.now),
                "stands": row.stands.as_str(),
                "changed_since": changed,
            })
        };
        let [as_left, as_before, changed, gone, there] = table.counts;
        json!({
            "step": table.step + 1,
            "table": target.table,
            "role": table.role,
            "key": target.key.names,
            "as_left": as_left,
            "as_before": as_before,
            "changed": changed,
            "gone": gone,
            "there": there,
            "later": table.later,
            "rows": table.rows.iter().map(row).collect::<Vec<_>>(),
            "why": table.why,
        })
    };
    document(
        "marktwice-rows-of-run",
        json!({
            "database": seen.database,
            "run": seen.receipt.run,
            "committed": seen.receipt.ended,
            "undone_by": seen.undone_by,
            "tables": seen.tables.iter().map(table).collect::<Vec<_>>(),
            "status": 0,
        }),
    )
}

/// What columns hold.
pub(crate) fn values(seen: &Seen<Values>, show: Show) -> Json {
    let found = &seen.seen;
    let group = |group: &Group| json!({ "values": list_to_json(&group.values), "rows": group.rows, "alike": group.alike });
    let spread = found.spread.as_ref().map(|spread| {
        let [least, quarter, half, three_quarters, greatest] = spread.marks.each_ref().map(Value::to_json);
        let bars = spread.bars.iter().map(|(from, rows)| json!({ "from": from, "rows": rows }));
        json!({
            "least": least, "quarter": quarter, "half": half, "three_quarters": three_quarters, "greatest": greatest,
            "bars": bars.collect::<Vec<_>>(),
        })
    });
    document(
        "marktwice-values",
        json!({
            "database": seen.database,
            "table": found.target.table,
            "columns": found.target.names(&found.columns),
            "matched": found.matched,
            "read": found.read,
            "every": found.every.as_ref().map(|(nth, column)| json!({ "nth": nth, "of": column })),
            "different": found.groups.len(),
            "untold": found.untold,
            "values": found.groups.iter().take(show.most()).map(group).collect::<Vec<_>>(),
            "spread": spread,
            "status": 0,
        }),
    )
}
