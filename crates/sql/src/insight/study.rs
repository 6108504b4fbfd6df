//! A closer look at a step: small questions to the engine, each made of slices of the step. A question that the engine
//! does not answer is left out; what would cost too much is not asked.

mod common;
mod kinds;
mod near_miss;
mod partners;
mod pins_found;
mod references;
mod subqueries;

use marktwice_core::study::{FunnelStep, Scope, Study, Unbroken, Wish};
use marktwice_core::table::{KeyKind, Target};

use crate::query::ask::{Asker, Texts};
use crate::query::row_query::Ask;
use crate::statement::step::Step;
use crate::statement::terms::terms;
use crate::text::in_parentheses;

pub use references::Link;

/// Rows of the target from which on the whole table is not read again for a closer look.
const MOST: u64 = 1_000_000;
/// Conditions of a filter that are counted.
const CONDITIONS: usize = 12;

/// What is looked at.
#[derive(Debug, Clone, Copy)]
pub struct Subject<'a> {
    /// The step.
    pub step: &'a Step,
    /// Its target.
    pub target: &'a Target,
    /// Where its columns refer to.
    pub links: &'a [Link],
    /// Whether a key is compared with values already.
    pub pinned: bool,
}

impl Subject<'_> {
    /// A column of the target as the statement sees it.
    fn column(&self, at: usize) -> Option<String> {
        let name = &self.target.columns.get(at)?.name;
        Some(format!("{}.{}", self.visible(), self.step.language.quoted(name)))
    }

    /// The statement's own filter, narrowed by a condition: whole, so that it can be put in its place.
    fn narrowed(&self, condition: &str) -> String {
        let Some(filter) = &self.step.filter else { return format!("WHERE {condition}") };
        format!("WHERE {} AND {condition}", in_parentheses(self.step.text(filter.slice).trim()))
    }

    /// How many rows of the target fit a filter.
    fn fitting<E>(&self, filter: &str, questions: &mut Questions<'_, '_, E>) -> Option<u64> {
        let with = self.step.with.map_or("", |w| self.step.text(w));
        let from = self.step.text(self.step.table.slice);
        Some(questions.ask(&format!("{with}\nSELECT count(*) FROM {from} {filter}"))?.count(0, 0))
    }

    /// A filter that leaves exactly so many of the matched rows; `None` where the engine does not say so.
    fn leaving<E>(&self, condition: &str, rows: u64, questions: &mut Questions<'_, '_, E>) -> Option<String> {
        if self.step.sources.is_some() || self.step.tail.is_some() {
            return None;
        }
        let filter = self.narrowed(condition);
        (self.fitting(&filter, questions)? == rows).then_some(filter)
    }

    /// The statement with another filter (`WHERE …`).
    fn with_filter(&self, filter: &str) -> Option<String> {
        let step = self.step;
        match &step.filter {
            Some(own) => Some(step.replaced(own.slice, filter.trim_start().strip_prefix("WHERE ")?)),
            None if step.returning.is_some() => None,
            None => {
                Some(format!("{}\n{filter};", step.text(step.statement).trim_end().trim_end_matches(';')))
            }
        }
    }

    fn visible(&self) -> String {
        self.step.language.quoted(&self.step.table.visible().text)
    }

    /// The columns that tell one row from another, as the statement sees them.
    fn key(&self) -> Vec<String> {
        let names = self.target.key.names.iter();
        names.map(|k| format!("{}.{}", self.visible(), self.step.language.quoted(k))).collect()
    }

    /// Columns of the target that the filter names, or that are assigned.
    fn named(&self, assigned: bool) -> Vec<usize> {
        let step = self.step;
        let filter = step.filter.iter().flat_map(|f| crate::statement::slicing::names_in(step, f.slice));
        let set =
            step.assignments.iter().flat_map(|a| &a.columns).map(|c| c.text.clone()).filter(|_| assigned);
        let mut all: Vec<usize> = Vec::new();
        for at in filter.chain(set).filter_map(|name| self.target.position(&name)) {
            if !all.contains(&at) {
                all.push(at);
            }
        }
        all
    }
}

/// Something that asks, and remembers whether something was not answered.
struct Questions<'q, 'a, E> {
    ask: &'q mut Asker<'a, E>,
    failed: bool,
}

impl<E> Questions<'_, '_, E> {
    /// The answer; `None` where the engine gave none.
    fn ask(&mut self, sql: &str) -> Option<Texts> {
        match (self.ask)(sql) {
            Ok(answer) => Some(answer),
            Err(_) => {
                self.failed = true;
                None
            }
        }
    }

    /// The same, where no answer is nothing unusual.
    fn try_ask(&mut self, sql: &str) -> Option<Texts> {
        (self.ask)(sql).ok()
    }
}

/// Looks closer.
pub fn study<E>(subject: Subject<'_>, wish: &Wish, ask: &mut Asker<'_, E>) -> Study {
    let mut questions = Questions { ask, failed: false };
    match &wish.scope {
        Scope::Whole | Scope::Brief => {}
        Scope::Meanings => {
            let meanings = references::meanings(subject, wish, &mut questions);
            return Study { meanings, ..Study::default() };
        }
        Scope::Alike(rows) => {
            let (common, skipped) = common::common(subject, rows, &mut questions);
            return Study { common, skipped, ..Study::default() };
        }
    }
    let mut found = Study { findings: subqueries::look(subject, wish, &mut questions), ..Study::default() };
    // One question, where another count is expected.
    found.leave_out = wish
        .leave_out
        .as_ref()
        .and_then(|(condition, left)| subject.leaving(condition, *left, &mut questions));
    found.unbroken = wish.broken.as_ref().and_then(|(keys, left)| {
        let condition = pins_found::without_keys(subject, keys)?;
        let filter = subject.leaving(&condition, *left, &mut questions)?;
        let statement = subject.with_filter(&filter)?;
        Some(Unbroken { filter, rows: *left, statement })
    });
    if wish.scope == Scope::Brief {
        return found;
    }
    found.meanings = references::meanings(subject, wish, &mut questions);
    if wish.total > MOST {
        found.skipped = Some(format!("the table has more than {MOST} rows"));
        return found;
    }
    found.funnel = funnel(subject, &mut questions);
    found.partners = partners::partners(subject, wish, &mut questions);
    found.near = near_miss::near_misses(subject, &mut questions);
    found.pins = pins_found::pins(subject, wish, &mut questions);
    found.kinds = kinds::kinds(subject, wish, &mut questions);
    found.kinds.retain(|kind| found.leave_out.as_ref() != Some(&kind.filter));
    for &at in &wish.known {
        let values = subject.column(at).and_then(|column| {
            let from = subject.step.text(subject.step.table.slice);
            questions.ask(&format!(
                "SELECT DISTINCT {column} FROM {from} WHERE {column} IS NOT NULL LIMIT {}",
                VALUES + 1
            ))
        });
        let values: Option<Vec<String>> =
            values.map(|a| a.rows.into_iter().filter_map(|r| r.into_iter().next().flatten()).collect());
        // Of some of them nobody can say how all the others are written.
        found.known.push((at, values.filter(|values| values.len() <= VALUES).unwrap_or_default()));
    }
    if questions.failed {
        found.skipped = Some("some questions took too long, or were not answered".to_owned());
    }
    found
}

/// Up to so many different values of a column are looked at for how they are written.
const VALUES: usize = 2_000;

/// How many rows each condition leaves.
fn funnel<E>(subject: Subject<'_>, questions: &mut Questions<'_, '_, E>) -> Vec<FunnelStep> {
    let step = subject.step;
    let conditions = terms(step);
    if conditions.len() < 2 || conditions.len() > CONDITIONS {
        return Vec::new();
    }
    let texts: Vec<String> = conditions.iter().map(|c| step.text(*c).to_owned()).collect();
    let counted = |condition: &str| match (&step.sources, subject.key().as_slice()) {
        (None, _) => Some(format!("count(CASE WHEN {condition} THEN 1 END)")),
        (Some(_), [key]) if subject.target.key.kind != KeyKind::WholeRow => {
            Some(format!("count(DISTINCT CASE WHEN {condition} THEN {key} END)"))
        }
        (Some(_), _) => None,
    };
    let wrapped: Vec<String> = texts.iter().map(|t| format!("(\n{t}\n)")).collect();
    let mut select = Vec::new();
    for at in 0..wrapped.len() {
        let so_far = wrapped.get(..=at).unwrap_or_default().join(" AND ");
        let (Some(with), Some(alone)) = (counted(&so_far), wrapped.get(at).and_then(|w| counted(w))) else {
            return Vec::new();
        };
        select.extend([with, alone]);
    }
    let with = step.with.map_or("", |w| step.text(w));
    let sql = format!("{with}\nSELECT {}\nFROM {}", select.join(", "), step.from_list());
    let Some(answer) = questions.ask(&sql) else { return Vec::new() };
    let steps = texts.into_iter().enumerate();
    steps
        .map(|(at, condition)| FunnelStep {
            condition,
            rows: answer.count(0, at * 2),
            alone: step.sources.is_none().then(|| answer.count(0, at * 2 + 1)),
        })
        .collect()
}

/// The row query with a select list of ours and no order.
fn matched(step: &Step, select: &str) -> String {
    step.query(select, Ask::default())
}
