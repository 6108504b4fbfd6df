//! The row query: the SELECT that lists exactly the rows a step matches, made of slices of the step's own text.

use crate::dialect::language::Language;
use crate::statement::step::Step;

/// What a row query asks beyond the step's own parts.
#[derive(Debug, Clone, Copy, Default)]
pub struct Ask<'a> {
    /// A condition that must hold besides the filter.
    pub also: Option<&'a str>,
    /// In which order, where the step itself has none: terms of ORDER BY.
    pub order: &'a str,
    /// What stands at the end, such as a lock.
    pub end: &'a str,
    /// What tells a row of the target, where the rows are to be found by the filter first, and then read one after the other in
    /// its order; for a step of one table without ORDER BY and LIMIT.
    pub found_by: Option<&'a str>,
}

impl Step {
    /// What stands behind FROM in the row query: the target, and what is joined to it.
    pub fn from_list(&self) -> String {
        let own = self.text(self.table.slice);
        match &self.sources {
            None => own.to_owned(),
            Some(sources) if sources.with_target => self.text(sources.slice).to_owned(),
            // This engine sees joined tables behind FROM as one nested join beside the target.
            Some(sources) if self.language == Language::Sqlite && sources.tables.len() > 1 => {
                format!("{own}, (\n{}\n)", self.text(sources.slice))
            }
            Some(sources) => format!("{own}, {}", self.text(sources.slice)),
        }
    }

    /// The row query with these columns.
    pub fn row_query(&self, select: &[String], ask: Ask<'_>) -> String {
        self.query(&select.join(",\n "), ask)
    }

    /// The row query with this select list.
    pub fn query(&self, select: &str, ask: Ask<'_>) -> String {
        let filter = self.filter.as_ref().map(|f| format!("(\n{}\n)", self.text(f.slice)));
        let conditions: Vec<String> =
            filter.into_iter().chain(ask.also.map(|also| format!("({also})"))).collect();
        let filter = if conditions.is_empty() {
            String::new()
        } else {
            format!("\nWHERE {}", conditions.join(" AND "))
        };
        let tail = match &self.tail {
            Some(tail) => format!("\n{}", self.text(tail.slice)),
            None if ask.order.is_empty() => String::new(),
            None => format!("\nORDER BY {}", ask.order),
        };
        let filter = match ask.found_by.filter(|_| self.sources.is_none() && self.tail.is_none()) {
            Some(row) if !filter.is_empty() => {
                format!("\nWHERE {row} IN (SELECT {row} FROM {}{filter})", self.from_list())
            }
            Some(_) | None => filter,
        };
        let end = if ask.end.is_empty() { String::new() } else { format!("\n{}", ask.end) };
        format!(
            "{}\nSELECT {select}\nFROM {}{filter}{tail}{end}",
            self.with.map_or("", |w| self.text(w)),
            self.from_list(),
        )
    }
}
