//! What a visitor gets, asked over HTTP.

use super::{Check, Judge, Raised, Reason, Remedy, Severity};

pub(crate) static PHP_RUNS_IN_STORE: Check = Check {
    name: "php-runs-in-store",
    severity: Severity::High,
    wrong: "the web server runs PHP files in a folder that PHP may write to",
    lets: "whoever gets a file uploaded there has it run",
    remedy: Remedy::Hand("add these lines to the web server's configuration, and reload it"),
    judge: Judge::Audit,
};

pub(crate) static INSTALLER_ANSWERS: Check = Check {
    name: "installer-answers",
    severity: Severity::High,
    wrong: "an installer answers visitors",
    lets: "anybody can set the site up anew as its administrator",
    remedy: Remedy::Seal,
    judge: Judge::Audit,
};

pub(crate) static SECRET_SERVED: Check = Check {
    name: "secret-served",
    severity: Severity::High,
    wrong: "the web server hands out what nobody should see",
    lets: "anybody can download it",
    remedy: Remedy::Hand(
        "add these lines to the web server's configuration, and reload it; or move the part out of the served folder: ambrik move",
    ),
    judge: Judge::Audit,
};

pub(crate) static FOLDER_LISTED: Check = Check {
    name: "folder-listed",
    severity: Severity::Low,
    wrong: "the web server lists folders",
    lets: "visitors see the names of everything in them",
    remedy: Remedy::Hand("add these lines to the web server's configuration, and reload it"),
    judge: Judge::Audit,
};

/// A PHP file that was put into the folder at `address` was run.
pub(crate) fn php_runs_in_store(address: &str) -> Raised {
    (&PHP_RUNS_IN_STORE, Reason::Says(format!("a PHP file put into {address}/ is run")))
}

/// An installer's `address` answers.
pub(crate) fn installer_answers(address: &str, status: u16) -> Raised {
    (&INSTALLER_ANSWERS, Reason::Says(format!("{address} answers with status {status}")))
}

/// The file at `address` comes as it is.
pub(crate) fn secret_served(address: &str) -> Raised {
    (&SECRET_SERVED, Reason::Says(format!("{address} is served as it is")))
}

/// The folder at `address` is listed.
pub(crate) fn folder_listed(address: &str) -> Raised {
    (&FOLDER_LISTED, Reason::Says(format!("{address}/ lists what is in it")))
}
