//! Many hosts: one question asked through the system's OpenSSH client, bounded in time, memory and connections, and the answers put
//! together. Nothing of what a host says is believed: it is validated, counted, and shown escaped.

mod answer;
mod ask;
mod audits;
mod follow;
mod previews;
mod remote;
mod run;
mod targets;

pub use answer::{Answer, NoAnswer, Trouble, judge};
pub use ask::{Ended, Input, Limits, Said, ask};
pub use audits::{AuditAnswer, Cause, FleetFinding, FleetSite, causes, read_audit};
pub use follow::{FleetAlert, FleetBy, FleetPath, Heard, Standing, follow};
pub use previews::{broken_pages, previewed};
pub use remote::{Lent, Question, for_hosts, sites_for};
pub use run::{FleetAudit, FleetRecord, FleetRuns, HostRecord, RunError, StepState};
pub use targets::{TargetError, targets};
