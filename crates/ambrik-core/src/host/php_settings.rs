//! PHP's own settings that widen or narrow what a site can reach, as they apply to a served folder: `php.ini` and the files beside it,
//! the pool or the web server's configuration, and `.user.ini` (php.ini directives; sapi/fpm; `php_admin_value`).

use std::path::{Path, PathBuf};

use super::files::Files;
use super::ini::{self, PHP};
use super::{PhpThrough, Place, Pool, ServedFolder};
use crate::tree::Host;

/// The settings that are looked at, with PHP's own defaults where nothing says otherwise.
const NAMES: &[(&str, &str)] = &[
    ("open_basedir", ""),
    ("session.save_path", ""),
    ("session.save_handler", "files"),
    ("upload_tmp_dir", ""),
    ("sys_temp_dir", ""),
    ("user_ini.filename", ".user.ini"),
    ("disable_functions", ""),
    ("allow_url_include", "0"),
    ("session.cookie_httponly", "0"),
    ("session.cookie_secure", "0"),
    ("session.cookie_samesite", ""),
    ("error_log", ""),
];

/// One setting.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PhpSetting {
    /// Its name.
    pub name: &'static str,
    /// Its value; switches are `1` or `0`.
    pub value: String,
    /// Where that is said; nothing where it is PHP's own default.
    pub at: Option<Place>,
    /// Whether code and `.user.ini` cannot change it any more.
    fixed: bool,
}

/// The settings that apply to the code of one served folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PhpSettings {
    /// The folder.
    pub folder: PathBuf,
    /// The pool that runs it, or the server's name where PHP is inside of it.
    pub runs: String,
    /// In one order for all.
    pub list: Vec<PhpSetting>,
    /// Whether `.htaccess` files in the folder are heeded.
    pub overrides: bool,
    /// Whether `.user.ini` files are heeded: where PHP runs as a server of its own.
    pub per_folder: bool,
    /// The folders below it in which PHP is not run.
    pub without_php: Vec<PathBuf>,
    /// Whether a file of PHP's own settings was found: without one, its defaults are a guess.
    pub known: bool,
}

impl PhpSettings {
    /// The setting of this name.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&PhpSetting> {
        self.list.iter().find(|setting| setting.name == name)
    }

    /// Its value where it is not empty.
    fn value(&self, name: &str) -> Option<&str> {
        self.get(name).map(|setting| &*setting.value).filter(|value| !value.is_empty())
    }

    /// The folders that PHP may open files in; nothing where it is not bound.
    #[must_use]
    pub fn bound_to(&self) -> Option<Vec<&Path>> {
        let bounds = self.value("open_basedir")?;
        Some(bounds.split(':').filter(|bound| !bound.is_empty()).map(Path::new).collect())
    }

    /// What keeps PHP from opening `path`, links followed: where it is bound to, and where that is said. A bound is a folder, and what
    /// is in it.
    #[must_use]
    pub fn bar(&self, host: &Host, path: &Path) -> Option<String> {
        let real = |path: &Path| host.destination(Path::new("/"), path);
        let path = real(path);
        let holds = self.bound_to()?.iter().any(|bound| match bound.strip_prefix(".") {
            // `.` is the folder of the page that was asked for.
            Ok(below) => path.starts_with(real(&self.folder.join(below))),
            Err(_) => path.starts_with(real(bound)),
        });
        (!holds).then(|| self.said("open_basedir"))
    }

    /// A setting with its value, and where that is said.
    #[must_use]
    pub fn said(&self, name: &str) -> String {
        let Some(setting) = self.get(name) else { return name.to_owned() };
        let value = match &*setting.value {
            "0" => "off",
            "" => "empty",
            value => value,
        };
        match &setting.at {
            Some(at) => format!("{name} is {value} ({at})"),
            None => format!("{name} is {value}, as PHP has it by itself"),
        }
    }

    /// Where sessions are kept, if they are files: the folder without the numbers before it.
    #[must_use]
    pub fn sessions(&self) -> Option<PathBuf> {
        let files = self.value("session.save_handler").is_none_or(|handler| handler == "files");
        let path = self.value("session.save_path").map(|path| path.rsplit(';').next().unwrap_or(path));
        files.then(|| PathBuf::from(path.unwrap_or("/var/lib/php/sessions")))
    }

    /// Where uploads are kept until they are moved.
    #[must_use]
    pub fn uploads(&self) -> PathBuf {
        let temporary = || self.value("sys_temp_dir").unwrap_or("/tmp");
        PathBuf::from(self.value("upload_tmp_dir").unwrap_or_else(temporary))
    }

    /// Whether a switch is on.
    #[must_use]
    pub fn is_on(&self, name: &str) -> bool {
        self.value(name) == Some("1")
    }

    fn set(&mut self, name: &str, value: &str, at: Place, fixes: bool) {
        let Some(setting) = self.list.iter_mut().find(|setting| setting.name == name) else { return };
        if fixes || !setting.fixed {
            let value = match value.trim_matches(['"', '\'']).to_ascii_lowercase().as_str() {
                "on" | "yes" | "true" => "1".to_owned(),
                "off" | "no" | "false" | "none" => {
                    if name == "open_basedir" {
                        String::new()
                    } else {
                        "0".to_owned()
                    }
                }
                _ => value.trim_matches(['"', '\'']).to_owned(),
            };
            *setting = PhpSetting { value, at: Some(at), fixed: fixes, ..*setting };
        }
    }
}

/// A line that sets one of PHP's settings in a pool or a web server's configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct SettingLine {
    pub(super) name: String,
    pub(super) value: String,
    /// Whether it is for good (`php_admin_value`, `php_admin_flag`).
    pub(super) admin: bool,
    pub(super) at: Place,
}

impl SettingLine {
    /// A pool's `php_admin_value[NAME] = VALUE`.
    pub(super) fn of_pool(key: &str, value: &str, at: &Place) -> Option<Self> {
        let (kind, name) = key.strip_suffix(']')?.split_once('[')?;
        let admin = match kind {
            "php_admin_value" | "php_admin_flag" => true,
            "php_value" | "php_flag" => false,
            _ => return None,
        };
        Some(Self { name: name.to_owned(), value: value.to_owned(), admin, at: at.clone() })
    }

    /// A web server's `php_admin_value NAME VALUE`.
    pub(super) fn of_server(directive: &str, arguments: &[String], at: &Place) -> Option<Self> {
        let admin = match directive {
            "php_admin_value" | "php_admin_flag" => true,
            "php_value" | "php_flag" => false,
            _ => return None,
        };
        let [name, value, ..] = arguments else { return None };
        Some(Self { name: name.clone(), value: value.clone(), admin, at: at.clone() })
    }
}

/// What applies to `folder`, whose PHP the pool runs, or the web server itself.
pub(super) fn of_folder(files: &mut Files<'_>, folder: &ServedFolder, pool: Option<&Pool>) -> Option<PhpSettings> {
    let inside = matches!(folder.through, PhpThrough::Inside(_));
    if pool.is_none() && !inside {
        return None;
    }
    let list =
        NAMES.iter().map(|(name, value)| PhpSetting { name, value: (*value).to_owned(), at: None, fixed: false });
    let runs = pool.map_or_else(|| folder.program.clone(), |pool| pool.name.clone());
    let mut found = PhpSettings {
        folder: folder.path.clone(),
        runs,
        list: list.collect(),
        overrides: folder.overrides,
        per_folder: pool.is_some(),
        without_php: folder.without_php.clone(),
        known: false,
    };
    let mains = match pool {
        Some(pool) => of_pool(files, &pool.main),
        None => of_server(files),
    };
    for main in mains {
        let Some(text) = files.text(&main) else { continue };
        found.known = true;
        for line in ini::read(&text, PHP).0 {
            found.set(&line.key, &line.value, Place::new(&main, line.line), false);
        }
    }
    let lines = pool.map_or(&folder.settings, |pool| &pool.settings);
    let named = lines.iter().rfind(|line| line.name == "user_ini.filename").map(|line| line.value.as_str());
    let name = named.or_else(|| found.value("user_ini.filename")).map(str::to_owned).filter(|_| found.per_folder);
    let own = name.map(|name| folder.path.join(name));
    if let Some((own, text)) = own.and_then(|own| Some((own.clone(), files.text(&own)?))) {
        for line in ini::read(&text, PHP).0 {
            // What only the host may say (PHP_INI_SYSTEM); and where PHP is bound already, a folder cannot widen it.
            let system =
                ["user_ini.filename", "disable_functions", "sys_temp_dir", "upload_tmp_dir", "allow_url_include"];
            let bound = line.key == "open_basedir" && found.bound_to().is_some();
            if !system.contains(&line.key.as_str()) && !bound {
                found.set(&line.key, &line.value, Place::new(&own, line.line), false);
            }
        }
    }
    // What the configuration sets beats all files, the folder's own too; what it sets for good comes last.
    for admin in [false, true] {
        for line in lines.iter().filter(|line| line.admin == admin) {
            found.set(&line.name, &line.value, line.at.clone(), line.admin);
        }
    }
    Some(found)
}

/// `php.ini` and the files beside it, for a php-fpm.
fn of_pool(files: &mut Files<'_>, main: &Path) -> Vec<PathBuf> {
    let dir = main.parent().unwrap_or(Path::new("/etc"));
    let more = ["conf.d/*.ini", "php.d/*.ini"].map(|pattern| files.matching(&dir.join(pattern)));
    std::iter::once(dir.join("php.ini")).chain(more.into_iter().flatten()).collect()
}

/// The same for a PHP inside Apache.
fn of_server(files: &mut Files<'_>) -> Vec<PathBuf> {
    let mains = ["/etc/php/*/apache2/php.ini", "/etc/php.ini", "/etc/php*/apache2/php.ini"];
    let mut mains: Vec<PathBuf> = mains.iter().flat_map(|pattern| files.matching(Path::new(pattern))).collect();
    mains.dedup();
    // Of several versions it is not known which one the server has loaded.
    if mains.len() > 1 {
        return Vec::new();
    }
    let more: Vec<PathBuf> = mains
        .iter()
        .filter_map(|main| main.parent())
        .flat_map(|dir| [dir.join("conf.d/*.ini"), dir.join("php.d/*.ini")])
        .collect();
    for pattern in more {
        mains.extend(files.matching(&pattern));
    }
    mains
}
