//! One line in the system's log for what an administrator looks for there: change sets, windows, runs that failed or were refused,
//! new high findings. The journal's own protocol with fields, or, where there is no journal, syslog (RFC 5424). Nothing of what
//! files hold is in it.

use std::collections::BTreeMap;
use std::fmt;

use log::{Level, Record};
use syslog::{Facility, Formatter5424};
use systemd_journal_logger::JournalLog;

/// What is told: words for people, and the same for programs.
pub(crate) struct LogLine {
    level: Level,
    words: String,
    fields: Vec<(&'static str, String)>,
}

impl LogLine {
    /// Something that was done.
    pub(crate) const fn done(words: String) -> Self {
        Self { level: Level::Info, words, fields: Vec::new() }
    }

    /// Something that was not done, or not whole.
    pub(crate) const fn failed(words: String) -> Self {
        Self { level: Level::Warn, words, fields: Vec::new() }
    }

    /// Something that somebody must look at.
    pub(crate) const fn high(words: String) -> Self {
        Self { level: Level::Error, words, fields: Vec::new() }
    }

    /// The same with a field; its name in capitals, as the journal has them (systemd.journal-fields(7)).
    pub(crate) fn with(mut self, name: &'static str, value: impl fmt::Display) -> Self {
        self.fields.push((name, format!("{value}")));
        self
    }

    /// What it says.
    pub(crate) fn words(&self) -> &str {
        &self.words
    }

    /// Writes it; whether there was a log that took it.
    pub(crate) fn write(&self) -> bool {
        self.to_journal().is_some() || self.to_syslog().is_some()
    }

    fn to_journal(&self) -> Option<()> {
        let fields = self.fields.iter().map(|(name, value)| (format!("AMBRIK_{name}"), value));
        let journal = JournalLog::empty().ok()?.with_extra_fields(fields).with_syslog_identifier("ambrik".into());
        let words = format_args!("{}", self.words).to_string();
        let mut record = Record::builder();
        record.level(self.level).target("ambrik");
        journal.journal_send(&record.args(format_args!("{words}")).build()).ok()
    }

    fn to_syslog(&self) -> Option<()> {
        let hostname = rustix::system::uname().nodename().to_string_lossy().into_owned();
        let formatter = Formatter5424 {
            facility: Facility::LOG_DAEMON,
            hostname: Some(hostname),
            process: "ambrik".into(),
            pid: std::process::id(),
        };
        let mut log = syslog::unix(formatter).ok()?;
        let fields = self.fields.iter().map(|(name, value)| (name.to_ascii_lowercase(), value.clone())).collect();
        // The number for those that have none of their own (RFC 5612).
        let data = BTreeMap::from([("ambrik@32473".to_owned(), fields)]);
        let message = (0, data, &*self.words);
        match self.level {
            Level::Error => log.err(message),
            Level::Warn => log.warning(message),
            _ => log.info(message),
        }
        .ok()
    }
}
