//! Everything that an account can read, or write, in a site: what an intruder in PHP could change, whole.

use std::collections::{BTreeMap, HashMap};
use std::ffi::{CStr, OsStr};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::{Act, PolicySite, Subject, WhySetting};
use crate::access::{NameRule, permits};
use crate::account::Ids;
use crate::entry::{Facts, Kind};
use crate::host::Services;
use crate::mode::Perm;
use crate::policy::{Context, Cursor, Right};
use crate::site::{Site, Use};
use crate::starts::{SiteError, places};
use crate::tree::{Dir, Look, Progress, Trouble, Visitor, walk};

/// How an account gets at a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Through {
    /// Its own rights give it.
    Itself,
    /// It can be removed or replaced through the directory that it is in.
    Above,
}

/// What an account can do in a part.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PartCount {
    /// The part's path; `.` for what no part names.
    pub part: String,
    /// What it is for.
    pub used_as: Use,
    /// What the account may do, as the site file says; root may do everything.
    pub right: Right,
    /// How many paths there are.
    pub paths: u64,
    /// On how many of them the account can act.
    pub able: u64,
}

/// A directory in which the account can act.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AbleFolder {
    /// Relative to the site's root, or absolute outside it.
    pub path: PathBuf,
    /// Whether it can act on the directory itself: list it, make and remove names in it.
    pub itself: bool,
    /// Whether it can act on the directory and everything below it.
    pub whole: bool,
    /// How many paths there are: where it is whole, everything below it and itself; else what is in it.
    pub paths: u64,
    /// On how many of them it can act.
    pub able: u64,
    /// How many of these have no line of their own.
    pub others: u64,
    /// The first names of those.
    pub names: Vec<PathBuf>,
}

/// Where the account can write and the web server would run what it writes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RunsPhp {
    /// The directories, outermost first, relative to the root.
    pub folders: Vec<PathBuf>,
    /// The web server whose configuration says so; none where there is no configuration, and the worst is assumed.
    pub server: Option<String>,
}

/// What an account can do in a site.
#[derive(Debug)]
pub struct Everything {
    /// The site.
    pub site: Arc<Site>,
    /// Reading or writing.
    pub act: Act,
    /// How many paths the site has.
    pub entries: u64,
    /// By part.
    pub parts: Vec<PartCount>,
    /// By directory; those inside a whole one are not listed.
    pub folders: Vec<AbleFolder>,
    /// Where what it writes would be run; none when it is about reading.
    pub runs_php: Option<RunsPhp>,
    /// What could not be looked at.
    pub unseen: Vec<PathBuf>,
    able: Vec<Able>,
}

impl Everything {
    /// On how many paths the account can act.
    #[must_use]
    pub fn able(&self) -> u64 {
        self.parts.iter().map(|part| part.able).sum()
    }

    /// On how many of them the site file does not let it.
    #[must_use]
    pub fn too_many(&self) -> u64 {
        let wanted = if self.act == Act::Read { Right::Read } else { Right::Write };
        self.parts.iter().filter(|part| part.right < wanted).map(|part| part.able).sum()
    }

    /// Whether all of the site could be looked at.
    #[must_use]
    pub const fn is_complete(&self) -> bool {
        self.unseen.is_empty()
    }

    /// Every path on which the account can act, relative to the root or absolute outside it, and how.
    pub fn paths(&self) -> impl Iterator<Item = (PathBuf, Through)> + '_ {
        self.able.iter().map(|able| (self.site.relative(&able.path()), able.through))
    }
}

/// Who can get into a directory and what it can do there, for one account.
#[derive(Clone, Copy, Debug)]
struct SearchState {
    reaches: bool,
    makes: bool,
    names: NameRule,
}

/// What is attached to the directories.
#[derive(Debug)]
struct SearchedDir {
    cursor: Arc<Cursor>,
    state: SearchState,
}

#[derive(Debug)]
struct Able {
    /// The directory; none where a walk begins.
    dir: Option<Arc<Dir<SearchedDir>>>,
    name: Box<CStr>,
    directory: bool,
    served: bool,
    through: Through,
}

impl Able {
    fn path(&self) -> PathBuf {
        match &self.dir {
            Some(dir) => dir.path_of(&self.name),
            None => PathBuf::from(OsStr::from_bytes(self.name.to_bytes())),
        }
    }
}

/// Finds everything that an account can do in a site.
pub fn everything(
    setting: WhySetting<'_>,
    holder: &PolicySite,
    subject: &Subject,
    act: Act,
    services: &Services,
    walking: (usize, &Progress),
) -> Result<Everything, SiteError> {
    let (threads, progress) = walking;
    let site = holder.site();
    let new = || Collector { setting, holder, subject, ids: &subject.ids, act, seen: SeenPath::default() };
    let mut first = new();
    let mut dirs = Vec::new();
    for (path, resolved) in places(setting.host, site)? {
        let top = SearchState { reaches: true, makes: false, names: NameRule::default() };
        let state = resolved.way.iter().fold(top, |state, passed| first.enter(state, &passed.facts));
        let cursor = holder.policy().at(&path);
        let name = std::ffi::CString::new(path.as_os_str().as_bytes()).unwrap_or_default();
        first.record(None, &name, &resolved.facts, &cursor.context, state);
        if resolved.facts.kind == Kind::Directory {
            let data = SearchedDir { cursor, state: first.enter(state, &resolved.facts) };
            dirs.push((resolved.handle, Arc::new(Dir::top(&path, resolved.facts.id, data))));
        }
    }
    let collectors = std::iter::once(first).chain((1..threads.max(1)).map(|_| new())).collect();
    let mut all = SeenPath::default();
    for collector in walk(dirs, collectors, progress).visitors {
        all.merge(collector.seen);
    }
    Ok(all.sorted(holder, subject, act, services))
}

struct Collector<'c> {
    setting: WhySetting<'c>,
    holder: &'c PolicySite,
    subject: &'c Subject,
    ids: &'c Ids,
    act: Act,
    seen: SeenPath,
}

/// What was seen: counts by part and by directory, and the paths themselves.
#[derive(Default)]
struct SeenPath {
    parts: BTreeMap<(Option<usize>, Use), (Context, u64, u64)>,
    /// Directories, told apart by their addresses, with how many paths are in them.
    dirs: HashMap<usize, (Arc<Dir<SearchedDir>>, u64)>,
    able: Vec<Able>,
    unseen: Vec<PathBuf>,
}

/// What is in a directory.
struct Count {
    paths: u64,
    able: u64,
    /// Whether the account can act on the directory itself.
    itself: bool,
    /// What has no line of its own: everything but directories that it can act on themselves.
    others: u64,
    names: Vec<PathBuf>,
}

impl Collector<'_> {
    fn enter(&self, above: SearchState, facts: &Facts) -> SearchState {
        let has = |want: Perm| permits(self.ids, Kind::Directory, &facts.rights, want);
        let removes = has(Perm::WX) && self.setting.host.bar(facts).is_none() && !self.label_stops(facts, Act::Delete);
        SearchState {
            reaches: above.reaches && has(Perm::X) && !self.label_stops(facts, Act::Search),
            makes: above.reaches && removes,
            names: NameRule::of(facts),
        }
    }

    /// How the account can do what is asked about; `state` is that of the directory that the path is in.
    fn able(&self, facts: &Facts, state: SearchState) -> Option<Through> {
        let directory = facts.kind == Kind::Directory;
        let link = facts.kind == Kind::Symlink;
        let has = |want: Perm| !link && state.reaches && permits(self.ids, facts.kind, &facts.rights, want);
        if self.act == Act::Read {
            return (has(Perm::R) && !self.label_stops(facts, Act::Read)).then_some(Through::Itself);
        }
        let write = if directory { Perm::WX } else { Perm::W };
        let changes = if directory { Act::Create } else { Act::Write };
        if has(write) && self.setting.host.bar(facts).is_none() && !self.label_stops(facts, changes) {
            return Some(Through::Itself);
        }
        let removable = directory || !self.label_stops(facts, Act::Delete);
        (state.makes && state.names.lets(self.ids, facts) && removable).then_some(Through::Above)
    }

    fn label_stops(&self, facts: &Facts, act: Act) -> bool {
        super::labels::stops(self.setting, self.subject, facts, act)
    }

    fn record(
        &mut self,
        dir: Option<&Arc<Dir<SearchedDir>>>,
        name: &CStr,
        facts: &Facts,
        context: &Context,
        state: SearchState,
    ) {
        if !context.is_managed() {
            return;
        }
        let able = self.able(facts, state);
        let (_, paths, can) = self.seen.parts.entry((context.part, context.used_as)).or_insert((*context, 0, 0));
        *paths += 1;
        *can += u64::from(able.is_some());
        if let Some(dir) = dir {
            self.seen.dirs.entry(Arc::as_ptr(dir).addr()).or_insert_with(|| (Arc::clone(dir), 0)).1 += 1;
        }
        if let Some(through) = able {
            let directory = facts.kind == Kind::Directory;
            let able = Able { dir: dir.cloned(), name: name.into(), directory, served: context.served, through };
            self.seen.able.push(able);
        }
    }
}

impl Visitor for Collector<'_> {
    type Data = SearchedDir;

    fn entry(&mut self, dir: &Arc<Dir<SearchedDir>>, look: &Look<'_>, facts: &Facts) -> Option<SearchedDir> {
        let cursor = self.holder.policy().enter(&dir.data.cursor, look.os_name(), facts.mounted)?;
        self.record(Some(dir), look.name, facts, &cursor.context, dir.data.state);
        let enters = facts.kind == Kind::Directory && cursor.is_entered();
        enters.then(|| SearchedDir { cursor, state: self.enter(dir.data.state, facts) })
    }

    fn trouble(&mut self, dir: &Arc<Dir<SearchedDir>>, name: Option<&CStr>, trouble: Trouble) {
        if trouble != Trouble::Vanished {
            self.seen.unseen.push(name.map_or_else(|| dir.path(), |name| dir.path_of(name)));
        }
    }
}

impl SeenPath {
    fn merge(&mut self, other: Self) {
        for (key, (context, paths, able)) in other.parts {
            let (_, known_paths, known_able) = self.parts.entry(key).or_insert((context, 0, 0));
            *known_paths += paths;
            *known_able += able;
        }
        for (key, (dir, count)) in other.dirs {
            self.dirs.entry(key).or_insert((dir, 0)).1 += count;
        }
        self.able.extend(other.able);
        self.unseen.extend(other.unseen);
    }

    fn sorted(mut self, holder: &PolicySite, subject: &Subject, act: Act, services: &Services) -> Everything {
        let site = Arc::clone(holder.site());
        let parts = self.parts.values().map(|(context, paths, able)| PartCount {
            part: holder.policy().part_shown(context.part).to_owned(),
            used_as: context.used_as,
            right: holder.rights(context, &subject.ids).1,
            paths: *paths,
            able: *able,
        });
        let parts: Vec<PartCount> = parts.collect();
        self.able.sort_by_cached_key(Able::path);
        self.unseen.sort();
        let runs_php = (act == Act::Write).then(|| runs_php(&self.able, &site, services));
        Everything {
            entries: parts.iter().map(|part| part.paths).sum(),
            parts,
            folders: folders(&self.counts(), &site),
            runs_php,
            unseen: self.unseen,
            able: self.able,
            site,
            act,
        }
    }

    /// What is in each directory.
    fn counts(&self) -> BTreeMap<PathBuf, Count> {
        let new = |paths: u64| Count { paths, able: 0, itself: false, others: 0, names: Vec::new() };
        let mut counts: BTreeMap<PathBuf, Count> =
            self.dirs.values().map(|(dir, paths)| (dir.path(), new(*paths))).collect();
        for able in &self.able {
            let path = able.path();
            let itself = able.directory && able.through == Through::Itself;
            if let Some(dir) = able.dir.as_ref().and_then(|_| path.parent())
                && let Some(count) = counts.get_mut(dir)
            {
                count.able += 1;
                if !itself {
                    count.others += 1;
                    count.names.extend((count.names.len() < NAMED).then(|| PathBuf::from(able_name(&path))));
                }
            }
            if itself {
                counts.entry(path).or_insert_with(|| new(0)).itself = true;
            } else if able.dir.is_none() {
                // A part outside the root that is one file.
                counts.insert(path, Count { itself: true, ..new(0) });
            }
        }
        counts
    }
}

/// As many names are kept of a directory.
const NAMED: usize = 5;

fn able_name(path: &Path) -> &OsStr {
    path.file_name().unwrap_or(path.as_os_str())
}

/// The directories in which something can be done; one that is whole stands for everything below it.
fn folders(counts: &BTreeMap<PathBuf, Count>, site: &Site) -> Vec<AbleFolder> {
    // Totals of everything below, from the deepest up.
    let mut below: HashMap<&Path, (u64, u64)> = HashMap::new();
    for (path, count) in counts.iter().rev() {
        let (paths, able) = below.get(path.as_path()).copied().unwrap_or_default();
        let (paths, able) = (paths + count.paths, able + count.able);
        below.insert(path, (paths, able));
        if let Some(above) = path.parent().and_then(|above| counts.get_key_value(above)) {
            let total = below.entry(above.0.as_path()).or_default();
            total.0 += paths;
            total.1 += able;
        }
    }
    let mut folders: Vec<AbleFolder> = Vec::new();
    let mut inside: Option<&Path> = None;
    for (path, count) in counts {
        if inside.is_some_and(|whole| path.starts_with(whole)) {
            continue;
        }
        let (paths, able) = below.get(path.as_path()).copied().unwrap_or_default();
        let whole = count.itself && paths == able;
        let one = AbleFolder {
            path: site.relative(path),
            itself: count.itself,
            whole,
            paths: if whole { paths + 1 } else { count.paths },
            able: if whole { able + 1 } else { count.able },
            others: count.others,
            names: if whole { Vec::new() } else { count.names.clone() },
        };
        if whole {
            inside = Some(path);
        }
        if whole || count.itself || count.others > 0 {
            folders.push(one);
        }
    }
    folders
}

/// The directories, served with PHP, in which a PHP file can be made or changed.
fn runs_php(able: &[Able], site: &Site, services: &Services) -> RunsPhp {
    let served = site.served_folder();
    let configured: Vec<_> = services
        .served
        .iter()
        .filter(|runs| {
            let folder = &runs.folder.path;
            served.as_ref().is_some_and(|served| served.starts_with(folder) || folder.starts_with(served))
        })
        .collect();
    let runs = |path: &Path| configured.is_empty() || configured.iter().any(|runs| runs.folder.runs_php_at(path));
    let mut folders: Vec<PathBuf> = Vec::new();
    for one in able.iter().filter(|able| able.served) {
        let path = one.path();
        let folder = match (one.directory, one.through) {
            (true, Through::Itself) => path.clone(),
            // A file that it can change, or that it can put another one in the place of.
            _ if crate::check::is_php_name(&path) => path.parent().unwrap_or(&path).to_owned(),
            _ => continue,
        };
        if runs(&folder) && !folders.iter().any(|known| folder.starts_with(known)) {
            folders.push(folder);
        }
    }
    let folders = folders.iter().map(|folder| site.relative(folder)).collect();
    RunsPhp { folders, server: configured.first().map(|runs| runs.folder.program.clone()) }
}
