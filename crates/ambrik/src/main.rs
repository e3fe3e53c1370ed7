//! The command-line tool; everything is in the library, where tests can call it.

use std::process::ExitCode;

fn main() -> ExitCode {
    ambrik::answer_shell();
    ambrik::run(std::env::args_os(), &mut std::io::stdout(), &mut std::io::stderr()).into()
}
