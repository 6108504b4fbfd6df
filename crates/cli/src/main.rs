//! The command line of Mark Twice. Only this crate prints, reads arguments, the environment, the clock and the
//! terminal, and gives exit statuses.

mod ambient;
mod args;
mod commands;
mod config;
mod csv_file;
mod dated;
mod desk;
mod engines;
mod exit;
mod form;
mod guard;
mod handing;
mod handover;
mod html;
mod human;
mod json;
mod out;
mod parents;
mod past;
mod place;
mod printed;
mod report;
mod screen;
mod sheet;
mod talk;
mod typed;

use std::process::ExitCode;

use clap::parser::ValueSource;
use clap::{CommandFactory, FromArgMatches};

/// Long generated filters make deep expression trees; the parser and our walks get a stack that holds them.
const STACK: usize = 256 << 20;

fn main() -> ExitCode {
    if asks_for_evidence(std::env::args().skip(1)) {
        out::print(&engines::evidence());
        return ExitCode::SUCCESS;
    }
    let read = args::Args::command()
        .try_get_matches()
        .and_then(|matches| Ok((args::Args::from_arg_matches(&matches)?, matches)));
    let (mut args, matches) = match read {
        Ok(read) => read,
        Err(error) => return misread(&error),
    };
    args.common.on_is_said = matches.value_source("on") == Some(ValueSource::CommandLine);
    args.common.logbook_is_said = matches.value_source("logbook") == Some(ValueSource::CommandLine);
    ambient::catch_interrupts();
    ambient::catch_file_limit();
    ambient::catch_panics();
    let worker = std::thread::Builder::new().stack_size(STACK).spawn(move || commands::run(args));
    let status = match worker.map(std::thread::JoinHandle::join) {
        Ok(Ok(status)) => status,
        Ok(Err(_)) => {
            // What was open has been rolled back on the way; what was being committed, only settle can tell.
            out::tell(&ambient::last_panic());
            exit::UNKNOWN
        }
        Err(error) => {
            out::tell(&format!("error: the system gives this program no thread to work in: {error}\n"));
            exit::FAILED
        }
    };
    ExitCode::from(status)
}

/// Says what is wrong with the arguments: as a document where one is asked for, so that a script has it as it has all other errors.
fn misread(error: &clap::Error) -> ExitCode {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let json =
        words.windows(2).any(|w| w == ["--format", "json"]) || words.iter().any(|w| w == "--format=json");
    if !json || !error.use_stderr() {
        error.exit()
    }
    let said = error.to_string();
    let (message, rest) = said.split_once("\n\n").unwrap_or((&said, ""));
    let message = message.strip_prefix("error: ").unwrap_or(message);
    let _ = error.print();
    out::print_document(json::trouble(&report::Trouble::usage(message, rest.trim())));
    ExitCode::from(exit::USAGE)
}

/// Whether nothing but the version is asked for, and more than its number.
fn asks_for_evidence(args: impl Iterator<Item = String>) -> bool {
    let (mut version, mut verbose) = (false, false);
    for arg in args {
        match arg.as_str() {
            "--version" | "-V" => version = true,
            "--verbose" | "-v" => verbose = true,
            "-vV" | "-Vv" => (version, verbose) = (true, true),
            _ => return false,
        }
    }
    version && verbose
}
