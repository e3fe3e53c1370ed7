//! SELinux labels: what the host has, what a part's label must be, what the kernel would let PHP do with it, and what a
//! relabelling of the system would make of it.

mod context;
mod rules;

pub use context::{Context, NoContext, is_type_name};
pub use rules::{Answer, Rules, RulesError};
