//! A made-up host in a temporary folder, with a site on it.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ambrik_core::account::Accounts;
use ambrik_core::audit::{Audit, AuditSetting, audit};
use ambrik_core::change::{ChangeContext, ChangeError, Ledger, Outcome, Plan, StateDir, apply, plan_undo, undo};
use ambrik_core::site::{Phase, Site, read};
use ambrik_core::starts::SiteError;
use ambrik_core::tree::{Host, Progress};

/// Accounts for tests: made-up ones, with ids that no real host uses.
pub(crate) const ACCOUNTS: [(&str, u32); 7] = [
    ("root", 0),
    ("php", 61_001),
    ("web", 61_002),
    ("deploy", 61_003),
    ("stranger", 61_004),
    ("outsider", 61_005),
    ("visitor", 61_006),
];

/// The id of a test account.
pub(crate) fn id(name: &str) -> u32 {
    ACCOUNTS.iter().find(|(n, _)| *n == name).unwrap().1
}

pub(crate) use test_support::is_root;

pub(crate) struct TestHost {
    dir: tempfile::TempDir,
    pub(crate) accounts: Accounts,
}

impl TestHost {
    /// A host on which the groups have these further members.
    pub(crate) fn new(members: &[(&str, u32, &str)]) -> Self {
        let dir = tempfile::tempdir().unwrap();
        fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let passwd: String = ACCOUNTS.iter().map(|(name, id)| format!("{name}:x:{id}:{id}::/:/\n")).collect();
        let mut groups: BTreeMap<u32, (String, String)> =
            ACCOUNTS.iter().map(|(name, id)| (*id, ((*name).to_owned(), String::new()))).collect();
        for (name, gid, list) in members {
            groups.insert(*gid, ((*name).to_owned(), (*list).to_owned()));
        }
        let group: String = groups.iter().map(|(id, (name, list))| format!("{name}:x:{id}:{list}\n")).collect();
        for folder in ["etc", "srv/www/site", "var/lib"] {
            fs::create_dir_all(dir.path().join(folder)).unwrap();
        }
        fs::write(dir.path().join("etc/passwd"), &passwd).unwrap();
        fs::write(dir.path().join("etc/group"), &group).unwrap();
        Self { accounts: Accounts::from_texts(&passwd, &group), dir }
    }

    /// The real path of a path of the host.
    pub(crate) fn real(&self, path: impl AsRef<Path>) -> PathBuf {
        self.dir.path().join(path.as_ref().strip_prefix("/").unwrap_or(path.as_ref()))
    }

    /// The real path of a path of the site.
    pub(crate) fn site_path(&self, path: impl AsRef<Path>) -> PathBuf {
        self.real("srv/www/site").join(path)
    }

    pub(crate) fn file(&self, path: impl AsRef<Path>, owner: &str, mode: u32) -> PathBuf {
        let whole = self.site_path(path);
        fs::create_dir_all(whole.parent().unwrap()).unwrap();
        fs::write(&whole, "content\n").unwrap();
        self.give(&whole, owner, mode);
        whole
    }

    pub(crate) fn folder(&self, path: impl AsRef<Path>, owner: &str, mode: u32) -> PathBuf {
        let whole = self.site_path(path);
        fs::create_dir_all(&whole).unwrap();
        self.give(&whole, owner, mode);
        whole
    }

    pub(crate) fn give(&self, path: &Path, owner: &str, mode: u32) {
        if rustix::process::geteuid().is_root() {
            std::os::unix::fs::chown(path, Some(id(owner)), Some(id(owner))).unwrap();
        }
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
    }

    /// The site whose site file has these lines after its root.
    pub(crate) fn site(&self, text: &str) -> Arc<Site> {
        let text = format!("[site]\nroot = \"/srv/www/site\"\n{text}");
        match read(&text, Path::new("site.toml"), &self.accounts, &ambrik_core::check::names()) {
            Ok(site) => Arc::new(site),
            Err(problems) => panic!("{problems}"),
        }
    }

    pub(crate) fn audit(&self, site: &Arc<Site>) -> Audit {
        self.audit_in(site, Phase::Sealed)
    }

    pub(crate) fn try_audit(&self, site: &Arc<Site>) -> Result<Audit, SiteError> {
        self.audited(site, Phase::Sealed)
    }

    pub(crate) fn audit_in(&self, site: &Arc<Site>, phase: Phase) -> Audit {
        self.audited(site, phase).unwrap()
    }

    /// An audit on a host with these other sites.
    pub(crate) fn audit_beside(&self, site: &Arc<Site>, others: &[Arc<Site>]) -> Audit {
        self.audited_beside(site, Phase::Sealed, others).unwrap()
    }

    fn audited(&self, site: &Arc<Site>, phase: Phase) -> Result<Audit, SiteError> {
        self.audited_beside(site, phase, &[])
    }

    fn audited_beside(&self, site: &Arc<Site>, phase: Phase, others: &[Arc<Site>]) -> Result<Audit, SiteError> {
        let host = Host::at(self.dir.path()).unwrap();
        let today = "2026-11-23".parse().unwrap();
        let progress = Progress::default();
        let clean_since = std::collections::HashMap::new();
        let setting = AuditSetting {
            clean_since: &clean_since,
            only: None,
            labels: None,
            host: &host,
            accounts: &self.accounts,
            neighbours: others,
            sniff: true,
            threads: 2,
            today,
            progress: &progress,
        };
        audit(&setting, site, phase)
    }

    pub(crate) fn state(&self) -> StateDir {
        StateDir::open_or_create(&self.real("var/lib/ambrik")).unwrap()
    }

    pub(crate) fn apply(&self, plan: &Plan) -> Outcome {
        self.try_apply(plan).unwrap()
    }

    pub(crate) fn try_apply(&self, plan: &Plan) -> Result<Outcome, ChangeError> {
        let (host, state, progress) = (Host::at(self.dir.path()).unwrap(), self.state(), Progress::default());
        let mut ledger = Ledger::open_or_create(&state).unwrap();
        let means =
            ChangeContext { host: &host, state: &state, threads: 2, store: None, keep: true, progress: &progress };
        apply(plan, &mut ledger, &means)
    }

    pub(crate) fn set(&self, site: &Arc<Site>) -> Outcome {
        self.apply(&Plan::set(self.audit(site), Phase::Sealed))
    }

    pub(crate) fn set_in(&self, site: &Arc<Site>, phase: Phase) -> Outcome {
        self.apply(&Plan::set(self.audit_in(site, phase), phase))
    }

    pub(crate) fn seal(&self, site: &Arc<Site>) -> Outcome {
        self.apply(&Plan::seal(self.audit(site), Phase::Sealed, &[]))
    }

    pub(crate) fn undo(&self, id: Option<i64>, force: bool) -> Outcome {
        let (host, state, progress) = (Host::at(self.dir.path()).unwrap(), self.state(), Progress::default());
        let mut ledger = Ledger::open_or_create(&state).unwrap();
        let means =
            ChangeContext { host: &host, state: &state, threads: 2, store: None, keep: true, progress: &progress };
        let plan = plan_undo(&ledger, id).unwrap();
        undo(&plan, &mut ledger, &means, force).unwrap()
    }
}

/// Everything about the paths below a folder that a change could touch; the change time only where asked for.
pub(crate) fn picture(folder: &Path, change_times: bool) -> BTreeMap<PathBuf, String> {
    let mut pictures = BTreeMap::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(dir) = folders.pop() {
        pictures.insert(dir.clone(), one_picture(&dir, change_times));
        for entry in fs::read_dir(&dir).unwrap() {
            let path = entry.unwrap().path();
            if path.symlink_metadata().unwrap().is_dir() {
                folders.push(path);
            } else {
                pictures.insert(path.clone(), one_picture(&path, change_times));
            }
        }
    }
    pictures
}

fn one_picture(path: &Path, change_times: bool) -> String {
    let meta = path.symlink_metadata().unwrap();
    let content = match meta.file_type() {
        kind if kind.is_symlink() => format!("{:?}", fs::read_link(path).unwrap()),
        kind if kind.is_file() => format!("{:?}", fs::read(path).unwrap()),
        _ => String::new(),
    };
    let changed = if change_times { format!(" {}.{:09}", meta.ctime(), meta.ctime_nsec()) } else { String::new() };
    let lists = if meta.is_symlink() { Vec::new() } else { crate::attributes::all(path) };
    let links = if meta.is_dir() { 0 } else { meta.nlink() };
    format!(
        "{:o} {}:{} {links} {}.{:09} {lists:?} {content}{changed}",
        meta.mode(),
        meta.uid(),
        meta.gid(),
        meta.mtime(),
        meta.mtime_nsec()
    )
}

/// The paths of a finding.
pub(crate) fn found(audit: &Audit, check: &str) -> Vec<String> {
    let findings = audit.wrong.findings.iter().filter(|f| f.check.name == check && f.accepted.is_none());
    findings.flat_map(|f| audit.paths(f)).map(|path| path.to_string_lossy().into_owned()).collect()
}

/// A name from bytes.
pub(crate) fn os(bytes: &[u8]) -> &OsStr {
    std::os::unix::ffi::OsStrExt::from_bytes(bytes)
}
