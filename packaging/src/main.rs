//! Builds a `.deb` and an `.rpm` of a program that was built before: `ambrik-packages PROGRAM INTO`. Both hold the same files.

mod contents;
mod deb;
mod manual;
mod red_hat;

use std::error::Error;
use std::path::PathBuf;
use std::process::ExitCode;

fn main() -> ExitCode {
    let mut args = std::env::args_os().skip(1).map(PathBuf::from);
    let (Some(program), Some(into), None) = (args.next(), args.next(), args.next()) else {
        eprintln!(
            "usage: ambrik-packages PROGRAM INTO   (the program as it is shipped, and a folder for the packages)"
        );
        return ExitCode::from(2);
    };
    match build(&program, &into) {
        Ok(built) => {
            for path in built {
                println!("{}", path.display());
            }
            ExitCode::SUCCESS
        }
        Err(error) => {
            eprintln!("ambrik-packages: {error}");
            ExitCode::FAILURE
        }
    }
}

fn build(program: &std::path::Path, into: &std::path::Path) -> Result<[PathBuf; 2], Box<dyn Error>> {
    std::fs::create_dir_all(into)?;
    let contents = contents::Contents::of(program)?;
    Ok([deb::write(&contents, into)?, red_hat::write(&contents, into)?])
}
