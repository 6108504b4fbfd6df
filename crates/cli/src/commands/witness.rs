//! `witness`: the table in which each run leaves a row, shown before it is made.

use marktwice_port::Intent;
use marktwice_run::Answer;
use serde_json::json;

use crate::args::{Common, Format};
use crate::desk::Desk;
use crate::out::{print, print_document, tell};
use crate::report::Trouble;
use crate::{exit, human, talk};

/// Shows its definition, and makes it where that is agreed to.
pub(crate) fn run(common: &Common, yes: bool) -> Result<u8, Trouble> {
    let desk = Desk::find(common)?;
    let Some(table) = desk.witness.clone() else {
        return Err(Trouble::usage(
            "no witness is named for this database",
            "write witness = \"TABLE\" under its [database.NAME] in marktwice.toml",
        )
        .on(&desk.shown));
    };
    let made = |make: bool| {
        let intent = if make { Intent::Write } else { Intent::Read };
        desk.with(|context| Ok(context.open(intent)?.table_to_leave_in(&table, make)?))
            .map_err(|failure| Trouble::failure(&failure, "the configuration").on(&desk.shown))
    };
    let definition = made(false)?;
    if common.format == Format::Human {
        print(&human::statement(&desk.shown, &definition));
    }
    let answer =
        if yes { Answer::Yes } else { talk::ask_plainly(&format!("Make {table} in {}?", desk.shown)) };
    let make = answer == Answer::Yes;
    if make {
        made(true)?;
    }
    if common.format == Format::Json {
        let document = json!({ "format": "marktwice-witness", "version": 1, "status": exit::DONE,
            "table": table, "definition": definition, "made": make });
        print_document(document);
    } else if make {
        print(&format!("{} is there; from now on each run leaves a row in it.\n", human::one_line(&table)));
    } else {
        tell("Nothing was made; --yes makes it without a question.\n");
    }
    // To have seen it is all that was asked for where nobody is there.
    Ok(if make || answer == Answer::NobodyThere { exit::DONE } else { exit::DECLINED })
}
