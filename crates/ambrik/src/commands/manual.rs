//! `manual`: writes the manual pages and the shells' completions, for packages.

use std::fs::{File, create_dir_all};
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};

use clap::Command;
use clap_complete::env::{Bash, EnvCompleter, Fish, Zsh};
use clap_mangen::Man;

use crate::completing::ASKS;
use crate::failure::{Exit, Failure};

/// Write the manual pages of every command, and the completions of bash, zsh and fish, into a folder
#[derive(Debug, clap::Args)]
pub(crate) struct ManualArgs {
    /// The folder; made where it is missing
    #[arg(value_name = "DIR")]
    dir: PathBuf,
}

pub(crate) fn run(args: &ManualArgs, command: Command) -> Result<Exit, Failure> {
    let failed = |cause: io::Error| Failure::io(&format!("cannot write the manual: {cause}"), &cause);
    write(command, &args.dir).map_err(failed)?;
    Ok(Exit::Clean)
}

fn write(command: Command, dir: &Path) -> io::Result<()> {
    create_dir_all(dir)?;
    let command = command.disable_help_subcommand(true);
    page(command.clone(), "ambrik", dir)?;
    for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
        let name = format!("ambrik-{}", sub.get_name());
        let shown = sub.clone().bin_name(format!("ambrik {}", sub.get_name())).version(env!("CARGO_PKG_VERSION"));
        page(shown, &name, dir)?;
    }
    let shells: [(&dyn EnvCompleter, &str); 3] = [(&Bash, "ambrik.bash"), (&Zsh, "_ambrik"), (&Fish, "ambrik.fish")];
    for (shell, name) in shells {
        let mut file = File::create(dir.join(name))?;
        shell.write_registration(ASKS, "ambrik", "ambrik", "ambrik", &mut file)?;
        file.flush()?;
    }
    Ok(())
}

fn page(command: Command, name: &str, dir: &Path) -> io::Result<()> {
    let title = name.to_uppercase();
    let mut page = Vec::new();
    let man = Man::new(command.version(env!("CARGO_PKG_VERSION"))).title(title).manual("Ambrik").source("Ambrik");
    man.section("1").render(&mut page)?;
    File::create(dir.join(format!("{name}.1")))?.write_all(&page)
}
