//! What is known of a program that serves the web or runs PHP. Each has a file with a constant of [`Program`], and a line in the
//! table [`super::PROGRAMS`].

use std::fmt;
use std::path::PathBuf;

use super::files::Files;
use super::{PROGRAMS, Role, Server};

/// A program that serves the web or runs PHP.
pub(super) struct Program {
    /// The usual name of its file.
    pub(super) name: &'static str,
    pub(super) role: Role,
    /// Whether a file or process of this name (without its path) is one.
    pub(super) is: fn(&str) -> bool,
    /// What the names of service units that start it have in them.
    pub(super) in_units: &'static [&'static str],
    /// Whether root's process starts others, with less power, that do the work.
    pub(super) has_workers: bool,
    /// Whether it may have PHP in it.
    pub(super) loads_php: bool,
    /// Whether an account that is named alone brings the group of its own name.
    pub(super) brings_group: bool,
    /// How it is told where its configuration is.
    pub(super) options: Options,
    /// Reads the configuration of every one on the host; nothing where that is not understood.
    pub(super) read: Option<fn(&mut Files<'_>, &Launches) -> Vec<Server>>,
    /// The lines of its configuration that keep something from visitors: of a folder or file, and the served folder that it is in.
    pub(super) lines: Option<fn(Keep, &str, &str) -> String>,
    /// The command that says whether its configuration is right, and has it read again if it is.
    pub(super) read_again: &'static str,
}

impl Program {
    /// One that only has a name, and whose configuration is not read.
    pub(super) const fn named(name: &'static str, role: Role, is: fn(&str) -> bool) -> Self {
        Self {
            name,
            role,
            is,
            in_units: &[],
            has_workers: false,
            loads_php: false,
            brings_group: false,
            options: Options { main: &[], prefix: &[], names: &[], usual: &[], bases: &[] },
            read: None,
            lines: None,
            read_again: "",
        }
    }
}

/// How a program takes its main file and its prefix, and what its main file is called below one.
pub(super) struct Options {
    pub(super) main: &'static [&'static str],
    pub(super) prefix: &'static [&'static str],
    pub(super) names: &'static [&'static str],
    /// The main file where distributions have it. Where one of them is there, a program that was told none reads that.
    pub(super) usual: &'static [&'static str],
    /// What names are relative to where it was not told.
    pub(super) bases: &'static [&'static str],
}

/// What those that run, and those of units, were started with.
#[derive(Clone, Debug, Default)]
pub(super) struct Launches {
    /// The main files, each with what its names are relative to, where that was told.
    pub(super) mains: Vec<(PathBuf, Option<PathBuf>)>,
    /// The words of the command lines of those that run.
    pub(super) words: Vec<String>,
}

/// What is to be kept from visitors.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Keep {
    /// PHP in this folder from being run.
    PhpFromRunning,
    /// Everything there from being served.
    FromServing,
    /// The names in the folder from being listed.
    FromListing,
}

/// A program of the table.
#[derive(Clone, Copy)]
pub(super) struct Family(&'static Program);

impl Family {
    pub(super) const fn of(program: &'static Program) -> Self {
        Self(program)
    }

    /// The family of programs of this name.
    pub(super) fn of_name(name: &str) -> Option<Self> {
        PROGRAMS.iter().find(|program| (program.is)(name)).map(|program| Self(program))
    }
}

impl std::ops::Deref for Family {
    type Target = Program;

    fn deref(&self) -> &Program {
        self.0
    }
}

impl PartialEq for Family {
    fn eq(&self, other: &Self) -> bool {
        self.name == other.name
    }
}

impl Eq for Family {}

impl fmt::Debug for Family {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name)
    }
}
