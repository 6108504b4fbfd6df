//! A DELETE from several tables at once, as steps that name their rows by key: the first of them takes nothing away that the
//! next looks for, and rows that refer to others go before these.

use marktwice_core::finding::{Code, Finding};
use marktwice_port::{EngineError, Plan};
use marktwice_relational::statement::detail;
use marktwice_sql::Step;
use marktwice_sql::dialect::classes::{Class, class};
use marktwice_sql::query::row_query::Ask;

use crate::catalog::Table;
use crate::client::My;
use crate::complaint::LANGUAGE;

/// More rows are not written down one by one.
const MOST: usize = 400;

/// Makes the plan of a statement.
pub(crate) type Planning<'a> = dyn Fn(&mut My, &str) -> Result<Plan, EngineError> + 'a;

/// One table's part.
struct Part {
    /// The table's name, and those that it refers to.
    table: String,
    refers: Vec<String>,
    /// The statement; `None` where no row of the table matches.
    sql: Option<String>,
}

/// A refusal of a statement that writes several tables, with steps by key where it deletes; other refusals as they are.
pub(crate) fn by_key(my: &mut My, mut refusal: Finding, planned: &Planning<'_>) -> Finding {
    let deletes = |text: &str| text.trim_start().get(..6).is_some_and(|w| w.eq_ignore_ascii_case("delete"));
    let paste = refusal.paste.take_if(|p| refusal.code == Code::SeveralTables && deletes(&p.text));
    let Some(paste) = paste else { return refusal };
    let mut parts: Vec<Part> = Vec::new();
    for text in paste.text.lines() {
        match part(my, text, planned) {
            Ok(Some(part)) => parts.push(part),
            // What cannot be asked is not offered.
            Ok(None) | Err(_) => return refusal.hint("write a DELETE for each table, its rows named by key"),
        }
    }
    let mut steps = Vec::new();
    while !parts.is_empty() {
        let referred = |name: &String| parts.iter().any(|p| p.table != *name && p.refers.contains(name));
        // In a circle somebody has to be the first.
        let at = parts.iter().position(|p| !referred(&p.table)).unwrap_or(0);
        steps.extend(parts.remove(at).sql);
    }
    if steps.is_empty() {
        return refusal.hint("no row of any of them matches");
    }
    refusal
        .hint("write a step for each table; these name the rows that match now by key, rows that refer to others first:")
        .paste(steps.join("\n"))
}

/// The rows of one table by key; `None` where they have none, or are too many.
fn part(my: &mut My, text: &str, planned: &Planning<'_>) -> Result<Option<Part>, EngineError> {
    // What the filter calls is looked at by the plan.
    let plan = planned(my, text)?;
    let own = detail::<Table>(&plan)?;
    let (step, table): (&Step, &Table) = (&own.step, &own.table);
    let key = &table.target.key;
    if key.columns.is_empty() {
        return Ok(None);
    }
    let visible = LANGUAGE.quoted(&step.table.visible().text);
    let shown: Vec<String> = key
        .columns
        .iter()
        .zip(&key.names)
        .map(|(at, name)| {
            let column = format!("{visible}.{}", LANGUAGE.quoted(name));
            match table.target.columns.get(*at).map(|c| class(&c.declared)) {
                Some(Class::Number) => column,
                _ => format!("quote({column})"),
            }
        })
        .collect();
    let rows = format!(
        "{}\nORDER BY 1\nLIMIT {}",
        step.query(&format!("DISTINCT {}", shown.join(", ")), Ask::default()),
        MOST + 1
    );
    let rows = my.rows(&rows)?;
    if rows.len() > MOST {
        return Ok(None);
    }
    let mut keys = Vec::new();
    for row in rows {
        let Some(cells) = row.into_iter().collect::<Option<Vec<String>>>() else { return Ok(None) };
        keys.push(if cells.len() == 1 { cells.join("") } else { format!("({})", cells.join(", ")) });
    }
    let names: Vec<String> = key.names.iter().map(|name| LANGUAGE.name(name)).collect();
    let columns = if names.len() == 1 { names.join("") } else { format!("({})", names.join(", ")) };
    let schema = step.table.schema.as_ref().map_or(String::new(), |s| format!("{}.", LANGUAGE.name(&s.text)));
    let sql = format!(
        "DELETE FROM {schema}{}\n WHERE {columns} IN ({});",
        LANGUAGE.name(&table.target.table),
        keys.join(", ")
    );
    let refers = own.foreign_keys.iter().filter(|k| k.child_target.1 == table.target.table);
    Ok(Some(Part {
        table: table.target.table.clone(),
        refers: refers.map(|k| k.parent_name.1.clone()).collect(),
        sql: (!keys.is_empty()).then_some(sql),
    }))
}
