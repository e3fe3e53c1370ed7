//! Who runs this, and with what command line, for the record.

use std::fs;
use std::path::Path;

use crate::account::{Accounts, Uid};
use crate::shown::shell_word;

/// As much of a command line is kept, in bytes.
const LONGEST: usize = 2_000;

/// The account that runs this; where somebody logged in as another one, that too, and from where: `root (deploy) from 192.0.2.7`.
/// The login is the kernel's own record (`/proc/self/loginuid`, proc(5)), which sudo and su do not change; the address is what
/// the environment says (`SSH_CONNECTION`, ssh(1)), where it is one.
pub(super) fn who() -> String {
    let text = |path: &str| fs::read_to_string(path).unwrap_or_default();
    let accounts = Accounts::from_texts(&text("/etc/passwd"), &text("/etc/group"));
    let own = Uid(rustix::process::getuid().as_raw());
    let login = fs::read_to_string("/proc/self/loginuid").ok().and_then(|text| text.trim().parse::<u32>().ok());
    let login = login.filter(|uid| *uid != u32::MAX).map(Uid).or_else(|| {
        let sudo = std::env::var("SUDO_UID").ok()?;
        sudo.parse().ok().map(Uid)
    });
    let shown = |uid: Uid| accounts.user_shown(uid);
    let behind = login.filter(|login| *login != own).map(|login| format!(" ({})", shown(login)));
    let connection = std::env::var("SSH_CONNECTION").unwrap_or_default();
    let address = connection.split_whitespace().next().and_then(|word| word.parse::<std::net::IpAddr>().ok());
    let from = address.map(|address| format!(" from {address}"));
    format!("{}{}{}", shown(own), behind.unwrap_or_default(), from.unwrap_or_default())
}

/// The command line, as a shell would be given it; of a very long one the beginning.
pub(super) fn line() -> String {
    let words = std::env::args_os().enumerate().map(|(n, word)| match (n, Path::new(&word).file_name()) {
        (0, Some(name)) => shell_word(name),
        _ => shell_word(&word),
    });
    let mut line = words.collect::<Vec<_>>().join(" ");
    if line.len() > LONGEST {
        let end = line.char_indices().map(|(at, _)| at).take_while(|at| *at <= LONGEST).last().unwrap_or(0);
        line.truncate(end);
        line.push_str(" …");
    }
    line
}
