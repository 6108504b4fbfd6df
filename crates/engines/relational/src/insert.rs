//! Rows that a statement brings in: what of them is known beforehand, how they are held, and how they are found once they are
//! there.
//!
//! The statement's own source fills a temporary table whose columns are those of the target, so that the engine makes of each
//! value what it would store, and fills in defaults. What only the run can tell stays open: numbers that the engine gives,
//! clocks and dice. In the run the engine gives back what tells the rows where that is not known, row by row in the order in
//! which they came in; the row that is there then must hold all that was known.

use marktwice_core::Value;
use marktwice_core::finding::{Code, Finding, Level};
use marktwice_core::mark::{Foreseen, Label, StepKind};
use marktwice_core::table::{Column, KeyKind, Target};
use marktwice_port::{EngineError, Plan};
use marktwice_sql::dialect::ours::{ORDINAL, ROW};
use marktwice_sql::dialect::volatile::{Volatile, find};
use marktwice_sql::refuse::upsert::{two_steps, why_not};
use marktwice_sql::statement::slicing::is_literal;
use marktwice_sql::statement::step::{Brought, Inserted, Name};
use marktwice_sql::text::slices::Slice;
use marktwice_sql::text::{names, tokenize};
use marktwice_sql::{Language, Step};
use sqlparser::tokenizer::Token;

use crate::driver::Driver;
use crate::foresee::{self, Extra, Trigger, clock_or_dice, label};
use crate::held::{Filled, Held};
use crate::layout::Layout;
use crate::recipe::{Recipe, Slot};
use crate::shell::{Joining, Shell, Tabled};
use crate::statement::{detail, in_place};

/// Where the number of the table stands that holds what the engine gives back, among those of tables of held rows.
const CAME: usize = 900_000_000;

/// Settles which columns an INSERT fills; what is to be said of that. `width` says how many columns a query gives, where the
/// engine tells that.
///
/// # Errors
/// [`EngineError::Refused`] for one that is not taken.
pub fn settle_columns<T: Tabled>(
    step: &mut Step,
    table: &T,
    width: &mut dyn FnMut(&str) -> Option<usize>,
) -> Result<Option<Finding>, EngineError> {
    let unnamed = name_columns(step, table, width);
    refuse(step, table)?;
    Ok(unnamed)
}

/// Names the columns of an INSERT that does not, where its values or the engine tell how many they are: the first ones of the
/// table, in its order. What is said of it then.
fn name_columns<T: Tabled>(
    step: &mut Step,
    table: &T,
    width: &mut dyn FnMut(&str) -> Option<usize>,
) -> Option<Finding> {
    let (place, slice) = (step.place(step.table.slice), step.table.slice);
    // The row's own number under its other names is the column that it is.
    let target = table.target();
    let number = table.row_column().and_then(|at| target.columns.get(at));
    if let (Some(number), Some(columns)) = (number, step.inserted.as_mut().and_then(|i| i.columns.as_mut())) {
        for name in columns.iter_mut().filter(|name| is_row_number::<T>(target, &name.text)) {
            name.text.clone_from(&number.name);
        }
    }
    let inserted = step.inserted.as_ref().filter(|inserted| inserted.columns.is_none())?;
    let open = inserted.brought == Brought::Query(None);
    let widths: Vec<usize> = match &inserted.brought {
        Brought::Rows(rows) => rows.iter().map(Vec::len).collect(),
        Brought::Query(Some(items)) => vec![items.len()],
        Brought::Query(None) => vec![width(&step.bringing(None))?],
        Brought::Defaults => return None,
    };
    // There a computed column takes no value; elsewhere it takes DEFAULT.
    let takes = |column: &&Column| T::LANGUAGE != Language::Sqlite || !column.generated;
    let seen = target
        .columns
        .iter()
        .enumerate()
        .filter(|(at, _)| !table.is_invisible(*at))
        .map(|(_, column)| column);
    let list: Vec<&str> = seen.filter(takes).map(|column| column.name.as_str()).collect();
    let width = widths.first().copied().filter(|width| widths.iter().all(|other| other == width))?;
    if width == 0 {
        // As with an empty list of columns: everything is a default.
        step.inserted.as_mut()?.columns = Some(Vec::new());
        return None;
    }
    let fits = width == list.len() || (T::LANGUAGE == Language::Postgres && width < list.len());
    if !fits {
        return None;
    }
    let named = list.iter().take(width);
    let names = named.clone().map(|name| T::LANGUAGE.name(name)).collect::<Vec<_>>().join(", ");
    let paste = open.then(|| step.replaced(slice, &format!("{} ({names})", step.text(slice))));
    let columns = named.map(|name| Name { text: (*name).to_owned(), slice }).collect();
    step.inserted.as_mut()?.columns = Some(columns);
    if let Some(paste) = paste {
        let message = format!(
            "the columns are not named, and what the query gives goes into them by their order: {names}"
        );
        let finding = Finding::new(Code::NoColumnList, message).at(place);
        return Some(finding.hint("name them, in the order of the values:").paste(paste));
    }
    let message = format!("the columns are not named, so the values go by their order: {names}");
    Some(Finding::new(Code::NoColumnList, message).at(place).weighing(Level::Note))
}

/// Whether a name that is no column stands for the number that the engine gives each row.
fn is_row_number<T: Tabled>(target: &Target, name: &str) -> bool {
    let names = ["rowid", "_rowid_", "oid"];
    T::LANGUAGE == Language::Sqlite
        && target.position(name).is_none()
        && names.iter().any(|known| known.eq_ignore_ascii_case(name))
}

/// Refuses an INSERT that does not say which columns it fills, or says something of rows that are there already; with what to
/// write instead.
fn refuse<T: Tabled>(step: &Step, table: &T) -> Result<(), EngineError> {
    let Some(inserted) = &step.inserted else { return Ok(()) };
    let refused = |finding: Finding| Err(EngineError::Refused(Box::new(finding)));
    let target = table.target();
    if inserted.columns.is_none() && inserted.brought != Brought::Defaults {
        let message = format!("the columns of {} that get these values are not named", target.table);
        let stored = target.columns.iter().filter(|c| !c.generated);
        let names: Vec<String> = stored.map(|c| T::LANGUAGE.name(&c.name)).collect();
        let table = step.text(step.table.slice);
        let paste = step.replaced(step.table.slice, &format!("{table} ({})", names.join(", ")));
        let finding = Finding::new(Code::NoColumnList, message).at(step.place(step.table.slice));
        let hint = match inserted.conflict {
            None => "name them, in the order of the values:",
            Some(_) => {
                "name them, in the order of the values, and write what becomes of rows that are there already as a step of its own:"
            }
        };
        return refused(finding.hint(hint).paste(paste));
    }
    if let Some(conflict) = &inserted.conflict {
        let keys: Vec<Vec<String>> = table.keys().iter().map(|key| target.names(&key.columns)).collect();
        let primary = table.keys().iter().position(|key| key.primary).or(Some(0));
        let key = primary.and_then(|at| keys.get(at)).cloned().unwrap_or_default();
        let message = match conflict.replaces {
            true => "rows that are there already are deleted, with what refers to them, and others come in for them",
            false => "what becomes of rows that are there already is decided row by row as it runs",
        }
        .to_owned();
        let finding = Finding::new(Code::NotUnderstood, message).at(step.place(conflict.slice));
        let why = match table.or_abort().is_empty() {
            true => why_not(step, &keys),
            false => Some("the table's own definition says what becomes of rows that are there".to_owned()),
        };
        if let Some(why) = why {
            let hint = format!(
                "write an UPDATE for what is there, and an INSERT … WHERE NOT EXISTS for what is not; none is offered here: {why}"
            );
            return refused(finding.hint(hint));
        }
        return refused(match two_steps(step, target, &key, &keys) {
            Some(paste) if conflict.set.is_empty() && !conflict.replaces => {
                finding.hint("bring in only what is not there yet:").paste(paste)
            }
            Some(paste) if conflict.replaces => finding
                .hint("write two steps: what is there is updated (columns that are not named stay as they are), then what is not comes in:")
                .paste(paste),
            Some(paste) => finding
                .hint("write two steps: what is there is updated, then what is not comes in:")
                .paste(paste),
            None => finding
                .hint("write two steps: an UPDATE for what is there, then an INSERT … WHERE NOT EXISTS"),
        });
    }
    if let Some(name) = inserted.named().iter().find(|name| is_row_number::<T>(target, &name.text)) {
        let message =
            format!("{} is the number that the engine gives the rows of {}", name.text, target.table);
        let finding = Finding::new(Code::EngineColumn, message).at(step.place(name.slice));
        return refused(finding.weighing(Level::Stop).hint("leave it out, with its values"));
    }
    for (at, name) in inserted.named().iter().enumerate() {
        let computed = target.position(&name.text).and_then(|column| target.columns.get(column));
        let defaults = match &inserted.brought {
            Brought::Rows(rows) => rows.iter().all(|row| {
                row.get(at).is_none_or(|value| step.text(*value).trim().eq_ignore_ascii_case("default"))
            }),
            Brought::Defaults => true,
            Brought::Query(_) => false,
        };
        if computed.is_some_and(|column| column.generated) && !defaults {
            let message = format!("{} is computed by the engine and cannot be given a value", name.text);
            let finding = Finding::new(Code::EngineColumn, message).at(step.place(name.slice));
            return refused(finding.weighing(Level::Stop).hint("leave it out, with its values"));
        }
    }
    if let Brought::Rows(rows) = &inserted.brought
        && let Some(row) =
            rows.iter().find(|row| !inserted.named().is_empty() && row.len() != inserted.named().len())
        && let Some(first) = row.first().zip(row.last())
    {
        let message =
            format!("{} columns are named, and here are {} values", inserted.named().len(), row.len());
        return refused(Finding::new(Code::NotUnderstood, message).at(step.place(first.0.to(*first.1))));
    }
    Ok(())
}

/// What an engine's catalogue says of the columns, as rows come in.
pub struct About<'a> {
    /// Their defaults.
    pub defaults: &'a [Option<String>],
    /// More of them.
    pub extras: &'a [Extra],
    /// Whether the engine numbers a column by itself where it is given nothing.
    pub numbers: &'a dyn Fn(usize) -> bool,
    /// The triggers that are fired.
    pub triggers: &'a [Trigger],
}

/// Foresees all columns of the rows that come in. `why` says for one value why it cannot be told before the run.
///
/// # Errors
/// What `why` answers.
pub fn foresee(
    step: &Step,
    target: &Target,
    about: &About<'_>,
    why: &mut dyn FnMut(Slice) -> Result<Option<String>, EngineError>,
) -> Result<Vec<Foreseen>, EngineError> {
    let Some(inserted) = &step.inserted else { return Ok(Vec::new()) };
    let mut all: Vec<Foreseen> = Vec::new();
    for (at, column) in target.columns.iter().enumerate() {
        if column.generated {
            continue;
        }
        let named = inserted.named().iter().position(|name| name.text.eq_ignore_ascii_case(&column.name));
        let default = about.defaults.get(at).and_then(Option::as_deref);
        let given = named.map(|nth| inserted.given(nth)).unwrap_or_default();
        let mut reason = None;
        for value in &given {
            let left = is_default(step, *value) || ((about.numbers)(at) && asks_for_a_number(step, *value));
            reason = match (left, clock_or_dice(step, *value)) {
                (true, _) => by_itself(step, at, default, about),
                (false, None) => why(*value)?,
                (false, known) => known,
            };
            if reason.is_some() {
                break;
            }
        }
        if named.is_none() {
            reason = by_itself(step, at, default, about);
        }
        all.push(label(at, reason, named.is_none()));
    }
    for trigger in about.triggers.iter().filter(|t| t.before) {
        let whole = trigger.routine.new_whole || trigger.routine.skips;
        for foreseen in &mut all {
            let set = trigger.routine.new_columns.iter().any(|c| target.position(c) == Some(foreseen.column));
            if whole || set {
                let reason = format!("trigger {} may set it", trigger.name);
                *foreseen = label(foreseen.column, Some(reason), foreseen.derived);
            }
        }
    }
    let mut open: Vec<usize> = all.iter().filter(|f| f.label == Label::Unknown).map(|f| f.column).collect();
    let mut derived: Vec<usize> = (0..target.columns.len()).collect();
    derived.retain(|at| target.columns.get(*at).is_some_and(|c| c.generated));
    // One may be derived from another.
    for _ in 0..derived.len() {
        for at in derived.iter().copied().filter(|at| !open.contains(at)).collect::<Vec<_>>() {
            let of = about.extras.get(at).and_then(|e| e.generated.as_deref());
            let reads = |text: &str| {
                let named = names(text, step.language);
                named.iter().filter_map(|name| target.position(name)).any(|from| open.contains(&from))
            };
            if of.is_none_or(reads) {
                open.push(at);
            }
        }
    }
    for at in derived {
        let reason = open.contains(&at).then(|| "it is derived from a value that is not known".to_owned());
        all.push(label(at, reason, true));
    }
    all.sort_by_key(|f| f.column);
    Ok(all)
}

/// Foresees what an INSERT brings in, or what another statement makes of what is there.
///
/// # Errors
/// What `why` answers.
pub fn foresee_any(
    step: &Step,
    target: &Target,
    about: &About<'_>,
    why: &mut dyn FnMut(Slice) -> Result<Option<String>, EngineError>,
) -> Result<Vec<Foreseen>, EngineError> {
    match step.inserted {
        Some(_) => foresee(step, target, about, why),
        None => foresee::foresee(step, target, about.extras, about.triggers, why),
    }
}

/// Whether a value is the word DEFAULT.
fn is_default(step: &Step, value: Slice) -> bool {
    step.text(value).eq_ignore_ascii_case("default")
}

/// Whether a value lets the engine give a number of its own: NULL, and 0 where that means the same.
fn asks_for_a_number(step: &Step, value: Slice) -> bool {
    let text = step.text(value).trim();
    text.eq_ignore_ascii_case("null") || text.parse::<f64>() == Ok(0.0)
}

/// Why nobody knows beforehand what a column holds that is given nothing.
fn by_itself(step: &Step, at: usize, default: Option<&str>, about: &About<'_>) -> Option<String> {
    if (about.numbers)(at) {
        return Some("the engine numbers it".to_owned());
    }
    let default = default?;
    (!is_plain(step, default)).then(|| format!("its default is {default}, computed in the run"))
}

/// Whether a default is a value that is written out: nothing in it is called, and nothing reads a clock.
fn is_plain(step: &Step, default: &str) -> bool {
    let Ok(tokens) = tokenize(default, step.language.dialect()) else { return false };
    let mut typed = false;
    tokens.iter().filter(|t| !t.is_blank()).all(|token| {
        let of_type = typed;
        typed = token.is(&Token::DoubleColon) || (typed && token.name().is_some());
        match &token.token.token {
            Token::Word(_) => of_type || token.is_any(&["null", "true", "false"]),
            Token::LBracket | Token::RBracket | Token::LParen | Token::RParen | Token::Comma => true,
            Token::SingleQuotedString(text) => {
                let moments = ["now", "today", "tomorrow", "yesterday"];
                !moments.contains(&text.trim().to_ascii_lowercase().as_str())
            }
            Token::Number(..) | Token::Minus | Token::Plus => true,
            Token::DoubleColon | Token::EscapedStringLiteral(_) | Token::HexStringLiteral(_) => true,
            _ => false,
        }
    })
}

/// A row must be found once it is there: a finding where it could not be.
pub fn unpairable<T: Tabled>(step: &Step, table: &T, foreseen: &[Foreseen]) -> Option<Finding> {
    let target = table.target();
    let unknown = foreseen.iter().find(|f| f.label == Label::Unknown)?;
    if target.key.kind != KeyKind::WholeRow || T::TELLS_WRITTEN {
        return None;
    }
    let name = target.columns.get(unknown.column).map_or("", |c| c.name.as_str());
    let why = unknown.why.as_deref().unwrap_or_default();
    let message = format!(
        "{} has no key, and {name} is known only in the run ({why}): nobody could tell the row again",
        target.table
    );
    let finding = Finding::new(Code::NotUnderstood, message).at(step.place(step.table.slice));
    Some(finding.hint(format!("give {name} a value, or the table a primary key")))
}

/// What would make other rows come in at each reading: dice outside of the values, and a LIMIT without an order.
pub fn unstable(step: &Step) -> Option<Finding> {
    let inserted = step.inserted.as_ref()?;
    let behind = step.behind()?;
    for slice in step.with.into_iter().chain([behind]) {
        if let Some((Volatile::Random | Volatile::Session, place)) = find(step, slice) {
            let message = format!("{}() gives another value at each call", step.text(place));
            return Some(Finding::new(Code::VolatileFilter, message).at(step.place(place)));
        }
    }
    let tokens = step.words(inserted.source);
    let top = marktwice_sql::statement::slicing::top_level(&tokens);
    let limit = top.iter().find(|t| t.is_any(&["limit", "fetch"]))?;
    if top.iter().any(|t| t.is_word("order")) {
        return None;
    }
    let message = "LIMIT without ORDER BY takes any of the rows";
    let finding = Finding::new(Code::UnstableLimit, message).at(step.place(limit.slice));
    Some(finding.hint("order them by what tells them apart: ORDER BY … LIMIT …"))
}

/// The columns of the table that holds rows which come in. What only the run can tell has no default there.
pub fn recipe<T: Tabled>(
    table: &T,
    plan: &Plan,
    step: &Step,
    slots: &[Slot],
    defaults: &[Option<String>],
) -> Recipe {
    let mut recipe = Recipe::new(format!("{ORDINAL} {}", T::COUNTED));
    recipe.columns.extend(table.beside());
    let unknown = |at: usize| plan.foreseen.iter().any(|f| f.column == at && f.label == Label::Unknown);
    for (at, slot) in slots.iter().enumerate() {
        let (name, own) = (&slot.name, &slot.own);
        recipe.columns.push(match &slot.generated {
            Some(expression) if !unknown(at) => {
                format!("{name} {own} GENERATED ALWAYS AS ({expression}) STORED")
            }
            _ => {
                let default = defaults.get(at).and_then(Option::as_deref).filter(|_| !unknown(at));
                let default = default.map_or(String::new(), |d| format!(" DEFAULT ({d})"));
                let null = if unknown(at) { " NULL" } else { slot.comes };
                format!("{name} {own}{null}{default}")
            }
        });
        // The engine tells the key of a row that came in; of a row without one nothing more is ever known.
        if !unknown(at) || table.target().key.kind != KeyKind::WholeRow {
            recipe.after.push((at, name.clone()));
        }
    }
    let target = table.target();
    let named = step.inserted.iter().flat_map(Inserted::named);
    recipe.insert = named
        .filter_map(|name| slots.get(target.position(&name.text)?))
        .map(|slot| slot.name.clone())
        .collect();
    recipe
}

/// What the source gives is not run where it would take a number of the engine's, or do more: its value is left open.
fn source(step: &Step, inserted: &Inserted, target: &Target, plan: &Plan) -> String {
    let unknown = |nth: usize| {
        let at = inserted.named().get(nth).and_then(|name| target.position(&name.text));
        plan.foreseen.iter().any(|f| Some(f.column) == at && f.label == Label::Unknown)
    };
    let acts = |slice: Slice| {
        let found = find(step, slice);
        let harmless = matches!(found, Some((Volatile::Clock, _)));
        !harmless && !is_literal(step, slice) && !is_default(step, slice)
    };
    let mut cut: Vec<Slice> = Vec::new();
    for nth in (0..inserted.named().len()).filter(|nth| unknown(*nth)) {
        cut.extend(inserted.given(nth).into_iter().filter(|slice| *slice != inserted.source && acts(*slice)));
    }
    cut.sort_by_key(|slice| slice.start);
    let (mut text, mut at) = (String::new(), inserted.source.start);
    for slice in cut {
        text.push_str(step.text(Slice { start: at, end: slice.start }));
        text.push_str("NULL");
        at = slice.end;
    }
    text.push_str(step.text(Slice { start: at, end: inserted.source.end }));
    text
}

/// Fills the held table of a plan with the rows that come in, under the user's own settings.
///
/// # Errors
/// What the engine says.
pub fn fill<S: Shell>(
    shell: &mut S,
    plan: &Plan,
    (step, table): (&Step, &S::Table),
    recipe: Recipe,
) -> Result<Filled<S::Table>, EngineError> {
    let Some(inserted) = &step.inserted else {
        return Err(EngineError::Other("the statement brings no rows in".to_owned()));
    };
    let name = table.held_name(plan.step);
    let list = match inserted.columns {
        Some(_) => format!(" ({})", recipe.insert.join(", ")),
        None => String::new(),
    };
    let with = step.with.map_or("", |with| step.text(with));
    let source = source(step, inserted, table.target(), plan);
    let said = |error| in_place(step, table.in_user_words(error, plan.step));
    let matched = shell.execute(&format!("{with}\nINSERT INTO {name}{list}\n{source}")).map_err(said)?;
    let matched = shell.filled(plan, step, table, matched)?;
    let layout = Layout {
        step: plan.step,
        target: plan.target.clone(),
        kind: StepKind::Insert,
        row: table.row_identity().is_some(),
        flags: false,
        rest: None,
        moving: plan.foreseen.iter().map(|f| f.column).collect(),
        after: recipe.after,
    };
    Ok(Filled { held: Held::new(layout, table), matched, many: None })
}

/// How the statement of a plan is sent, where the engine must give back what tells its rows: that, and which columns of the
/// held table it goes into, with how it comes.
pub struct Giving<T: Tabled> {
    /// The statement.
    pub text: String,
    into: Vec<String>,
    types: Vec<String>,
    forms: Vec<T::Form>,
}

/// What a plan's statement must give back; nothing where all that tells its rows is known.
///
/// # Errors
/// When the plan is another engine's.
pub fn giving<T: Tabled>(plan: &Plan) -> Result<Option<Giving<T>>, EngineError> {
    if plan.kind != StepKind::Insert {
        return Ok(None);
    }
    let detail = detail::<T>(plan)?;
    let (table, target) = (&detail.table, &plan.target);
    let unknown = |at: &usize| plan.foreseen.iter().any(|f| f.column == *at && f.label == Label::Unknown);
    let mut giving = Giving { text: String::new(), into: Vec::new(), types: Vec::new(), forms: Vec::new() };
    let mut list = Vec::new();
    let keyed = table.row_column().filter(|_| table.row_identity().is_some());
    // Without a column that keeps it, the row's own number is the only thing by which it is found.
    if let Some(row) = table.row_identity().filter(|_| keyed.is_none()) {
        let of = table.beside().first().and_then(|b| b.split_once(' ')).map_or("", |(_, of)| of).to_owned();
        list.push(T::LANGUAGE.quoted(row));
        giving.into.push(ROW.to_string());
        giving.types.push(of);
        giving.forms.push(T::NUMBER);
    }
    for at in target.key.columns.iter().copied().filter(unknown) {
        list.push(table.column(at));
        giving.into.push(table.column(at));
        giving.types.push(table.roomy(at));
        giving.forms.push(table.form(at));
    }
    if list.is_empty() {
        return Ok(None);
    }
    giving.text = detail.step.giving(&list.join(", "));
    Ok(Some(giving))
}

impl<T: Tabled> Giving<T> {
    /// Runs the statement, and notes with the held rows what tells them; gives how many came in.
    ///
    /// # Errors
    /// What the engine says.
    pub fn run<D: Driver<Table = T>>(self, driver: &mut D, plan: &Plan) -> Result<u64, EngineError> {
        let came = self.call(driver)?;
        self.note(driver, plan, came)
    }

    /// Runs the statement; gives what it gives back, one row behind the other.
    ///
    /// # Errors
    /// What the engine says.
    pub fn call<D: Driver<Table = T>>(&self, driver: &mut D) -> Result<Vec<Value>, EngineError> {
        let mut came: Vec<Value> = Vec::new();
        driver.each(&self.text, &self.forms, &mut |values| {
            came.extend(values);
            Ok(())
        })?;
        Ok(came)
    }

    /// Notes with the held rows what tells them; gives how many came in.
    ///
    /// # Errors
    /// What the engine says.
    pub fn note<D: Driver<Table = T>>(
        self,
        driver: &mut D,
        plan: &Plan,
        came: Vec<Value>,
    ) -> Result<u64, EngineError> {
        let detail = detail::<T>(plan)?;
        let width = self.into.len();
        let count = came.len() / width.max(1);
        let held = detail.table.held_name(plan.step);
        let mut ordinals: Vec<Value> = Vec::with_capacity(count);
        driver.each(
            &format!("SELECT {ORDINAL} FROM {held} ORDER BY {ORDINAL}"),
            &[T::NUMBER],
            &mut |values| {
                ordinals.extend(values);
                Ok(())
            },
        )?;
        let number = CAME + plan.step;
        let mut columns = vec![format!("{ORDINAL} {}", T::NUMBERED.0)];
        columns.extend(self.into.iter().zip(&self.types).map(|(name, of)| format!("{name} {of}")));
        driver.define(&detail.table, number, &columns)?;
        let (into, mut names) = (detail.table.held_name(number), vec![ORDINAL.to_string()]);
        names.extend(self.into.iter().cloned());
        let mut came = came.chunks(width.max(1));
        let mut ordinals = ordinals.into_iter();
        loop {
            let both = ordinals.by_ref().zip(came.by_ref()).take(1_000);
            let rows: Vec<Vec<Value>> = both
                .map(|(ordinal, row)| std::iter::once(ordinal).chain(row.iter().cloned()).collect())
                .collect();
            if rows.is_empty() {
                break;
            }
            driver.pinned(|driver| driver.load(&into, &names, rows))?;
        }
        let of = if T::JOINING == Joining::Join { "h." } else { "" };
        let sets: Vec<String> = self.into.iter().map(|name| format!("{of}{name} = c.{name}")).collect();
        let (sets, on) = (sets.join(", "), format!("c.{ORDINAL} = h.{ORDINAL}"));
        driver.execute(&match T::JOINING {
            Joining::Join => format!("UPDATE {held} AS h JOIN {into} AS c ON {on} SET {sets}"),
            Joining::From | Joining::In => {
                format!("UPDATE {held} AS h SET {sets} FROM {into} AS c WHERE {on}")
            }
        })?;
        Ok(count as u64)
    }
}
