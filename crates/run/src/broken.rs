//! Why the engine refused a statement: the rows that break a constraint, by what a preview asks.

use marktwice_core::breach::{Breaches, Rule};
use marktwice_port::{Broken, Constraint, Intent, Plan, Session, Tx};

use crate::context::Context;

/// Which rows broke a constraint, as a preview would have said it; nothing where that cannot be asked. Most engines leave the
/// transaction open, with all that earlier steps have done.
pub(crate) fn inside(context: &Context<'_>, tx: &mut dyn Tx, plan: &Plan, broken: &Broken) -> Option<String> {
    said(context, &tx.breaches(plan).ok()?, plan, broken)
}

/// The constraints that a statement would break now; nothing where that cannot be asked.
pub(crate) fn looked_at(session: &mut dyn Session, plan: &Plan) -> Option<Breaches> {
    let mut breaches = Breaches::default();
    let viewed = session.view(&[plan], &mut |hold| {
        hold.hold(plan)?;
        breaches = hold.breaches(plan)?;
        Ok(())
    });
    viewed.ok().map(|()| breaches)
}

/// Which rows broke a constraint, asked once all is rolled back.
pub(crate) fn afterwards(context: &Context<'_>, plan: &Plan, broken: &Broken) -> Option<String> {
    let mut session = context.open(Intent::Read).ok()?;
    let breaches = looked_at(&mut *session, plan)?;
    said(context, &breaches, plan, broken)
}

fn said(context: &Context<'_>, breaches: &Breaches, plan: &Plan, broken: &Broken) -> Option<String> {
    let fits = |rule: Rule| match broken.kind {
        Constraint::Unique => rule == Rule::Unique,
        Constraint::NotNull => rule == Rule::NotNull,
        Constraint::Check => rule == Rule::Check,
        Constraint::ForeignKey => matches!(rule, Rule::Parent | Rule::Children),
        Constraint::Type | Constraint::Trigger | Constraint::OneValue => false,
    };
    let said = breaches.found.iter().filter(|breach| fits(breach.rule));
    let said: Vec<String> = said
        .map(|breach| {
            let mut breach = breach.clone();
            breach.hide(&plan.target, context.hide);
            breach.sentence(&plan.target.table)
        })
        .collect();
    (!said.is_empty()).then(|| said.join("; "))
}
