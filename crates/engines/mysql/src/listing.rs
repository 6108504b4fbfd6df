//! What is asked of the catalogue for looking: all tables and views, what a view is made of, what a table demands of its rows.

use std::collections::HashMap;

use marktwice_core::survey::{OfView, TableSummary};
use marktwice_core::table::Column;
use marktwice_port::EngineError;
use marktwice_relational::breaches::{Rules, Unique};
use marktwice_relational::driver::{Listed, Viewed};
use marktwice_relational::layout::choose_key;
use marktwice_sql::Language;
use marktwice_sql::text::qualified_names;

use crate::catalog::{Table, cell, checks, describe_found, expression, find, ident, shown, unique_keys};
use crate::client::{My, TextRow, literal};

/// What a table demands of its rows, under the session's own settings.
pub(crate) fn rules(my: &mut My, table: &Table) -> Result<Rules, EngineError> {
    let target = &table.target;
    let (schema, name) = (literal(&target.schema), literal(&target.table));
    let indexes = my.rows(&format!(
        "SELECT INDEX_NAME, COLUMN_NAME, SUB_PART, {} FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = {schema} \
         AND TABLE_NAME = {name} AND NON_UNIQUE = 0 ORDER BY INDEX_NAME, SEQ_IN_INDEX",
        // A part of a key may be an expression there.
        if my.traits.mysql { "EXPRESSION" } else { "NULL" }
    ))?;
    let mut unique: Vec<(&str, Unique)> = Vec::new();
    for row in &indexes {
        let index = cell(row, 0);
        if unique.last().is_none_or(|(last, _)| *last != index) {
            unique.push((
                index,
                Unique { terms: Vec::new(), only: None, compared: Vec::new(), text: None, at_the_end: false },
            ));
        }
        let column = match row.get(3) {
            Some(Some(part)) => format!("({})", expression(my, part)),
            _ => ident(cell(row, 1)),
        };
        // The beginning of a column may be all that is unique.
        let term = if cell(row, 2).is_empty() { column } else { format!("left({column}, {})", cell(row, 2)) };
        if let Some((_, unique)) = unique.last_mut() {
            unique.terms.push(term);
        }
    }
    let references = my.one("SELECT @@foreign_key_checks")?.as_deref() == Some("1");
    let strict = my.own.0.contains("STRICT_");
    // Without a strict mode NULL becomes another value; a moment of now, or the next number, may stand for it.
    let refuses = |at: &usize| {
        let kind = table.types.get(*at).map(|t| (t.kind.as_str(), t.auto));
        let column = target.columns.get(*at).is_some_and(|c| c.not_null && !c.generated);
        column && kind.is_some_and(|(kind, auto)| kind != "timestamp" && !auto)
    };
    // Older servers of the family have neither.
    let looked_at = my.traits.mysql
        || my.one("SELECT @@check_constraint_checks").ok().flatten().is_some_and(|on| on == "1");
    let checks = checks(my, target).into_iter().map(|(_, clause)| clause).collect();
    Ok(Rules {
        unique: unique.into_iter().map(|(_, unique)| unique).collect(),
        not_null: (0..target.columns.len()).filter(|at| strict && refuses(at)).collect(),
        checks: if looked_at { checks } else { Vec::new() },
        every_check: true,
        references,
    })
}

/// All tables and views of the connection's database, in order: three questions.
pub(crate) fn listed(my: &mut My) -> Result<Vec<Listed>, EngineError> {
    let here = "TABLE_SCHEMA = database()";
    let columns = my.rows(&format!(
        "SELECT TABLE_NAME, COLUMN_NAME, IS_NULLABLE FROM information_schema.COLUMNS WHERE {here} \
         ORDER BY TABLE_NAME, ORDINAL_POSITION"
    ))?;
    let mut of: HashMap<&str, Vec<Column>> = HashMap::new();
    for row in &columns {
        of.entry(cell(row, 0)).or_default().push(Column {
            name: cell(row, 1).to_owned(),
            declared: String::new(),
            generated: false,
            not_null: cell(row, 2) == "NO",
        });
    }
    let indexes = my.rows(&format!(
        "SELECT INDEX_NAME, COLUMN_NAME, SUB_PART, TABLE_NAME FROM information_schema.STATISTICS \
         WHERE {here} AND NON_UNIQUE = 0 ORDER BY TABLE_NAME, INDEX_NAME <> 'PRIMARY', INDEX_NAME, SEQ_IN_INDEX"
    ))?;
    let mut keys: HashMap<&str, Vec<&TextRow>> = HashMap::new();
    for row in &indexes {
        keys.entry(cell(row, 3)).or_default().push(row);
    }
    let all = my.rows(&format!(
        "SELECT TABLE_NAME, TABLE_TYPE, TABLE_SCHEMA FROM information_schema.TABLES WHERE {here} \
         AND TABLE_TYPE IN ('BASE TABLE', 'VIEW') ORDER BY TABLE_NAME"
    ))?;
    let one = |row: &TextRow| {
        let name = cell(row, 0);
        let columns = of.get(name).map_or(&[][..], Vec::as_slice);
        let keys = unique_keys(keys.get(name).map_or(&[][..], Vec::as_slice), columns);
        let about = TableSummary {
            table: name.to_owned(),
            rows: None,
            key: choose_key(columns, &keys).names,
            columns: columns.len(),
            view: cell(row, 1) == "VIEW",
        };
        Listed { about, from: format!("{}.{}", ident(cell(row, 2)), ident(name)) }
    };
    Ok(all.iter().map(one).collect())
}

/// The view of a name, where it stands for one.
pub(crate) fn viewed(
    my: &mut My,
    schema: Option<&str>,
    name: &str,
) -> Result<Option<Viewed<Table>>, EngineError> {
    let Some(found) = find(my, schema, name)?.filter(|f| f.sort == "VIEW") else { return Ok(None) };
    let definition = my.one(&format!(
        "SELECT VIEW_DEFINITION FROM information_schema.VIEWS WHERE TABLE_SCHEMA = {} AND TABLE_NAME = {}",
        literal(&found.schema),
        literal(&found.table)
    ))?;
    let definition = definition.unwrap_or_default();
    // The server keeps the text with every table's database before its name.
    let mut reads: Vec<String> = Vec::new();
    for (schema, table) in qualified_names(&definition, Language::Mysql) {
        let Some(read) = find(my, Some(&schema), &table)? else { continue };
        let name = shown(my, &read.schema, &read.table);
        if !reads.contains(&name) {
            reads.push(name);
        }
    }
    Ok(Some(Viewed { table: describe_found(my, &found)?, of: OfView { definition, reads } }))
}
