//! One look at every path of a site: what is found wrong with it, and what it should be.
//!
//! Paths that are alike (same part, owner, bits, lists and way in) are judged once; the rest is counting.

mod deviations;
mod judge;
mod visitor;

use deviations::Gathered;
pub(crate) use deviations::{Deviation, Deviations, Spot};

use std::collections::{BTreeSet, HashMap};
use std::ffi::CString;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use foldhash::fast::RandomState;

use crate::access::NameRule;
use crate::account::{Accounts, Gid, Uid};
use crate::acl::Tag;
use crate::check::{Next, Pages, PathCan, Raised, Sniffing};
use crate::entry::{Bar, Facts, Identity, Kind, Nanos, Rights, begins_as_program};
use crate::host::{Holder, Making};
use crate::label::{Alike, SiteLabels};
use crate::people::{People, Set};
use crate::policy::{Context, Cursor, Policy, Right};
use crate::site::{ServedToo, Site};
use crate::tree::{Dir, Host, Look, Trouble};
use crate::want::{Solver, Wants};

/// Who can get into a directory, and who can make and remove names in it.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct DirState {
    /// A small number, the same for equal states.
    id: u32,
    reach: Set,
    writers: Set,
    /// Which of the writers can remove and rename a name.
    names: NameRule,
}

/// A directory that the inspection went through.
pub(crate) type SiteDir = Dir<Arc<DirData>>;

/// What the inspection attaches to each directory; most have that of the one before.
#[derive(Debug)]
pub(crate) struct DirData {
    pub(crate) cursor: Arc<Cursor>,
    now: Arc<DirState>,
    /// As it will be once `set` was run, with the site's root reached by everyone.
    planned: Arc<DirState>,
    /// The directory at which php, and the web server, are stopped.
    pub(crate) php_stop: Option<Arc<Path>>,
    pub(crate) web_stop: Option<Arc<Path>>,
    /// Whether only root and the keeper can move names about, here and in the directories of the site above. A file with several
    /// names is given rights only where all of them stand in such directories: elsewhere somebody may have made one of them for a
    /// file that is not the site's.
    pub(crate) keepers_alone: bool,
    /// What a relabelling makes of everything below, where that is the same for all names.
    relabelled: Option<Alike>,
}

impl DirData {
    /// Whether it is the same: what is shared is compared by where it is.
    fn is(&self, other: &Self) -> bool {
        let same = |one: &Option<Arc<Path>>, other: &Option<Arc<Path>>| match (one, other) {
            (Some(one), Some(other)) => Arc::ptr_eq(one, other),
            (one, other) => one.is_none() && other.is_none(),
        };
        Arc::ptr_eq(&self.cursor, &other.cursor)
            && Arc::ptr_eq(&self.now, &other.now)
            && Arc::ptr_eq(&self.planned, &other.planned)
            && same(&self.php_stop, &other.php_stop)
            && same(&self.web_stop, &other.web_stop)
            && self.keepers_alone == other.keepers_alone
            && self.relabelled == other.relabelled
    }
}

/// Everything that judging takes; shared by the threads.
pub(crate) struct PathJudge<'a> {
    pub(crate) policy: &'a Policy,
    pub(crate) solver: &'a Solver,
    pub(crate) people: &'a People,
    pub(crate) accounts: &'a Accounts,
    pub(crate) host: &'a Host,
    /// The site's labels, on hosts that use them.
    pub(crate) labels: Option<&'a SiteLabels<'a>>,
    /// The served folder, from `/` on.
    pub(crate) served: Option<PathBuf>,
    /// Where a path that the site file names really is, and the path that it names.
    pub(crate) aliases: Vec<(PathBuf, PathBuf)>,
    /// Where information pages are asked for.
    pub(crate) sniffing: Option<Sniffing>,
    /// The pages that were read, where installers are asked for.
    pub(crate) pages: Option<Pages>,
    /// What processes of PHP's account hold open for writing.
    pub(crate) held: HashMap<Identity, Holder>,
    /// When the site was found clean last: code must not have changed since.
    pub(crate) clean_since: Option<Nanos>,
    states: Mutex<HashMap<DirState, u32>>,
    /// All verdicts, by their numbers.
    verdicts: Mutex<Vec<Arc<Verdict>>>,
    named: Mutex<NamedIds>,
    /// How PHP makes files, where that is known.
    next: Option<Next>,
    /// Who runs this: somebody who is not root changes only what is theirs.
    caller: Uid,
}

/// The users and groups that rights speak of.
#[derive(Clone, Debug, Default)]
pub(crate) struct NamedIds {
    pub(crate) uids: BTreeSet<Uid>,
    pub(crate) gids: BTreeSet<Gid>,
}

impl NamedIds {
    fn add(&mut self, rights: &Rights) {
        self.uids.insert(rights.uid);
        self.gids.insert(rights.gid);
        for entry in rights.acl.iter().chain(&rights.default_acl).flat_map(|acl| acl.entries()) {
            match entry.tag {
                Tag::User(uid) => drop(self.uids.insert(uid)),
                Tag::Group(gid) => drop(self.gids.insert(gid)),
                _ => {}
            }
        }
    }
}

fn overrides_rights(overrides: &crate::site::Overrides) -> bool {
    *overrides != crate::site::Overrides { selinux_type: overrides.selinux_type.clone(), ..Default::default() }
}

/// What decides the judgement on a path: paths with the same key are alike, and judged once.
///
/// A verdict may be kept because it is a function of this key alone, within one audit: of the part's row (`context`), of who gets
/// into the directory and moves names in it, now and once `set` was run (`now`, `planned`), and of the path's own rights and flags.
/// Nothing else of a path may go into it, its name and its content least of all: what those give rise to is each path's own
/// (`Deviation::extra`). Times, inode numbers and sizes are left out on purpose: with them no two paths would be alike.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
struct VerdictKey {
    context: u32,
    now: u32,
    planned: u32,
    kind: Kind,
    program: bool,
    rights: Rights,
    bar: Option<Bar>,
    /// Whether it can be removed at all, as far as its flags and mounts go.
    stuck: bool,
    /// The mount that gives it its label.
    given_by: Option<u64>,
}

/// The judgement on all paths of one key.
#[derive(Debug)]
pub(crate) struct Verdict {
    /// Its number among those of this look.
    number: u32,
    pub(crate) context: Context,
    pub(crate) kind: Kind,
    pub(crate) rights: Arc<Rights>,
    pub(crate) findings: Vec<Raised>,
    /// Whether the label is as it should be.
    label_right: bool,
    pub(crate) fix: Option<Arc<Rights>>,
    /// What keeper, php, web, others and whoever has access besides can do now, and what they should be able to.
    pub(crate) abilities: Box<[Ability]>,
}

/// What one account can do with a path, and should be able to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Ability {
    pub(crate) read: bool,
    pub(crate) write: bool,
    pub(crate) should: Right,
    /// What it may do beyond that without harm: an account in several roles gets the widest.
    pub(crate) may: Right,
}

/// A path that could not be looked at.
#[derive(Debug)]
pub(crate) struct Unseen {
    pub(crate) path: PathBuf,
    pub(crate) part: Option<usize>,
    pub(crate) trouble: Trouble,
}

/// What decides a directory's state: that of the one above, its rights, what bars changes, the append-only flag.
type DirKey = (u32, Rights, Option<Bar>, bool);

/// One thread's inspection.
pub(crate) struct Inspector<'j> {
    judge: &'j PathJudge<'j>,
    wants: Wants,
    verdicts: HashMap<VerdictKey, (Arc<Verdict>, u64), RandomState>,
    states: HashMap<DirKey, Arc<DirState>, RandomState>,
    /// What was attached to the directory before.
    attached: Option<Arc<DirData>>,
    pub(crate) deviants: Gathered,
    pub(crate) unseen: Vec<Unseen>,
    pub(crate) vanished: u64,
    pub(crate) mounts: Vec<PathBuf>,
    /// What links in the served folder lead to though it is not served by the site file.
    pub(crate) served_too: Vec<ServedToo>,
}

/// Whether a file is a program; asked only where there is an execute bit.
fn is_program(look: &Look<'_>, facts: &Facts) -> bool {
    if facts.kind != Kind::File || !facts.rights.mode.has(0o111) || facts.size < 3 {
        return false;
    }
    let mut buffer = [0; 4];
    look.first_bytes(&mut buffer).is_ok_and(begins_as_program)
}

/// How PHP makes files for a site.
fn next(host: &Host, site: &Site) -> Option<Next> {
    let Making { umasks, upload } = &site.making;
    let upload = || host.resolve(upload).ok().map(|found| (found.facts.rights, found.facts.id.dev));
    (!umasks.is_empty()).then(|| Next { umasks: umasks.clone(), upload: upload() })
}

fn abilities(judge: &PathJudge<'_>, context: &Context, can: &PathCan) -> Box<[Ability]> {
    let people = judge.people;
    let row = context.row;
    let roles = [
        (people.keeper(), row.keeper),
        (people.php(), row.php),
        (people.web(), row.web),
        (people.stranger(), row.others),
    ];
    let given: Vec<(usize, Right)> = people.given(context).map(|(_, right, place)| (place, right)).collect();
    let besides = people.access().map(|(_, place)| {
        // An account that is one of the roles as well has both's.
        let rights = given.iter().chain(&roles).filter(|(of, _)| *of == place).map(|(_, right)| *right);
        (place, rights.max().unwrap_or(Right::None))
    });
    let allowed = [Right::Read, Right::Write].map(|right| judge.people.allowed(context, right));
    let abilities = roles.into_iter().chain(besides).map(|(who, should)| Ability {
        read: can.read.has(who),
        write: (can.write.has(who) && can.bar.is_none()) || can.replace.has(who),
        should: should.max(row.others),
        may: match (allowed[1].has(who), allowed[0].has(who)) {
            (true, _) => Right::Write,
            (false, true) => Right::Read,
            (false, false) => Right::None,
        },
    });
    abilities.collect()
}

/// Where a walk begins: a site's root, or a part outside it.
#[derive(Debug)]
pub(crate) struct Start {
    /// Its place in the list of starts.
    pub(crate) number: u32,
    /// The path as the site file names it.
    pub(crate) path: PathBuf,
    /// The directory that it really is in, and its name there.
    pub(crate) parent: OwnedFd,
    pub(crate) name: CString,
    /// The path without links.
    pub(crate) real: PathBuf,
    pub(crate) facts: Facts,
    /// The state of the directory that it is in, by the whole way from `/`.
    pub(crate) now: Arc<DirState>,
    /// Where php, and the web server, are stopped on the way.
    pub(crate) php_stop: Option<Arc<Path>>,
    pub(crate) web_stop: Option<Arc<Path>>,
    /// The first directory on the way in which somebody besides root and the keeper can put another in its place.
    pub(crate) open_way: Option<OpenWay>,
}

/// A directory on the way to a site's tree in which others than root and the keeper can rename what leads there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OpenWay {
    /// The directory.
    pub dir: PathBuf,
    /// Who can.
    pub who: String,
    /// The commands that take the right away.
    pub mend: String,
}
