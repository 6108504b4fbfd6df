//! What is offered to be pasted, held to the engine's own counts: a filter that leaves rows out leaves the promised number,
//! one that pins rows matches the same ones, and a statement is taken and matches as many rows as was told.

use marktwice_core::{Change, Expect, Finding};
use marktwice_run::{Preview, Show};
use marktwice_sql::statement::slicing::understand_with;

use super::{Case, Hazard, Place, Ring, Tally};
use crate::corpus::names;

/// Asks for several other counts than the one that is met, and tries everything that is offered then.
pub(super) fn try_all(
    ring: &mut dyn Ring,
    case: &Case,
    place: &Place,
    change: &Change,
    preview: &Preview,
    tally: &mut Tally,
) {
    let [step] = preview.steps.as_slice() else { return };
    let (matched, changes) = (step.block.matched, step.block.changes);
    let language = names(ring.on()).2;
    let Ok(understood) = understand_with(&case.statement, language, &mut |_, _| true) else { return };
    if understood.sources.is_some() || understood.tail.is_some() || matched < 2 {
        return;
    }
    let from = format!(
        "{}SELECT count(*) FROM {}",
        understood.with.map_or(String::new(), |with| format!("{} ", understood.text(with))),
        understood.text(understood.table.slice)
    );
    let mut wanted = vec![changes, matched - 1, matched / 2, 1];
    wanted.retain(|n| *n < matched);
    wanted.dedup();
    for rows in wanted {
        let mut other = Change { quick: false, ..change.clone() };
        for step in &mut other.steps {
            step.terms.rows = Some(Expect::Range(rows, Some(rows)));
        }
        let Ok(seen) = place.with(|context| marktwice_run::preview(context, &other, Show::All)) else {
            return;
        };
        let Some(step) = seen.steps.first() else { return };
        let study = &step.study;
        let left = study.leave_out.iter().map(|filter| (filter, changes));
        let kinds = study.kinds.iter().map(|kind| (&kind.filter, matched - kind.rows));
        let pins = study.pins.iter().map(|pin| (&pin.filter, matched));
        for (filter, promised) in left.chain(kinds).chain(pins) {
            let sql = format!("{from} {filter}");
            assert_eq!(ring.count(&sql), promised, "{}: {sql}", case.statement);
            tally.advices += 1;
        }
        for finding in &step.block.findings {
            statement(ring, case, finding, tally);
        }
    }
}

/// What is offered in place of a statement.
pub(super) fn statement(ring: &mut dyn Ring, case: &Case, finding: &Finding, tally: &mut Tally) {
    let Some(paste) = &finding.paste else { return };
    let language = names(ring.on()).2;
    let read = marktwice_change::read(&paste.text, &language).expect("a change");
    let steps: Vec<&str> = read.steps.iter().map(|step| &read.source[step.range.clone()]).collect();
    assert_eq!(steps.len(), paste.rows.len(), "{}", paste.text);
    let ([one], [Some(rows)]) = (steps.as_slice(), paste.rows.as_slice()) else { return };
    // A conflict clause of the table's may take rows away before their turn.
    if case.script.contains("ON CONFLICT") {
        return;
    }
    // A trigger may skip rows, and what a row runs into is another matter.
    if let (Hazard::None | Hazard::Settings, Ok(found)) = (case.hazard, ring.tried(one)) {
        assert_eq!(found, *rows, "{}: {one}", case.statement);
        tally.advices += 1;
    }
}
