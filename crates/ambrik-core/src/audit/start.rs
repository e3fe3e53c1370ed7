//! Where the walks begin: the site's root and its parts outside it, with the directories that lead there judged.

use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::finding::{Findings, Slot};
use super::found::Found;
use crate::account::{Account, Accounts, Uid};
use crate::check::{self};
use crate::entry::Facts;
use crate::inspect::{DirData, DirState, OpenWay, PathJudge, SiteDir, Start, Unseen};
use crate::mode::Mode;
use crate::people::{People, Set};
use crate::policy::{Policy, Right};
use crate::shown::shell_path;
use crate::site::Site;
use crate::starts::{SiteError, find_root};
use crate::tree::{Dir, Host, Passed, Resolved, Trouble};
use crate::want::Solver;

pub(super) fn not_seen(policy: &Policy, path: PathBuf, trouble: Trouble) -> Unseen {
    let part = policy.at(&path).context.part;
    Unseen { path, part, trouble }
}

pub(super) fn begin(start: &Start, data: Arc<DirData>) -> SiteDir {
    Dir::top(&start.path, start.facts.id, data)
}

/// Judges the directories on the way to a start.
pub(super) fn start(
    judge: &PathJudge<'_>,
    number: u32,
    path: PathBuf,
    resolved: Resolved,
    findings: &mut Findings,
) -> (Start, OwnedFd) {
    let people = judge.people;
    let mut state: Arc<DirState> = judge.open_to_all();
    let (mut php_stop, mut web_stop) = (None, None);
    let context = judge.policy.at(&path).context;
    let (part, php_needs_it) = (context.part, context.row.php > Right::None);
    let mut open_way = None;
    for passed in &resolved.way {
        state = judge.enter(&state, &passed.facts, &passed.facts.rights);
        let stop = |who| (!PathJudge::reaches(&state, who)).then(|| Arc::from(passed.path.as_path()));
        php_stop = php_stop.or_else(|| stop(people.php()));
        web_stop = web_stop.or_else(|| stop(people.web()));
        let able = able_to_replace(judge, &state, &passed.entry);
        open_way = open_way.or_else(|| open_at(people, passed, &resolved.path, &able));
        for (check, reason) in check::replaced_above(people, &able) {
            findings.add(Slot { check, part, accepted: None, above: true }, reason, Found::Path(passed.path.clone()));
        }
        let of_label = judge.labels.filter(|_| php_needs_it);
        let of_label = of_label.and_then(|labels| labels.on_the_way(judge.host, &passed.path, &passed.facts));
        if let Some((check, reason)) = of_label.map(check::label_on_the_way) {
            findings.add(Slot { check, part, accepted: None, above: true }, reason, Found::Path(passed.path.clone()));
        }
    }
    let now = judge.without_writers(&state);
    let Resolved { handle, parent, name, facts, path: real, .. } = resolved;
    (Start { number, path, parent, name, real, facts, now, php_stop, web_stop, open_way }, handle)
}

/// Who, besides root and the keeper, can put something else in the place of what was passed through a directory of this
/// state.
fn able_to_replace(judge: &PathJudge<'_>, state: &DirState, entry: &Facts) -> Set {
    let people = judge.people;
    let keeper = people.owners(people.list()[people.keeper()].ids.uid);
    judge.replacers(state, entry).without(&keeper)
}

/// The directory that was passed on the way to `goal`, where somebody is able to replace what is in it.
fn open_at(people: &People, passed: &Passed, goal: &Path, able: &Set) -> Option<OpenWay> {
    if able.is_empty() {
        return None;
    }
    let who = if able.has(people.stranger()) { "every account".to_owned() } else { people.names(able) };
    let (dir, rights) = (&passed.path, &passed.facts.rights);
    let keeper = people.list()[people.keeper()].ids.uid;
    let mut mend = Vec::new();
    if ![Uid::ROOT, keeper].contains(&rights.uid) {
        mend.push(format!("chown root {}", shell_path(dir)));
    }
    if rights.mode.has(Mode::STICKY) {
        // Only its owner, and the directory's, renames what is in it.
        let name = goal.strip_prefix(dir).ok().and_then(|below| below.components().next());
        mend.push(format!("chown root {}", shell_path(&name.map_or_else(|| dir.clone(), |name| dir.join(name)))));
    } else if rights.mode.has(0o022) {
        mend.push(format!("chmod go-w {}", shell_path(dir)));
    }
    Some(OpenWay { dir: dir.clone(), who, mend: mend.join(" && ") })
}

/// The first directory on the way to a site's root in which others than root and the keeper can rename what leads there.
pub(crate) fn open_way(
    host: &Host,
    site: &Arc<Site>,
    accounts: &Accounts,
    neighbours: &[Arc<Site>],
) -> Result<Option<OpenWay>, SiteError> {
    let policy = Policy::new(Arc::clone(site), crate::site::Phase::Sealed);
    let solver = Solver::new(site, accounts);
    let look = |beyond_files: &[Account]| {
        let people = People::new(site, accounts, beyond_files, neighbours);
        let judge = PathJudge::new(&policy, &solver, &people, accounts, host, None);
        let root = find_root(host, site)?;
        let open_way = start(&judge, 0, site.root.clone(), root, &mut Findings::default()).0.open_way;
        let named = judge.named();
        Ok((open_way, people.missing(accounts.beyond_files(&named.uids, &named.gids).0)))
    };
    let (open_way, missing) = look(&[])?;
    if missing.is_empty() { Ok(open_way) } else { Ok(look(&missing)?.0) }
}
