//! Changes of many hosts as one: what was begun where stands on this side before it is begun, and is taken back by one number.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::shown::Shown;

/// How far a host is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum StepState {
    /// It was not begun.
    Waiting,
    /// It was begun, and what came of it is not known.
    Begun,
    /// It was done.
    Done,
    /// It was not, or in part.
    Failed,
    /// It was taken back.
    TakenBack,
}

/// A host of a run.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct HostRecord {
    /// Its name, as it was given to ssh.
    pub host: String,
    /// How far it is.
    pub state: StepState,
    /// What is to be said of it.
    #[serde(default)]
    pub says: String,
}

/// A run over hosts.
#[derive(Clone, Debug, Deserialize, Serialize)]
pub struct FleetRecord {
    /// Its number on this side.
    pub id: u64,
    /// What stands in the command line of each of its change sets, there: by it they are found again.
    pub token: String,
    /// When it began.
    pub begun: String,
    /// The words of its command line, there.
    pub words: Vec<String>,
    /// Whether sudo ran it.
    pub sudo: bool,
    /// Its hosts.
    pub hosts: Vec<HostRecord>,
}

impl FleetRecord {
    /// A run that nothing was begun of yet.
    #[must_use]
    pub fn of(id: u64, words: &[String], sudo: bool, hosts: &[String]) -> Self {
        let now = jiff::Timestamp::now();
        let host = |host: &String| HostRecord { host: host.clone(), state: StepState::Waiting, says: String::new() };
        Self {
            id,
            token: format!("{id}-{:x}-{:x}", now.as_nanosecond(), std::process::id()),
            begun: now.to_string(),
            words: words.to_vec(),
            sudo,
            hosts: hosts.iter().map(host).collect(),
        }
    }
}

/// How many findings hosts had when they were audited together: high, medium, low.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize, Serialize)]
pub struct FleetAudit {
    /// When it was.
    pub taken: String,
    /// The hosts that answered.
    pub hosts: BTreeMap<String, [u64; 3]>,
}

/// So many audits are kept.
const MOST_AUDITS: usize = 120;
/// The file that they are kept in.
const AUDITS: &str = "audits.json";

/// Why runs cannot be recorded, or read.
#[derive(Debug, thiserror::Error)]
pub enum RunError {
    /// The folder or a file cannot be used.
    #[error("cannot {op} {}: {}", Shown(.path), crate::shown::cause(.cause))]
    Failed {
        /// What was being done.
        op: &'static str,
        /// To which path.
        path: PathBuf,
        /// Why.
        cause: std::io::Error,
    },
    /// There is no such run.
    #[error("there is no run over hosts with number {0} on record here")]
    Unknown(u64),
}

/// The runs that are on record on this side.
#[derive(Debug)]
pub struct FleetRuns {
    folder: PathBuf,
}

impl FleetRuns {
    /// Those in a state directory of this side.
    #[must_use]
    pub fn at(state: &Path) -> Self {
        Self { folder: state.join("fleet") }
    }

    /// Begins a run over these hosts.
    ///
    /// # Errors
    /// Where it cannot be written: then nothing is to be begun.
    pub fn begin(&self, words: &[String], sudo: bool, hosts: &[String]) -> Result<FleetRecord, RunError> {
        self.make_folder()?;
        let mut id = self.numbers()?.last().map_or(1, |last| last + 1);
        loop {
            let record = FleetRecord::of(id, words, sudo, hosts);
            match self.put(&record, true) {
                // Another run took the number meanwhile.
                Err(RunError::Failed { cause, .. }) if cause.kind() == std::io::ErrorKind::AlreadyExists => id += 1,
                put => return put.map(|()| record),
            }
        }
    }

    /// Writes how far a run is, durably.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn write(&self, record: &FleetRecord) -> Result<(), RunError> {
        self.put(record, false)
    }

    /// The audits of many hosts that are on record, the oldest first; none where they cannot be read.
    #[must_use]
    pub fn audits(&self) -> Vec<FleetAudit> {
        let read = std::fs::read(self.folder.join(AUDITS)).ok();
        read.and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default()
    }

    /// Adds an audit; of many the oldest goes.
    ///
    /// # Errors
    /// Where it cannot be written.
    pub fn add_audit(&self, audit: FleetAudit) -> Result<(), RunError> {
        self.make_folder()?;
        let mut audits = self.audits();
        audits.push(audit);
        audits.drain(..audits.len().saturating_sub(MOST_AUDITS));
        self.put_file(&self.folder.join(AUDITS), &audits, false)
    }

    fn make_folder(&self) -> Result<(), RunError> {
        let mut builder = std::fs::DirBuilder::new();
        std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
        let made = builder.recursive(true).create(&self.folder);
        made.map_err(|cause| RunError::Failed { op: "make the folder", path: self.folder.clone(), cause })
    }

    fn put(&self, record: &FleetRecord, is_new: bool) -> Result<(), RunError> {
        self.put_file(&self.folder.join(format!("{}.json", record.id)), record, is_new)
    }

    /// Writes a file at once or not at all, durably; where it is to be new an existing one stays.
    fn put_file(&self, path: &Path, content: &impl Serialize, is_new: bool) -> Result<(), RunError> {
        let write = || -> std::io::Result<()> {
            let mut file = tempfile::NamedTempFile::new_in(&self.folder)?;
            serde_json::to_writer_pretty(&mut file, content)?;
            file.write_all(b"\n")?;
            file.as_file().sync_all()?;
            let put = if is_new { file.persist_noclobber(path) } else { file.persist(path) };
            put.map_err(|error| error.error)?;
            std::fs::File::open(&self.folder)?.sync_all()
        };
        write().map_err(|cause| RunError::Failed { op: "write", path: path.to_owned(), cause })
    }

    /// A run.
    ///
    /// # Errors
    /// Where there is none of that number, or it cannot be read.
    pub fn read(&self, id: u64) -> Result<FleetRecord, RunError> {
        let path = self.folder.join(format!("{id}.json"));
        let failed = |cause| RunError::Failed { op: "read", path: path.clone(), cause };
        match std::fs::read(&path) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Err(RunError::Unknown(id)),
            Err(error) => Err(failed(error)),
            Ok(bytes) => serde_json::from_slice(&bytes).map_err(|error| failed(error.into())),
        }
    }

    fn numbers(&self) -> Result<Vec<u64>, RunError> {
        let failed = |cause| RunError::Failed { op: "list", path: self.folder.clone(), cause };
        let mut found = Vec::new();
        for entry in std::fs::read_dir(&self.folder).map_err(failed)? {
            let name = entry.map_err(failed)?.file_name();
            found.extend(name.to_str().and_then(|name| name.strip_suffix(".json")?.parse::<u64>().ok()));
        }
        found.sort_unstable();
        Ok(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_run_is_on_record_under_a_number_of_its_own() {
        let dir = tempfile::tempdir().unwrap();
        let runs = FleetRuns::at(&dir.path().join("state"));
        let hosts = ["a".to_owned(), "b".to_owned()];
        let mut one = runs.begin(&["set".to_owned()], true, &hosts).unwrap();
        let two = runs.begin(&["set".to_owned()], false, &hosts).unwrap();
        assert_eq!((one.id, two.id, one.token != two.token), (1, 2, true));
        one.hosts[1].state = StepState::Failed;
        runs.write(&one).unwrap();
        let read = runs.read(1).unwrap();
        assert_eq!(
            (read.sudo, read.hosts[0].state, read.hosts[1].state),
            (true, StepState::Waiting, StepState::Failed)
        );
        assert!(matches!(runs.read(3), Err(RunError::Unknown(3))));
        let audit = |n: u64| FleetAudit { taken: n.to_string(), hosts: BTreeMap::from([("a".to_owned(), [n, 0, 1])]) };
        (0..125).try_for_each(|n| runs.add_audit(audit(n))).unwrap();
        let kept = runs.audits();
        assert_eq!((kept.len(), &kept[119], runs.numbers().unwrap()), (120, &audit(124), vec![1, 2]));
    }
}
