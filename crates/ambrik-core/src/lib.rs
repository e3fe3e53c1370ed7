//! All of Ambrik's computation: what a site file means, who can do what on disk, what has to change, and the
//! ledger that takes it back. It prints nothing, parses no arguments and knows no terminal.
//!
//! Data flows one way: a [`site`] file becomes a [`policy`] and, through the solver in [`want`], the rights that
//! each path should have; a walk over the [`tree`] gives facts; [`check`]s judge them for an [`audit()`](audit::audit);
//! [`change`] makes the tree what it should be and keeps the ledger.

pub mod access;
pub mod account;
pub mod acl;
pub mod archive;
pub mod audit;
mod bytes;
pub mod change;
pub mod check;
pub mod created;
mod credentials;
pub mod entry;
pub mod fleet;
pub mod host;
mod inspect;
pub mod label;
pub mod mode;
mod named;
pub mod nearest;
pub mod nested;
pub mod over_http;
pub mod own;
mod pattern;
pub mod people;
pub mod policy;
pub mod proofread;
pub mod security_context;
pub mod served;
pub mod shown;
pub mod signals;
pub mod site;
mod site_walk;
pub mod starts;
pub mod survey;
pub mod tree;
pub mod want;
pub mod watching;
pub mod why;
