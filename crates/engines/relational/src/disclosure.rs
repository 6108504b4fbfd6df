//! What may show the contents of hidden columns. A value is shown only where the engine says that it comes from columns that are not
//! hidden; of everything else nobody knows, and it is hidden.
//!
//! Asked by [`crate::session`] for the columns that a step writes, for those of a view, and for queries of checks. Three answers lead
//! to "shown": the statement reaches no table with hidden columns; the engine says that an expression reads none of them, views and
//! functions looked through; or the expression is made of columns alone, each of which the engine resolves to one that is not hidden.

use marktwice_core::hash::HashKey;
use marktwice_core::secret::HiddenColumns;
use marktwice_core::steps::{Part, Touches};
use marktwice_core::table::{KeyKind, Target};
use marktwice_core::veil::Veil;
use marktwice_port::{EngineError, Plan};
use marktwice_sql::query::check::{AROUND, Question};
use marktwice_sql::query::mentions::{compared_with, from_clause, names, puts_together};
use marktwice_sql::query::placeholders::placeholders;
use marktwice_sql::statement::slicing::understand;
use marktwice_sql::statement::step::{Brought, Step};
use marktwice_sql::text::slices::Slice;
use marktwice_sql::text::{names as names_in_text, tokenize};

use crate::driver::{Driver, Origin};
use crate::shell::Tabled;
use crate::statement::{detail, is_default};

/// Views that are looked into below each other.
const DEEPEST: usize = 16;

/// What is hidden in a database, and for a change.
#[derive(Debug, Clone, Default)]
pub struct Hidden {
    /// Columns, by table: those that somebody has named, those that are computed from them, and those that a change writes such
    /// values to.
    pub columns: HiddenColumns,
    /// What numbers of rows are made under.
    pub key: HashKey,
    /// Parameters whose values are never shown.
    pub secrets: Vec<String>,
}

impl Hidden {
    /// Whether nothing is.
    pub fn is_empty(&self) -> bool {
        self.columns.is_empty() && self.secrets.is_empty()
    }

    /// Whether a text uses a secret parameter.
    fn uses<T: Tabled>(&self, text: &str) -> bool {
        !self.secrets.is_empty()
            && placeholders(text, T::LANGUAGE).iter().any(|(_, name)| self.secrets.contains(name))
    }

    /// Whether something reaches a table with hidden columns, or nobody can tell what it reaches.
    fn reached_by<T: Tabled>(&self, touches: &Touches) -> bool {
        if self.columns.is_empty() {
            return false;
        }
        let read = touches.reads.iter().any(|read| self.columns.of_table(&read.table).next().is_some());
        touches.hidden.is_some() || read || self.mentioned_in::<T>(&touches.bodies)
    }

    /// Whether something reads a hidden column, or nobody can tell what it reads.
    fn read_by<T: Tabled>(&self, touches: &Touches) -> bool {
        if self.columns.is_empty() {
            return false;
        }
        let read = |table: &str, part: &Part| match part {
            Part::Rows => false,
            Part::Column(column) => self.columns.has(table, column),
            Part::All => self.columns.of_table(table).next().is_some(),
        };
        touches.hidden.is_some()
            || touches.reads.iter().any(|touch| read(&touch.table, &touch.part))
            || self.mentioned_in::<T>(&touches.bodies)
    }

    /// Whether the text of a routine names a table with hidden columns: what it does with its rows nobody follows.
    fn mentioned_in<T: Tabled>(&self, texts: &[String]) -> bool {
        texts.iter().any(|text| {
            tokenize(text, T::LANGUAGE.dialect()).is_err()
                || names_in_text(text, T::LANGUAGE)
                    .iter()
                    .any(|name| self.columns.of_table(name).next().is_some())
        })
    }
}

/// The named columns with those that are computed from them, those that refer to them by a foreign key and so hold the same, and those
/// of tables that share their rows.
///
/// # Errors
/// When the engine fails.
pub fn closed<D: Driver>(driver: &mut D, named: &HiddenColumns) -> Result<HiddenColumns, EngineError> {
    let mut all = named.clone();
    let mut tables: Vec<String> = named.named().map(|(table, _)| table.to_owned()).collect();
    let mut at = 0;
    while let Some(name) = tables.get(at).cloned() {
        at += 1;
        let (schema, table) = name.rsplit_once('.').map_or((None, name.as_str()), |(s, t)| (Some(s), t));
        // A name that stands for nothing here hides nothing.
        let Ok(table) = driver.looking(|driver| driver.named(schema, table)) else { continue };
        let target = table.target().clone();
        let own = target.table.clone();
        let mut more: Vec<(String, String)> = Vec::new();
        loop {
            let known = all.and(more.iter().cloned());
            let next = target.columns.iter().enumerate().find(|(at, column)| {
                column.generated
                    && !known.has(&own, &column.name)
                    && shows(table.generated_as(*at), &own, &known, D::Table::LANGUAGE)
            });
            let Some((_, column)) = next else { break };
            more.push((own.clone(), column.name.clone()));
        }
        all = all.and(more);
        let columns: Vec<String> = all.of_table(&own).map(str::to_owned).collect();
        for (child, column) in referring(driver, &table, &columns)? {
            let known = all.has(child.rsplit('.').next().unwrap_or(&child), &column);
            if !known {
                all = all.and([(child.clone(), column)]);
                tables.push(child);
            }
        }
        for relative in driver.looking(|driver| driver.relatives(&table))? {
            all = all.and(columns.iter().map(|column| (relative.clone(), column.clone())));
        }
    }
    Ok(all)
}

/// The columns of tables that refer to these columns of a table.
fn referring<D: Driver>(
    driver: &mut D,
    table: &D::Table,
    columns: &[String],
) -> Result<Vec<(String, String)>, EngineError> {
    let keys = driver.looking(|driver| driver.foreign_keys(table))?;
    let into = keys.iter().filter(|key| key.leads_to(table.target()));
    let pairs =
        into.flat_map(|key| key.child_columns.iter().zip(&key.parent_columns).map(move |pair| (key, pair)));
    let hidden = pairs.filter(|(_, (_, parent))| columns.iter().any(|own| own.eq_ignore_ascii_case(parent)));
    let named = hidden.map(|(key, (child, _))| {
        let (schema, name) = &key.child_target;
        let table = if schema.is_empty() { name.clone() } else { format!("{schema}.{name}") };
        (table, child.clone())
    });
    Ok(named.collect())
}

/// Whether a generated column may show a hidden one of its table: its expression names one, or nobody can read it.
fn shows(
    expression: Option<&str>,
    table: &str,
    known: &HiddenColumns,
    language: marktwice_sql::Language,
) -> bool {
    expression.is_none_or(|text| {
        tokenize(text, language.dialect()).is_err()
            || names_in_text(text, language).iter().any(|name| known.has(table, name))
    })
}

/// Hides in a plan whatever may show what is hidden, and notes in it whether the statement reaches any of it.
///
/// # Errors
/// [`EngineError::Refused`] where a secret is assigned to what identifies the rows; when the engine fails.
pub fn follow<D: Driver>(driver: &mut D, plan: &mut Plan, hidden: &Hidden) -> Result<(), EngineError> {
    if hidden.is_empty() {
        return Ok(());
    }
    let detail = detail::<D::Table>(plan)?;
    let (step, table, fires) = (detail.step.clone(), detail.table.clone(), detail.fires.for_rows);
    let counts = |at: usize| table.counts(at);
    let secret = hidden.uses::<D::Table>(step.text(step.statement));
    let reached = !hidden.columns.is_empty() && {
        let touches = driver.looking(|driver| driver.touches(plan))?;
        plan.runs_hidden |= touches.hidden.is_some() || hidden.mentioned_in::<D::Table>(&touches.bodies);
        hidden.reached_by::<D::Table>(&touches)
    };
    plan.reads_hidden |= reached || secret;
    if !plan.reads_hidden {
        return Ok(());
    }
    let mut columns: Vec<usize> = Vec::new();
    for foreseen in plan.foreseen.clone() {
        let at = foreseen.column;
        let Some(column) = plan.target.columns.get(at) else { continue };
        if column.generated {
            continue;
        }
        let given = given(&step, &plan.target, at);
        let conceals = match given.as_slice() {
            // What a trigger sets, or a default gives: only a trigger or a routine could bring it from elsewhere.
            [] => reached && foreseen.why.is_some() && fires && !counts(at),
            given => {
                let mut any = false;
                for slice in given {
                    any = any || conceals(driver, &step, *slice, hidden, 0)?;
                }
                any
            }
        };
        if conceals {
            columns.push(at);
        }
    }
    if secret {
        refuse_in_key(&step, plan, &|text| hidden.uses::<D::Table>(text))?;
        let filter = step.filter.as_ref().map_or("", |filter| step.text(filter.slice));
        let compared = compared_with(filter, &hidden.secrets, D::Table::LANGUAGE);
        columns.extend(compared.iter().filter_map(|name| plan.target.position(name)));
    }
    let own = HiddenColumns::default()
        .and(plan.target.names(&columns).into_iter().map(|c| (plan.target.table.clone(), c)));
    for (at, column) in plan.target.columns.iter().enumerate() {
        if column.generated
            && !columns.is_empty()
            && shows(table.generated_as(at), &plan.target.table, &own, D::Table::LANGUAGE)
        {
            columns.push(at);
        }
    }
    if !columns.is_empty() {
        plan.target.hide(columns);
        plan.target.veil = Veil(Some(hidden.key));
    }
    Ok(())
}

/// A secret as the key of rows would stand wherever they are named.
fn refuse_in_key(step: &Step, plan: &Plan, uses: &dyn Fn(&str) -> bool) -> Result<(), EngineError> {
    let target = &plan.target;
    let keys = target.key.columns.iter().copied();
    let assigned = |at: &usize| given(step, target, *at).iter().any(|slice| uses(step.text(*slice)));
    if let Some(at) = keys.clone().find(assigned) {
        let message = format!(
            "a secret is assigned to {}, a part of the key of {}, and keys stand in marks, receipts and messages",
            target.names(&[at]).join(", "),
            target.table
        );
        return Err(crate::secret::refused(message, "leave secret out, or choose another key"));
    }
    let any = (0..target.columns.len()).any(|at| assigned(&at));
    if any && target.key.kind == KeyKind::WholeRow {
        let message = format!(
            "a secret is assigned to a column of {}, whose rows are told by everything that they hold",
            target.table
        );
        return Err(crate::secret::refused(message, "leave secret out, or give the table a key"));
    }
    Ok(())
}

/// What a statement gives a column of its target.
fn given(step: &Step, target: &Target, at: usize) -> Vec<Slice> {
    let is = |name: &str| target.position(name) == Some(at);
    if let Some(inserted) = &step.inserted {
        let nth = match &inserted.columns {
            Some(columns) => columns.iter().position(|name| is(&name.text)),
            None => Some(at),
        };
        return nth.map_or_else(Vec::new, |nth| inserted.given(nth));
    }
    let mut all = Vec::new();
    for assignment in &step.assignments {
        for (nth, column) in assignment.columns.iter().enumerate() {
            if is(&column.text) {
                let part = assignment.parts.as_ref().and_then(|parts| parts.get(nth)).copied();
                all.push(part.unwrap_or(assignment.value));
            }
        }
    }
    all
}

/// Whether the value of an expression may show what is hidden.
fn conceals<D: Driver>(
    driver: &mut D,
    step: &Step,
    value: Slice,
    hidden: &Hidden,
    depth: usize,
) -> Result<bool, EngineError> {
    let text = step.text(value);
    if is_default(step, value) {
        return Ok(false);
    }
    let language = D::Table::LANGUAGE;
    let (head, tail, query) = around(step, value);
    let names = names(text, language);
    if hidden.uses::<D::Table>(step.text(step.statement)) {
        // What is compared with a secret holds it, and so may what is read from where it is used.
        let whole = step.text(step.statement);
        let compared = compared_with(whole, &hidden.secrets, language);
        let words = names_in_text(text, language);
        let held = words.iter().any(|word| compared.iter().any(|name| name.eq_ignore_ascii_case(word)));
        let from_there = hidden.uses::<D::Table>(&format!("{head} {tail}"));
        let constant = names.as_ref().is_some_and(Vec::is_empty);
        if hidden.uses::<D::Table>(text) || held || (from_there && !constant) {
            return Ok(true);
        }
    }
    if hidden.columns.is_empty() {
        return Ok(false);
    }
    let Some(touches) = reads(driver, &query) else { return Ok(true) };
    if !hidden.read_by::<D::Table>(&touches) {
        return Ok(false);
    }
    if touches.hidden.is_some() || !touches.bodies.is_empty() || depth > DEEPEST {
        return Ok(true);
    }
    // The engine tells the origin of one of several queries that are put together, and the values come from all.
    if puts_together(step.text(step.statement), language) {
        return Ok(true);
    }
    let Some(names) = names else {
        // By itself a part would mean a table where it means what WITH has named.
        if step.with.is_some() {
            return Ok(true);
        }
        // What a subquery chooses its rows by is no value of it.
        let inner = text.trim().strip_prefix('(').and_then(|inner| inner.strip_suffix(')')).unwrap_or(text);
        let inner = read_as_insert::<D::Table>(inner);
        return match inner.as_ref().map(|step| (step, items(step))) {
            Some((inner, Some([item]))) => conceals(driver, inner, *item, hidden, depth + 1),
            _ => Ok(true),
        };
    };
    for name in names {
        let Ok(Some(origin)) = driver.origin(&head, &name, &tail) else { return Ok(true) };
        if !is_clear(driver, &origin, hidden, depth + 1)? {
            return Ok(true);
        }
    }
    Ok(false)
}

/// What stands around an expression in a query that reads it: before it, behind it, and the query as a whole.
fn around(step: &Step, value: Slice) -> (String, String, String) {
    let with = step.with.map_or("", |with| step.text(with));
    if step.inserted.is_some() {
        let query = step.bringing(Some(value));
        let behind = step.behind().map_or("", |behind| step.text(behind));
        let tail = from_clause(behind, step.language).unwrap_or(behind);
        return (with.to_owned(), tail.to_owned(), query);
    }
    let tail = format!("FROM {}", step.from_list());
    let query = format!("{with}\nSELECT ({}\n)\n{tail}", step.text(value));
    (with.to_owned(), tail, query)
}

/// What a query reads; `None` where it is not understood.
fn reads<D: Driver>(driver: &mut D, query: &str) -> Option<Touches> {
    let around = format!("DELETE FROM {AROUND} WHERE EXISTS (\n{query}\n)");
    let step = understand(&around, D::Table::LANGUAGE).ok()?;
    driver.reads_as_resolved(&Question { step, text: query.to_owned() }).ok()
}

/// Whether a column is known to show nothing that is hidden: one of a table that is not hidden, or one of a view that is made of
/// such.
fn is_clear<D: Driver>(
    driver: &mut D,
    origin: &Origin,
    hidden: &Hidden,
    depth: usize,
) -> Result<bool, EngineError> {
    if hidden.columns.has(&origin.table, &origin.column) {
        return Ok(false);
    }
    let viewed = driver.looking(|driver| driver.viewed(origin.schema.as_deref(), &origin.table))?;
    let Some(viewed) = viewed else { return Ok(true) };
    let from = viewed.table.from();
    if reads(driver, &format!("SELECT * FROM {from}"))
        .is_some_and(|touches| !hidden.read_by::<D::Table>(&touches))
    {
        return Ok(true);
    }
    let Some(at) = viewed.table.target().position(&origin.column) else { return Ok(false) };
    let Some(query) = query_of(&viewed.of.definition, D::Table::LANGUAGE) else { return Ok(false) };
    let Some(step) = read_as_insert::<D::Table>(query) else { return Ok(false) };
    let whole = items(&step).filter(|items| items.len() == viewed.table.target().columns.len());
    let item = whole.and_then(|items| items.get(at).copied());
    match item {
        Some(item) => Ok(!conceals(driver, &step, item, hidden, depth)?),
        None => Ok(false),
    }
}

/// A query, taken apart as the source of an INSERT.
fn read_as_insert<T: Tabled>(query: &str) -> Option<Step> {
    understand(&format!("INSERT INTO {AROUND}\n{query}"), T::LANGUAGE).ok()
}

/// What a query gives, value by value.
fn items(step: &Step) -> Option<&[Slice]> {
    match step.inserted.as_ref().map(|inserted| &inserted.brought) {
        Some(Brought::Query(Some(items))) => Some(items),
        _ => None,
    }
}

/// The query of a view in its definition, which may be a whole CREATE VIEW.
fn query_of(definition: &str, language: marktwice_sql::Language) -> Option<&str> {
    let tokens = tokenize(definition, language.dialect()).ok()?;
    let words: Vec<_> = tokens.iter().filter(|token| !token.is_blank()).collect();
    let from = match words.first()? {
        first if first.is_word("create") => {
            let at = words.iter().position(|token| token.is_word("as"))?;
            words.get(at + 1)?.slice.start
        }
        first => first.slice.start,
    };
    definition.get(from..).map(|query| query.trim_end().trim_end_matches(';'))
}

/// Hides those columns of a view that may show what is hidden.
///
/// # Errors
/// When the engine fails.
pub fn hide_in_view<D: Driver>(
    driver: &mut D,
    view: &mut Target,
    hidden: &Hidden,
) -> Result<(), EngineError> {
    if hidden.columns.is_empty() {
        return Ok(());
    }
    let mut columns = Vec::new();
    let schema = Some(view.schema.clone()).filter(|schema| !schema.is_empty());
    for (at, column) in view.columns.iter().enumerate() {
        let origin =
            Origin { schema: schema.clone(), table: view.table.clone(), column: column.name.clone() };
        if !is_clear(driver, &origin, hidden, 0)? {
            columns.push(at);
        }
    }
    if !columns.is_empty() {
        view.hide(columns);
        view.veil = Veil(Some(hidden.key));
    }
    Ok(())
}

/// Whether the answer to a query may show what is hidden.
pub fn discloses<D: Driver>(driver: &mut D, query: &str, hidden: &Hidden) -> bool {
    if hidden.uses::<D::Table>(query) {
        return true;
    }
    !hidden.columns.is_empty()
        && reads(driver, query).is_none_or(|touches| hidden.read_by::<D::Table>(&touches))
}
