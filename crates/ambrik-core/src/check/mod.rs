//! The checks: a file for each family, and one table that lists them all.

mod contents;
mod kinds;
mod labels;
mod names;
mod needs;
mod neighbours;
mod next_files;
mod php;
mod reads;
mod renamed;
mod site;
mod web;
mod writes;

use std::cell::OnceCell;
use std::collections::BTreeMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::LazyLock;

use crate::account::Accounts;
use crate::entry::{Bar, Facts, Kind};
use crate::people::{People, Set};
use crate::policy::Context;
use crate::site::{Phase, Site, Use};
use crate::tree::Look;
use crate::want::Shape;

pub(crate) use names::Sniffing;
pub use names::{Guess, guess};

/// How much a finding matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Severity {
    /// Worth knowing.
    Low,
    /// To be mended.
    Medium,
    /// To be mended now.
    High,
}

impl Severity {
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

impl fmt::Display for Severity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// What puts a finding right.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Remedy {
    /// `ambrik set SITE`, by the rights of paths.
    Set,
    /// `ambrik set SITE`, by their labels.
    SetLabel,
    /// `ambrik seal SITE`.
    Seal,
    /// Something that Ambrik does not do: these words say what.
    Hand(&'static str),
}

impl Remedy {
    /// Whether `ambrik set` puts it right.
    #[must_use]
    pub const fn is_set(self) -> bool {
        matches!(self, Self::Set | Self::SetLabel)
    }
}

/// One check.
#[derive(Debug)]
pub struct Check {
    /// Its name, in plain words.
    pub name: &'static str,
    /// How much its findings matter.
    pub severity: Severity,
    /// What is wrong; `{php}`, `{web}` and `{keeper}` stand for the accounts' names.
    pub wrong: &'static str,
    /// What that lets somebody do, or what does not work.
    pub lets: &'static str,
    /// What puts it right.
    pub remedy: Remedy,
    /// Where it is judged.
    pub(crate) judge: Judge,
}

/// Where a check is judged.
#[derive(Clone, Copy)]
pub(crate) enum Judge {
    /// On what decides access to a path: judged once for all paths that are alike.
    Rights(fn(&Case<'_>) -> Option<Reason>),
    /// On a path by itself: its name, its content.
    Path(fn(&PathCase<'_>) -> Option<Reason>),
    /// On the whole site.
    Site(fn(&Site, &People) -> Vec<(PathBuf, Reason)>),
    /// On what several sites of the host have in common: told once for all.
    Host(fn(&Site, &People) -> Option<Concern>),
    /// In the course of an audit, by what it sees altogether.
    Audit,
}

/// Something that concerns several sites of a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Concern {
    /// What it is: the same text for the same thing.
    pub(crate) cause: String,
    /// The sites that it concerns, and what is to be said of each.
    pub(crate) sites: BTreeMap<String, String>,
    /// What puts it right, where that is not what the check says.
    pub(crate) cure: Option<String>,
}

impl fmt::Debug for Judge {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Rights(_) => "Rights",
            Self::Path(_) => "Path",
            Self::Site(_) => "Site",
            Self::Host(_) => "Host",
            Self::Audit => "Audit",
        })
    }
}

/// What is wrong, and why: what a check raises about a path. Each is raised in its check's own file.
pub type Raised = (&'static Check, Reason);

/// Why a path is in a finding: what decides it.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Reason {
    /// The path belongs to the account.
    Owned,
    /// The bits for the group.
    Group,
    /// The bits for all others.
    OpenToAll,
    /// An access-list entry.
    List,
    /// The directory that it is in can be written to.
    Above,
    /// These accounts.
    By(String),
    /// A directory above cannot be searched.
    Blocked,
    /// The path itself does not give it.
    Itself,
    /// Nobody can change it, whatever its rights say.
    Barred(Bar),
    /// Something said in these words.
    Says(String),
    /// It is called as such things are: for a person to judge.
    Looks(String),
    /// It is called as such things are, and other code needs it.
    Needed(String),
    /// Something said in words, and what a person must do about it: Ambrik cannot.
    ByHand {
        /// What it is.
        says: String,
        /// What puts it right.
        cure: String,
    },
}

impl Reason {
    /// What a person must put right.
    pub(crate) fn by_hand(found: crate::label::ByHand) -> Self {
        Self::ByHand { says: found.says, cure: found.cure }
    }

    /// What a reason in words says.
    pub(crate) fn like(&self) -> &str {
        match self {
            Self::Says(words) | Self::Looks(words) | Self::Needed(words) | Self::ByHand { says: words, .. } => words,
            Self::Owned | Self::Group | Self::OpenToAll | Self::List | Self::Above | Self::By(_) => "",
            Self::Blocked | Self::Itself | Self::Barred(_) => "",
        }
    }

    fn words(&self) -> String {
        match self {
            Self::Owned => "as their owner".into(),
            Self::Group => "through their group".into(),
            Self::OpenToAll => "open to every account".into(),
            Self::List => "through an access list".into(),
            Self::Above => "through a writable directory".into(),
            Self::By(names) => format!("by {names}"),
            Self::Blocked => "a directory above is closed".into(),
            Self::Itself => "their own mode is too narrow".into(),
            Self::Barred(bar) => bar.words().into(),
            Self::Says(words) | Self::ByHand { says: words, .. } => words.clone(),
            Self::Looks(like) | Self::Needed(like) => format!("by its name: {like}"),
        }
    }
}

/// What a path is and what each account can do with it.
pub(crate) struct Case<'a> {
    pub(crate) people: &'a People,
    pub(crate) accounts: &'a Accounts,
    pub(crate) context: &'a Context,
    pub(crate) facts: &'a Facts,
    pub(crate) shape: Shape,
    pub(crate) can: PathCan,
    /// What is to be said of its SELinux label, on hosts that use them.
    pub(crate) label: Option<(crate::label::LabelVerdict, Reason)>,
    /// How PHP makes files, and the rights that it is to have itself; where what is made next is judged.
    pub(crate) next: Option<(&'a Next, &'a crate::entry::Rights)>,
}

/// Who can do what with a path, reaching it included.
#[derive(Clone, Debug)]
pub(crate) struct PathCan {
    /// Who can search every directory above.
    pub(crate) reach: Set,
    /// Who can read it; a directory: list it.
    pub(crate) read: Set,
    /// Who can search it, if it is a directory.
    pub(crate) search: Set,
    /// Who can write to it; a directory: make and remove names in it.
    pub(crate) write: Set,
    /// Who can remove or rename it, through the directory that it is in.
    pub(crate) replace: Set,
    /// What keeps everybody from changing it all the same.
    pub(crate) bar: Option<Bar>,
}

impl PathCan {
    /// Whether the one at this place can change it, or what stands under its name.
    fn change(&self, place: usize) -> bool {
        self.bar.is_none() && self.write.has(place)
    }
}

/// One path, for checks that need its name or content.
pub(crate) struct PathCase<'a> {
    pub(crate) context: &'a Context,
    pub(crate) phase: Phase,
    pub(crate) facts: &'a Facts,
    pub(crate) look: &'a Look<'a>,
    /// Whether a part names this very path.
    pub(crate) named: bool,
    /// The directory that it is in, relative to the served folder.
    pub(crate) below_served: &'a dyn Fn() -> PathBuf,
    /// How many files may still be opened to know what they are; none where nobody asks for it.
    pub(crate) sniffing: Option<&'a Sniffing>,
    /// The pages that were read, where that is asked for.
    pub(crate) pages: Option<&'a Pages>,
    /// What it looks like, found out at most once.
    pub(crate) guess: OnceCell<Option<names::Recognised>>,
}

/// Every check, in the order in which findings of the same severity are shown.
pub static CATALOGUE: &[&Check] = &[
    &site::PHP_IS_ROOT,
    &site::SITE_FILE_OPEN,
    &site::SERVED_DIFFERS,
    &site::WINDOW_OVERDUE,
    &site::PROOF_DISTURBED,
    &site::PHP_IS_KEEPER,
    &writes::PHP_WRITES_CODE,
    &writes::PHP_WRITES_SECRET,
    &writes::EVERYONE_WRITES,
    &writes::ANOTHER_WRITES,
    &writes::LISTS_GIVEN_ON,
    &writes::STILL_OPEN,
    &neighbours::REACHES_OTHER_SITE,
    &reads::SECRET_EXPOSED,
    &needs::PHP_CANNOT_WRITE,
    &needs::PHP_CANNOT_READ,
    &needs::WEB_CANNOT_READ,
    &next_files::NEXT_FILES_CLOSED,
    &names::INSTALLER_LEFT,
    &renamed::INSTALLER_RENAMED,
    &web::INSTALLER_ANSWERS,
    &web::PHP_RUNS_IN_STORE,
    &web::SECRET_SERVED,
    &labels::LABEL_BLOCKS,
    &labels::PHP_UNCONFINED,
    &kinds::HARD_LINK_SHARED,
    &neighbours::PHP_SHARED,
    &php::SESSION_SHARED,
    &php::CONTROL_FILE_WRITABLE,
    &writes::PHP_OWNS_CODE,
    &site::CHANGED_IN_WINDOW,
    &site::NOT_AS_UNPACKED,
    &reads::EVERYONE_READS,
    &reads::ANOTHER_READS,
    &next_files::NEXT_FILES_OPEN,
    &names::LEFTOVER_SERVED,
    &names::UNWANTED_LEFT,
    &site::ARCHIVE_BESIDE,
    &site::SERVED_TOO_WIDE,
    &kinds::LINK_LEAVES_SITE,
    &kinds::SPECIAL_BITS,
    &kinds::SPECIAL_FILE,
    &kinds::UNKNOWN_OWNER,
    &labels::LABEL_PROTECTION_OFF,
    &labels::LABEL_TOO_WIDE,
    &labels::LABEL_NOT_KEPT,
    &labels::LABEL_UNKNOWN,
    &labels::SWITCH_DIFFERS,
    &labels::BOOLEAN_WIDENS,
    &site::COULD_NOT_LOOK,
    &needs::ACCESS_WITHHELD,
    &needs::KEEPER_CANNOT_WRITE,
    &web::FOLDER_LISTED,
    &php::UPLOAD_FOLDER_SHARED,
    &php::SESSION_COOKIE_OPEN,
    &kinds::PROGRAM_BIT,
];

pub(crate) use kinds::{hard_link_shared, link_leaves_site};
pub(crate) use labels::{
    LABEL_BLOCKS, LABEL_NOT_KEPT, boolean_widens, label_not_kept, label_on_the_way, label_protection_off,
    php_unconfined, switch_differs,
};
pub(crate) use names::{INSTALLER_LEFT, LEFTOVER_SERVED};
pub(crate) use needs::{WEB_CANNOT_READ, keeper_can_write, not_let_near, not_there};
pub(crate) use next_files::{NEXT_FILES_CLOSED, NEXT_FILES_OPEN, Next};
pub(crate) use php::out_of_bounds;
pub(crate) use renamed::{INSTALLER_RENAMED, Pages, does_an_installers, may_be_an_installers};
pub(crate) use site::{
    CHANGED_IN_WINDOW, COULD_NOT_LOOK, SERVED_DIFFERS, changed, could_not_look, is_over_http, not_answered,
    not_as_unpacked, open_folder, proof_disturbed, served_too_wide, trouble, window_overdue,
};
pub(crate) use web::{folder_listed, installer_answers, php_runs_in_store, secret_served};
pub(crate) use writes::{PHP_WRITES_CODE, STILL_OPEN, replaced_above, still_open};

/// The names of all checks, in the order of the catalogue.
#[must_use]
pub fn names() -> Vec<&'static str> {
    CATALOGUE.iter().map(|check| check.name).collect()
}

/// The check with this name.
#[must_use]
pub fn named(name: &str) -> Option<&'static Check> {
    CATALOGUE.iter().copied().find(|check| check.name == name)
}

/// A check's place in the catalogue.
pub(crate) fn place(check: &Check) -> usize {
    CATALOGUE.iter().position(|c| c.is(check)).unwrap_or(CATALOGUE.len())
}

/// Every finding that the rights of a path give rise to.
pub(crate) fn judge_rights(case: &Case<'_>) -> Vec<Raised> {
    let judged = CATALOGUE.iter().filter_map(|check| match check.judge {
        Judge::Rights(judge) => judge(case).map(|reason| (*check, reason)),
        Judge::Path(_) | Judge::Site(_) | Judge::Host(_) | Judge::Audit => None,
    });
    judged.collect()
}

/// A check that is judged on a path by itself.
type OfPath = (&'static Check, fn(&PathCase<'_>) -> Option<Reason>);

/// Those of the catalogue: picked once, for they are asked of every path that is served.
static OF_PATHS: LazyLock<Vec<OfPath>> = LazyLock::new(|| {
    let picked = CATALOGUE.iter().filter_map(|check| match check.judge {
        Judge::Path(judge) => Some((*check, judge)),
        Judge::Rights(_) | Judge::Site(_) | Judge::Host(_) | Judge::Audit => None,
    });
    picked.collect()
});

/// Every finding that a path's name or content gives rise to.
pub(crate) fn judge_path(case: &PathCase<'_>) -> Vec<Raised> {
    OF_PATHS.iter().filter_map(|(check, judge)| judge(case).map(|reason| (*check, reason))).collect()
}

/// Every finding about a site as a whole, with the path that it is about.
pub(crate) fn judge_site(site: &Site, people: &People) -> Vec<(&'static Check, PathBuf, Reason)> {
    let judged = CATALOGUE.iter().flat_map(|check| match check.judge {
        Judge::Site(judge) => judge(site, people).into_iter().map(|(path, reason)| (*check, path, reason)).collect(),
        Judge::Rights(_) | Judge::Path(_) | Judge::Host(_) | Judge::Audit => Vec::new(),
    });
    judged.collect()
}

/// What a site has in common with others that is wrong.
pub(crate) fn judge_host(site: &Site, people: &People) -> Vec<(&'static Check, Concern)> {
    let judged = CATALOGUE.iter().filter_map(|check| match check.judge {
        Judge::Host(judge) => judge(site, people).map(|concern| (*check, concern)),
        Judge::Rights(_) | Judge::Path(_) | Judge::Site(_) | Judge::Audit => None,
    });
    judged.collect()
}

/// Whether the check of this name is judged in every audit, on the site alone.
pub(crate) fn is_judged_always(name: &str) -> bool {
    let judge = CATALOGUE.iter().find(|check| check.name == name).map(|check| &check.judge);
    judge.is_some_and(|judge| matches!(judge, Judge::Rights(_) | Judge::Path(_) | Judge::Site(_)))
}

impl Check {
    /// Whether this is the check `other`; their names are unique.
    #[must_use]
    pub fn is(&self, other: &Self) -> bool {
        self.name == other.name
    }

    /// What is wrong, with the names of a site's accounts.
    #[must_use]
    pub fn wrong_of(&self, site: &Site) -> String {
        let named = [("{php}", &site.php.user), ("{web}", &site.web.user), ("{keeper}", &site.keeper.user)];
        named.iter().fold(self.wrong.to_owned(), |text, (mark, name)| text.replace(mark, name))
    }

    /// The finding's line: what is wrong, how, and what it lets somebody do.
    #[must_use]
    pub fn says(&self, site: &Site, reasons: &BTreeMap<Reason, u64>) -> String {
        let wrong = self.wrong_of(site);
        let mut how: Vec<String> = Vec::new();
        for (reason, count) in reasons.iter().take(4) {
            how.push(match reason {
                _ if reasons.len() == 1 => reason.words(),
                Reason::Says(_) | Reason::Looks(_) | Reason::Needed(_) | Reason::ByHand { .. } => {
                    format!("{}: {count}", reason.words())
                }
                _ => format!("{count} {}", reason.words()),
            });
        }
        if reasons.len() > how.len() {
            how.push("and more".into());
        }
        let how = if how.is_empty() { String::new() } else { format!(" ({})", how.join(", ")) };
        format!("{wrong}{how}: {}", self.lets)
    }
}

/// Whether php must not change what this context holds.
/// What PHP can do as the keeper is told once, not path by path.
fn php_must_not_write(case: &Case<'_>) -> bool {
    let uid = |place: usize| case.people.list()[place].ids.uid;
    case.context.row.php < crate::policy::Right::Write && uid(case.people.php()) != uid(case.people.keeper())
}

/// Whether a name ends like a PHP file's.
#[must_use]
pub fn is_php_name(name: &Path) -> bool {
    let extension = name.extension().map(|e| e.to_string_lossy().to_ascii_lowercase());
    extension
        .is_some_and(|e| matches!(&*e, "php" | "phtml" | "phar" | "inc" | "php3" | "php4" | "php5" | "php7" | "php8"))
}

const fn is_symlink(facts: &Facts) -> bool {
    matches!(facts.kind, Kind::Symlink)
}

const fn is_secret(context: &Context) -> bool {
    matches!(context.used_as, Use::Secret)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_catalogue_in_the_documentation_is_the_tables() {
        let page = include_str!("../../../../docs/checks.md");
        let rows: Vec<&str> = page.lines().filter(|line| line.starts_with("| `")).collect();
        let listed: Vec<String> =
            rows.iter().map(|row| row.split(" | ").take(2).collect::<Vec<_>>().join(" ")).collect();
        let known: Vec<String> =
            CATALOGUE.iter().map(|check| format!("| `{}` {}", check.name, check.severity)).collect();
        assert_eq!(listed, known);
    }

    #[test]
    fn names_are_plain_words_and_stand_once() {
        let mut names: Vec<&str> = CATALOGUE.iter().map(|c| c.name).collect();
        assert!(names.iter().all(|n| n.bytes().all(|b| b.is_ascii_lowercase() || b == b'-')));
        names.sort_unstable();
        let count = names.len();
        names.dedup();
        assert_eq!(names.len(), count);
    }
}
