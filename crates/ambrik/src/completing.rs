//! What a shell offers while a command is typed: sites, parts, checks, change sets and outlines by name.

use std::path::{Path, PathBuf};

use ambrik_core::change::{Ledger, StateDir};
use ambrik_core::check::CATALOGUE;
use ambrik_core::site::part_paths;
use clap::Command;
use clap_complete::CompleteEnv;
use clap_complete::engine::{ArgValueCandidates, CompletionCandidate};

/// The environment variable in which a shell asks; its value is the shell's name.
pub(crate) const ASKS: &str = "AMBRIK_COMPLETE";

/// Answers where a shell asks; then nothing else is done.
pub(crate) fn answer(command: fn() -> Command) {
    CompleteEnv::with_factory(move || with_names(command())).var(ASKS).complete();
}

/// The command line with what stands for its values.
pub(crate) fn with_names(command: Command) -> Command {
    let command = command.mut_args(|arg| {
        let candidates: fn() -> Vec<CompletionCandidate> = match arg.get_value_names().and_then(<[_]>::first) {
            Some(name) if name == "SITE" => sites,
            Some(name) if name == "PART" => parts,
            Some(name) if name == "CHECK" => checks,
            Some(name) if name == "ID" => change_sets,
            Some(name) if name == "SITE|ID" => sites_and_change_sets,
            _ => return arg,
        };
        arg.add(ArgValueCandidates::new(candidates))
    });
    command.mut_subcommands(with_names)
}

fn folder(variable: &str, usual: &str) -> PathBuf {
    std::env::var_os(variable).map_or_else(|| usual.into(), PathBuf::from)
}

fn site_files() -> Vec<PathBuf> {
    let names = std::fs::read_dir(folder("AMBRIK_SITES", "/etc/ambrik/sites")).into_iter().flatten().flatten();
    let mut files: Vec<PathBuf> = names.map(|entry| entry.path()).collect();
    files.retain(|file| file.extension().is_some_and(|ending| ending == "toml"));
    files.sort();
    files
}

fn sites() -> Vec<CompletionCandidate> {
    site_files().iter().filter_map(|file| Some(CompletionCandidate::new(file.file_stem()?))).collect()
}

fn parts() -> Vec<CompletionCandidate> {
    let texts = site_files().into_iter().filter_map(|file| std::fs::read_to_string(file).ok());
    let mut paths: Vec<String> = texts.flat_map(|text| part_paths(&text)).collect();
    paths.sort();
    paths.dedup();
    paths.into_iter().map(CompletionCandidate::new).collect()
}

fn checks() -> Vec<CompletionCandidate> {
    CATALOGUE
        .iter()
        .map(|check| CompletionCandidate::new(check.name).help(Some(check.severity.word().into())))
        .collect()
}

/// Those that root may see.
fn change_sets() -> Vec<CompletionCandidate> {
    let state = folder("AMBRIK_STATE", "/var/lib/ambrik");
    let ledger = StateDir::open(Path::new(&state)).ok().and_then(|state| Ledger::open(&state).ok().flatten());
    let sets = ledger.and_then(|ledger| ledger.change_sets().ok()).unwrap_or_default();
    let told = sets.into_iter().map(|set| {
        let when = set.begun.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M");
        let help = format!("{} {}, {when}", set.command, set.site);
        CompletionCandidate::new(set.id.to_string()).help(Some(help.into()))
    });
    told.collect()
}

fn sites_and_change_sets() -> Vec<CompletionCandidate> {
    sites().into_iter().chain(change_sets()).collect()
}
