//! The page of a change: its preview or its rehearsal.

use marktwice_core::mark::StepKind;
use marktwice_run::{Block, Preview, StepPreview};

use super::page::{Command, Fact, Left, Marks, Page, Said, Share, Step};
use super::rows::{holds, noticed, percent, table, total};
use super::{About, collected};
use crate::human::{self, number};

pub(super) fn of_preview(preview: &Preview, about: &About<'_>, (kind, told): (&str, String)) -> Page {
    let several = preview.steps.len() > 1;
    let mut facts = Vec::new();
    let mut fact = |name, text: String| {
        if !text.is_empty() {
            facts.push(Fact { name, text });
        }
    };
    fact("mark", preview.mark.clone().unwrap_or_default());
    let given: Vec<String> = preview.params.iter().map(human::param).collect();
    fact("with", given.join(", "));
    let settings: Vec<String> = preview.session.iter().map(ToString::to_string).collect();
    fact("under", settings.join(", "));
    let stops: Vec<&str> = preview.stops().iter().map(|code| code.as_str()).collect();
    fact("stopped by", stops.join(", "));
    let sum = |of: fn(&Block) -> u64| preview.steps.iter().map(|step| of(&step.block)).sum::<u64>();
    if several {
        fact("steps", preview.steps.len().to_string());
        fact("rows", format!("{} in all", number(sum(|block| block.matched))));
    }
    let way = preview.back();
    // What would not be applied has no way back.
    let goes = preview.mark.is_some()
        && preview.stops().is_empty()
        && preview.unmet().is_empty()
        && !preview.fails()
        && !preview.nothing_to_do();
    let mut back = vec![match goes {
        true => format!("As far as is known now, it {} once it is applied.", way.in_words()),
        false => "It would not be applied as it stands, so that there is nothing to take back.".to_owned(),
    }];
    back.extend(way.obstacles.iter().chain(&way.leaves).chain(&way.unsure).map(|why| format!("{why}.")));
    let hidden: Vec<String> =
        preview.steps.iter().flat_map(|step| step.block.target.hidden_names()).collect();
    Page {
        title: preview.title.clone().unwrap_or_else(|| {
            let what = |step: &StepPreview| format!("{} {}", step.block.kind.verb(), step.block.target.table);
            preview.steps.iter().map(what).collect::<Vec<_>>().join(", ")
        }),
        kind: kind.to_owned(),
        marks: Marks {
            first: preview.mark.is_some(),
            second: false,
            said: if preview.mark.is_some() { "the first of two marks is taken" } else { "no mark is taken" },
        },
        reason: about.reason.map(str::to_owned),
        told,
        database: preview.database.clone(),
        facts,
        notes: preview.notes.clone(),
        steps: preview
            .steps
            .iter()
            .enumerate()
            .map(|(at, step)| of_step(step, several.then_some(at)))
            .collect(),
        also: preview.triggered.iter().map(|block| table(block, "by a trigger")).collect(),
        checks: preview
            .checks
            .iter()
            .map(|found| Said { word: holds(found.holds), text: found.told() })
            .collect(),
        back,
        commands: Vec::from_iter(goes.then(|| Command {
            what: "The command that takes an application back; the run's name is told once it is committed:",
            text: format!("marktwice undo RUN{}", about.on),
        })),
        version: env!("CARGO_PKG_VERSION"),
        made: about.now.clone(),
        hidden: hidden.join(", "),
    }
}

fn of_step(step: &StepPreview, nth: Option<usize>) -> Step {
    let block = &step.block;
    let name = step.name.as_ref().map_or(String::new(), |name| format!(": {name}"));
    let what = format!("{} {}", block.kind.verb(), block.target.table);
    let mut said = collected(|out| human::about_step(out, step));
    said.extend(step.waits.iter().map(|wait| wait.why.clone()));
    let whole = step.total;
    let share = (step.told && block.kind != StepKind::Insert && whole.rows > 0).then(|| Share {
        text: format!(
            "{} % of {}",
            percent(block.matched, whole.rows),
            if whole.about { "the table, as far as its size is known" } else { "the table" }
        ),
        percent: percent(block.matched, whole.rows),
    });
    let every = Left {
        condition: "every row".to_owned(),
        rows: format!("{}{}", if whole.about { "about " } else { "" }, number(whole.rows)),
        alone: String::new(),
        percent: 100.0,
    };
    let each = step.study.funnel.iter().enumerate().map(|(at, left)| Left {
        condition: format!("{} {}", if at == 0 { "WHERE" } else { "AND" }, left.condition),
        rows: number(left.rows),
        alone: left.alone.filter(|_| at > 0).map_or(String::new(), number),
        percent: percent(left.rows, whole.rows),
    });
    let funnel =
        if step.study.funnel.is_empty() { Vec::new() } else { std::iter::once(every).chain(each).collect() };
    let beside = collected(|out| human::beside_step(out, step));
    let checks = block.checks.iter().map(|found| Said {
        word: match (&found.open, found.failing) {
            (Some(_), _) => "open",
            (None, 0) => "holds",
            _ => "stop",
        },
        text: found.told(&block.target.table),
    });
    Step {
        title: nth.map_or_else(|| what.clone(), |at| format!("Step {}{name} · {what}", at + 1)),
        statement: step.statement.clone(),
        said,
        share,
        funnel,
        tables: if block.rows.is_empty() { Vec::new() } else { vec![table(block, "")] },
        totals: block.totals.iter().map(total).collect(),
        findings: block.findings.iter().map(|finding| noticed(finding, &block.allowed)).collect(),
        beside,
        along: block.along.iter().map(|block| table(block, "by a foreign key's action")).collect(),
        checks: checks.collect(),
    }
}
