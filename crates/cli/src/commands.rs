//! The commands, one file each: which one is meant, and the exit status in the end.

mod apply;
mod compare;
mod demo;
mod draft;
mod forget;
mod history;
mod key;
mod look;
mod pages;
mod place;
mod preview;
mod receipt;
mod rehearse;
mod set;
mod settle;
mod undo;
mod why;
mod witness;

use crate::args::{Args, Colour, Command, Format};
use crate::out::{print_document, tell, unwritten};
use crate::{exit, human, json};

/// Runs a command and gives its exit status.
pub(crate) fn run(args: Args) -> u8 {
    match args.common.color {
        Colour::Auto => {}
        Colour::Always => anstream::ColorChoice::Always.write_global(),
        Colour::Never => anstream::ColorChoice::Never.write_global(),
    }
    let common = args.common;
    let result = match args.command {
        Command::Look(args) => look::run(&common, &args),
        Command::Set(args) => set::run(&common, &args),
        Command::Draft(args) => draft::run(&common, &args),
        Command::Why { code } => why::run(&common, code.as_deref()),
        Command::Preview(args) => preview::run(&common, args),
        Command::Compare(args) => compare::run(&common, &args),
        Command::Rehearse(args) => rehearse::run(&common, args),
        Command::Apply(args) => apply::run(&common, args),
        Command::Undo(args) => undo::run(&common, &args),
        Command::History(args) => history::run(&common, &args),
        Command::Receipt { run, csv, csv_raw, html, show } => {
            receipt::run(&common, run.as_deref(), (csv.as_deref(), csv_raw), html.as_deref(), show)
        }
        Command::Forget(args) => forget::run(&common, &args),
        Command::Settle(args) => settle::run(&common, &args),
        Command::Pages { folder } => pages::run(&folder),
        Command::Witness { yes } => witness::run(&common, yes),
        Command::Key { file } => key::run(&common, &file),
        Command::Where => place::run(&common),
        Command::Demo { folder } => demo::run(&common, &folder),
    };
    let status = result.unwrap_or_else(|trouble| {
        let trouble = trouble.without_secrets().complete(&common.on_again());
        tell(&human::trouble(&trouble));
        if common.format == Format::Json {
            print_document(json::trouble(&trouble));
        }
        trouble.status
    });
    match unwritten() {
        Some(error) if status == exit::DONE => {
            tell(&format!(
                "{} the output could not be written: {error}\n",
                human::styled(human::WARN, "note:")
            ));
            exit::OUTPUT_LOST
        }
        _ => status,
    }
}
