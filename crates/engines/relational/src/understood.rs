//! The plan of a step, once all that an engine can tell of it is known.

use marktwice_core::finding::{Code, Finding};
use marktwice_core::mark::{Foreseen, Label, Parts};
use marktwice_core::table::Target;
use marktwice_port::Plan;
use marktwice_sql::refuse::leave_out::leave_out;
use marktwice_sql::rules::{self, Facts};
use marktwice_sql::statement::assigned::assigned;
use marktwice_sql::statement::pins::pin;
use marktwice_sql::statement::step::Brought;

use crate::detail::Detail;
use crate::foresee;
use crate::insert::{giving, unstable};
use crate::reach::referring;
use crate::shell::Tabled;

/// What an engine has understood of a step.
#[derive(Debug)]
pub struct Understood<T: Tabled> {
    /// The statement, verbatim.
    pub text: String,
    /// What is remembered of it.
    pub detail: Detail<T>,
    /// What becomes of the columns.
    pub foreseen: Vec<Foreseen>,
    /// Columns of the target that the statement reads.
    pub reads: Vec<usize>,
    /// What was found before, and what is to be said besides.
    pub findings: [Vec<Finding>; 2],
    /// What was found about functions that the filter calls: it says more than the text does.
    pub filter_calls: Option<Finding>,
    /// Why rows may be skipped.
    pub skips: Vec<String>,
    /// Settings that the statement's meaning hangs on.
    pub settings: Vec<String>,
}

/// What a function does in the end that is said to be steady only the run may call: the values that it may have a part in
/// are not foreseen.
pub fn only_the_run(foreseen: &mut [Foreseen]) {
    for f in foreseen.iter_mut().filter(|f| !f.derived) {
        f.label = Label::Unknown;
        f.why = Some("a function in the statement writes, and only the run may call it".to_owned());
    }
}

impl<T: Tabled> Understood<T> {
    /// The plan.
    pub fn plan(self) -> Plan {
        let Understood { text, detail, foreseen, mut reads, findings, filter_calls, skips, settings } = self;
        let (step, target) = (&detail.step, detail.table.target());
        reads.extend(referring(&detail.foreign_keys, target));
        let row_names: Vec<&str> = detail.table.row_identity().into_iter().collect();
        let pin = pin(step, target, detail.table.keys(), &row_names);
        let counted: Vec<usize> = (0..target.columns.len()).filter(|at| detail.table.counts(*at)).collect();
        let [mut all, more] = findings;
        all.extend(rules::look(Facts {
            step,
            target,
            pin: &pin,
            keys: detail.table.keys(),
            counted: &counted,
        }));
        all.extend(unstable(step));
        if let Some(finding) = filter_calls {
            all.retain(|f| f.code != Code::VolatileFilter);
            all.push(finding);
        }
        all.extend(skips.into_iter().map(|why| Finding::new(Code::MaySkip, why)));
        all.extend(more);
        let mut plan = Plan {
            step: 0,
            kind: step.kind,
            target: Target { refers: referring(&detail.foreign_keys, target), ..target.clone() },
            assigned: assigned(step, target),
            statement: text,
            statement_hash: step.token_hash.clone(),
            sent: None,
            elsewhere: step.sources.is_some()
                || step.inserted.as_ref().is_some_and(|i| matches!(i.brought, Brought::Query(_))),
            parts: Parts::new(target, step.kind, &reads, &foreseen),
            reads: foresee::filter_columns(step, target),
            leave_out: leave_out(step, &foreseen),
            foreseen,
            pin,
            findings: all,
            along: Vec::new(),
            triggered: Vec::new(),
            archive: None,
            counted: false,
            doubt: false,
            reads_hidden: false,
            runs_hidden: false,
            settings,
            detail: Box::new(detail),
        };
        plan.sent = giving::<T>(&plan).ok().flatten().map(|giving| giving.text);
        plan
    }
}
