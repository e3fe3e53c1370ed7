//! What concerns a site as a whole.

use std::path::{Path, PathBuf};

use jiff::Timestamp;

use super::{Check, Concern, Judge, Raised, Reason, Remedy, Severity, is_php_name};
use crate::account::Uid;
use crate::entry::Kind;
use crate::own::Exposed;
use crate::shown::Shown;
use crate::site::{Site, Use};
use crate::tree::{Failure, Host, Trouble};

pub(crate) static PHP_IS_ROOT: Check = Check {
    name: "php-is-root",
    severity: Severity::High,
    wrong: "PHP runs as root",
    lets: "owner and mode do not bind root: whoever gets into PHP has the whole host",
    remedy: Remedy::Hand(
        "give PHP an account of its own in its pool's configuration (user = …), then name it in the site file",
    ),
    judge: Judge::Site(|site, _| {
        if site.php.ids.uid == Uid::ROOT {
            vec![(PathBuf::from("."), Reason::Says("uid 0".into()))]
        } else {
            Vec::new()
        }
    }),
};

pub(crate) static PHP_IS_KEEPER: Check = Check {
    name: "php-is-keeper",
    severity: Severity::High,
    wrong: "PHP runs as the site's keeper ({keeper})",
    lets: "nothing can be kept from it: whoever gets into PHP can change all code and settings; only other accounts, the web \
           server and what is left over are judged here",
    remedy: Remedy::Hand(
        "give PHP an account of its own (a pool of its own), or the site another keeper; where the host allows neither, accept it",
    ),
    judge: Judge::Site(|site, _| {
        if site.php_is_keeper() { vec![(PathBuf::from("."), Reason::Says("one account".into()))] } else { Vec::new() }
    }),
};

pub(crate) static SERVED_TOO_WIDE: Check = Check {
    name: "served-too-wide",
    severity: Severity::Medium,
    wrong: "the web server serves more than it needs to",
    lets: "what lies there can be asked for by anybody",
    remedy: Remedy::Hand("move it out of the served folder, or serve the public folder only (served = \"…\")"),
    judge: Judge::Site(|site, _| {
        let parts = site.parts.iter().filter_map(|part| too_wide(site, part));
        parts.collect()
    }),
};

/// The whole root is served, and there is a folder made to be served instead; `root` is the site's root as a host of its own.
pub(crate) fn served_too_wide(site: &Site, root: &Host) -> Option<Raised> {
    const PUBLIC: &[&str] = &["public", "web", "htdocs", "webroot", "public_html", "httpdocs", "www", "pub"];
    let whole_root = site.served.as_ref()?.text().is_empty();
    let has = |path: &Path| root.resolve(path).is_ok_and(|found| found.facts.kind == Kind::File);
    let own_index = has(Path::new("/index.php"));
    let folder = PUBLIC.iter().find(|folder| has(&Path::new("/").join(folder).join("index.php")))?;
    let says = || Reason::Says(format!("the whole root is served, and there is {folder}/index.php"));
    (whole_root && !own_index).then(|| (&SERVED_TOO_WIDE, says()))
}

pub(crate) static SERVED_DIFFERS: Check = Check {
    name: "served-differs",
    severity: Severity::High,
    wrong: "the document root is not what the site file says",
    lets: "by that site file what visitors need is closed to the web server, and what they must not get is open to it: \
           nothing is changed",
    remedy: Remedy::Hand(
        "correct served in the site file, or the web server's configuration; --served-anyway on `set`, `open` and `seal` if the \
         site file is right",
    ),
    judge: Judge::Site(|site, _| {
        let served = site.served_folder().unwrap_or_else(|| site.root.clone());
        let says = |differs: &String| Reason::Says(format!("served is {}, and {differs}", Shown(&served)));
        site.serving.differs.iter().map(|differs| (served.clone(), says(differs))).collect()
    }),
};

pub(crate) static WINDOW_OVERDUE: Check = Check {
    name: "window-overdue",
    severity: Severity::High,
    wrong: "an install or upgrade window is past its end",
    lets: "PHP may still write its settings, and whoever gets into PHP may too",
    remedy: Remedy::Seal,
    judge: Judge::Audit,
};

/// The site's window ended at `until`.
pub(crate) fn window_overdue(until: Timestamp) -> Raised {
    (&WINDOW_OVERDUE, Reason::Says(format!("since {}", until.strftime("%Y-%m-%d %H:%M UTC"))))
}

pub(crate) static SITE_FILE_OPEN: Check = Check {
    name: "site-file-open",
    severity: Severity::High,
    wrong: "others than root can change the site file, or put another in its place",
    lets: "what stands there decides what root gives to whom: Ambrik changes nothing until that is put right",
    remedy: Remedy::Hand("take the right to write to it, and to the folders above it, away from others"),
    judge: Judge::Site(|site, _| {
        let says =
            |exposed: &Exposed| Reason::Says(format!("{}: {}: {}", Shown(&exposed.path), exposed.why, exposed.mend));
        let own = site.exposed.iter().filter(|exposed| !is_folder(site, exposed));
        own.map(|exposed| (exposed.path.clone(), says(exposed))).collect()
    }),
};

pub(crate) static ARCHIVE_BESIDE: Check = Check {
    name: "archive-beside",
    severity: Severity::Medium,
    wrong: "archives or dumps lie beside the site, where a web server serves them",
    lets: "anybody who guesses the name downloads them: source code, data, passwords",
    remedy: Remedy::Hand("move it to where nothing is served; it is not the site's, so Ambrik leaves it to you"),
    judge: Judge::Site(|site, _| {
        site.serving.beside.iter().map(|(path, kind)| (path.clone(), Reason::Says((*kind).to_owned()))).collect()
    }),
};

/// Whether it is a folder above the site file that others can write: that may concern other sites too.
fn is_folder(site: &Site, exposed: &Exposed) -> bool {
    exposed.path.file_name() != site.file.file_name()
}

/// The folder above the site file that others can write.
pub(crate) fn open_folder(site: &Site) -> Option<(&'static Check, Concern)> {
    let exposed = site.exposed.as_ref().filter(|exposed| is_folder(site, exposed))?;
    let cause = format!("{}: {}: {}", Shown(&exposed.path), exposed.why, exposed.mend);
    Some((&SITE_FILE_OPEN, Concern { cause, sites: [(site.name.clone(), String::new())].into(), cure: None }))
}

pub(crate) static PROOF_DISTURBED: Check = Check {
    name: "proof-disturbed",
    severity: Severity::High,
    wrong: "the process that tries what PHP can write was stopped or ended",
    lets: "only root and PHP's own account can do that: somebody may be at work with it, and nothing was proved",
    remedy: Remedy::Hand(
        "look at what runs as PHP's account (ps -fu ACCOUNT), end what should not run, then seal again",
    ),
    judge: Judge::Audit,
};

/// The proof did not come to its end, and why.
pub(crate) fn proof_disturbed(why: &str) -> Raised {
    (&PROOF_DISTURBED, Reason::Says(why.to_owned()))
}

pub(crate) static CHANGED_IN_WINDOW: Check = Check {
    name: "changed-in-window",
    severity: Severity::Medium,
    wrong: "code changed, and nobody has said yet that it is right",
    lets: "it may be the update that the site was opened for, or somebody's back door",
    remedy: Remedy::Hand(
        "look at it, then answer yes to the list that `ambrik seal` shows, or accept it in the site file",
    ),
    judge: Judge::Audit,
};

pub(crate) static NOT_AS_UNPACKED: Check = Check {
    name: "not-as-unpacked",
    severity: Severity::Medium,
    wrong: "code is not what the archive brought",
    lets: "it may be a patch of your own, or somebody's back door",
    remedy: Remedy::Hand(
        "look at what was changed, and by whom; `ambrik unpack` of the same archive brings it back, and what you changed \
         yourself is accepted in the site file",
    ),
    judge: Judge::Audit,
};

/// Code is not what was unpacked on this day.
pub(crate) fn not_as_unpacked(day: jiff::civil::Date) -> Raised {
    (&NOT_AS_UNPACKED, Reason::Says(format!("not what was unpacked on {day}")))
}

/// Code changed, and how.
pub(crate) fn changed(how: &str) -> Raised {
    (&CHANGED_IN_WINDOW, Reason::Says(how.to_owned()))
}

pub(crate) static COULD_NOT_LOOK: Check = Check {
    name: "could-not-look",
    severity: Severity::Medium,
    wrong: "some paths could not be looked at",
    lets: "nothing is known about them",
    remedy: Remedy::Hand("run the audit as root"),
    judge: Judge::Audit,
};

/// So begins what could not be asked.
const OVER_HTTP: &str = "over HTTP, ";

/// Something could not be looked at: what, or why.
pub(crate) fn could_not_look(why: impl Into<String>) -> Raised {
    (&COULD_NOT_LOOK, Reason::Says(why.into()))
}

/// Something could not be asked over HTTP, and why.
pub(crate) fn not_answered(why: &str) -> Raised {
    could_not_look(format!("{OVER_HTTP}{why}"))
}

/// Whether it is something that could not be asked over HTTP.
pub(crate) fn is_over_http(reason: &Reason) -> bool {
    matches!(reason, Reason::Says(words) if words.starts_with(OVER_HTTP))
}

/// A path was not looked at for this trouble; nothing for what went away meanwhile.
pub(crate) fn trouble(trouble: Trouble) -> Option<Raised> {
    let words = match trouble {
        Trouble::Failed(op, errno) => Failure::Os(op, errno).to_string(),
        Trouble::Replaced => Failure::Replaced.to_string(),
        Trouble::ForeignLink => "it is a symlink that others could have put there; not followed".into(),
        Trouble::TooDeep => "it lies deeper than any path can name; not looked at: see who makes such folders".into(),
        Trouble::Restless => "it is changed faster than it can be looked at; stop what writes there".into(),
        Trouble::Vanished => return None,
    };
    Some(could_not_look(words))
}

/// A part that the served folder holds without need.
///
/// Where only a folder of the application is served, everything but code and stores could lie beside it. Where all
/// of it is, that is how the application is built; but a part that is closed to the web server cannot be closed
/// where that is PHP's own account, unless the part is PHP itself, which is run and not handed out.
fn too_wide(site: &Site, part: &crate::site::Part) -> Option<(PathBuf, Reason)> {
    let (served, served_folder) = (site.served.as_ref()?, site.served_folder()?);
    if !part.pattern.is_below(&served_folder) {
        return None;
    }
    let whole_root = served.text().is_empty();
    let one_account = site.web.ids.uid == site.php.ids.uid;
    let handed_out = one_account && !is_php_name(Path::new(&part.shown));
    let without_need = match part.used_as {
        Use::Secret | Use::Log => !whole_root || handed_out,
        Use::Scratch | Use::Hidden => !whole_root,
        Use::Code | Use::Store | Use::Setup | Use::Remove | Use::Foreign => false,
    };
    let path = PathBuf::from(&part.shown);
    without_need.then(|| (path, Reason::Says(format!("{} in the served folder", part.used_as))))
}
