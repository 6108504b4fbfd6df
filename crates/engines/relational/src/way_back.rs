//! Whether an undo of a step will succeed, as far as definitions, rights and the held rows tell; the same for every
//! relational engine.

use marktwice_core::mark::StepKind;
use marktwice_core::table::{KeyKind, Target};
use marktwice_core::way_back::WayBack;
use marktwice_core::words;
use marktwice_port::{EngineError, Plan, SideWrite};
use marktwice_sql::dialect::ours::before;
use marktwice_sql::statement::routine::Verb;

use crate::foresee::Trigger;
use crate::reach::ForeignKey;
use crate::shell::Tabled;
use crate::walk::Reached;

/// What definitions say of putting rows back: the triggers that it fires, and what those write in the end.
pub fn by_definition(target: &Target, fired: &[Trigger], reached: &Reached, side: &[SideWrite]) -> WayBack {
    let mut back = WayBack::default();
    let named =
        |column: &str| target.position(column).and_then(|at| target.columns.get(at)).map(|c| c.name.as_str());
    for trigger in fired.iter().filter(|t| t.before) {
        for column in trigger.routine.sets.iter().filter_map(|c| named(c)) {
            back.owns(column, format!("trigger {} sets it", trigger.name));
        }
        if trigger.routine.new_whole || trigger.routine.skips {
            back.unsure.push(format!("trigger {} may change or skip what is put back", trigger.name));
        }
    }
    for (written, how) in reached.writes.iter().filter(|(w, _)| w.table == target.table) {
        let by = crate::walk::by(how);
        for column in written.columns.iter().filter_map(|c| named(c)) {
            back.owns(column, format!("{by} sets it"));
        }
        if written.verb != Verb::Update || written.columns.is_empty() {
            back.unsure.push(format!("{by} writes {} itself", target.table));
        }
    }
    if target.key.kind == KeyKind::WholeRow && !back.owned.is_empty() {
        let why = back.owned_in_words().unwrap_or_default();
        back.obstacles.push(format!("{} has no key, so a row could not be told again ({why})", target.table));
    }
    allowing(&mut back, side);
    back
}

/// What must be let pass for writes outside the rows that are put back.
pub fn allowing(back: &mut WayBack, side: &[SideWrite]) {
    for write in side {
        let code = write.how.code();
        if !back.allow.contains(&code) {
            back.allow.push(code);
        }
    }
}

/// What is said of putting rows back by two statements: rows that are there are written, and others come in again.
pub fn with_insert(
    (mut side, mut back): (Vec<SideWrite>, WayBack),
    insert: Option<(Vec<SideWrite>, WayBack)>,
) -> (Vec<SideWrite>, WayBack) {
    if let Some((more, insert)) = insert {
        side.extend(more);
        insert.owned.into_iter().for_each(|o| back.owns(&o.column, o.why));
        back.obstacles.extend(insert.obstacles);
    }
    side.dedup();
    (side, back)
}

/// Held rows that break a check already, because it was added, or they came in, while nobody looked: `checks` have a name
/// and a condition each, `from` is the target, `same` tells a held row `h` in it.
///
/// # Errors
/// When the engine fails.
pub fn by_checks(
    (from, held, same): (&str, &str, &str),
    checks: &[(String, String)],
    count: &mut dyn FnMut(&str) -> Result<u64, EngineError>,
) -> Result<Vec<String>, EngineError> {
    let mut all = Vec::new();
    let mut broken = |conditions: &[&str]| {
        let any: Vec<String> = conditions.iter().map(|c| format!("({c}) IS FALSE")).collect();
        count(&format!(
            "SELECT count(*) FROM {from} WHERE ({}) AND EXISTS (SELECT 1 FROM {held} AS h WHERE {same})",
            any.join(" OR ")
        ))
    };
    let every: Vec<&str> = checks.iter().map(|(_, condition)| condition.as_str()).collect();
    if every.is_empty() || broken(&every)? == 0 {
        return Ok(all);
    }
    for (name, condition) in checks {
        let n = broken(&[condition])?;
        if n > 0 {
            let rows = format!("{} {}", words::rows(n), words::either(n, "breaks", "break"));
            all.push(format!("{rows} the check {name} already, and could not be put back"));
        }
    }
    Ok(all)
}

/// What the held rows of a plan say: those that have no parent could not come back, however they came to be there. Only
/// columns that the step sets, or takes away, are looked at.
///
/// # Errors
/// When the engine fails.
pub fn by_rows<T: Tabled>(
    table: &T,
    plan: &Plan,
    keys: &[ForeignKey],
    count: &mut dyn FnMut(&str) -> Result<u64, EngineError>,
) -> Result<Vec<String>, EngineError> {
    let (target, held) = (table.target(), table.held_name(plan.step));
    let mut all = Vec::new();
    for key in keys.iter().filter(|k| k.is_of(target)) {
        let columns: Vec<usize> = key.child_columns.iter().filter_map(|c| target.position(c)).collect();
        let assigned = |at: &usize| plan.foreseen.iter().any(|f| f.column == *at);
        let goes = plan.kind == StepKind::Delete || columns.iter().any(assigned);
        if !goes || key.enforced || !key.parent_readable || columns.len() != key.parent_columns.len() {
            continue;
        }
        let given: Vec<String> = columns.iter().map(|at| format!("h.{} IS NOT NULL", before(*at))).collect();
        let same: Vec<String> = columns
            .iter()
            .zip(&key.parent_columns)
            .map(|(at, parent)| format!("p.{} = {}", T::LANGUAGE.quoted(parent), table.kept(*at)))
            .collect();
        let n = count(&format!(
            "SELECT count(*) FROM {held} AS h WHERE {} AND NOT EXISTS (SELECT 1 FROM {} AS p WHERE {})",
            given.join(" AND "),
            key.parent_sql,
            same.join(" AND ")
        ))?;
        if n > 0 {
            let (rows, have) = (words::rows(n), words::either(n, "has", "have"));
            all.push(format!(
                "{rows} {have} no parent in {} ({}), and could not be put back under its foreign key",
                key.parent,
                key.child_columns.join(", ")
            ));
        }
    }
    Ok(all)
}
