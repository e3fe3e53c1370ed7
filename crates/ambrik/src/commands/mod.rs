//! One file a command: its arguments and what it does.

mod accept;
mod accounts;
pub(crate) mod audit;
mod changing;
mod checks;
mod demo;
mod history;
mod logged;
mod manual;
pub(crate) mod on_hosts;
mod open;
mod pages;
mod proofread;
mod prove;
mod purge;
mod relocate;
mod seal;
mod set;
mod survey;
mod undo;
mod unpack;
mod watch;
mod why;

use clap::{Subcommand, ValueEnum as _};

use crate::failure::{Exit, Failure};
use crate::options::Format;
use crate::session::Session;
use on_hosts::OnHosts;

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Accounts(accounts::AccountsArgs),
    Survey(survey::SurveyArgs),
    Unpack(unpack::UnpackArgs),
    Audit(audit::AuditArgs),
    Set(set::SetArgs),
    Open(open::OpenArgs),
    Seal(seal::SealArgs),
    Move(relocate::MoveArgs),
    Why(why::WhyArgs),
    Watch(watch::WatchArgs),
    Checks(checks::ChecksArgs),
    Accept(accept::AcceptArgs),
    Proofread(proofread::ProofreadArgs),
    History(history::HistoryArgs),
    Undo(undo::UndoArgs),
    Purge(purge::PurgeArgs),
    Demo(demo::DemoArgs),
    #[command(hide = true)]
    Manual(manual::ManualArgs),
    #[command(hide = true)]
    ProveAsPhp(prove::ProveArgs),
}

/// Runs a command; `line` is the whole command line, for those that tell of it.
pub(crate) fn run(
    command: Command,
    line: fn() -> clap::Command,
    hosts: &OnHosts<'_>,
    session: &mut Session<'_>,
) -> Result<Exit, Failure> {
    let has_it = |format| match &command {
        Command::Audit(_) => true,
        Command::History(args) => format == Format::Html && args.is_of_one(),
        _ => false,
    };
    if let Some(format) = session.terminal.format_of_audit().filter(|format| !has_it(*format)) {
        let name = format.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default();
        let says = format!(
            "--format {name} is for audits (ambrik audit --format {name}), html for a change set as well (ambrik history ID --format html); other commands have text and json"
        );
        return Err(Failure::usage(says));
    }
    let of_one_format = match &command {
        Command::Set(args) if args.is_script() => Some("--as-script prints a shell script"),
        Command::Demo(_) => Some("the demo is told for people"),
        _ => None,
    };
    if let Some(what) = of_one_format.filter(|_| session.terminal.is_json()) {
        return Err(Failure::usage(format!("{what}: it has no other format")));
    }
    if let Command::Undo(args) = &command
        && let Some((id, yes, preview)) = args.of_fleet()
    {
        return on_hosts::undo_run(id, yes, preview, hosts, session);
    }
    if hosts.are_named()? {
        return on_hosts::run(&command, hosts, session);
    }
    let does = matches!(
        command,
        Command::Audit(_)
            | Command::Set(_)
            | Command::Open(_)
            | Command::Seal(_)
            | Command::Move(_)
            | Command::Unpack(_)
            | Command::Undo(_)
    );
    if does {
        session.terminal.hold();
    }
    let changes = does && !matches!(command, Command::Audit(_));
    let exit = dispatch(command, line, session);
    if changes {
        logged::tell(&exit, session);
    }
    if changes && matches!(exit, Ok(Exit::Clean | Exit::Partial)) {
        purge::by_host_file(session);
        purge::tell_size(session);
    }
    exit
}

fn dispatch(command: Command, line: fn() -> clap::Command, session: &mut Session<'_>) -> Result<Exit, Failure> {
    match command {
        Command::Accounts(args) => accounts::run(&args, session),
        Command::Survey(args) => survey::run(&args, session),
        Command::Audit(args) => audit::run(&args, session),
        Command::Set(args) => set::run(&args, session),
        Command::Open(args) => open::run(&args, session),
        Command::Seal(args) => seal::run(&args, session),
        Command::Move(args) => relocate::run(&args, session),
        Command::Unpack(args) => unpack::run(&args, session),
        Command::Why(args) => why::run(&args, session),
        Command::Watch(args) => watch::run(&args, session),
        Command::Accept(args) => accept::run(&args, session),
        Command::Proofread(_) => proofread::run(session),
        Command::Checks(args) => checks::run(&args, session),
        Command::History(args) => history::run(&args, session),
        Command::Undo(args) => undo::run(&args, session),
        Command::Purge(args) => purge::run(&args, session),
        Command::Demo(args) => demo::run(&args, session),
        Command::Manual(args) => manual::run(&args, line()),
        Command::ProveAsPhp(_) => prove::run(session),
    }
}
