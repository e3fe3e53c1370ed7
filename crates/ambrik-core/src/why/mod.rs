//! Who can do what with a path, and why: the kernel's answer, step by step from `/`.
//!
//! [`Asker::ask`] follows a path as a process of the account would (`path_resolution(7)`), goes on where that one is
//! stopped, so that every obstacle is named, and compares the answer with what the site file wants.

mod advice;
mod denials;
mod everything;
mod inodes;
mod judge;
mod labels;
mod log;
mod messages;
mod review;
mod wanted;
mod way;
mod whom;
mod words;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::account::Accounts;
use crate::entry::Kind;
use crate::tree::Host;

pub use advice::Advice;
pub use denials::{By, Nameless, Other, What};
pub use everything::{AbleFolder, Everything, PartCount, RunsPhp, Through, everything};
pub use log::{Now, Refusal, Refusals};
pub use review::{NoFile, Review, Told, no_files, switch_of, worst_first};
pub use wanted::{Cure, Match, Mend, PolicySite, Wanted};
pub use way::Asker;
pub use whom::{Subject, Whom, WhomError};

/// What can be done with a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Act {
    /// Passing through a directory.
    Search,
    /// Following a symlink.
    Follow,
    /// Reading a file, listing a directory.
    Read,
    /// Writing to a file; the bit that lets names be made and removed in a directory.
    Write,
    /// Executing a file.
    Execute,
    /// Making names in a directory.
    Create,
    /// Removing a path, or renaming it away.
    Delete,
    /// Finding the path at all.
    Find,
}

impl Act {
    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Search => "search",
            Self::Follow => "follow",
            Self::Read => "read",
            Self::Write => "write",
            Self::Execute => "execute",
            Self::Create => "create",
            Self::Delete => "delete",
            Self::Find => "find",
        }
    }
}

/// One thing that decides.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// Whether it is about the way to the path, not about the path itself.
    pub on_the_way: bool,
    /// What decides.
    pub path: Arc<Path>,
    /// What it decides about.
    pub act: Act,
    /// Which class or entry applies, and what is missing.
    pub says: Arc<str>,
    /// Whether it lets the account do that; nothing where Ambrik cannot look.
    pub allows: Option<bool>,
}

/// What an account can do with a path, reaching it included; nothing where Ambrik cannot look.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Can {
    /// Read it (`R_OK` of faccessat(2) with `AT_EACCESS`).
    pub read: Option<bool>,
    /// Write to it (`W_OK`); to an append-only file: add to it.
    pub write: Option<bool>,
    /// Search the directory, execute the file (`X_OK`).
    pub search: Option<bool>,
    /// Make names in the directory; of anything else: make it, were it not there.
    pub create: Option<bool>,
    /// Remove it or rename it away.
    pub delete: Option<bool>,
    /// Give a file a further name (hard link), as the running kernel protects them.
    pub link: Option<bool>,
    /// Change its mode, and so give itself every right.
    pub chmod: Option<bool>,
}

impl Can {
    /// The same answer to everything.
    const fn all(answer: Option<bool>) -> Self {
        Self {
            read: answer,
            write: answer,
            search: answer,
            create: answer,
            delete: answer,
            link: answer,
            chmod: answer,
        }
    }
}

/// The answer for one path.
#[derive(Clone, Debug)]
pub struct Answer {
    /// The path, as asked.
    pub path: PathBuf,
    /// Where it leads, through symlinks or `..`.
    pub leads_to: Option<Arc<Path>>,
    /// What is there; nothing where there is nothing, or where Ambrik cannot look.
    pub kind: Option<Kind>,
    /// Whether nothing is there.
    pub missing: bool,
    /// What the account can do.
    pub can: Can,
    /// Whether the directory that it would be in is there.
    could_be_made: bool,
    way: Option<Arc<way::PassedStep>>,
    own: Arc<[judge::OwnStep]>,
    at: AskedPlaces,
    /// What the site file says; nothing where no site holds the path.
    pub wanted: Option<Wanted>,
}

/// A way from `/` down to a path.
#[derive(Clone, Debug)]
pub struct AnswerWay(Option<Arc<way::PassedStep>>);

impl AnswerWay {
    /// Whether it is the very same way: what is in one directory mostly shares it.
    #[must_use]
    pub fn is(&self, other: &Self) -> bool {
        match (&self.0, &other.0) {
            (Some(one), Some(other)) => Arc::ptr_eq(one, other),
            (None, None) => true,
            _ => false,
        }
    }

    /// Its steps.
    #[must_use]
    pub fn steps(&self) -> Vec<Step> {
        way::steps(self.0.as_ref())
    }
}

/// The paths that an answer's own steps are about.
#[derive(Clone, Debug)]
struct AskedPlaces {
    itself: Arc<Path>,
    /// The directory that it, or the link that was asked about, is in.
    above: Arc<Path>,
}

impl Answer {
    /// The steps that decide, from `/` down.
    #[must_use]
    pub fn steps(&self) -> Vec<Step> {
        let mut steps = self.way().steps();
        steps.extend(self.own_steps());
        steps
    }

    /// Whether all that can be said is the same but for the path's own name: two files of the same rights in one directory.
    #[must_use]
    pub fn is_like(&self, other: &Self) -> bool {
        let plain = |answer: &Self| answer.leads_to.is_none() && !answer.missing;
        let wanted = match (&self.wanted, &other.wanted) {
            (Some(one), Some(other)) => one.is_like(other),
            (None, None) => true,
            _ => false,
        };
        plain(self) && plain(other) && self.way().is(&other.way()) && Arc::ptr_eq(&self.own, &other.own) && wanted
    }

    /// The way to the path, which it may share with others.
    #[must_use]
    pub fn way(&self) -> AnswerWay {
        AnswerWay(self.way.clone())
    }

    /// The steps about the path itself.
    pub fn own_steps(&self) -> impl Iterator<Item = Step> + '_ {
        self.own.iter().map(|step| Step {
            on_the_way: false,
            path: Arc::clone(if step.above { &self.at.above } else { &self.at.itself }),
            act: step.act,
            says: Arc::clone(&step.says),
            allows: step.allows,
        })
    }

    /// Whether all that was asked could be told.
    #[must_use]
    pub const fn is_complete(&self) -> bool {
        self.can.read.is_some() && self.can.write.is_some() && self.can.search.is_some()
    }
}

/// What asking takes, besides an account.
#[derive(Clone, Copy)]
pub struct WhySetting<'a> {
    /// The host looked at.
    pub host: &'a Host,
    /// Its accounts.
    pub accounts: &'a Accounts,
    /// The sites whose files say what is wanted.
    pub holders: &'a [PolicySite],
    /// SELinux on the host; none where it is not to count.
    pub labels: Option<&'a crate::label::Labels>,
}

/// As many threads ask at most: each keeps directories open.
const MOST_THREADS: usize = 8;
/// As many paths are asked about in one go.
const BLOCK: usize = 256;

/// A path to be asked about, with the place of the account in the list of them.
pub type AskedPath = (usize, PathBuf);

/// Asks about many paths on up to `threads` threads, makes something of each answer there, and hands that out in the
/// order of the paths.
///
/// The paths are absolute, from the host's `/` on; each names an account by its place in `subjects`.
pub fn ask_each<T: Send, R>(
    setting: WhySetting<'_>,
    subjects: &[Subject],
    paths: &[AskedPath],
    threads: usize,
    each: impl Fn(&Subject, Answer) -> T + Sync,
    take: impl FnOnce(&mut dyn Iterator<Item = T>) -> R,
) -> R {
    crate::tree::raise_file_limit();
    let blocks: Vec<&[AskedPath]> = paths.chunks(BLOCK).collect();
    let threads = threads.clamp(1, MOST_THREADS).min(blocks.len().max(1));
    let (blocks, each) = (&blocks, &each);
    std::thread::scope(|scope| {
        let answered: Vec<_> = (0..threads)
            .map(|thread| {
                let (done, answered) = std::sync::mpsc::sync_channel::<Vec<T>>(2);
                scope.spawn(move || {
                    let mut askers: Vec<Option<Asker<'_>>> = subjects.iter().map(|_| None).collect();
                    for block in blocks.iter().skip(thread).step_by(threads) {
                        let answers = block.iter().map(|(who, path)| {
                            let asker = askers[*who]
                                .get_or_insert_with(|| Asker::on_own_thread(setting, subjects[*who].clone()));
                            each(&subjects[*who], asker.ask(path))
                        });
                        // Whoever takes them may have had enough.
                        if done.send(answers.collect()).is_err() {
                            return;
                        }
                    }
                });
                answered
            })
            .collect();
        let in_order = (0..blocks.len()).map_while(|block| answered[block % threads].recv().ok());
        take(&mut in_order.flatten())
    })
}

/// The answers for paths about one account, in their order.
#[must_use]
pub fn ask_all(setting: WhySetting<'_>, subject: &Subject, paths: &[PathBuf], threads: usize) -> Vec<Answer> {
    let asked: Vec<AskedPath> = paths.iter().map(|path| (0, path.clone())).collect();
    ask_each(setting, std::slice::from_ref(subject), &asked, threads, |_, answer| answer, |answers| answers.collect())
}
