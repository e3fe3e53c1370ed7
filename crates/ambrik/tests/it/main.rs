//! The built program on real files: arguments, exit codes, what is shown, what comes of it.

#![expect(clippy::disallowed_methods, reason = "tests build, break and compare trees by path")]
#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]
#![expect(clippy::print_stderr, reason = "a long test says how far it went")]

mod accepted;
mod access;
mod accounts;
mod advice;
mod bad_input;
mod calls;
mod campaign;
mod demo;
mod deployment;
mod document_root;
mod documents;
mod drifted;
mod every_step;
mod exposure;
mod fleet;
mod formats;
mod host;
mod host_file;
mod hostile_archives;
mod kept;
mod killed;
mod labels;
mod left_overs;
mod many;
mod moved;
mod name_service;
mod nested;
mod no_root;
mod page;
mod pages;
mod php_settings;
mod proved;
mod purged;
mod real;
mod script;
mod served;
mod servers;
mod shapes;
mod shown;
mod stories;
mod survey;
mod system_log;
mod trusted;
mod units;
mod unpacked;
mod uploads;
mod watched;
mod watching;
mod why;
mod widths;
mod windows;
