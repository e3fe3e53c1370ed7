//! Surveying a deployed tree: what each part of it is for, with reasons, as a draft of its site file.
//!
//! Evidence of several kinds is gathered as clues, each with a weight and a place, and weighed: what is in
//! doubt gets the least rights, and is asked.

mod place;

mod address;
mod clue;
mod deployed;
mod docroot;
mod draft;
mod evidence;
mod linked;
mod names;
mod packaged;
mod packed;
mod php;
mod placeholder;
mod readers;
mod rpm;
pub mod watch;
mod weigh;
mod weights;

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use crate::account::{Accounts, Gid, Ids, Uid};
use crate::host::{AccountAnswer, Role, Services, Undecided};
use crate::nested::Ground;
use crate::site::{Grant, Use, Write};
use crate::tree::{Host, Progress, WayError};

pub use address::SiteAddress;
pub use clue::Seen;
pub use packed::{PackedError, survey_archive};

use clue::{Clues, Tells};
use deployed::Deployed;
use evidence::{KINDS, Scene};
use linked::{Linked, linked};
use php::{Callees, Code, FileFacts, Location, Sink, Touched, Whole};
use place::{application, served};
use watch::Watched;
use weigh::Scales;

pub use readers::Readers;

/// How sure a proposal is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Confidence {
    /// Not enough to propose it.
    Low,
    /// Enough.
    Medium,
    /// Several kinds of evidence agree.
    High,
}

impl Confidence {
    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
        }
    }
}

/// One reason, and where it was seen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DraftReason {
    /// The reason.
    pub says: String,
    /// Where.
    pub seen: Seen,
}

/// A proposed part.
#[derive(Clone, Debug)]
pub struct DraftPart {
    /// Relative to the root, or absolute outside it.
    pub path: PathBuf,
    /// Whether the path is a pattern: the same thing in each of several folders.
    pub pattern: bool,
    /// What it is for.
    pub used_as: Use,
    /// When php may write.
    pub write: Write,
    /// The sample that it is made from.
    pub from: Option<PathBuf>,
    /// Whether it is made where it is missing.
    pub create: bool,
    /// How sure that is.
    pub confidence: Confidence,
    /// Why.
    pub because: Vec<DraftReason>,
}

/// Something that the evidence is not enough for.
#[derive(Clone, Debug)]
pub struct Question {
    /// What somebody who knows has to answer.
    pub asks: String,
    /// The part, if the answer is yes.
    pub part: DraftPart,
}

/// What somebody who knows says to a question.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Said {
    /// It is so.
    Yes,
    /// It is not.
    No,
    /// It stays a question.
    Later,
}

/// The account of a kind, or why there is no one.
pub type FoundAccount = Result<AccountAnswer, Undecided>;

/// What a survey found.
#[derive(Debug)]
pub struct Survey {
    /// The site's root: as it was named, or where the application lies below that.
    pub root: PathBuf,
    /// Why it is another folder than the one that was named.
    pub root_because: Option<String>,
    /// The document root, relative to the root; empty for the whole root.
    pub served: PathBuf,
    /// Why.
    pub served_because: Vec<DraftReason>,
    /// How sure that is.
    pub served_confidence: Confidence,
    /// Where it answers, as a web server's configuration says.
    pub address: Option<SiteAddress>,
    /// Who keeps the tree, where that is not root.
    pub keeper: Option<String>,
    /// How PHP gets to write, where the caller who keeps the tree is not root and so cannot give it anything to own.
    pub grant: Option<(Grant, String)>,
    /// Who PHP runs as.
    pub php: FoundAccount,
    /// Where that is not known: the account of this host that it most often is, for a draft to begin with.
    pub php_usual: Option<String>,
    /// Who reads static files.
    pub web: FoundAccount,
    /// The proposed parts: secrets, what is written to, installers, what is hidden.
    pub parts: Vec<DraftPart>,
    /// Who reads logs besides.
    pub readers: Vec<Readers>,
    /// The folders of other sites in the tree, and these sites' names: they were not looked at.
    pub others: BTreeMap<PathBuf, String>,
    /// What is left to be answered.
    pub questions: Vec<Question>,
    /// How many paths were looked at, and how many PHP files were read.
    pub paths: usize,
    /// The PHP files that were parsed.
    pub php_files: usize,
    /// What was answered with no.
    pub refused: Vec<Question>,
    /// What could not be looked at.
    pub unseen: Vec<PathBuf>,
    /// Of what PHP is to write, what it did not while it was watched; nothing where not all of that was seen.
    pub never_written: Option<Vec<PathBuf>>,
}

/// What distributions call the account of the web server, the most usual first.
const USUAL: &[&str] = &["www-data", "apache", "nginx", "http", "wwwrun", "www", "httpd", "nobody"];

/// The longest text that is read for its words.
const LONGEST_TEXT: usize = 512 << 10;

/// Surveys the tree at `root`; `services` tell who PHP runs as and what is served. What `others`, the host's sites, have
/// in it is left to them. Changes nothing.
///
/// Errors: `root` cannot be looked at, or is no directory.
pub fn survey(
    host: &Host,
    accounts: &Accounts,
    services: &Services,
    root: &Path,
    others: &[Ground],
    watched: Option<&Watched>,
    progress: &Progress,
) -> Result<Survey, WayError> {
    let (found_root, root_because) = application(host, services, root).unzip();
    let root = found_root.as_deref().unwrap_or(root);
    let inside = |other: &Ground| {
        let below = other.inside(host, root)?.strip_prefix(root).ok()?.to_owned();
        Some((below, other.name().to_owned()))
    };
    let others: BTreeMap<PathBuf, String> = others.iter().filter_map(inside).collect();
    let deployed = Deployed::read(host, root, others.keys().cloned().collect(), progress)?;
    let texts = texts(&deployed);
    let (served, served_because, served_confidence) = served(host, &deployed, services, &texts);
    let folder = deployed.root.join(&served);
    let php = services.account(host, Role::Php, &folder);
    let web = services.account(host, Role::Web, &folder);
    let php_uid = php.as_ref().ok().map(|answer| answer.account.ids.uid);
    let php_ids = php.as_ref().ok().map(|answer| &answer.account.ids);
    let mut facts = php::read(&deployed, is_passed_over, progress);
    let php_files = facts.len();
    let mut callees = Callees::default();
    let settings = read_on(host, &deployed, &mut facts, &served, &mut callees);
    let code = Code::new(&deployed, &facts, &served, &callees);
    let (touched, named) = (code.touched(), code.named_outside());
    let mut given = packaged::given(host, &deployed.root);
    given.extend(rpm::given(host, &deployed.root));
    let php_names = php.as_ref().ok().map(|answer| (answer.account.user.as_str(), answer.account.group.as_str()));
    let scene = Scene {
        host,
        given: &given,
        watched,
        php_names,
        deployed: &deployed,
        facts: &facts,
        touched: &touched,
        named: &named,
        linked: &settings,
        php_ids,
        served: &served,
        php: php_uid,
        texts: &texts,
    };
    let mut clues = Clues::default();
    for kind in KINDS {
        clues.of_kind(kind.name);
        (kind.gather)(&scene, &mut clues);
    }
    clues.follow_links(&deployed);
    let mut own: Vec<String> = settings.into_iter().map(|linked| linked.text).collect();
    let secrets = clues.spots().filter_map(|spot| match spot {
        Location::Inside(path) if clues.weight(spot, Tells::Secret) >= weights::READ_ON => {
            deployed.text(path, LONGEST_TEXT)
        }
        _ => None,
    });
    own.extend(secrets);
    let settings_files: BTreeSet<PathBuf> =
        facts.iter().filter(|facts| facts.shape.is_settings()).map(|facts| facts.file.clone()).collect();
    let loaded = loaded_outside(&touched);
    let weighed = Scales {
        served: &served,
        loaded: &loaded,
        host,
        deployed: &deployed,
        clues: &clues,
        php: php_uid,
        php_ids,
        settings: &own,
        settings_files: &settings_files,
    }
    .weigh();
    let written: Vec<PathBuf> =
        weighed.parts.iter().filter(|part| part.write == Write::Always).map(|part| part.path.clone()).collect();
    let grant = grant(&deployed, accounts, php_ids, web.as_ref().ok());
    let readers = readers::readers(host, accounts, root, &weighed.parts, php_ids);
    let usual = USUAL.iter().filter_map(|name| accounts.user(name)).map(|account| account.user);
    Ok(Survey {
        php_usual: usual.into_iter().next(),
        keeper: keeper(&deployed, accounts, php_uid, web.as_ref().ok()),
        grant,
        address: address::address(host, services, &folder),
        // A link to the release that is served is the root: the next release is behind it.
        root: root.to_owned(),
        root_because,
        served,
        served_because,
        served_confidence,
        php,
        web,
        others,
        readers,
        parts: weighed.parts,
        questions: weighed.questions,
        paths: deployed.entries.len(),
        php_files,
        refused: Vec::new(),
        unseen: deployed.unseen.clone(),
        // Where writes were missed, nothing is known not to have been written.
        never_written: watched
            .filter(|watched| !watched.missed && watched.unwatched.is_empty())
            .map(|watched| never_written(host, root, &written, watched)),
    })
}

impl Survey {
    /// Takes the answers to its questions, one for each in their order: a yes becomes a part, a no a remark in the draft, and what
    /// is left for later stays a question.
    pub fn answer(&mut self, answers: &[Said]) {
        let asked = std::mem::take(&mut self.questions);
        let later = std::iter::repeat(&Said::Later);
        for (mut question, said) in asked.into_iter().zip(answers.iter().chain(later)) {
            match said {
                Said::Yes => {
                    let seen = question
                        .part
                        .because
                        .first()
                        .map_or_else(|| Seen::at(&question.part.path, 0), |reason| reason.seen.clone());
                    let says = format!("answered yes: {}", question.asks);
                    question.part.because.insert(0, DraftReason { says, seen });
                    question.part.confidence = Confidence::High;
                    self.parts.push(question.part);
                }
                Said::No => self.refused.push(question),
                Said::Later => self.questions.push(question),
            }
        }
    }
}

/// The parts in which nothing was written.
fn never_written(host: &Host, root: &Path, parts: &[PathBuf], watched: &Watched) -> Vec<PathBuf> {
    let quiet = parts.iter().filter(|part| {
        let real = host.destination(Path::new("/"), &root.join(part));
        !watched.files.keys().any(|file| file.starts_with(&real))
    });
    quiet.cloned().collect()
}

/// What tells nothing about the deployed application: others' packages for other programs, and tests.
fn is_passed_over(path: &Path) -> bool {
    path.components()
        .any(|name| matches!(name.as_os_str().to_str(), Some("node_modules" | "bower_components" | ".git")))
}

/// The tree's own documents and scripts.
fn texts(deployed: &Deployed) -> Vec<(PathBuf, String)> {
    let is_text = |path: &Path| {
        let name = names::lower_name(path);
        let document = names::ends_in(&name, &[".txt", ".md", ".html", ".htm", ".rst", ".adoc", ".textile"]);
        let named = [
            "readme",
            "install",
            "upgrad",
            "setup",
            "permission",
            "requirement",
            "configur",
            "deploy",
            "docker",
            "faq",
            "getting",
        ]
        .iter()
        .any(|word| name.contains(word));
        let in_documents = path
            .components()
            .any(|c| matches!(c.as_os_str().to_str(), Some("doc" | "docs" | "documentation" | "Docs")));
        let script = names::is_script_name(&name);
        let server = name.contains("apache") || name.contains("nginx") || name.contains(".conf");
        let plain = path.extension().is_none() && named;
        (document && (named || in_documents)) || script || server || plain
    };
    let wanted = deployed.files().filter(|(path, _)| {
        is_text(path)
            && !is_passed_over(path)
            && !path.components().any(|c| matches!(c.as_os_str().to_str(), Some("vendor" | "tests" | "test")))
    });
    let mut found: Vec<(PathBuf, String)> = Vec::new();
    for (path, _) in wanted.take(2_000) {
        found.extend(
            deployed.text(path, LONGEST_TEXT).filter(|text| !text.contains('\0')).map(|text| (path.clone(), text)),
        );
    }
    found
}

/// The places outside the tree that code is loaded from.
fn loaded_outside(touched: &[Touched]) -> BTreeSet<PathBuf> {
    let loaded = touched.iter().filter(|touched| touched.sink == Sink::Load);
    let outside = loaded.filter_map(|touched| match &touched.spot {
        Location::Outside(path) => Some(path.clone()),
        Location::Inside(_) => None,
    });
    outside.collect()
}

/// So many times is read on: what was read last names what is read next.
const ROUNDS: usize = 3;

/// Reads what the code loads under other names than PHP's, and the settings outside the tree, until there is no more of it.
fn read_on(
    host: &Host,
    deployed: &Deployed,
    facts: &mut Vec<FileFacts>,
    served: &Path,
    callees: &mut Callees,
) -> Vec<Linked> {
    let mut settings: Vec<Linked> = Vec::new();
    let folders = deployed.top_folders();
    php::add_calls(deployed, facts, served, callees);
    let first = facts.len();
    for _ in 0..ROUNDS {
        let touched = Code::new(deployed, facts, served, callees).loaded();
        let mut new = linked(host, deployed, facts, &touched, &settings);
        let known: BTreeSet<&Path> = facts.iter().map(|facts| &*facts.file).collect();
        let loaded = touched.iter().filter(|touched| touched.sink == Sink::Load && touched.whole == Whole::Known);
        let loaded: BTreeSet<&Path> = loaded
            .filter_map(|touched| match &touched.spot {
                Location::Inside(path) if !known.contains(&**path) => Some(&**path),
                _ => None,
            })
            .collect();
        let mut more: Vec<FileFacts> =
            loaded.iter().filter_map(|path| php::one(path, &deployed.content(path, LONGEST_TEXT)?, &folders)).collect();
        if new.is_empty() && more.is_empty() {
            break;
        }
        more.extend(new.iter_mut().filter_map(|linked| linked.facts.take()));
        settings.append(&mut new);
        facts.append(&mut more);
    }
    if facts.len() > first {
        php::add_calls(deployed, facts, served, callees);
    }
    settings
}

/// Who keeps the tree: the owner of its root, where that is somebody, and neither root nor PHP nor the web server.
fn keeper(deployed: &Deployed, accounts: &Accounts, php: Option<Uid>, web: Option<&AccountAnswer>) -> Option<String> {
    let owner = deployed.owner;
    let served_by = [php, web.map(|answer| answer.account.ids.uid)];
    let stranger = owner != Uid::ROOT && !served_by.contains(&Some(owner)) && php.is_some();
    accounts.user_name(owner).filter(|_| stranger || is_callers(owner))
}

/// Whether the caller, who is not root, owns the tree: a draft is then one that they can carry out.
fn is_callers(owner: Uid) -> bool {
    let caller = Uid(rustix::process::geteuid().as_raw());
    caller != Uid::ROOT && owner == caller
}

/// By a group that the caller and PHP have to themselves, else by an ACL; where the file system has none, by any common group.
fn grant(
    deployed: &Deployed,
    accounts: &Accounts,
    php: Option<&Ids>,
    web: Option<&AccountAnswer>,
) -> Option<(Grant, String)> {
    let php = php.filter(|php| php.uid != deployed.owner && is_callers(deployed.owner))?;
    let caller = accounts.user(&accounts.user_shown(deployed.owner))?.ids;
    let common: Vec<Gid> = caller.groups().iter().copied().filter(|gid| php.is_in(*gid)).collect();
    let theirs = [Some(php.uid), Some(caller.uid), web.map(|web| web.account.ids.uid)];
    let own = common.iter().find(|gid| accounts.members(**gid).iter().all(|uid| theirs.contains(&Some(*uid))));
    let in_group =
        |gid: &Gid| format!("you are not root; PHP and you have the group {} in common", accounts.group_shown(*gid));
    match (own, deployed.holds_acls(), common.first()) {
        (Some(gid), _, _) => Some((Grant::Group, in_group(gid))),
        (None, true, _) => Some((Grant::Acl, "you are not root, and no group is only yours and PHP's".into())),
        (None, false, Some(gid)) => {
            let why = format!("{}, with others, and this file system holds no ACL", in_group(gid));
            Some((Grant::Group, why))
        }
        (None, false, None) => None,
    }
}

#[cfg(test)]
mod tests;
