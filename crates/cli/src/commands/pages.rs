//! `pages`: the manual pages and the shells' completions, for whoever packages the program.

use std::fs::{File, create_dir_all};
use std::path::Path;

use clap::CommandFactory;
use clap_complete::{Shell, generate_to};

use crate::args::Args;
use crate::exit;
use crate::report::Trouble;

/// Writes them into a folder.
pub(crate) fn run(folder: &Path) -> Result<u8, Trouble> {
    let failed = |e: std::io::Error| {
        Trouble::usage(format!("{} cannot be written: {e}", folder.display()), "name a folder that can be")
    };
    let manual = folder.join("man");
    create_dir_all(&manual).map_err(failed)?;
    let mut command = Args::command();
    command.build();
    for shell in [Shell::Bash, Shell::Zsh, Shell::Fish] {
        generate_to(shell, &mut command, "marktwice", folder).map_err(failed)?;
    }
    write(&command, &manual, "marktwice").map_err(failed)?;
    Ok(exit::DONE)
}

/// A page for a command, and one for each of those below it.
fn write(command: &clap::Command, folder: &Path, name: &str) -> std::io::Result<()> {
    let page = command.clone().name(name.to_owned()).bin_name(name.replace('-', " "));
    let mut file = File::create(folder.join(format!("{name}.1")))?;
    clap_mangen::Man::new(page).render(&mut file)?;
    let all = command.get_subcommands().filter(|below| !below.is_hide_set() && below.get_name() != "help");
    for below in all {
        write(below, folder, &format!("{name}-{}", below.get_name()))?;
    }
    Ok(())
}
