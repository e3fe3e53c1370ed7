//! Findings that come from elsewhere than the walk: what is on record, what was asked, what holds for the host.

use std::collections::HashSet;
use std::ffi::{CString, OsStr};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

use jiff::civil::Date;

use super::finding::{Findings, Slot};
use super::found::Found;
use super::{Audit, AuditSetting, HttpAnswers};
use crate::check::{self, Raised};
use crate::label::SiteLabels;
use crate::site::Switch;
use crate::tree::{Host, sys};

impl Audit {
    /// Adds the finding that code changed and that nobody has answered for it: paths, and how. What is gone by now is none.
    #[must_use]
    pub fn with_unproven(
        self,
        host: &Host,
        unproven: impl IntoIterator<Item = (PathBuf, &'static str)>,
        today: Date,
    ) -> Self {
        let mut unproven = unproven.into_iter().peekable();
        if unproven.peek().is_none() {
            return self;
        }
        let known: HashSet<PathBuf> = self.changed_since_clean().collect();
        // They come by folders: each is opened once, from the root on.
        let root = host.resolve(&self.site.root).ok();
        let mut last: Option<(PathBuf, Option<OwnedFd>)> = None;
        let mut there = Vec::new();
        for (path, how) in unproven {
            let path = self.site.root.join(path);
            let (above, name) = (path.parent().unwrap_or(&path), path.file_name().unwrap_or_default());
            if last.as_ref().is_none_or(|(known, _)| known != above) {
                let folder = match (above.strip_prefix(&self.site.root), &root) {
                    (Ok(below), Some(root)) => folder_below(&root.handle, below),
                    // A part outside the root.
                    _ => host.resolve(above).ok().map(|found| found.handle),
                };
                last = Some((above.to_owned(), folder));
            }
            let folder = last.as_ref().and_then(|(_, folder)| folder.as_ref());
            let is_there = folder.is_some_and(|folder| is_in(folder, name));
            if is_there && !known.contains(&path) {
                there.push((check::changed(how), path));
            }
        }
        self.with_each(there, today)
    }

    /// Adds the finding that code is not what was unpacked: the paths below the root, and the day.
    #[must_use]
    pub fn with_not_as_unpacked(self, paths: Vec<PathBuf>, day: Date, today: Date) -> Self {
        let root = self.site.root.clone();
        self.with_each(paths.into_iter().map(|path| (check::not_as_unpacked(day), root.join(path))), today)
    }

    /// Adds the finding that the proof did not come to its end.
    #[must_use]
    pub fn with_disturbed_proof(self, why: &str, today: Date) -> Self {
        let root = self.site.root.clone();
        self.with(check::proof_disturbed(why), root, today)
    }

    /// Adds what was found over HTTP.
    #[must_use]
    pub fn with_asked(mut self, asked: HttpAnswers, today: Date) -> Self {
        for found in &asked.found {
            self = self.with(found.raised.clone(), found.path.clone(), today);
        }
        let root = self.site.root.clone();
        for why in asked.unanswered {
            self = self.with(check::not_answered(&why), root.clone(), today);
            self.seen.all_asked = false;
        }
        self.wrong.asked = asked.found;
        self
    }

    /// Adds what is to be said about SELinux on the host as a whole.
    pub(super) fn with_selinux(mut self, setting: &AuditSetting<'_>, labels: Option<&SiteLabels<'_>>) -> Self {
        let root = self.site.root.clone();
        if let (Some(_), Some(of_host)) = (labels, setting.labels) {
            for Switch { name, .. } in self.site.switches.clone() {
                let later = || crate::label::boolean::will_be_off(setting.host, of_host.state.policy.as_deref(), &name);
                let says = match crate::label::boolean::is_on(setting.host, &name) {
                    Some(false) => name.clone(),
                    Some(true) if later() => format!("{name}, which is on now and off from the next start on"),
                    Some(true) | None => continue,
                };
                self = self.with(check::switch_differs(&says), root.clone(), setting.today);
                self.pending.switches_off.push(name);
            }
        }
        let of_domain = || labels.and_then(SiteLabels::permissive_domain);
        if let Some(found) = setting.labels.and_then(|labels| labels.state.weakness()).or_else(of_domain) {
            let (check, concern) = check::label_protection_off(found, &self.site.name);
            self.add_of_host(check, concern, setting.today);
        }
        if let Some(labels) = labels {
            if let Some(domain) = &labels.unconfined {
                self = self.with(check::php_unconfined(domain), root.clone(), setting.today);
            }
            for found in labels.widened(&self.policy) {
                self = self.with(check::boolean_widens(found), root.clone(), setting.today);
            }
        }
        self
    }

    /// Adds a finding about one path, unless an exception covers it.
    pub(super) fn with(self, raised: Raised, path: PathBuf, today: Date) -> Self {
        self.with_each(std::iter::once((raised, path)), today)
    }

    pub(super) fn with_each(mut self, raised: impl IntoIterator<Item = (Raised, PathBuf)>, today: Date) -> Self {
        let mut findings = Findings::of(std::mem::take(&mut self.wrong.findings));
        for ((check, reason), path) in raised {
            let holds = |accept: &crate::site::Accept| {
                accept.check == check.name && accept.holds_on(today) && accept.pattern.covers(&path)
            };
            let accepted = self.site.accepts.iter().position(holds);
            let part = self.policy.at(&path).context.part;
            findings.add(Slot { check, part, accepted, above: false }, reason, Found::Path(path));
        }
        self.wrong.findings = findings.sorted();
        self
    }
}

/// A folder below another one that is held open; no links are followed.
fn folder_below(root: &OwnedFd, below: &Path) -> Option<OwnedFd> {
    below.components().try_fold(root.try_clone().ok()?, |dir, name| {
        sys::pin_directory(&dir, &CString::new(name.as_os_str().as_bytes()).ok()?).ok()
    })
}

/// Whether something of this name is in a folder; links are not followed.
fn is_in(folder: &OwnedFd, name: &OsStr) -> bool {
    CString::new(name.as_bytes()).is_ok_and(|name| sys::look(folder, &name).is_ok())
}
