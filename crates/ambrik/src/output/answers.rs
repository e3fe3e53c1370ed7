//! What hosts answered, as it is kept until it is told.

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::os::unix::fs::FileExt as _;
use std::time::Duration;

use ambrik_core::fleet::{Answer, AuditAnswer, NoAnswer, Trouble, read_audit};

/// What hosts answered; the documents themselves are kept in a file.
pub(crate) struct Kept {
    pub(crate) spool: File,
    pub(crate) hosts: Vec<HostAnswer>,
}

/// What a host answered.
#[derive(Clone)]
pub(crate) struct HostAnswer {
    pub(crate) host: String,
    pub(crate) answer: Result<Answer, NoAnswer>,
    pub(crate) took: Duration,
    /// Where its document begins, and how long it is.
    pub(crate) place: (u64, u64),
    /// An audit, with few of its paths.
    pub(crate) audit: Option<AuditAnswer>,
}

impl HostAnswer {
    pub(crate) fn of(host: &str, answer: Result<Answer, NoAnswer>, took: Duration) -> Self {
        Self { host: host.to_owned(), answer, took, place: (0, 0), audit: None }
    }

    pub(crate) fn none(host: &str, trouble: Trouble, words: &str) -> Self {
        Self::of(host, Err(NoAnswer { trouble, words: words.to_owned() }), Duration::ZERO)
    }
}

impl Kept {
    /// What a host answered with, from the beginning.
    pub(crate) fn read(&self, host: &HostAnswer) -> impl Read + '_ {
        BufReader::with_capacity(1 << 16, Piece { file: &self.spool, at: host.place.0, left: host.place.1 })
    }

    /// A host's audit with all its paths.
    pub(super) fn whole_audit(&self, host: &HostAnswer) -> io::Result<AuditAnswer<{ usize::MAX }>> {
        read_audit(self.read(host))
    }

    pub(super) fn audits(&self) -> Vec<(&str, &AuditAnswer)> {
        self.hosts.iter().filter_map(|host| Some((&*host.host, host.audit.as_ref()?))).collect()
    }

    pub(crate) fn unanswered(&self) -> impl Iterator<Item = (&HostAnswer, &NoAnswer)> {
        self.hosts.iter().filter_map(|host| Some((host, host.answer.as_ref().err()?)))
    }
}

/// A piece of a file that others read too.
struct Piece<'p> {
    file: &'p File,
    at: u64,
    left: u64,
}

impl Read for Piece<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let length = usize::try_from(self.left).unwrap_or(usize::MAX).min(buffer.len());
        let count = self.file.read_at(buffer.get_mut(..length).unwrap_or_default(), self.at)?;
        self.at += count as u64;
        self.left -= count as u64;
        Ok(count)
    }
}
