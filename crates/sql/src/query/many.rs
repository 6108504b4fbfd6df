//! Joined statements: target rows that several rows of the join match. They are held once; what the others would give is
//! compared.

use marktwice_core::many::{Many, ManyExample, SourceRow};

use crate::dialect::language::Language;
use crate::query::ask::Asker;
use crate::query::row_query::Ask;
use crate::statement::step::Step;

/// How many target rows are shown as examples.
const EXAMPLES: usize = 3;

/// The held rows, as the queries here name them.
#[derive(Debug, Clone)]
pub struct HeldNames {
    /// The table.
    pub table: String,
    /// Its ordinal column.
    pub ordinal: String,
    /// Its columns that tell one target row from another, each with the same column of the target in the statement.
    pub identity: Vec<(String, String)>,
    /// Its columns with after-values.
    pub after: Vec<String>,
    /// Whether there is an after-value that is not known.
    pub unknown: bool,
}

/// Leaves each target row once in the held rows, and says what was there several times; gives how many are left too.
/// The examples come without keys: with the ordinals by which the caller finds them.
///
/// # Errors
/// What `ask` answers.
pub fn once_each<E>(
    step: &Step,
    held: &HeldNames,
    ask: &mut Asker<'_, E>,
) -> Result<Option<(Many, Vec<i64>)>, E> {
    if step.sources.is_none() {
        return Ok(None);
    }
    let HeldNames { table, ordinal, identity, after, unknown } = held;
    let own: Vec<&str> = identity.iter().map(|(held, _)| held.as_str()).collect();
    let own = own.join(", ");
    let several =
        format!("SELECT min({ordinal}) AS marktwice_o FROM {table} GROUP BY {own} HAVING count(*) > 1");
    let rows = ask(&format!("SELECT count(*) FROM ({several}) AS x"))?.count(0, 0);
    if rows == 0 {
        return Ok(None);
    }
    let exact: Vec<String> = after.iter().flat_map(|a| binary(step.language, a)).collect();
    let named: Vec<String> =
        exact.iter().enumerate().map(|(at, e)| format!("{e} AS marktwice_v{at}")).collect();
    let differing = if exact.is_empty() {
        None
    } else {
        let each =
            own.split(", ").enumerate().map(|(at, c)| format!("{c} AS marktwice_k{at}")).collect::<Vec<_>>();
        let keys: Vec<String> = (0..identity.len()).map(|at| format!("marktwice_k{at}")).collect();
        Some(format!(
            "SELECT min(marktwice_o) AS marktwice_o FROM \
             (SELECT {}, {}, min({ordinal}) AS marktwice_o FROM {table} GROUP BY {}, {}) AS x \
             GROUP BY {} HAVING count(*) > 1",
            each.join(", "),
            named.join(", "),
            own,
            exact.join(", "),
            keys.join(", "),
        ))
    };
    let number = match &differing {
        _ if *unknown => rows,
        Some(query) => ask(&format!("SELECT count(*) FROM ({query}) AS y"))?.count(0, 0),
        None => 0,
    };
    let first = match &differing {
        Some(query) if number > 0 && !unknown => query,
        _ => &several,
    };
    let found =
        ask(&format!("SELECT marktwice_o FROM ({first}) AS z ORDER BY marktwice_o LIMIT {EXAMPLES}"))?;
    let ordinals: Vec<i64> =
        (0..found.rows.len()).filter_map(|row| found.text(row, 0)?.parse().ok()).collect();
    let mut examples = Vec::new();
    for at in &ordinals {
        examples.push(ManyExample { key: Vec::new(), sources: sources(step, held, *at, ask)? });
    }
    // A derived table lets an engine read the table that it deletes from.
    ask(&format!(
        "DELETE FROM {table} WHERE {ordinal} NOT IN (SELECT marktwice_o FROM (SELECT min({ordinal}) AS marktwice_o FROM {table} \
         GROUP BY {own}) AS x)"
    ))?;
    Ok(Some((Many { rows, differing: number, examples }, ordinals)))
}

/// Two values are the same only when every byte is, and on SQLite the storage class too: 1 equals 1.0 there.
fn binary(language: Language, expression: &str) -> Vec<String> {
    match language {
        Language::Sqlite => vec![format!("{expression} COLLATE BINARY"), format!("typeof({expression})")],
        Language::Postgres => vec![format!("({expression})::text COLLATE \"C\"")],
        Language::Mysql => vec![format!("CAST({expression} AS BINARY)")],
    }
}

/// The rows of the join that match one held row.
fn sources<E>(
    step: &Step,
    held: &HeldNames,
    ordinal: i64,
    ask: &mut Asker<'_, E>,
) -> Result<Vec<SourceRow>, E> {
    let Some(joined) = &step.sources else { return Ok(Vec::new()) };
    let own = step.table.slice;
    let stars: Vec<String> = joined
        .tables
        .iter()
        .filter(|t| t.slice != own)
        .filter_map(|t| Some(format!("{}.*", step.language.quoted(&t.visible()?.text))))
        .collect();
    if stars.is_empty() {
        return Ok(Vec::new());
    }
    let same: Vec<String> =
        held.identity.iter().map(|(held, of)| format!("marktwice_h.{held} = {of}")).collect();
    let also = format!(
        "EXISTS (SELECT 1 FROM {} AS marktwice_h WHERE marktwice_h.{} = {ordinal} AND {})",
        held.table,
        held.ordinal,
        same.join(" AND ")
    );
    let end = format!("LIMIT {}", ManyExample::SHOWN);
    let answer = ask(
        &step.query(&stars.join(", "), Ask { also: Some(&also), order: "", end: &end, ..Ask::default() })
    )?;
    let rows = answer.rows.into_iter();
    Ok(rows.map(|row| answer.columns.iter().cloned().zip(row).collect()).collect())
}
