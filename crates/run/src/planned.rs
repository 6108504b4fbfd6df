//! The steps of a change, planned: what each does, how they stand to each other, and how they are recorded.

use marktwice_core::Value;
use marktwice_core::archive::Making;
use marktwice_core::change::Change;
use marktwice_core::expect::Expect;
use marktwice_core::finding::{Code, Finding, Level};
use marktwice_core::hash::{self, Hashing};
use marktwice_core::mark::StepKind;
use marktwice_core::param::{Bound, BoundAs, Param, ParamKind, to_map};
use marktwice_core::receipt::{DatabaseId, StepReceipt};
use marktwice_core::record::{MARK_FORMAT, MARK_VERSION, MarkHeader, StepRecord};
use marktwice_core::sheet::Sheet;
use marktwice_core::side::AlsoWrites;
use marktwice_core::steps::{Facts, Standing, stand};
use marktwice_core::table::{KeyKind, Target};
use marktwice_port::{EngineError, Language, Plan, Session};

use crate::pastes::{all_offers, proven, proven_error};
use crate::phases::makings;
use crate::sheets::names_sheet;

/// A step, planned.
pub(crate) struct Planned {
    pub(crate) plan: Plan,
    pub(crate) standing: Standing,
}

impl Planned {
    /// Whether a rule about its text, or a missing right, stops it whatever its rows are.
    pub(crate) fn is_stopped(&self, change: &Change) -> bool {
        let allowed = change.allowed(self.plan.step);
        self.plan.findings.iter().any(|f| f.level == Level::Stop && f.stops(&allowed))
    }
}

/// Tells a session what a change is run with: its settings, and its parameters.
pub(crate) fn set_up(session: &mut dyn Session, change: &Change) -> Result<(), EngineError> {
    session.set_up(&change.session)?;
    session.bind(&change.params.iter().map(Param::bound).collect::<Vec<_>>())
}

/// Plans all steps of a change.
pub(crate) fn plan_all(
    session: &mut dyn Session,
    language: &dyn Language,
    change: &Change,
) -> Result<Vec<Planned>, EngineError> {
    let mut plans: Vec<Plan> = Vec::new();
    set_up(session, change)?;
    let uses: Vec<Vec<(usize, String)>> =
        (0..change.steps.len()).map(|step| used(language, change, step)).collect();
    for step in 0..change.steps.len() {
        let (text, allow) = (change.only(step), change.allowed(step));
        let mut plan = match session.plan(&text, &allow, &plans) {
            Ok(plan) => plan,
            Err(error) => {
                let error = match all_offers(session, language, change, (step, &mut plans), &error) {
                    Some(all) => all,
                    None => proven_error(session, language, &allow, error),
                };
                return Err(in_the_whole(error, &change.source));
            }
        };
        if let Some(table) = change.terms(step).archive_to
            && let Err(error) = session.archive(&mut plan, &table, change.make_archive)
        {
            return Err(in_the_whole(error, &change.source));
        }
        plan.step = step;
        plan.counted = change.terms(step).rows == Some(Expect::All);
        if let Some(name) = change.terms(step).keep {
            session.bind(&[kept(&plan, &name).map_err(|error| in_the_whole(error, &change.source))?])?;
        }
        // The same statement with another value is another change.
        let words: Vec<String> = language.placeholders(&text).into_iter().map(|(_, name)| name).collect();
        let params = change
            .params
            .iter()
            .filter(|p| words.contains(&p.name))
            .map(|param| param.identity(change.hash_key.as_ref()));
        let mut given: Vec<String> = params.collect();
        let reads = |sheet: &&Sheet| names_sheet(&text, sheet);
        given.extend(change.session.iter().map(|setting| format!("session {setting}")));
        given.extend(change.sheets.iter().filter(reads).map(Sheet::identity));
        if !given.is_empty() {
            let own = std::iter::once(plan.statement_hash.as_str());
            plan.statement_hash = hash::texts(own.chain(given.iter().map(String::as_str)));
        }
        let nulls = change.params.iter().filter(|p| p.value.is_null() && words.contains(&p.name));
        plan.findings.extend(nulls.filter_map(|param| language.never_true(&text, &param.name)));
        let findings = plan.findings.into_iter();
        let findings = findings.map(|f| at_home(proven(session, language, &allow, f), &change.source));
        plan.findings = findings.collect();
        plan.assigned.iter_mut().for_each(|a| a.place.line_from(&change.source));
        plans.push(plan);
    }
    written_by_steps(&mut plans);
    for (at, plan) in plans.iter().enumerate() {
        let Some(archive) = &plan.archive else { continue };
        let mut earlier = plans.iter().take(at).filter_map(|plan| plan.archive.as_ref());
        if earlier.any(|other| other.target.same_table(&archive.target) && !other.fills_like(archive)) {
            let table = &archive.target.table;
            let message = format!(
                "two steps would fill other columns of {table}, and nobody could compare what arrives"
            );
            let finding = Finding::new(Code::NoArchive, message);
            return Err(EngineError::Refused(Box::new(
                finding.hint("put the rows of one away in another table"),
            )));
        }
        let away = AlsoWrites { table: archive.target.table.clone(), rows: None };
        let own = plan.triggered.iter().find(|table| away.names(&table.shown));
        if let Some(why) = own.and_then(|table| table.target.as_ref().err()) {
            let message = format!("rows cannot be put away in {}: {why}", archive.target.table);
            let finding = Finding::new(Code::NoArchive, message);
            return Err(EngineError::Refused(Box::new(finding.hint("write it in a change of its own"))));
        }
    }
    conceal(session, &mut plans)?;
    let hides = change.has_secret() || plans.iter().any(|plan| !plan.target.hidden.is_empty());
    let hashing = match change.hash_key.filter(|_| hides) {
        Some(key) => Hashing::Keyed(key),
        None => change.seed.map_or(Hashing::Plain, Hashing::Seeded),
    };
    for plan in &mut plans {
        plan.parts.hashing = hashing;
        plan.parts.veil = plan.target.hides_key().then_some(plan.target.veil);
    }
    let mut standings = vec![Standing::default(); plans.len()];
    if plans.len() > 1 {
        let touches =
            plans.iter().map(|plan| session.touches(plan)).collect::<Result<Vec<_>, EngineError>>()?;
        let facts = plans.iter().zip(&touches).zip(&uses).map(|((plan, touches), uses)| Facts {
            touches,
            target: &plan.target,
            foreseen: &plan.foreseen,
            uses,
        });
        standings = stand(&facts.collect::<Vec<_>>());
    }
    let both = plans.into_iter().zip(standings);
    Ok(both
        .map(|(mut plan, standing)| {
            standing.fit(&mut plan.parts);
            Planned { plan, standing }
        })
        .collect())
}

/// Values of earlier steps that a step uses, each with the step that keeps it.
fn used(language: &dyn Language, change: &Change, step: usize) -> Vec<(usize, String)> {
    let mut all: Vec<(usize, String)> = Vec::new();
    for (_, name) in language.placeholders(&change.only(step)) {
        let keeps = |at: &usize| change.terms(*at).keep.as_ref() == Some(&name);
        if let Some(at) = (0..step).rev().find(keeps)
            && !all.iter().any(|(_, known)| *known == name)
        {
            all.push((at, name));
        }
    }
    all
}

/// What stands for the key that the one row of a step will be given.
pub(crate) fn kept(plan: &Plan, name: &str) -> Result<Bound, EngineError> {
    let target = &plan.target;
    let refused = |message: String| {
        let finding = Finding::new(Code::NotUnderstood, message);
        EngineError::Refused(Box::new(
            finding.hint("leave keep out, or keep the key of an INSERT of one row"),
        ))
    };
    if plan.kind != StepKind::Insert {
        return Err(refused(format!(
            "step {} brings no row in, and keep = \"{name}\" keeps its key",
            plan.step + 1
        )));
    }
    match (target.key.kind, target.key.columns.as_slice()) {
        (KeyKind::Primary | KeyKind::Unique, [one]) => {
            let declared = target.columns.get(*one).map_or(String::new(), |c| c.declared.clone());
            Ok(Bound {
                name: name.to_owned(),
                value: Value::Null,
                of: BoundAs::Column(declared),
                secret: false,
            })
        }
        (KeyKind::RowIdentity, _) => Ok(Bound {
            name: name.to_owned(),
            value: Value::Null,
            of: BoundAs::Kind(ParamKind::Integer),
            secret: false,
        }),
        _ => Err(refused(format!(
            "{} has no key of one column, and keep = \"{name}\" keeps one",
            target.table
        ))),
    }
}

/// Why a table that triggers write is not held as a whole.
const ANOTHER_STEP: &str = "another step writes it by itself";

/// Whether a trigger of the step writes what another step writes: an undo sets it off again, and that has to be let pass.
pub(crate) fn crosses(plan: &Plan) -> bool {
    plan.triggered.iter().any(|table| table.target.as_ref().is_err_and(|why| why == ANOTHER_STEP))
}

/// Tables that steps write themselves are not held as a whole: of their rows each is told by itself.
fn written_by_steps(plans: &mut [Plan]) {
    let own = |plan: &Plan| {
        let along = plan.along.iter().map(|along| along.target.clone());
        std::iter::once(plan.target.clone()).chain(along).collect::<Vec<_>>()
    };
    let own: Vec<Target> = plans.iter().flat_map(own).collect();
    for table in plans.iter_mut().flat_map(|plan| &mut plan.triggered) {
        if table.target.as_ref().is_ok_and(|target| own.iter().any(|own| own.same_table(target))) {
            table.target = Err(ANOTHER_STEP.to_owned());
        }
    }
}

/// The hidden columns of the tables of steps, as tables and columns.
pub(crate) fn hidden_columns<'p>(plans: impl Iterator<Item = &'p Plan>) -> Vec<(String, String)> {
    let of = |plan: &'p Plan| {
        let tables = plan.archive.iter().map(|archive| &archive.target).chain([&plan.target]);
        tables.flat_map(|target| target.hidden_names().into_iter().map(|name| (target.table.clone(), name)))
    };
    let mut all: Vec<(String, String)> = plans.flat_map(of).collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// What one step writes into a column that is not hidden elsewhere is hidden in all steps, and in what they make of it, until nothing
/// more is found.
fn conceal(session: &mut dyn Session, plans: &mut [Plan]) -> Result<(), EngineError> {
    loop {
        hide_everywhere(plans);
        let known = hidden_columns(plans.iter());
        if known.is_empty() || plans.len() < 2 {
            return Ok(());
        }
        for plan in plans.iter_mut() {
            session.conceal(plan, &known)?;
        }
        if hidden_columns(plans.iter()) == known {
            return Ok(());
        }
    }
}

/// A column that one step hides is hidden wherever rows of its table are shown. What foreign keys' actions and triggers write
/// for its rows may hold the same: there all is hidden, but for the keys of rows that keys' actions write.
fn hide_everywhere(plans: &mut [Plan]) {
    let hiding: Vec<Target> =
        plans.iter().map(|plan| plan.target.clone()).filter(|t| !t.hidden.is_empty()).collect();
    for plan in plans {
        let hides = !plan.target.hidden.is_empty() || plan.reads_hidden;
        let fired: Vec<&mut Target> =
            plan.triggered.iter_mut().filter_map(|table| table.target.as_mut().ok()).collect();
        // What tells the rows there is up to the trigger: a count for each value, say.
        for target in fired {
            if hides {
                target.hide(0..target.columns.len());
                target.veil = plan.target.veil;
            }
            hide_as(target, &hiding);
        }
        let taken = plan.along.iter_mut().map(|along| &mut along.target);
        let away = plan.archive.iter_mut().map(|archive| &mut archive.target);
        for target in taken.chain(away) {
            if hides {
                // A key that is hidden may be copied into whatever tells the rows there.
                let key = if plan.target.hides_key() { Vec::new() } else { target.key.columns.clone() };
                target.hide((0..target.columns.len()).filter(|at| !key.contains(at)));
                target.veil = plan.target.veil;
            }
            hide_as(target, &hiding);
        }
        hide_as(&mut plan.target, &hiding);
    }
}

/// Hides in a table what is hidden in the same one elsewhere.
fn hide_as(target: &mut Target, hiding: &[Target]) {
    let same = hiding.iter().filter(|other| other.same_table(target));
    let names: Vec<String> = same.flat_map(Target::hidden_names).collect();
    let columns: Vec<usize> = names.iter().filter_map(|name| target.position(name)).collect();
    target.hide(columns);
}

/// The tables that steps make for rows that they put away, each once.
pub(crate) fn made_first(steps: &[Planned]) -> Vec<Making> {
    makings(steps.iter().filter_map(|step| step.plan.archive.as_ref()))
}

/// A place in the text of one step shows the line of the whole text.
fn at_home(mut finding: Finding, source: &str) -> Finding {
    if let Some(place) = &mut finding.place {
        place.line_from(source);
    }
    finding
}

fn in_the_whole(error: EngineError, source: &str) -> EngineError {
    match error {
        EngineError::Refused(finding) => EngineError::Refused(Box::new(at_home(*finding, source))),
        other => other,
    }
}

/// The tables of steps, each once, and for each step the position of its own.
pub(crate) fn tables<'t>(targets: impl Iterator<Item = &'t Target>) -> (Vec<Target>, Vec<usize>) {
    let mut tables: Vec<Target> = Vec::new();
    let mut at = Vec::new();
    for target in targets {
        let same = |t: &Target| {
            (&t.schema, &t.table, &t.key, &t.definition)
                == (&target.schema, &target.table, &target.key, &target.definition)
        };
        let known = tables.iter().position(same);
        at.push(known.unwrap_or_else(|| {
            tables.push(target.clone());
            tables.len() - 1
        }));
    }
    (tables, at)
}

/// A step as marks and snapshots record it.
pub(crate) fn record(plan: &Plan, table: usize) -> StepRecord {
    StepRecord {
        kind: plan.kind,
        statement: plan.statement.clone(),
        statement_hash: plan.statement_hash.clone(),
        table,
        foreseen: plan.foreseen.clone(),
    }
}

/// All steps so, with their tables.
pub(crate) fn records(steps: &[Planned]) -> (Vec<StepRecord>, Vec<Target>) {
    let (tables, at) = tables(steps.iter().map(|step| &step.plan.target));
    let records = steps.iter().zip(at).map(|(step, table)| record(&step.plan, table)).collect();
    (records, tables)
}

/// The header of a mark; its name is given by the logbook.
pub(crate) fn mark_header(
    steps: &[Planned],
    database: &DatabaseId,
    change: &Change,
    (taken, by): (&str, &str),
    open: Vec<usize>,
) -> MarkHeader {
    let (records, tables) = records(steps);
    let hashing = steps.first().map(|step| step.plan.parts.hashing).unwrap_or_default();
    MarkHeader {
        format: MARK_FORMAT.to_owned(),
        version: MARK_VERSION,
        mark: String::new(),
        taken: taken.to_owned(),
        database: database.clone(),
        by: Some(by.to_owned()),
        origin: change.origin.clone(),
        change: change.source.clone(),
        checks: change.checks.clone(),
        params: to_map(&change.params),
        keyed: matches!(hashing, Hashing::Keyed(_)),
        key: None,
        seed: if let Hashing::Seeded(seed) = hashing { Some(seed) } else { None },
        sheets: change.sheets.clone(),
        settings: steps.first().map(|step| step.plan.settings.clone()).unwrap_or_default(),
        steps: records,
        tables,
        parts: steps.iter().map(|step| step.plan.parts.clone()).collect(),
        open,
    }
}

/// The first receipts of a change's steps.
pub(crate) fn step_receipts(steps: &[Planned], change: &Change) -> Vec<StepReceipt> {
    let of = |planned: &Planned| {
        let plan = &planned.plan;
        StepReceipt {
            kind: plan.kind,
            table: plan.target.table.clone(),
            schema: Some(plan.target.schema.clone()),
            statement: plan.statement.clone(),
            statement_hash: plan.statement_hash.clone(),
            definition: plan.target.definition.clone(),
            terms: change.terms(plan.step),
            matched: 0,
            changed: 0,
            engine_count: None,
            also_written: Vec::new(),
            along: Vec::new(),
            untouched: None,
            about: false,
            came: None,
            checks: Vec::new(),
        }
    };
    steps.iter().map(of).collect()
}
