//! The core on real trees, with the kernel as the oracle.

#![expect(clippy::disallowed_methods, reason = "tests build, break and compare trees by path")]
#![expect(clippy::unused_self, clippy::unnecessary_debug_formatting, reason = "helpers of a made-up host")]
#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]
#![expect(clippy::print_stderr, reason = "a long test says how far it went")]

mod attributes;
mod between;
mod created;
mod fuzzed;
mod host;
mod hostile;
mod house;
mod judged;
mod kernel;
mod over_http;
mod php_oracle;
mod rules_oracle;
mod settled;
mod surveyed;
mod table_of_rights;
mod taken_back;
mod why;
mod why_oracle;
