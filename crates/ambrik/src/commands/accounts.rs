//! `accounts`: who PHP and the web servers run as here.

use crate::failure::{Exit, Failure};
use crate::output::report::AccountsReport;
use crate::session::Session;

/// Name the accounts that PHP and the web servers run as here
///
/// Looks at running processes and at the configuration of nginx, Apache httpd, php-fpm and service units, ties them
/// together (served folder, web server, socket, pool, account), and says where they disagree. Changes nothing; run as
/// root it sees most.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik accounts\n  ambrik accounts --settings")]
pub(crate) struct AccountsArgs {
    /// Also show PHP's own settings for each served folder, and where each comes from
    #[arg(long)]
    settings: bool,
}

pub(crate) fn run(args: &AccountsArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let looked = session.look()?;
    let services = looked.services();
    session.terminal.write(&AccountsReport { host: &session.host_name(), services, settings: args.settings })?;
    Ok(Exit::Clean)
}
