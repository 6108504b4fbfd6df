//! Results as JSON documents. Each says its format and version; `docs/JSON.md` describes them.

use marktwice_core::Code;
use marktwice_core::finding::Level;
use marktwice_core::many::Many;
use marktwice_core::moved::Moved;
use marktwice_core::receipt::DatabaseId;
use marktwice_core::table::Target;
use marktwice_core::undo::Conflict;
use marktwice_core::value::list_to_json;
use marktwice_core::verify::Fault;
use marktwice_core::witness::Left;
use marktwice_core::{CellDiff, Image, Value};
use marktwice_run::{
    Answer, BatchPreview, Block, Compared, Conflicts, Difference, End, Entry, Faults, InAll, Kept, KeptRows,
    Preview, Rehearsal, RunOutcome, Settling, Shown, ShownRow, Since, StepDifference, StepPreview,
    UndoPreview, Unmet, Verdict,
};
use serde_json::{Map, Value as Json, json};

use crate::past::Shared;
use crate::report::Trouble;

mod looks;

pub(crate) use looks::{draft, look, looked_again, tables, values};

/// The version of every document.
const VERSION: u32 = 2;

fn document(format: &str, mut fields: Json) -> Json {
    let mut all = Map::new();
    all.insert("format".to_owned(), format.into());
    all.insert("version".to_owned(), VERSION.into());
    // Those that can end otherwise say so themselves.
    all.insert("status".to_owned(), crate::exit::DONE.into());
    if let Some(fields) = fields.as_object_mut() {
        all.append(fields);
    }
    Json::Object(all)
}

fn name(target: &Target, at: usize) -> String {
    target.columns.get(at).map_or(String::new(), |c| c.name.clone())
}

fn named(target: &Target, values: &[Value]) -> Json {
    Json::Object(values.iter().enumerate().map(|(at, v)| (name(target, at), v.to_json())).collect())
}

fn row(target: &Target, row: &ShownRow) -> Json {
    let whole = |row: Option<&[Value]>| row.map_or(Json::Null, |row| named(target, row));
    let after = match &row.image {
        Image::Update { before, after } => {
            let cells = marktwice_core::cell::diff(before, after);
            Json::Object(cells.iter().map(|c| (name(target, c.column), c.after.to_json())).collect())
        }
        image => whole(image.after()),
    };
    json!({ "key": list_to_json(&row.key), "before": whole(row.image.before()), "after": after })
}

/// Puts fields behind others.
fn and(mut first: Json, mut second: Json) -> Json {
    if let (Some(first), Some(second)) = (first.as_object_mut(), second.as_object_mut()) {
        first.append(second);
    }
    first
}

fn unmet(unmet: &Unmet) -> Json {
    json!({ "what": unmet.what, "expected": unmet.expected, "found": unmet.found })
}

/// Rows that are written together: of a step, or of a batch of an undo.
fn block(block: &Block) -> Json {
    let target = &block.target;
    let foreseen: Vec<Json> = block
        .foreseen
        .iter()
        .map(|f| json!({ "column": name(target, f.column), "label": f.label, "derived": f.derived, "why": f.why }))
        .collect();
    let findings: Vec<Json> = block
        .findings
        .iter()
        .map(|f| {
            let more = json!({ "hint": f.remedy(), "stops": f.stops(&block.allowed) });
            and(serde_json::to_value(f).unwrap_or(Json::Null), more)
        })
        .collect();
    let known = |n: u64| if block.uncertain() { Json::Null } else { n.into() };
    json!({
        "kind": block.kind,
        "table": target.table,
        "key": target.key.names,
        "matched": block.matched,
        "changes": known(block.changes),
        "already_so": known(block.matched - block.changes),
        "foreseen": foreseen,
        "hidden": target.hidden_names(),
        "rows": block.rows.iter().map(|r| row(target, r)).collect::<Vec<_>>(),
        "totals": block.totals,
        "side_effects": block.side,
        "along": block.along.iter().map(along).collect::<Vec<_>>(),
        "findings": findings,
        "unmet": block.unmet.iter().map(unmet).collect::<Vec<_>>(),
        "checks": block.checks,
    })
}

/// Rows that are taken along, of one table and written alike.
fn along(taken: &Block) -> Json {
    let target = &taken.target;
    json!({
        "kind": taken.kind,
        "table": target.table,
        "key": target.key.names,
        "matched": taken.matched,
        "rows": taken.rows.iter().map(|r| row(target, r)).collect::<Vec<_>>(),
    })
}

fn step(step: &StepPreview) -> Json {
    let fields = json!({
        "name": step.name,
        "statement": step.statement,
        "told": step.told,
        "since": step.since.as_ref().map(since),
        "waits": step.waits.iter().map(|w| json!({ "step": w.step + 1, "why": w.why })).collect::<Vec<_>>(),
        "pinned": step.pin,
        "total": step.total.rows,
        "total_is_reckoned": step.total.about,
        "out_of_reach": step.out_of_reach().map(|others| others.rows),
        "closer_look": closer(step),
        "many_sources": step.many.as_ref().map(many),
        "leave_out": step.study.leave_out,
        "archive": step.archive.as_ref().map(|archive| json!({
            "table": archive.target.table,
            "schema": archive.target.schema,
            "columns": archive.columns.iter().map(|(own, _)| name(&step.block.target, *own)).collect::<Vec<_>>(),
            "left_to_defaults": archive.left_to_defaults(),
            "made_by": archive.making.as_ref().map(|making| json!({
                "definition": making.definition,
                "in_transaction": making.inside,
            })),
        })),
        "already_run": step.already_run.as_ref().map(|(run, when)| json!({ "run": run, "when": when })),
        "way_back": step.back,
        "stays_null": { "rows": step.stays_null.0, "operands": step.stays_null.1 },
    });
    and(block(&step.block), fields)
}

fn in_all(all: &InAll) -> Json {
    let InAll { table, updated, equal, inserted, twice } = all;
    json!({ "table": table, "updated": updated, "equal": equal, "inserted": inserted, "twice": twice })
}

fn of_change(preview: &Preview) -> Json {
    json!({
        "database": preview.database,
        "title": preview.title,
        "params": marktwice_core::param::to_map(&preview.params),
        "session": preview.session.iter().map(|s| (s.name.clone(), json!(s.value))).collect::<serde_json::Map<_, _>>(),
        "in_all": preview.in_all().iter().map(in_all).collect::<Vec<_>>(),
        "mark": preview.mark,
        "rehearsed": preview.rehearsed,
        "triggered": preview.triggered.iter().map(along).collect::<Vec<_>>(),
        "checks": preview.checks,
        "steps": preview.steps.iter().map(step).collect::<Vec<_>>(),
        "notes": preview.notes,
    })
}

fn of_undo(preview: &UndoPreview) -> Json {
    let batch = |batch: &BatchPreview| {
        let fields = json!({
            "step": batch.step + 1,
            "conflicts": batch.conflicts.as_ref().map(conflicts),
            "left_alone": batch.left_alone.as_ref().map(conflicts),
            "already_back": batch.already_back,
            "not_asked": batch.not_asked,
            "renumbered": batch.renumbered,
        });
        and(block(&batch.block), fields)
    };
    let whole = |batch: &BatchPreview| {
        json!({
            "table": batch.block.target.table,
            "rows": batch.block.along.iter().map(along).collect::<Vec<_>>(),
            "left_alone": batch.left_alone.as_ref().map(conflicts),
        })
    };
    json!({
        "database": preview.database,
        "title": preview.title,
        "undo_of": preview.run,
        "rehearsed": preview.rehearsed,
        "steps": preview.batches.iter().map(batch).collect::<Vec<_>>(),
        "triggered": preview.triggered.iter().map(whole).collect::<Vec<_>>(),
        "left_to_triggers": preview.standing.iter().map(|(table, why)| json!({ "table": table, "why": why })).collect::<Vec<_>>(),
        "unmet": preview.unmet.as_ref().map(unmet),
        "notes": preview.notes,
    })
}

/// What the closer look found.
fn closer(step: &StepPreview) -> Json {
    let target = &step.block.target;
    let meanings: Vec<Json> = step
        .block
        .meanings
        .iter()
        .map(|(column, value, means)| json!({ "column": name(target, *column), "value": value.to_json(), "name": means }))
        .collect();
    and(serde_json::to_value(&step.study).unwrap_or(Json::Null), json!({ "meanings": meanings }))
}

/// Rows that several rows of a join match, with those.
fn many(many: &Many) -> Json {
    let source = |row: &Vec<(String, Option<String>)>| -> Json {
        Json::Object(row.iter().map(|(name, value)| (name.clone(), json!(value))).collect())
    };
    let examples: Vec<Json> = many
        .examples
        .iter()
        .map(|e| json!({ "key": list_to_json(&e.key), "sources": e.sources.iter().map(source).collect::<Vec<_>>() }))
        .collect();
    json!({ "rows": many.rows, "differing": many.differing, "examples": examples })
}

/// A preview.
pub(crate) fn preview(preview: &Preview, status: u8) -> Json {
    document("marktwice-preview", and(of_change(preview), json!({ "status": status })))
}

fn since(since: &Since) -> Json {
    let Moved { joined, left, changed, result, .. } = since.moved;
    let named = since.moved.named.iter().map(|row| json!({ "key": list_to_json(&row.key), "how": row.how }));
    json!({
        "preview": since.taken,
        "joined": joined,
        "left": left,
        "changed": changed,
        "result": result,
        "rows": named.collect::<Vec<_>>(),
        "rows_only": since.rows_only,
        "same_statement": since.same_text,
    })
}

/// Two changes compared.
pub(crate) fn comparison(found: &Difference, names: [&str; 2], status: u8) -> Json {
    let one = |step: &StepDifference| {
        let target = &step.target;
        let image = |image: &Option<Image>| {
            image.as_ref().map(|i| json!({ "before": i.before().map(|r| named(target, r)), "after": i.after().map(|r| named(target, r)) }))
        };
        let rows = step.rows.iter().map(|r| {
            json!({ "key": list_to_json(&r.key), "first": image(&r.images[0]), "second": image(&r.images[1]) })
        });
        let left_out = step.left_out.iter().map(|(column, why)| json!({ "column": column, "why": why }));
        json!({
            "kind": step.kind,
            "table": target.table,
            "matched": step.matched,
            "only": step.only,
            "otherwise": step.otherwise,
            "rows": rows.collect::<Vec<_>>(),
            "not_compared": left_out.collect::<Vec<_>>(),
            "waits": step.waits,
            "same_statement": step.same_statement,
            "same": step.same(),
        })
    };
    document(
        "marktwice-comparison",
        json!({
            "database": found.database,
            "changes": names,
            "steps": found.steps.iter().map(one).collect::<Vec<_>>(),
            "same": found.same(),
            "notes": found.notes,
            "status": status,
        }),
    )
}

/// A file compared with its last preview.
pub(crate) fn again(preview: &Preview, name: &str, status: u8) -> Json {
    let rest = json!({ "change": name, "compared_with": preview.before, "same": preview.as_before(), "status": status });
    document("marktwice-comparison", and(of_change(preview), rest))
}

/// A rehearsal: how the application would end, and what became of the rows before all was rolled back.
pub(crate) fn rehearsal(seen: &Rehearsal, status: u8) -> Json {
    let end = match &seen.ended {
        None => Json::Null,
        Some(ended) => outcome("marktwice-end", None, ended, status),
    };
    let rest = json!({ "would_end": end, "status": status });
    document("marktwice-rehearsal", and(of_change(&seen.preview), rest))
}

/// What was shown before anything was asked, kept for the document at the end.
pub(crate) fn shown(shown: &Shown<'_>) -> Json {
    match shown {
        Shown::Change(preview) => of_change(preview),
        Shown::Undo(preview) => of_undo(preview),
    }
}

fn cell(target: &Target, cell: &CellDiff) -> Json {
    json!({ "column": name(target, cell.column), "expected": cell.before.to_json(), "found": cell.after.to_json() })
}

fn conflicts(found: &Conflicts) -> Json {
    let rows: Vec<Json> = found
        .named
        .iter()
        .map(|n| {
            let (what, cells) = match &n.conflict {
                Conflict::Changed(cells) => {
                    ("changed", cells.iter().map(|c| cell(&found.target, c)).collect())
                }
                Conflict::Gone => ("gone", Vec::new()),
                Conflict::KeyTaken => ("key-taken", Vec::new()),
            };
            json!({ "key": list_to_json(&n.key), "what": what, "cells": cells })
        })
        .collect();
    json!({ "count": found.count, "rows": rows })
}

fn faults(found: &Faults) -> Json {
    let rows: Vec<Json> = found
        .named
        .iter()
        .map(|n| {
            let (what, cells) = match &n.fault {
                Fault::Vanished => ("vanished", Vec::new()),
                Fault::StillThere => ("still-there", Vec::new()),
                Fault::Outside(c) => ("outside", vec![cell(&found.target, c)]),
                Fault::Unforeseen(c) => ("unforeseen", vec![cell(&found.target, c)]),
            };
            json!({ "key": list_to_json(&n.key), "what": what, "cells": cells })
        })
        .collect();
    json!({ "count": found.count, "whole": found.whole, "rows": rows })
}

fn moved(moved: &Moved) -> Json {
    json!({
        "joined": moved.joined,
        "left": moved.left,
        "changed": moved.changed,
        "result": moved.result,
        "elsewhere": moved.elsewhere,
        "rows": moved.named.iter().map(|m| json!({ "key": list_to_json(&m.key), "how": m.how })).collect::<Vec<_>>(),
    })
}

fn end_name(end: &End) -> &'static str {
    match end {
        End::Committed => "committed",
        End::ReceiptIncomplete(_) => "receipt-incomplete",
        End::NothingToDo(_) => "nothing-to-do",
        End::Stopped(_) => "stopped",
        End::Expectation(_) => "not-as-expected",
        End::Checks(..) | End::Queries(_) => "check-failed",
        End::Moved(_) => "moved",
        End::Conflicts(_) => "conflicts",
        End::Changed(_) => "changed",
        End::Verification(_) => "verification",
        End::SideEffects(..) => "side-effects",
        End::NoUndo(_) => "no-way-back",
        End::Declined(Answer::NobodyThere | Answer::TooLate) => "no-answer",
        End::Declined(_) => "declined",
        End::Failed(_) => "failed",
        End::Unknown(_) => "unknown",
    }
}

/// The end of an apply or undo.
pub(crate) fn outcome(format: &str, shown: Option<Json>, outcome: &RunOutcome, status: u8) -> Json {
    let end = &outcome.end;
    let message = match end {
        End::NothingToDo(text) | End::Changed(text) | End::SideEffects(text, _) | End::NoUndo(text) => {
            Some(text.clone())
        }
        End::Failed(failure) => Some(failure.to_string()),
        End::Unknown(error) => Some(error.to_string()),
        End::ReceiptIncomplete(error) => Some(error.to_string()),
        _ => None,
    };
    let fields = json!({
        "status": status,
        "end": end_name(end),
        "run": outcome.receipt.as_ref().map(|r| r.run.clone()),
        "message": message,
        "step": outcome.step.map(|step| step + 1),
        "preview": shown,
        "moved": if let End::Moved(m) = end { moved(m) } else { Json::Null },
        "conflicts": if let End::Conflicts(c) = end { conflicts(c) } else { Json::Null },
        "checks": match end {
            End::Checks(_, all) => json!(all),
            End::Queries(all) => json!(all),
            _ => Json::Null,
        },
        "faults": if let End::Verification(f) = end { faults(f) } else { Json::Null },
        "receipt": outcome.receipt,
        "notes": outcome.notes,
    });
    document(format, fields)
}

fn entry(entry: &Entry) -> Json {
    let parts: Vec<Json> =
        entry.parts.iter().map(|(run, rows)| json!({ "run": run, "rows": rows })).collect();
    json!({
        "receipt": entry.receipt,
        "undone_by": entry.undone_by,
        "can_undo": entry.can_undo,
        "undone_in_part": parts,
        "obstacle": entry.obstacle,
    })
}

/// The history.
pub(crate) fn history(database: &DatabaseId, entries: &[Entry], bytes: u64, notes: &[String]) -> Json {
    let runs: Vec<Json> = entries.iter().map(entry).collect();
    document(
        "marktwice-history",
        json!({ "database": database, "logbook_bytes": bytes, "runs": runs, "notes": notes }),
    )
}

/// What everybody's runs have left.
pub(crate) fn shared(shared: &Shared) -> Json {
    let run = |left: &Left| {
        and(json!(left), json!({ "own": shared.own.contains(&left.id), "stands": left.stands(&shared.all) }))
    };
    let runs: Vec<Json> = shared.rows().into_iter().map(run).collect();
    document(
        "marktwice-shared-history",
        json!({ "database": shared.database, "witness": shared.table, "runs": runs }),
    )
}

/// One run.
pub(crate) fn receipt(one: &Entry, kept: &Result<Kept, String>) -> Json {
    let rows =
        |of: &KeptRows| and(along(&of.block), json!({ "step": of.place.step + 1, "role": of.place.role }));
    let first = match kept {
        Ok(kept) => {
            json!({ "first_rows": kept.rows.iter().map(rows).collect::<Vec<_>>(), "among": kept.among })
        }
        Err(why) => json!({ "first_rows": [], "unread": why }),
    };
    document("marktwice-receipt-view", and(entry(one), first))
}

/// What became of runs that were cut off.
pub(crate) fn settled(found: &Settling, status: u8) -> Json {
    let runs: Vec<Json> = found
        .runs
        .iter()
        .map(|s| {
            let verdict = match s.verdict {
                Verdict::Committed => "committed",
                Verdict::RolledBack => "rolled-back",
                Verdict::Undecidable => "undecidable",
                Verdict::SetAside => "set-aside",
            };
            let (compared, keys) = match &s.rows {
                None => (Json::Null, Vec::new()),
                Some(Compared::AsLeft) => ("as-left".into(), Vec::new()),
                Some(Compared::AsBefore) => ("as-before".into(), Vec::new()),
                Some(Compared::Not(why)) => (json!({ "not": why }), Vec::new()),
                Some(Compared::Mixed { left, before, neither, named }) => (
                    json!({ "left": left, "before": before, "neither": neither }),
                    named.iter().map(|k| list_to_json(k)).collect(),
                ),
            };
            json!({
                "run": s.receipt.run, "verdict": verdict, "record": s.record, "witnessed": s.witnessed, "compared": compared, "rows": keys,
                "why": s.receipt.why,
            })
        })
        .collect();
    document("marktwice-settle", json!({ "status": status, "runs": runs, "notes": found.notes }))
}

/// An error.
pub(crate) fn trouble(trouble: &Trouble) -> Json {
    document(
        "marktwice-error",
        json!({
            "status": trouble.status,
            "database": trouble.on,
            "code": trouble.code,
            "message": trouble.message,
            "file": trouble.file,
            "place": trouble.place,
            "hint": trouble.hint,
            "paste": trouble.paste.as_ref().map(|p| &p.text),
            "paste_rows": trouble.paste.as_ref().map(|p| &p.rows),
        }),
    )
}

/// Findings explained.
pub(crate) fn why(codes: &[Code]) -> Json {
    let all: Vec<Json> = codes
        .iter()
        .map(|code| {
            json!({
                "code": code, "level": code.level(), "why": code.meaning(), "what_to_do": code.remedy(),
                "can_be_allowed": code.level() == Level::Stop && !Code::NEVER_ALLOWED.contains(code),
            })
        })
        .collect();
    document("marktwice-findings", json!({ "findings": all }))
}
