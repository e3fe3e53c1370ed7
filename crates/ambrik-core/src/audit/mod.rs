//! One site looked at as a whole: findings, the table of what everyone can do, and what `set` would change.

mod added;
mod finding;
mod found;
mod look;
mod missing;
mod news;
mod of_host;
mod outlines;
mod paths;
mod since;
mod start;
mod table;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::civil::Date;

use crate::account::Accounts;
use crate::check::{self, Check, Raised, Reason, Remedy, Severity};
use crate::entry::{Kind, Nanos, Rights};
use crate::inspect::{Deviation, Deviations, Start, Unseen};
use crate::label::{Labels, Lasting, Module};
use crate::policy::Policy;
use crate::shown::Shown;
use crate::site::{Accept, Access, Phase, Site};
use crate::starts::SiteError;
use crate::tree::{Failure, Host, Progress};
use crate::want::Solver;

use look::{MOST_TIMES, look};
use missing::ToMake;
pub use missing::cannot_be_made;
pub(crate) use missing::{above as missing_above, part_path};
use of_host::OfHost;

pub use crate::inspect::OpenWay;
pub use finding::Finding;
pub use news::{HowNew, News, RecordedFinding, news, recorded};
pub use of_host::{HostFinding, host_findings};
pub use outlines::{OutlineFindings, by_outline};
pub use since::{KnownRight, Since};
pub(crate) use start::open_way;
pub use table::{Cell, PartLine};

/// A path that something was done to, from the host's `/` on and without links.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Touched {
    /// The path.
    pub path: PathBuf,
    /// Whether all below it is to be looked at.
    pub whole: bool,
}

/// What an audit is made with.
#[derive(Debug)]
pub struct AuditSetting<'a> {
    /// The host looked at.
    pub host: &'a Host,
    /// Its accounts.
    pub accounts: &'a Accounts,
    /// The host's other sites, whose PHP may be able to get at this one; the site itself may be among them.
    pub neighbours: &'a [Arc<Site>],
    /// SELinux on the host.
    pub labels: Option<&'a Labels>,
    /// Whether short PHP files are opened to know information pages: for who tells of them, or removes them.
    pub sniff: bool,
    /// How many threads walk.
    pub threads: usize,
    /// When sites were found clean last, by their names.
    pub clean_since: &'a HashMap<String, Nanos>,
    /// The paths that alone are looked at, with what leads there; all, where it does not say.
    pub only: Option<&'a [Touched]>,
    /// The day on which accepted exceptions must still hold.
    pub today: Date,
    /// How far it is.
    pub progress: &'a Progress,
}

/// Something that a visitor gets and should not.
#[derive(Debug)]
pub struct HttpFinding {
    /// What is wrong, and what was asked and came.
    pub raised: Raised,
    /// The path on the disk.
    pub path: PathBuf,
    /// The lines of each web server's configuration that put it right, with the server's name.
    pub lines: Vec<(String, String)>,
}

/// What was asked over HTTP, and what was found.
#[derive(Debug, Default)]
pub struct HttpAnswers {
    /// How many addresses were asked for.
    pub addresses: usize,
    /// What a visitor gets and should not.
    pub found: Vec<HttpFinding>,
    /// What could not be asked, and why.
    pub unanswered: Vec<String>,
}

/// What puts a finding right.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PutRight {
    /// `ambrik set SITE`.
    Set,
    /// `ambrik open SITE`, and its installer.
    Open,
    /// `ambrik seal SITE`.
    Seal,
    /// Something that Ambrik does not do, in these words.
    Hand(String),
}

/// A site, looked at: what was seen, what is wrong with it, and what would change that.
#[derive(Debug)]
pub struct Audit {
    /// The site.
    pub site: Arc<Site>,
    /// The phase that it was judged for.
    pub phase: Phase,
    /// Whether it is known to be in that.
    pub phase_known: bool,
    pub(crate) policy: Policy,
    solver: Solver,
    /// What was seen.
    pub seen: Observation,
    /// What is wrong.
    pub wrong: Judgement,
    /// What would change.
    pub pending: ToChange,
}

/// What an audit saw.
#[derive(Debug)]
pub struct Observation {
    /// How many paths of the site there are.
    pub entries: u64,
    /// What everyone can do, a line for each part that has paths, and for code that no part names.
    pub table: Vec<PartLine>,
    /// Paths that went while they were looked at.
    pub vanished: u64,
    /// How many short PHP files deep in the tree were not opened to know whether they show PHP's settings.
    pub not_opened: u64,
    /// Where other file systems begin that no part names: only parts below were looked at.
    pub mounts: Vec<PathBuf>,
    /// Where the root really is, if its path leads through a symlink.
    pub real_root: Option<PathBuf>,
    /// The parts without wildcards that are not on the disk.
    pub missing: Vec<usize>,
    /// Where the walks began.
    pub(crate) starts: Vec<Start>,
    /// The paths that differ: from what they should be, or from all that are alike.
    pub(crate) deviants: Deviations,
    /// How many of them are to get other rights.
    to_change: u64,
    unseen: Vec<Unseen>,
    /// Whether everything was answered that was asked over HTTP.
    all_asked: bool,
}

/// What an audit found wrong.
#[derive(Debug, Default)]
pub struct Judgement {
    /// The findings, the gravest first.
    pub findings: Vec<Finding>,
    /// What concerns other sites too.
    of_host: Vec<OfHost>,
    /// What was found over HTTP.
    asked: Vec<HttpFinding>,
}

/// What `set` would change, besides the rights of the paths that differ.
#[derive(Debug, Default)]
pub struct ToChange {
    /// The paths that differ and that `set` must leave alone, and why.
    pub(crate) left_alone: BTreeMap<u32, Failure>,
    /// The SELinux booleans that the site file names and that are off.
    pub switches_off: Vec<String>,
    /// What makes the site's labels last.
    pub module: Option<Module>,
    /// How that is done on this host.
    pub lasting: Option<Lasting>,
    /// The missing parts with `create`, and the missing directories that lead there.
    pub(crate) to_make: Vec<ToMake>,
}

impl Audit {
    /// For each finding, by its place in the list, the place of the one that it follows from on the same paths: where every account can
    /// write, that PHP can is no news.
    #[must_use]
    pub fn causes(&self) -> Vec<Option<usize>> {
        finding::causes(&self.wrong.findings)
    }

    /// The exceptions of the site file that cover nothing any more, as far as that can be told of this look.
    pub fn idle_accepts(&self) -> impl Iterator<Item = &Accept> {
        let used = |number: usize| self.wrong.findings.iter().any(|finding| finding.accepted == Some(number));
        let sure = self.phase == Phase::Sealed && self.is_complete() && self.seen.not_opened == 0;
        let all = self.site.accepts.iter().enumerate();
        all.filter(move |(number, accept)| sure && !used(*number) && check::is_judged_always(&accept.check))
            .map(|(_, accept)| accept)
    }

    /// The line that a finding says.
    #[must_use]
    pub fn says(&self, finding: &Finding) -> String {
        finding.check.says(&self.site, &finding.reasons)
    }

    /// What puts a finding right.
    #[must_use]
    pub fn put_right(&self, finding: &Finding) -> PutRight {
        let by_hand = finding.reasons.keys().filter_map(|reason| match reason {
            Reason::ByHand { cure, .. } => Some(cure.as_str()),
            _ => None,
        });
        let by_hand: BTreeSet<&str> = by_hand.collect();
        if !by_hand.is_empty() && finding.reasons.keys().all(|reason| matches!(reason, Reason::ByHand { .. })) {
            return PutRight::Hand(by_hand.into_iter().collect::<Vec<_>>().join("; "));
        }
        if finding.above {
            let who = if finding.check.is(&check::PHP_WRITES_CODE) { "PHP's account" } else { "other accounts" };
            return PutRight::Hand(format!(
                "take the right to write away from {who} by hand: Ambrik changes only the site, not what leads to it"
            ));
        }
        let bars = finding.reasons.keys().filter_map(|reason| match reason {
            Reason::Barred(bar) => Some(bar.remedy()),
            _ => None,
        });
        let bars: Vec<&str> = bars.collect();
        if !bars.is_empty() && bars.len() == finding.reasons.len() {
            return PutRight::Hand(format!("{}; Ambrik leaves that to you", bars.join("; ")));
        }
        if finding.check.is(&check::COULD_NOT_LOOK) && finding.reasons.keys().any(check::is_over_http) {
            return PutRight::Hand("see that the web server runs, and that url in the site file is this site's".into());
        }
        if let (true, Some(Lasting::ByHand(why))) = (finding.check.is(&check::LABEL_NOT_KEPT), &self.pending.lasting) {
            let name = &self.site.name;
            return PutRight::Hand(format!(
                "{why}: install it and run `ambrik set {name}`, or take the rules from `ambrik set {name} --as-script`"
            ));
        }
        if finding.check.remedy.is_set() && !self.has_changes() {
            return PutRight::Hand(
                "`ambrik set` has nothing to change here: what stands in the way is outside of the site, or set by hand in \
                 the site file (owner, group, dir_mode, file_mode): correct that"
                    .into(),
            );
        }
        let next = [&check::NEXT_FILES_CLOSED, &check::NEXT_FILES_OPEN];
        if next.iter().any(|check| finding.check.is(check)) && finding.reasons.keys().all(|why| *why == Reason::Itself)
        {
            return PutRight::Set;
        }
        if finding.check.is(&check::INSTALLER_LEFT) && !self.unfinished().is_empty() {
            return PutRight::Open;
        }
        let guessed = |reason: &Reason| matches!(reason, Reason::Looks(_) | Reason::Needed(_));
        if !finding.reasons.is_empty() && finding.reasons.keys().all(guessed) {
            return PutRight::Hand(
                "look at it: a part (use = \"setup\" or \"remove\") has seal remove it, accept keeps it".into(),
            );
        }
        match finding.check.remedy {
            Remedy::Set | Remedy::SetLabel => PutRight::Set,
            Remedy::Seal => PutRight::Seal,
            Remedy::Hand(words) => PutRight::Hand(words.to_owned()),
        }
    }

    /// What puts a finding right, in words: the command, or what is to be done by hand.
    #[must_use]
    pub fn remedy(&self, finding: &Finding) -> String {
        let name = &self.site.name;
        match self.put_right(finding) {
            PutRight::Set => format!("ambrik set {name}"),
            PutRight::Open => format!("ambrik open {name}"),
            PutRight::Seal => format!("ambrik seal {name}"),
            PutRight::Hand(words) => words,
        }
    }

    /// Adds the finding that the site's window ended at `until`.
    #[must_use]
    pub fn overdue_since(self, until: jiff::Timestamp, today: Date) -> Self {
        let root = self.site.root.clone();
        self.with(check::window_overdue(until), root, today)
    }

    /// Whether an installer was found.
    pub(crate) fn has_installer(&self) -> bool {
        let installers = [&check::INSTALLER_LEFT, &check::INSTALLER_RENAMED];
        self.wrong.findings.iter().any(|finding| installers.iter().any(|check| finding.check.is(check)))
    }

    /// How the host says otherwise than the site file what is served, unless an exception covers it.
    #[must_use]
    pub fn served_differs(&self) -> Option<String> {
        let of = |finding: &&Finding| finding.check.is(&check::SERVED_DIFFERS) && finding.accepted.is_none();
        self.wrong.findings.iter().find(of).map(|finding| self.says(finding))
    }

    /// What PHP still holds open for writing though it is closed to it: each path, and who.
    pub fn still_open(&self) -> impl Iterator<Item = String> + '_ {
        let held = self
            .seen
            .deviants
            .with_extra()
            .flat_map(|(_, deviant)| deviant.extra.iter().map(move |found| (deviant, found)));
        let held = held.filter(|(_, (check, _))| check.is(&crate::check::STILL_OPEN));
        held.filter_map(|(deviant, (_, reason))| {
            let Reason::Says(holder) = reason else { return None };
            Some(format!("{} is still open for writing: {holder}", Shown(&self.relative(&self.path(&deviant)))))
        })
    }

    /// The code that changed since the site was found clean, by its real paths.
    pub(crate) fn changed_since_clean(&self) -> impl Iterator<Item = PathBuf> {
        let is_one = |deviant: &Deviation<'_>| deviant.extra.iter().any(|(it, _)| it.is(&check::CHANGED_IN_WINDOW));
        let found = self.seen.deviants.with_extra().map(|(_, deviant)| deviant);
        found.filter(is_one).map(|deviant| self.path(&deviant))
    }

    /// The code that changed since the site was found clean, relative to the root.
    pub fn changed(&self) -> impl Iterator<Item = PathBuf> + '_ {
        self.changed_since_clean().map(|path| self.relative(&path))
    }

    /// The lines of web servers' configuration that put a finding right, each with the server's name.
    #[must_use]
    pub fn configuration(&self, finding: &Finding) -> Vec<(String, String)> {
        let mut of_finding = self.wrong.asked.iter().filter(|found| found.raised.0.is(finding.check)).peekable();
        if of_finding.peek().is_none() {
            return Vec::new();
        }
        let paths: Vec<PathBuf> = self.paths(finding).collect();
        let of_finding = of_finding.filter(|found| paths.contains(&self.relative(&found.path)));
        of_finding.flat_map(|found| found.lines.iter().cloned()).collect()
    }

    /// The rights that a file gets which is made at `path`.
    pub(crate) fn rights_of_new_file(&self, path: &Path) -> Rights {
        let context = self.policy.at(path).context;
        self.solver.solve(&self.policy, &context, crate::want::Shape::File)
    }

    /// Who has access besides keeper, php and web, in the order of the table's cells.
    pub fn besides(&self) -> impl Iterator<Item = &Access> {
        self.site.access.iter().filter(|access| access.may.is_some())
    }

    /// Whether all was looked at, and asked, that was to be.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        self.seen.unseen.is_empty() && self.seen.all_asked
    }

    /// The gravest severity among the findings that count.
    #[must_use]
    pub fn worst(&self) -> Option<Severity> {
        self.wrong.findings.iter().filter(|f| f.accepted.is_none()).map(Finding::severity).max()
    }

    /// Whether `set` has anything to do.
    fn has_changes(&self) -> bool {
        self.seen.to_change > 0
            || !self.pending.to_make.is_empty()
            || self.labels_do_not_last() && !matches!(self.pending.lasting, Some(Lasting::ByHand(_)))
            || !self.pending.switches_off.is_empty()
    }

    /// Whether a relabelling would not give every part its label.
    #[must_use]
    pub fn labels_do_not_last(&self) -> bool {
        self.pending.module.as_ref().is_some_and(|module| !module.holds)
    }

    /// Labels of directories that lead to the site and stop PHP, now or after a relabelling: what is wrong, and the command that puts
    /// it right.
    pub fn labels_above(&self) -> impl Iterator<Item = (&str, &str)> {
        let of_labels = |finding: &&Finding| {
            [&check::LABEL_BLOCKS, &check::LABEL_NOT_KEPT].iter().any(|check| finding.check.is(check)) && finding.above
        };
        let reasons = self.wrong.findings.iter().filter(of_labels).flat_map(|finding| finding.reasons.keys());
        reasons.filter_map(|reason| match reason {
            Reason::ByHand { says, cure } => Some((says.as_str(), cure.as_str())),
            _ => None,
        })
    }

    /// How many paths `set` would change.
    #[must_use]
    pub fn changes_pending(&self) -> u64 {
        self.seen.to_change
    }

    /// The path of a part as shown in a report.
    #[must_use]
    pub fn part_shown(&self, part: Option<usize>) -> &str {
        self.policy.part_shown(part)
    }

    /// What a part, or code that no part names, is for.
    #[must_use]
    pub fn part_use(&self, part: Option<usize>) -> crate::site::Use {
        part.map_or(crate::site::Use::Code, |part| self.site.parts[part].used_as)
    }

    /// Whether an accepted exception covers what a check found about a deviant.
    pub(crate) fn is_accepted(&self, check: &Check, deviant: u32) -> bool {
        let mut of = self.wrong.findings.iter().filter(|f| f.check.is(check) && f.accepted.is_some());
        of.any(|f| f.paths.has(deviant))
    }

    pub(crate) fn relative(&self, path: &Path) -> PathBuf {
        self.site.relative(path)
    }
}

/// Looks at the whole of `site` in `phase`.
pub fn audit(setting: &AuditSetting<'_>, site: &Arc<Site>, phase: Phase) -> Result<Audit, SiteError> {
    let mut beyond_files = Vec::new();
    let (mut found, mut learnt) = look(setting, site, &beyond_files, phase)?;
    // A link that was seen only now can make served what was judged as not served; a group can have members whom no file
    // lists. Each time there is more.
    for _ in 0..MOST_TIMES {
        if learnt.served.is_empty() && learnt.accounts.is_empty() {
            break;
        }
        let mut site = Site::clone(&found.site);
        site.serving.too.append(&mut learnt.served);
        beyond_files.append(&mut learnt.accounts);
        (found, learnt) = look(setting, &Arc::new(site), &beyond_files, phase)?;
    }
    let root = found.site.root.clone();
    for folder in found.site.serving.unseen.clone() {
        let says = "archives in a served folder around the site: it cannot be listed";
        found = found.with(check::could_not_look(says), folder, setting.today);
        found.seen.all_asked = false;
    }
    for unanswered in learnt.unanswered {
        found = found.with(check::could_not_look(unanswered), root.clone(), setting.today);
        found.seen.all_asked = false;
    }
    Ok(found)
}

/// The owner, group, mode and list in short: `www-data:web 2750 +acl`.
#[must_use]
pub fn rights_shown(accounts: &Accounts, rights: &Rights, kind: Kind) -> String {
    let owner = accounts.owner_shown(rights.uid, rights.gid);
    let mode = if kind.has_mode() { format!(" {}", rights.mode) } else { String::new() };
    let list = if rights.acl.is_some() || rights.default_acl.is_some() { " +acl" } else { "" };
    format!("{owner}{mode}{list}")
}
