//! The core on real trees, with the kernel as the oracle.

#![expect(clippy::disallowed_methods, reason = "tests build, break and compare trees by path")]

mod attributes;
mod host;
mod hostile;
mod judged;
mod kernel;
mod taken_back;
mod table_of_rights;
