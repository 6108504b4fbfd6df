//! `where`: which database is meant, what guards it, and which file says so.

use serde_json::json;

use crate::args::{Common, Format};
use crate::desk::Desk;
use crate::guard::{Guard, time};
use crate::out::{print, print_document};
use crate::report::Trouble;
use crate::{exit, human};

/// Tells it. Nothing is connected to.
pub(crate) fn run(common: &Common) -> Result<u8, Trouble> {
    let (desk, config, named) = Desk::configured(common)?;
    let files: Vec<String> = config.files().iter().map(|file| file.display().to_string()).collect();
    let said = named.as_ref().map(|named| named.said.clone()).unwrap_or_default();
    let wait = desk.waits.lock.as_secs_f64();
    let limit = desk.waits.statement.map(|limit| limit.as_secs_f64());
    let others: Vec<String> = config
        .databases()
        .iter()
        .filter(|other| named.as_ref().is_none_or(|named| named.name != other.name))
        .map(|other| format!("{}{}", other.name, if other.said.guarded { " (guarded)" } else { "" }))
        .collect();
    if common.format == Format::Json {
        let document = json!({
            "format": "marktwice-where",
            "version": 1,
            "status": exit::DONE,
            "address": desk.shown,
            "name": named.as_ref().map(|named| &named.name),
            "file": named.as_ref().map(|named| named.file.display().to_string()),
            "variable": named.as_ref().and_then(|named| named.from.as_ref()),
            "logbook": desk.root.display().to_string(),
            "guarded": desk.guard.is_some(),
            "mark_within": desk.guard.as_ref().map(|guard| guard.within.as_secs()),
            "most_rows": said.most_rows,
            "witness": said.witness,
            "hide": said.hide,
            "key_file": config.key_file().map(|file| file.display().to_string()),
            "wait": wait,
            "time_limit": limit,
            "files": files,
            "others": others,
        });
        print_document(document);
        return Ok(exit::DONE);
    }
    let mut out = format!("{}\n", human::styled(human::BOLD, &human::one_line(&desk.shown)));
    let mut line = |name: &str, text: String| {
        if !text.is_empty() {
            let name = human::styled(human::DIM, &format!("{name:<10}"));
            out.push_str(&format!("  {name}  {}\n", human::one_line(&text)));
        }
    };
    if let Some(named) = &named {
        let from =
            named.from.as_ref().map_or(String::new(), |variable| format!(", from the variable {variable}"));
        line("name", format!("{}, in {}{from}", named.name, named.file.display()));
    }
    line("guarded", desk.guard.as_ref().map_or("no".to_owned(), in_words));
    let most = said.most_rows.map(|n| format!("{} in one application at most", human::rows(n)));
    line("rows", most.unwrap_or_default());
    line("witness", said.witness.clone().unwrap_or_default());
    line("hidden", said.hide.join(", "));
    line("wait", format!("{wait} s for a lock that somebody else holds"));
    line("time", limit.map_or("no limit on a statement".to_owned(), |s| format!("{s} s for one statement")));
    let keep = config.keep().map_or(String::new(), |keep| format!("; rows are kept for {}", time(keep)));
    line("logbook", format!("{}{keep}", desk.root.display()));
    let key = config.key_file().zip(desk.key.as_ref()).map(|(file, key)| match key {
        Ok(key) => format!("{}, {}: what new snapshots are encrypted for", file.display(), key.name()),
        Err(error) => error.to_string(),
    });
    line("key", key.unwrap_or_default());
    line("files", files.join(", "));
    line("others", others.join(", "));
    print(&out);
    Ok(exit::DONE)
}

fn in_words(guard: &Guard) -> String {
    format!(
        "yes: to change anything takes a title, a reason, rows = N, declared side effects, and a mark not older than {}",
        time(guard.within)
    )
}
