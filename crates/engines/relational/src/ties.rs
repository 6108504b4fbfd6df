//! Whether LIMIT really cuts between rows that are equal in the order: only then could other ones be taken next time.

use marktwice_core::finding::Code;
use marktwice_port::{EngineError, Plan};
use marktwice_sql::query::row_query::Ask;
use marktwice_sql::statement::step::Step;
use marktwice_sql::text::slices::Slice;
use sqlparser::tokenizer::Token;

use crate::driver::Driver;
use crate::statement::detail;

/// Takes back that a LIMIT may take other rows, where it leaves none, or the last one that it takes and the first one that
/// it leaves differ in the order.
///
/// # Errors
/// What the engine says.
pub fn settle<D: Driver>(driver: &mut D, plan: &mut Plan) -> Result<(), EngineError> {
    if !plan.findings.iter().any(|f| f.code == Code::UnstableLimit) {
        return Ok(());
    }
    let Some(sql) = detail::<D::Table>(plan).ok().and_then(|d| at_the_cut(&d.step)) else { return Ok(()) };
    if driver.peeking(|driver| driver.number(&sql))? == 0 {
        plan.findings.retain(|f| f.code != Code::UnstableLimit);
    }
    Ok(())
}

/// A query that counts 1 where there are rows on both sides of the cut, equal in the order; `None` where nothing is taken.
fn at_the_cut(step: &Step) -> Option<String> {
    let tail = step.tail.as_ref()?;
    let last = step.limit()?.checked_sub(1)?;
    // What is called may answer otherwise each time, and decides nothing; where nothing decides, all rows are equal.
    let calls = |term: &Slice| step.words(*term).iter().any(|t| t.is(&Token::LParen));
    let order: &[Slice] = if tail.order.iter().any(calls) { &[] } else { &tail.order };
    let mut terms = vec!["1".to_owned()];
    for term in order {
        let words = step.words(*term);
        let end = words.last().filter(|t| t.is_any(&["asc", "desc"])).map_or(term.end, |t| t.slice.start);
        terms.push(step.source.get(term.start..end)?.to_owned());
    }
    let order: Vec<&str> = order.iter().map(|term| step.text(*term)).collect();
    let names: Vec<String> = (0..terms.len()).map(|at| format!("marktwice_t{at}")).collect();
    let named: Vec<String> = terms.iter().zip(&names).map(|(t, name)| format!("{t} AS {name}")).collect();
    let bare = Step { tail: None, ..step.clone() };
    let end = format!("LIMIT 2 OFFSET {last}");
    let two = bare.query(&named.join(", "), Ask { order: &order.join(", "), end: &end, ..Ask::default() });
    Some(format!(
        "SELECT count(*) FROM (SELECT {0} FROM ({two}\n) AS marktwice_a GROUP BY {0} HAVING count(*) = 2) AS marktwice_b",
        names.join(", ")
    ))
}
