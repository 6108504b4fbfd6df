//! The page of a run.

use std::fmt::Write as _;

use marktwice_core::Role;
use marktwice_core::receipt::{RunKind, RunState};
use marktwice_run::{Entry, Kept};

use super::About;
use super::page::{Command, Fact, Marks, Page, Said, Step};
use super::rows::{holds, noticed, table};
use crate::human::{self, number, rows};
use crate::printed;

pub(super) fn of_run(entry: &Entry, kept: &Result<Kept, String>, about: &About<'_>) -> Page {
    let receipt = &entry.receipt;
    let several = receipt.steps.len() > 1;
    let facts = human::facts(entry)
        .into_iter()
        .filter(|(name, _)| *name != "check")
        .map(|(name, text)| Fact { name, text })
        .collect();
    let blocks = kept.as_ref().map_or(&[][..], |kept| kept.rows.as_slice());
    let mut hidden: Vec<String> = blocks.iter().flat_map(|rows| rows.block.target.hidden_names()).collect();
    hidden.dedup();
    let steps = receipt.steps.iter().enumerate().map(|(at, step)| {
        let own = blocks.iter().filter(|rows| rows.place.step == at);
        let (tables, along): (Vec<_>, Vec<_>) = own.partition(|rows| rows.place.role == Role::Target);
        let by = |role| match role {
            Role::Target => "",
            Role::Cascade => "by a foreign key's action",
            Role::Trigger => "by a trigger, or put away there",
            Role::Archive => "put away",
        };
        let what = format!("{} {}", step.kind.verb(), step.table);
        let name = step.terms.name.as_ref().map_or(String::new(), |name| format!(": {name}"));
        Step {
            title: if several { format!("Step {}{name} · {what}", at + 1) } else { what },
            statement: step.statement.clone(),
            said: if several { human::step_facts(step) } else { Vec::new() },
            tables: tables.iter().map(|rows| table(&rows.block, "")).collect(),
            along: along.iter().map(|rows| table(&rows.block, by(rows.place.role))).collect(),
            findings: if at == 0 {
                receipt.findings.iter().map(|finding| noticed(finding, &receipt.allowed)).collect()
            } else {
                Vec::new()
            },
            checks: step
                .checks
                .iter()
                .map(|found| Said { word: holds(Some(found.failing == 0)), text: found.told(&step.table) })
                .collect(),
            ..Step::default()
        }
    });
    let steps = steps.collect();
    let mut told = String::new();
    let (matched, changed) = receipt.rows();
    let _ = write!(told, "Run {}: {}. ", receipt.run, human::outcome_in_words(entry));
    let _ = write!(told, "{} matched, {} changed.", rows(matched), number(changed));
    let committed = receipt.state == RunState::Committed;
    let mut back = Vec::new();
    let mut commands = Vec::new();
    if entry.can_undo {
        back.push(format!("It {}.", entry.in_words()));
        commands.push(Command {
            what: "The command that takes it back:",
            text: printed::undo(receipt, about.on),
        });
    } else {
        back.push(match &entry.undone_by {
            Some(by) => format!("It was taken back, by {by}."),
            None if committed => "It cannot be undone.".to_owned(),
            None => "Nothing of it stands, so that there is nothing to take back.".to_owned(),
        });
    }
    if let Err(why) = kept {
        back.push(format!("Its rows cannot be shown: {why}."));
    }
    Page {
        title: receipt.title.clone().unwrap_or_else(|| {
            let what = receipt.steps.iter().map(|step| format!("{} {}", step.kind.verb(), step.table));
            what.collect::<Vec<_>>().join(", ")
        }),
        kind: if receipt.kind == RunKind::Undo { "Undo" } else { "Run" }.to_owned(),
        marks: Marks {
            first: receipt.mark.is_some() || receipt.kind == RunKind::Undo,
            second: committed,
            said: if committed { "both marks agreed" } else { "not committed" },
        },
        reason: receipt.reason.clone(),
        told,
        database: receipt.database.clone(),
        facts,
        notes: receipt.warnings.iter().chain(&receipt.changed_elsewhere).cloned().collect(),
        steps,
        also: Vec::new(),
        checks: receipt
            .checks
            .iter()
            .map(|found| Said { word: holds(found.holds), text: found.told() })
            .collect(),
        back,
        commands,
        version: env!("CARGO_PKG_VERSION"),
        made: about.now.clone(),
        hidden: hidden.join(", "),
    }
}
