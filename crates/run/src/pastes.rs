//! What is offered to be pasted, asked of the engine first: nothing is shown that it would not take.

use marktwice_core::change::Change;
use marktwice_core::finding::{Code, Finding, Paste};
use marktwice_core::mark::StepKind;
use marktwice_core::steps::{Facts, Touch, stand};
use marktwice_port::{EngineError, Language, Plan, Session};

/// How often what is offered is itself replaced by what is offered for it.
const TURNS: usize = 4;

/// A text that the engine takes, and the rows that its steps match now; `None` for a step that could not be asked.
struct Taken {
    text: String,
    rows: Vec<Option<u64>>,
    /// Whether an UPDATE among them waits for another step: it would find what that one has left.
    waits: bool,
}

/// An error with what it offers proven, or without an offer.
pub(crate) fn proven_error(
    session: &mut dyn Session,
    language: &dyn Language,
    allow: &[Code],
    error: EngineError,
) -> EngineError {
    match error {
        EngineError::Refused(finding) => {
            EngineError::Refused(Box::new(proven(session, language, allow, *finding)))
        }
        other => other,
    }
}

/// The refusal of a step, with what is offered for it and for every later step that is refused too, as one change; `None` where
/// no other is, or nothing is offered for one of them. `plans` are those of the steps before it.
pub(crate) fn all_offers(
    session: &mut dyn Session,
    language: &dyn Language,
    change: &Change,
    (step, plans): (usize, &mut Vec<Plan>),
    error: &EngineError,
) -> Option<EngineError> {
    let EngineError::Refused(first) = error else { return None };
    let mut texts: Vec<String> = plans.iter().map(|plan| format!("{};", plan.statement)).collect();
    texts.push(first.paste.as_ref()?.text.to_string());
    let mut refused = 1;
    for later in step + 1..change.steps.len() {
        match session.plan(&change.only(later), &change.allowed(later), plans) {
            Ok(plan) => {
                texts.push(format!("{};", plan.statement));
                plans.push(plan);
            }
            Err(EngineError::Refused(finding)) => {
                texts.push(finding.paste?.text.to_string());
                refused += 1;
            }
            Err(_) => return None,
        }
    }
    if refused == 1 {
        return None;
    }
    let all = taken(session, language, &[], &texts.join("\n"))?;
    let hint = format!(
        "{refused} of the {} steps are not taken as they are; with each written otherwise the change is:",
        texts.len()
    );
    let paste = Some(Box::new(Paste { text: all.text.into(), rows: all.rows }));
    Some(EngineError::Refused(Box::new(Finding { hint: Some(hint), paste, ..(**first).clone() })))
}

/// A finding with what it offers proven, or without an offer.
pub(crate) fn proven(
    session: &mut dyn Session,
    language: &dyn Language,
    allow: &[Code],
    mut finding: Finding,
) -> Finding {
    let Some(paste) = finding.paste.take() else { return finding };
    match taken(session, language, allow, &paste.text) {
        // Where one step takes away what the next looks for, the parts are not the whole.
        Some(taken) if finding.code == Code::SeveralTables && taken.waits => {
            finding.hint = Some(
                "write a change for each table, and see that the first leaves what the next looks for"
                    .to_owned(),
            );
        }
        Some(taken) => {
            finding.paste = Some(Box::new(Paste { text: taken.text.into(), rows: taken.rows }));
        }
        // The sentence that led to it stands by itself.
        None => {
            finding.hint = finding.hint.map(|hint| match hint.strip_suffix(':') {
                Some(bare) => bare.to_owned(),
                None => hint,
            });
        }
    }
    finding
}

fn taken(session: &mut dyn Session, language: &dyn Language, allow: &[Code], paste: &str) -> Option<Taken> {
    let mut text = paste.to_owned();
    for _ in 0..TURNS {
        let steps = language.cut(&text).ok()?.steps;
        if steps.is_empty() {
            return None;
        }
        let mut plans: Vec<Plan> = Vec::new();
        let mut instead = None;
        for range in steps {
            match session.plan(text.get(range.clone())?, allow, &plans) {
                Ok(mut plan) => {
                    plan.step = plans.len();
                    plans.push(plan);
                }
                // Refused for a further reason: what is offered for that one goes into the same text.
                Err(EngineError::Refused(finding)) => {
                    instead = Some((range, finding.paste?));
                    break;
                }
                Err(_) => return None,
            }
        }
        match instead {
            None => {
                if let Some(ordered) = children_first(session, &plans) {
                    text = ordered;
                    continue;
                }
                let rows = rows(session, &plans);
                let mut asked = plans.iter().zip(&rows);
                let waits = asked.any(|(plan, rows)| plan.kind == StepKind::Update && rows.is_none());
                return Some(Taken { rows, waits, text });
            }
            Some((range, with)) => {
                let end = language.end();
                text.replace_range(range, with.text.trim_end().trim_end_matches(end));
            }
        }
    }
    None
}

/// Steps that all empty a table, in another order: rows that refer to others before these. `None` where they stand in that order
/// already, and for other steps.
fn children_first(session: &mut dyn Session, plans: &[Plan]) -> Option<String> {
    let empties =
        |plan: &Plan| plan.kind == StepKind::Delete && plan.findings.iter().any(|f| f.code == Code::NoFilter);
    if plans.len() < 2 || !plans.iter().all(empties) {
        return None;
    }
    // Who looks at the rows of another table when its own go has that one's rows refer to it.
    let mut open = Vec::new();
    for plan in plans {
        let touches = session.touches(plan).ok()?;
        open.push((plan, touches.reads));
    }
    let mut ordered: Vec<&Plan> = Vec::new();
    while !open.is_empty() {
        let looks_at =
            |reads: &[Touch], other: &Plan| reads.iter().any(|touch| touch.table == other.target.table);
        let free = |at: &usize| {
            open.get(*at).is_some_and(|(plan, reads)| {
                let others = open.iter().filter(|(other, _)| other.target.table != plan.target.table);
                !others.into_iter().any(|(other, _)| looks_at(reads, other))
            })
        };
        // In a circle somebody has to be the first.
        let next = (0..open.len()).find(free).unwrap_or(0);
        ordered.push(open.remove(next).0);
    }
    let same = ordered.iter().zip(plans).all(|(a, b)| std::ptr::eq(*a, b));
    let text = ordered.iter().map(|plan| format!("{};", plan.statement)).collect::<Vec<_>>().join("\n");
    (!same).then_some(text)
}

/// The rows that steps match now; those that rest on an earlier one cannot be asked.
fn rows(session: &mut dyn Session, plans: &[Plan]) -> Vec<Option<u64>> {
    let touches: Option<Vec<_>> = plans.iter().map(|plan| session.touches(plan).ok()).collect();
    let Some(touches) = touches else { return vec![None; plans.len()] };
    let facts = plans.iter().zip(&touches).map(|(plan, touches)| Facts {
        touches,
        target: &plan.target,
        foreseen: &plan.foreseen,
        uses: &[],
    });
    let standings = stand(&facts.collect::<Vec<_>>());
    let asked = plans.iter().zip(standings);
    asked
        .map(|(plan, standing)| {
            if standing.must_wait() {
                return None;
            }
            session.matched_rows(plan, Some(0), &mut |_| Ok(())).ok()
        })
        .collect()
}
