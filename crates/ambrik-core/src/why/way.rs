//! The way to a path as a process of the account goes it (`path_resolution(7)`), each directory looked at once.

use std::cell::OnceCell;
use std::collections::HashMap;
use std::ffi::{CString, OsStr};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::rc::Rc;
use std::sync::Arc;

use foldhash::fast::RandomState;
use rustix::io::Errno;

use super::judge::{AccessJudge, OwnStep, Target};
use super::{Act, Answer, AskedPlaces, Can, Step, Subject, WhySetting};
use crate::entry::{Facts, Kind};
use crate::policy::Cursor;
use crate::tree::near::Near;
use crate::tree::sys;
use crate::tree::way::{LinkTarget, Links};

/// As many directories are kept open between questions.
const KEPT: usize = 128;

/// A directory, looked at.
#[derive(Debug)]
pub(super) struct SeenDir {
    handle: OwnedFd,
    /// A number of its own.
    number: u64,
    /// From the host's `/` on, without links.
    pub(super) path: Arc<Path>,
    pub(super) facts: Facts,
    above: Option<Arc<SeenDir>>,
    /// Whether the account may search it, and why.
    search: (bool, Arc<str>),
}

/// A step on a way, and the steps before it.
#[derive(Debug)]
pub(super) struct PassedStep {
    before: Option<Arc<PassedStep>>,
    path: Arc<Path>,
    act: Act,
    says: Arc<str>,
    allows: bool,
    /// Whether this step and all before it allow.
    reached: bool,
    /// The directory that is passed, where it is one.
    pub(super) dir: Option<Arc<SeenDir>>,
}

/// The steps of a way, the first first.
pub(super) fn steps(way: Option<&Arc<PassedStep>>) -> Vec<Step> {
    let each = std::iter::successors(way, |passed| passed.before.as_ref());
    let mut steps: Vec<Step> = each
        .map(|passed| Step {
            on_the_way: true,
            path: Arc::clone(&passed.path),
            act: passed.act,
            says: Arc::clone(&passed.says),
            allows: Some(passed.allows),
        })
        .collect();
    steps.reverse();
    steps
}

/// The directories of a way that stop the account.
pub(super) fn obstacles(way: Option<&Arc<PassedStep>>) -> Vec<Arc<SeenDir>> {
    let each = std::iter::successors(way, |passed| passed.before.as_ref());
    let mut found: Vec<Arc<SeenDir>> = each.filter(|p| !p.allows).filter_map(|p| p.dir.clone()).collect();
    found.reverse();
    found
}

/// A directory, and how it was come to.
#[derive(Clone, Debug)]
struct WaySpot {
    dir: Arc<SeenDir>,
    way: Option<Arc<PassedStep>>,
    /// The way on through it, made when it is first gone.
    onwards: OnceCell<Arc<PassedStep>>,
}

impl WaySpot {
    fn new(dir: Arc<SeenDir>, way: Option<Arc<PassedStep>>) -> Self {
        Self { dir, way, onwards: OnceCell::new() }
    }

    /// The way through it.
    fn search(&self) -> Arc<PassedStep> {
        let onwards = self.onwards.get_or_init(|| {
            let (allows, says) = &self.dir.search;
            let reached = self.way.as_ref().is_none_or(|passed| passed.reached) && *allows;
            Arc::new(PassedStep {
                before: self.way.clone(),
                path: Arc::clone(&self.dir.path),
                act: Act::Search,
                says: Arc::clone(says),
                allows: *allows,
                reached,
                dir: Some(Arc::clone(&self.dir)),
            })
        });
        Arc::clone(onwards)
    }
}

/// A directory that paths lead through as they are written.
#[derive(Clone, Debug)]
struct Prefix {
    spot: Result<Rc<WaySpot>, Arc<Stop>>,
    /// Where it stands in each site's policy.
    cursors: Arc<[Arc<Cursor>]>,
}

/// Where a way ends early.
#[derive(Debug)]
struct Stop {
    way: Option<Arc<PassedStep>>,
    path: Arc<Path>,
    why: Why,
    /// Whether it was the very last name that is not there, in a directory that is.
    at_last_name: bool,
}

#[derive(Debug)]
enum Why {
    Missing,
    NoDirectory(Kind),
    Loop,
    Unseen(Errno),
}

/// What a name turned out to be.
struct Goal {
    /// The directory that it is in.
    dir: Arc<SeenDir>,
    /// The way there, the search of that directory included.
    way: Option<Arc<PassedStep>>,
    path: Arc<Path>,
    facts: Facts,
}

/// Answers questions about one account. What it has looked at it does not look at again: it is for one run.
pub struct Asker<'s> {
    setting: WhySetting<'s>,
    judge: AccessJudge<'s>,
    near: Near,
    /// The directory that `near` stands in.
    stands_in: u64,
    root: Result<Rc<WaySpot>, Arc<Stop>>,
    prefixes: HashMap<Vec<u8>, Prefix, RandomState>,
    last: Option<(Vec<u8>, Prefix)>,
    numbers: u64,
}

impl<'s> Asker<'s> {
    /// Asks for `subject`.
    #[must_use]
    pub fn new(setting: WhySetting<'s>, subject: Subject) -> Self {
        Self::with(setting, subject, Near::through_proc())
    }

    /// As [`Self::new`], on a thread that is nobody else's: it gets a working directory of its own, which moves.
    #[must_use]
    pub(super) fn on_own_thread(setting: WhySetting<'s>, subject: Subject) -> Self {
        Self::with(setting, subject, Near::on_own_thread())
    }

    fn with(setting: WhySetting<'s>, subject: Subject, near: Near) -> Self {
        let judge = AccessJudge::new(setting, subject);
        let root = setting.host.pin_root().map(|(handle, facts)| {
            let path: Arc<Path> = Path::new("/").into();
            let search = judge.search(&facts);
            Rc::new(WaySpot::new(Arc::new(SeenDir { handle, number: 0, path, facts, above: None, search }), None))
        });
        let root = root.map_err(|errno| {
            let (path, why) = (Path::new("/").into(), Why::Unseen(errno));
            Arc::new(Stop { way: None, path, why, at_last_name: false })
        });
        Self { setting, judge, near, stands_in: u64::MAX, root, prefixes: HashMap::default(), last: None, numbers: 0 }
    }

    /// What the account can do with `path`, which is absolute, from the host's `/` on.
    pub fn ask(&mut self, path: &Path) -> Answer {
        let (above, last) = split(path);
        let prefix = self.prefix(above);
        let cursors: Vec<Arc<Cursor>> = match &last {
            Some(name) => self.cursors_below(&prefix.cursors, name),
            None => prefix.cursors.to_vec(),
        };
        let found = match (&prefix.spot, &last) {
            (Err(stop), _) => return self.stopped(path, None, stop, &cursors),
            (Ok(spot), None) => (None, Ok(root_goal(spot))),
            (Ok(spot), Some(name)) => {
                let mut link = None;
                let goal = self.goal(spot, name, &mut link);
                (link, goal)
            }
        };
        match found {
            (link, Ok(goal)) => self.judged(path, link.as_ref(), &goal, &cursors),
            (link, Err(stop)) => self.stopped(path, link.as_ref(), &stop, &cursors),
        }
    }

    fn cursors_below(&self, above: &[Arc<Cursor>], name: &OsStr) -> Vec<Arc<Cursor>> {
        let each = self.setting.holders.iter().zip(above);
        each.map(|(holder, cursor)| holder.policy().step(cursor, name)).collect()
    }

    /// The directory that a path leads to, links followed.
    fn prefix(&mut self, path: &Path) -> Prefix {
        let key = path.as_os_str().as_bytes();
        if let Some((last, prefix)) = &self.last
            && last == key
        {
            return prefix.clone();
        }
        let prefix = match self.prefixes.get(key) {
            Some(prefix) => prefix.clone(),
            None => self.new_prefix(path),
        };
        if self.prefixes.len() >= KEPT {
            self.prefixes.clear();
        }
        self.prefixes.insert(key.to_vec(), prefix.clone());
        self.last = Some((key.to_vec(), prefix.clone()));
        prefix
    }

    fn new_prefix(&mut self, path: &Path) -> Prefix {
        let (above, Some(name)) = split(path) else {
            let cursors = self.setting.holders.iter().map(|holder| holder.policy().start()).collect();
            return Prefix { spot: self.root.clone(), cursors };
        };
        let above = self.prefix(above);
        let spot =
            above.spot.and_then(|spot| self.enter(&spot, name, &mut Links::default()).map(Rc::new).map_err(Arc::new));
        let cursors = self.cursors_below(&above.cursors, name).into();
        Prefix { spot, cursors }
    }

    /// Goes from a directory into `name`, which must be a directory or lead to one.
    fn enter(&mut self, at: &WaySpot, name: &OsStr, links: &mut Links) -> Result<WaySpot, Stop> {
        let way = at.search();
        if name == ".." {
            let dir = at.dir.above.as_ref().unwrap_or(&at.dir);
            return Ok(WaySpot::new(Arc::clone(dir), Some(way)));
        }
        let path: Arc<Path> = at.dir.path.join(name).into();
        let stop = |why: Why| Stop { way: Some(Arc::clone(&way)), path: Arc::clone(&path), why, at_last_name: false };
        let failed = |errno: Errno| stop(Why::of(errno));
        let c_name = CString::new(name.as_bytes()).map_err(|_| failed(Errno::NOENT))?;
        let handle = sys::pin(&at.dir.handle, &c_name).map_err(failed)?;
        let facts = sys::look_whole(&handle).map_err(failed)?;
        match facts.kind {
            Kind::Directory => {
                self.numbers += 1;
                let dir = SeenDir {
                    handle,
                    number: self.numbers,
                    search: self.judge.search(&facts),
                    path,
                    facts,
                    above: Some(Arc::clone(&at.dir)),
                };
                Ok(WaySpot::new(Arc::new(dir), Some(way)))
            }
            Kind::Symlink => {
                links.follow().map_err(failed)?;
                let target = LinkTarget::read(&handle, c"").map_err(failed)?;
                let mut spot = WaySpot::new(Arc::clone(target_start(at, &target)), Some(Arc::clone(&way)));
                for name in target.names {
                    spot = self.enter(&spot, &name, links)?;
                }
                Ok(spot)
            }
            kind => Err(stop(Why::NoDirectory(kind))),
        }
    }

    /// What the last name of a path leads to; where it is a symlink, `link` is that one.
    fn goal(&mut self, at: &WaySpot, name: &OsStr, link: &mut Option<Goal>) -> Result<Goal, Stop> {
        let mut links = Links::default();
        // What is asked about next in this directory goes the same way.
        at.search();
        let mut spot = at.clone();
        let mut name = name.to_owned();
        loop {
            let goal = self.look(&spot, &name)?;
            if goal.facts.kind != Kind::Symlink {
                return Ok(goal);
            }
            let (way, path, facts) = (goal.way.clone(), Arc::clone(&goal.path), goal.facts.clone());
            let goal = &*link.get_or_insert(goal);
            let failed = |errno| {
                let (way, path, why) = (goal.way.clone(), Arc::clone(&goal.path), Why::of(errno));
                Stop { way, path, why, at_last_name: false }
            };
            links.follow().map_err(failed)?;
            let c_name = CString::new(name.as_bytes()).unwrap_or_default();
            let mut target = LinkTarget::read(&spot.dir.handle, &c_name).map_err(failed)?;
            let (allows, says) = self.judge.follow(&spot.dir.facts, &facts);
            let reached = way.as_ref().is_none_or(|passed| passed.reached) && allows;
            let passed = PassedStep { before: way, path, act: Act::Follow, says, allows, reached, dir: None };
            spot = WaySpot::new(Arc::clone(target_start(&spot, &target)), Some(Arc::new(passed)));
            let Some(last) = target.names.pop_back() else {
                return Ok(root_goal(&spot));
            };
            for name in target.names {
                spot = self.enter(&spot, &name, &mut links)?;
            }
            name = last;
        }
    }

    /// What `name` in a directory is.
    fn look(&mut self, at: &WaySpot, name: &OsStr) -> Result<Goal, Stop> {
        if name == ".." {
            let spot = self.enter(at, name, &mut Links::default())?;
            // What is named `..` cannot be removed by that name.
            let facts = Facts { mounted: true, ..spot.dir.facts.clone() };
            let dir = spot.dir.above.clone().unwrap_or_else(|| Arc::clone(&spot.dir));
            return Ok(Goal { dir, path: Arc::clone(&spot.dir.path), way: spot.way, facts });
        }
        let way = at.search();
        let path: Arc<Path> = at.dir.path.join(name).into();
        if self.stands_in != at.dir.number {
            // A pinned directory cannot be stood in on every system: then names are reached the other way.
            self.near.stand_in(&at.dir.handle);
            self.stands_in = at.dir.number;
        }
        let looked = CString::new(name.as_bytes())
            .map_err(|_| Errno::NOENT)
            .and_then(|name| self.near.look(&at.dir.handle, &name));
        match looked {
            Ok(facts) => Ok(Goal { dir: Arc::clone(&at.dir), way: Some(way), path, facts }),
            Err(errno) => {
                let at_last_name = errno == Errno::NOENT;
                Err(Stop { way: Some(way), path, why: Why::of(errno), at_last_name })
            }
        }
    }

    fn judged(&mut self, path: &Path, link: Option<&Goal>, goal: &Goal, cursors: &[Arc<Cursor>]) -> Answer {
        let reached = goal.way.as_ref().is_none_or(|passed| passed.reached);
        let named = link.unwrap_or(goal);
        let named_reached = named.way.as_ref().is_none_or(|passed| passed.reached);
        let dir = (named.dir.number, &named.dir.facts);
        let target = self.judge.target(&goal.facts, dir, link.map(|link| &link.facts));
        let Target { can, steps, .. } = &*target;
        let also = |can: Option<bool>, reached: bool| can.map(|can| can && reached);
        let can = Can {
            read: also(can.read, reached),
            write: also(can.write, reached),
            search: also(can.search, reached),
            create: also(can.create, reached),
            delete: also(can.delete, named_reached),
            link: also(can.link, reached),
            chmod: also(can.chmod, reached),
        };
        let at = AskedPlaces { itself: Arc::clone(&goal.path), above: Arc::clone(&named.dir.path) };
        let mut answer = Answer {
            path: path.to_owned(),
            leads_to: (*goal.path != *path).then(|| Arc::clone(&goal.path)),
            kind: Some(goal.facts.kind),
            missing: false,
            could_be_made: false,
            can,
            way: goal.way.clone(),
            own: Arc::clone(steps),
            at,
            wanted: None,
        };
        answer.wanted = self.judge.wanted(&answer, cursors, Some(&goal.facts), &named.dir);
        answer
    }

    /// The answer where the way ends early.
    fn stopped(&mut self, path: &Path, link: Option<&Goal>, stop: &Stop, cursors: &[Arc<Cursor>]) -> Answer {
        let reached = stop.way.as_ref().is_none_or(|passed| passed.reached);
        let last = stop.way.as_ref().and_then(|passed| passed.dir.clone());
        let mut can = Can::all(Some(false));
        let mut steps = Vec::new();
        let (says, allows) = match &stop.why {
            Why::Missing => {
                if let (true, Some(dir)) = (stop.at_last_name, &last) {
                    let (create, step) = self.judge.create_in(&dir.facts);
                    can.create = Some(create && reached);
                    steps.extend(step);
                }
                ("it is not there".to_owned(), Some(false))
            }
            Why::NoDirectory(kind) => (format!("it is a {}, and no directory", kind.word()), Some(false)),
            Why::Loop => ("too many symlinks, one behind the other".to_owned(), Some(false)),
            Why::Unseen(errno) => {
                if reached {
                    can = Can::all(None);
                }
                (super::words::unseen(*errno), None)
            }
        };
        steps.insert(0, OwnStep { above: false, act: Act::Find, says: says.into(), allows });
        let mut above: Arc<Path> = stop.path.parent().unwrap_or(Path::new("/")).into();
        if let Some(link) = link {
            let (delete, of_delete) = self.judge.delete(&link.facts, &link.dir.facts);
            can.delete = Some(delete && link.way.as_ref().is_none_or(|passed| passed.reached));
            // What could be made is what the link leads to; what can be removed is the link.
            steps.retain(|step| !step.above);
            steps.extend(of_delete);
            above = Arc::clone(&link.dir.path);
        }
        let mut answer = Answer {
            path: path.to_owned(),
            leads_to: link.map(|_| Arc::clone(&stop.path)),
            kind: None,
            missing: matches!(stop.why, Why::Missing),
            could_be_made: stop.at_last_name,
            can,
            way: stop.way.clone(),
            own: steps.into(),
            at: AskedPlaces { itself: Arc::clone(&stop.path), above },
            wanted: None,
        };
        if let Some(dir) = &last {
            answer.wanted = self.judge.wanted(&answer, cursors, None, dir);
        }
        answer
    }
}

impl Why {
    const fn of(errno: Errno) -> Self {
        match errno {
            Errno::NOENT | Errno::NAMETOOLONG => Self::Missing,
            Errno::LOOP => Self::Loop,
            errno => Self::Unseen(errno),
        }
    }
}

/// A path's last name, and what is above it; no name where it is `/`.
fn split(path: &Path) -> (&Path, Option<&OsStr>) {
    use std::path::Component;
    let mut components = path.components();
    let last = match components.next_back() {
        Some(Component::Normal(name)) => Some(name),
        Some(Component::ParentDir) => Some(OsStr::new("..")),
        Some(Component::RootDir | Component::CurDir | Component::Prefix(_)) | None => None,
    };
    (components.as_path(), last)
}

/// The directory that a link's target begins in, where the link is in the directory `at`.
fn target_start<'d>(at: &'d WaySpot, target: &LinkTarget) -> &'d Arc<SeenDir> {
    let mut dir = &at.dir;
    while let (true, Some(above)) = (target.from_root, &dir.above) {
        dir = above;
    }
    dir
}

/// `/` as what was asked about.
fn root_goal(spot: &WaySpot) -> Goal {
    let facts = Facts { mounted: true, ..spot.dir.facts.clone() };
    Goal { dir: Arc::clone(&spot.dir), way: spot.way.clone(), path: Arc::clone(&spot.dir.path), facts }
}
