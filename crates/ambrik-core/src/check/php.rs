//! PHP's own settings: what several sites share through them, and what a folder's own files can switch.

use std::path::{Path, PathBuf};

use super::{Check, Concern, Judge, Reason, Remedy, Severity};
use crate::host::PhpSettings;
use crate::people::People;
use crate::shown::Shown;
use crate::site::{Part, Phase, Site, Write};
use crate::tree::Host;

pub(crate) static SESSION_SHARED: Check = Check {
    name: "session-shared",
    severity: Severity::Medium,
    wrong: "the sessions of several sites lie in one folder, and their PHP runs as one account",
    lets: "what logs somebody in on one site can log them in on another, and each site can read and forge the others' sessions",
    remedy: Remedy::Hand(
        "give each site a folder of its own: php_admin_value[session.save_path] in its pool, and a scratch part in its site file",
    ),
    judge: Judge::Host(|site, people| shared(site, people, "sessions", PhpSettings::sessions)),
};

pub(crate) static UPLOAD_FOLDER_SHARED: Check = Check {
    name: "upload-folder-shared",
    severity: Severity::Low,
    wrong: "several sites keep uploads in one folder until they are moved, and their PHP runs as one account",
    lets: "each site can read and change what is being uploaded to the others",
    remedy: Remedy::Hand(
        "give each site a folder of its own: php_admin_value[upload_tmp_dir] in its pool, and a scratch part in its site file",
    ),
    judge: Judge::Host(|site, people| shared(site, people, "uploads", |settings| Some(settings.uploads()))),
};

/// What a site has in one folder with the others that run as its account.
fn shared(
    site: &Site,
    people: &People,
    what: &str,
    folder: impl Fn(&PhpSettings) -> Option<PathBuf>,
) -> Option<Concern> {
    let own = folder(site.php_settings.as_ref()?)?;
    let same = |other: &&std::sync::Arc<Site>| other.php_settings.as_ref().and_then(&folder).as_ref() == Some(&own);
    let others: Vec<&str> = people.sharing().iter().filter(same).map(|other| &*other.name).collect();
    let of = |name: &str| (name.to_owned(), format!("its {what}"));
    (!others.is_empty()).then(|| Concern {
        cause: format!("all in {}, as {}", Shown(&own), site.php.user),
        sites: others.into_iter().map(of).chain([of(&site.name)]).collect(),
        cure: None,
    })
}

pub(crate) static SESSION_COOKIE_OPEN: Check = Check {
    name: "session-cookie-open",
    severity: Severity::Low,
    wrong: "PHP's settings leave the session's cookie open, unless the application closes it itself",
    lets: "a script that gets into a page can read it, or it is sent where anybody on the way can",
    remedy: Remedy::Hand(
        "session.cookie_httponly = 1, session.cookie_samesite = Lax and, where the site is served over https, session.cookie_secure = 1",
    ),
    judge: Judge::Site(|site, _| {
        let Some(settings) = site.php_settings.as_ref().filter(|settings| settings.known) else { return Vec::new() };
        let mut open = Vec::new();
        if !settings.is_on("session.cookie_httponly") {
            open.push(settings.said("session.cookie_httponly"));
        }
        let over_https = site.url.as_ref().is_some_and(|url| url.starts_with("https:"));
        if over_https && !settings.is_on("session.cookie_secure") {
            open.push(settings.said("session.cookie_secure"));
        }
        let folder = site.served_folder().unwrap_or_else(|| site.root.clone());
        if open.is_empty() { Vec::new() } else { vec![(folder, Reason::Says(open.join(", ")))] }
    }),
};

pub(crate) static CONTROL_FILE_WRITABLE: Check = Check {
    name: "control-file-writable",
    severity: Severity::Medium,
    wrong: "{php} can write files that tell the web server or PHP how to treat a served folder",
    lets: "whoever gets a file into it can switch on the execution of code there, or open what was closed",
    remedy: Remedy::Hand(
        "have the web server heed none there (AllowOverride None; user_ini.filename = in the pool), or serve the folder from outside the root",
    ),
    judge: Judge::Site(|site, _| {
        let (Some(settings), Some(served)) = (&site.php_settings, site.served_folder()) else { return Vec::new() };
        let parts = site.parts.iter().filter(|part| part.write == Write::Always && !part.is_file());
        let folders = parts.filter_map(place);
        let inside = folders.filter(|folder| folder.starts_with(&served));
        let judged = inside.map(|folder| (heeded(settings, &folder), folder)).filter(|(kinds, _)| !kinds.is_empty());
        judged.map(|(kinds, folder)| (folder, Reason::Says(kinds.join("; ")))).collect()
    }),
};

/// The one path that a part names; nothing where it is a pattern for several.
fn place(part: &Part) -> Option<PathBuf> {
    let plain = part.pattern.literal_count() == part.pattern.components().len();
    plain.then(|| Path::new("/").join(part.pattern.literal_prefix()))
}

/// The files in a folder that are heeded, and why.
fn heeded(settings: &PhpSettings, folder: &Path) -> Vec<String> {
    let mut kinds = Vec::new();
    if settings.overrides {
        kinds.push(".htaccess: the web server's AllowOverride lets it".to_owned());
    }
    let runs =
        settings.known && settings.per_folder && !settings.without_php.iter().any(|none| folder.starts_with(none));
    if let Some(name) = settings.get("user_ini.filename").filter(|set| runs && !set.value.is_empty()) {
        kinds.push(format!("{}: {}", name.value, settings.said("user_ini.filename")));
    }
    kinds
}

/// The parts that PHP is to write and that it is not let near, by where it is bound to.
pub(crate) fn out_of_bounds(host: &Host, site: &Site, phase: Phase) -> Vec<(usize, PathBuf, String)> {
    let Some(settings) = &site.php_settings else { return Vec::new() };
    let written = |write: Write| write == Write::Always || (write == Write::Install && phase == Phase::Open);
    let parts = site.parts.iter().enumerate().filter(|(_, part)| written(part.write));
    let named = parts.filter_map(|(number, part)| Some((number, place(part)?)));
    named.filter_map(|(number, path)| Some((number, path.clone(), settings.bar(host, &path)?))).collect()
}
