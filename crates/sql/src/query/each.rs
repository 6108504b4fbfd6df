//! A condition over a row as it was and as it is afterwards: `new.kilos <= 2 * old.kilos`.

use marktwice_core::Code;
use marktwice_core::finding::Finding;
use sqlparser::tokenizer::Token;

use crate::dialect::language::Language;
use crate::dialect::volatile;
use crate::query::check::AROUND;
use crate::statement::slicing::understand;
use crate::statement::step::Step;
use crate::text::slices::Slice;
use crate::text::tokenize;

/// Which image of a row is read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Side {
    /// As it was.
    Old,
    /// As it is afterwards.
    New,
}

/// A column that the condition reads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reading {
    /// Of which image.
    pub side: Side,
    /// The column, as it is written.
    pub column: String,
    slice: Slice,
}

/// A condition, understood: one expression over `old.` and `new.` columns.
#[derive(Debug)]
pub struct Each {
    step: Step,
    filter: Slice,
    /// What it reads, in the order in which it stands there.
    pub reads: Vec<Reading>,
}

/// Understands a condition.
///
/// # Errors
/// A finding for what is no single condition, reads other tables, or is another thing at each reading.
pub fn each(condition: &str, language: Language) -> Result<Each, Finding> {
    let refuse = |what: &str, hint: &str| {
        let message = format!("the check `{condition}` {what}");
        Finding::new(Code::NotUnderstood, message).hint(hint)
    };
    let form = "write one condition over the row: new.price <= old.price * 1.25";
    if !closed(condition, language) {
        return Err(refuse("is not one condition", form));
    }
    let step = understand(&format!("DELETE FROM {AROUND} WHERE ({condition}\n)"), language)
        .map_err(|_| refuse("is not one condition", form))?;
    let filter = step.filter.as_ref().filter(|f| f.parsed.is_some() && step.tail.is_none());
    let Some(filter) = filter.map(|f| f.slice) else { return Err(refuse("is not one condition", form)) };
    let tokens = step.words(filter);
    if tokens.iter().any(|t| t.is_any(&["select", "with", "exists"])) {
        return Err(refuse("reads tables", "a check of each row speaks of what the row itself holds"));
    }
    if let Some((_, place)) = volatile::find(&step, filter) {
        let what = format!("is another thing at each reading: {}", step.text(place));
        return Err(refuse(&what, "compare with a value"));
    }
    let mut reads = Vec::new();
    for three in tokens.windows(3) {
        let [owner, dot, column] = three else { continue };
        let (true, Some(owner_name), Some(name)) = (dot.is(&Token::Period), owner.name(), column.name())
        else {
            continue;
        };
        let side = match owner_name.to_ascii_lowercase().as_str() {
            "old" => Side::Old,
            "new" => Side::New,
            _ => return Err(refuse(&format!("reads {owner_name}.{name}"), form)),
        };
        let slice = Slice { start: owner.slice.start, end: column.slice.end };
        reads.push(Reading { side, column: name.to_owned(), slice });
    }
    Ok(Each { filter, reads, step })
}

/// Whether every parenthesis in a text is opened and closed in it.
pub(super) fn closed(text: &str, language: Language) -> bool {
    let Ok(tokens) = tokenize(text, language.dialect()) else { return false };
    let mut depth = 0;
    for token in &tokens {
        depth += i32::from(token.is(&Token::LParen)) - i32::from(token.is(&Token::RParen));
        if depth < 0 {
            return false;
        }
    }
    depth == 0
}

impl Each {
    /// The statement around it, by which it is judged what the condition calls.
    pub fn step(&self) -> &Step {
        &self.step
    }

    /// A name in it that is a column without `old.` or `new.` before it.
    pub fn bare(&self, is_column: &dyn Fn(&str) -> bool) -> Option<String> {
        let tokens = self.step.words(self.filter);
        let within = |slice: Slice| {
            self.reads.iter().any(|r| r.slice.start <= slice.start && slice.end <= r.slice.end)
        };
        tokens.iter().enumerate().find_map(|(at, token)| {
            let called = tokens.get(at + 1).is_some_and(|t| t.is(&Token::LParen));
            let name = token.name().filter(|_| !within(token.slice) && !called)?;
            is_column(name).then(|| name.to_owned())
        })
    }

    /// The condition with what stands for each column that it reads in its place.
    pub fn with(&self, stands: &dyn Fn(&Reading) -> String) -> String {
        let mut out = String::new();
        let mut at = self.filter.start;
        for read in &self.reads {
            out.push_str(self.step.text(Slice { start: at, end: read.slice.start }));
            out.push_str(&stands(read));
            at = read.slice.end;
        }
        out.push_str(self.step.text(Slice { start: at, end: self.filter.end }));
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_replaced_where_they_stand() {
        let read =
            each("new.price <= 1.25 * OLD.\"price\" OR 'new.price' = new.note", Language::Postgres).unwrap();
        let text = read.with(&|r| format!("<{:?} {}>", r.side, r.column));
        assert_eq!(text.trim(), "(<New price> <= 1.25 * <Old price> OR 'new.price' = <New note>\n)");
        assert_eq!(read.bare(&|name| name == "note"), None);
    }

    #[test]
    fn what_is_no_condition_of_a_row_is_refused() {
        for wrong in [
            "new.a < (SELECT max(a) FROM t)",
            "new.a = 1; DELETE FROM t",
            "new.a = now()",
            "t.a = 1",
            "new.a = 1) OR (1 = 1",
            "",
        ] {
            assert!(each(wrong, Language::Postgres).is_err(), "{wrong}");
        }
        let bare = each("new.a > b", Language::Sqlite).unwrap();
        assert_eq!(bare.bare(&|name| name == "b").as_deref(), Some("b"));
    }
}
