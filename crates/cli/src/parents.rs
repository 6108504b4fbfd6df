//! A reference named by its parent: `apiary="Whin Bank"` for the `apiary_id` of the one apiary of that name.

use marktwice_core::near::nearest;
use marktwice_core::survey::Reference;
use marktwice_core::table::{Key, KeyKind};
use marktwice_core::value::key_text;
use marktwice_core::{Target, Value};
use marktwice_port::{Draft, Which, Work};
use marktwice_run::{Rows, rows, target};

use crate::desk::Desk;
use crate::report::Trouble;

/// Parents that are listed where no one is meant.
const LISTED: usize = 5;
/// Parents among whose names a nearer one is looked for.
const LOOKED_THROUGH: u64 = 1_000;

/// What was typed, with keys for names, and what each of those keys is, in words.
pub(crate) struct Named {
    /// `column=value`.
    pub(crate) sets: Vec<String>,
    /// `apiary_id 3 is the apiary Whin Bank`.
    pub(crate) said: Vec<String>,
}

/// Puts keys for the parents that are named.
pub(crate) fn named(
    desk: &Desk,
    child: &Target,
    refers: &[Reference],
    typed: &[String],
) -> Result<Named, Trouble> {
    let mut all = Named { sets: Vec::new(), said: Vec::new() };
    for set in typed {
        let by = set.split_once('=').filter(|(name, _)| child.position(name.trim()).is_none());
        let Some((column, parent, text)) =
            by.map(|(name, text)| meant(refers, name.trim(), text)).transpose()?.flatten()
        else {
            all.sets.push(set.clone());
            continue;
        };
        let one = one(desk, &column, &parent, &text).map_err(|trouble| trouble.on(&desk.shown))?;
        all.said.push(in_words(&column, &one, &parent, &text));
        let about = child.position(&column).and_then(|at| child.columns.get(at));
        let typed = about.and_then(|about| desk.engine.language().typed(about, &one));
        all.sets.push(format!("{column}={}", typed.unwrap_or_else(|| key_text(&[one]))));
    }
    Ok(all)
}

/// A condition with keys for the parents that it names: `apiary = 'Whin Bank'` where there is no such column; and what each of
/// those keys is, in words. `refers` is asked where something may be one.
pub(crate) fn in_condition(
    desk: &Desk,
    child: &Target,
    refers: &mut dyn FnMut() -> Result<Vec<Reference>, Trouble>,
    condition: &str,
) -> Result<(String, Vec<String>), Trouble> {
    let language = desk.engine.language();
    let mut said = language.said(condition);
    // What is in the quotes of names may be a column.
    said.retain(|s| child.position(&s.name).is_none() && s.texts.iter().all(|t| child.position(t).is_none()));
    if said.is_empty() {
        return Ok((condition.to_owned(), Vec::new()));
    }
    let refers = refers()?;
    let (mut whole, mut words) = (condition.to_owned(), Vec::new());
    for said in said.into_iter().rev() {
        let mut terms = Vec::new();
        for text in &said.texts {
            let Some((column, parent, text)) = meant(&refers, &said.name, text)? else { break };
            let key = one(desk, &column, &parent, &text).map_err(|trouble| trouble.on(&desk.shown))?;
            words.push(in_words(&column, &key, &parent, &text));
            let by = Key { kind: KeyKind::Unique, names: vec![column], columns: Vec::new() };
            let by = Target { key: by, ..child.clone() };
            let rows = Which::Row { key: &[key], row: &[] };
            let draft = Draft { target: &by, schema: false, work: Work::Delete, rows };
            let composed = language.compose(&draft);
            let composed = composed.map_err(|wrong| Trouble::usage(wrong.message, wrong.hint))?;
            terms.extend(composed.condition);
        }
        let term = match terms.as_slice() {
            [] => continue,
            [one] => one.clone(),
            several => format!("({})", several.join(" OR ")),
        };
        whole.replace_range(said.range, &term);
    }
    words.reverse();
    Ok((whole, words))
}

fn in_words(column: &str, key: &Value, parent: &Reference, text: &str) -> String {
    // As it is called, not as it is written.
    let called = parent.parent.replace(['"', '`'], "");
    format!("{column} {} is the {called} {text}", key_text(std::slice::from_ref(key)))
}

type Meant = Option<(String, Reference, String)>;

/// The reference that a name stands for: that of the parent table, or the column without its ending.
fn meant(refers: &[Reference], name: &str, text: &str) -> Result<Meant, Trouble> {
    let single: Vec<(&String, &Reference)> = refers
        .iter()
        .filter(|r| r.child_columns.len() == 1)
        .filter_map(|r| Some((r.child_columns.first()?, r)))
        .collect();
    let bare =
        |table: &str| table.rsplit('.').next().unwrap_or(table).trim_matches(['"', '`']).to_lowercase();
    let short = |column: &str| column.rsplit_once('_').map(|(stem, _)| stem.to_lowercase());
    let wanted = name.to_lowercase();
    let by_column: Vec<_> =
        single.iter().filter(|(c, _)| short(c).as_deref() == Some(wanted.as_str())).collect();
    let by_parent: Vec<_> = single.iter().filter(|(_, r)| bare(&r.parent) == wanted).collect();
    match (by_column.as_slice(), by_parent.as_slice()) {
        ([(column, reference)], _) | ([], [(column, reference)]) => {
            let quoted = text.strip_prefix('\'').and_then(|rest| rest.strip_suffix('\''));
            let text = quoted.map_or_else(|| text.to_owned(), |inner| inner.replace("''", "'"));
            Ok(Some(((*column).clone(), (*reference).clone(), text)))
        }
        ([], []) => Ok(None),
        (several, others) => {
            let columns: Vec<&str> = several.iter().chain(others).map(|(c, _)| c.as_str()).collect();
            let message = format!("{name} may mean {}", columns.join(" or "));
            Err(Trouble::usage(
                message,
                format!("write one of them with the key: {}=KEY", columns.join("=KEY or ")),
            ))
        }
    }
}

/// The key of the one parent of that name.
fn one(desk: &Desk, column: &str, reference: &Reference, text: &str) -> Result<Value, Trouble> {
    let language = desk.engine.language();
    let (schema, table) = language.table_name(&reference.parent);
    let failed = |failure| Trouble::failure(&failure, "the parent table");
    let parent = desk.with(|context| target(context, schema.as_deref(), &table)).map_err(failed)?.seen;
    let key = reference.parent_columns.first().and_then(|c| parent.position(c));
    let (Some(naming), Some(key)) = (parent.naming, key) else {
        let message = format!("no column of {} names its rows", reference.parent);
        return Err(Trouble::usage(message, format!("write the key: {column}=KEY")));
    };
    let name_of = parent.columns.get(naming).map_or("", |c| c.name.as_str());
    let by_name = Target {
        key: Key { kind: KeyKind::Unique, names: vec![name_of.to_owned()], columns: vec![naming] },
        ..parent.clone()
    };
    let text_key = [Value::Text(text.into())];
    let which = Which::Row { key: &text_key, row: &[] };
    let ask = |which: Which<'_>, limit: u64| -> Result<Rows, Trouble> {
        let draft = Draft { target: &by_name, schema: schema.is_some(), work: Work::Delete, rows: which };
        let composed = language.compose(&draft);
        let statement = composed.map_err(|wrong| Trouble::usage(wrong.message, wrong.hint))?.text;
        Ok(desk.with(|context| rows(context, &statement, None, Some(limit))).map_err(failed)?.seen)
    };
    let found = ask(which, LISTED as u64)?;
    let cell = |row: &marktwice_core::mark::HeldRow, at: usize| {
        row.image.row().get(at).cloned().unwrap_or(Value::Null)
    };
    let listed = |found: &Rows| {
        let one = |row| format!("{} ({})", key_text(&[cell(row, naming)]), key_text(&[cell(row, key)]));
        let shown: Vec<String> = found.rows.iter().take(LISTED).map(one).collect();
        let more = found.matched.saturating_sub(shown.len() as u64);
        let more = if more > 0 { format!(", and {more} more") } else { String::new() };
        format!("{}{more}", shown.join(", "))
    };
    match found.rows.as_slice() {
        [row] if found.matched == 1 => Ok(cell(row, key)),
        [] => {
            let some = ask(Which::All, LOOKED_THROUGH)?;
            let names: Vec<String> = some.rows.iter().map(|row| key_text(&[cell(row, naming)])).collect();
            let near = nearest(text, names.iter().map(String::as_str)).and_then(|near| {
                let at = names.iter().position(|name| name == near)?;
                Some(format!("did you mean {near} ({})?", key_text(&[cell(some.rows.get(at)?, key)])))
            });
            let hint = near.unwrap_or_else(|| format!("there are: {}", listed(&some)));
            Err(Trouble::usage(format!("no {} has the {name_of} {text}", reference.parent), hint))
        }
        _ => {
            let message = format!("{} rows of {} have the {name_of} {text}", found.matched, reference.parent);
            Err(Trouble::usage(message, format!("write the key, {column}=KEY: {}", listed(&found))))
        }
    }
}
