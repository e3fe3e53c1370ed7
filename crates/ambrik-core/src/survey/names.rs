//! What names say: the trade's words for folders that are written to, for settings, and for what is not deployed.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use regex::Regex;

use crate::pattern::pattern;
use crate::site::Use;

/// A path's last name in lower case.
pub(crate) fn lower_name(path: &Path) -> String {
    path.file_name().map(|name| name.to_string_lossy().to_ascii_lowercase()).unwrap_or_default()
}

/// Whether a name, in lower case, has one of these endings.
pub(crate) fn ends_in(name: &str, endings: &[&str]) -> bool {
    endings.iter().any(|ending| name.ends_with(ending))
}

/// Whether a name, in lower case, is that of a script or of a recipe for building.
pub(crate) fn is_script_name(name: &str) -> bool {
    ends_in(name, &[".sh", ".spec"]) || name.contains("makefile") || name.contains("dockerfile")
}

/// What folders of this name are for in the trade, where it is for writing.
pub(crate) fn trade(name: &str) -> Option<Use> {
    let name = name.trim_start_matches(['.', '_']).trim_end_matches(['_', '-']);
    Some(match name {
        "cache" | "caches" | "cached" | "tmp" | "temp" | "temporary" | "templates_c" | "template_c"
        | "templates_compiled" | "compiled" | "compile" | "compiles" | "session" | "sessions" | "lock" | "locks"
        | "generated" | "proxies" | "thumbs_cache" | "tmp_upload" | "viewcache" | "datacache" => Use::Scratch,
        "log" | "logs" | "logfiles" | "logging" => Use::Log,
        "upload" | "uploads" | "uploaded" | "uploadedfiles" | "userfiles" | "user_files" | "userdata" | "user_data"
        | "attachments" | "attachment" | "avatars" | "avatar" | "media" | "files" | "data" | "storage" | "backups"
        | "backup" | "rra" | "spool" | "queue" | "var" | "runtime" | "filestore" | "datastore" | "documents_store"
        | "import" | "imports" | "export" | "exports" | "thumbs" | "thumbnails" | "galleries" | "gallery"
        | "pictures" | "photos" | "writable" | "content_cache" | "feeds_cache" => Use::Store,
        _ if name.ends_with("_cache") || name.ends_with("-cache") => Use::Scratch,
        _ if name.ends_with("_uploads") || name.ends_with("-uploads") || name.ends_with("_files") => Use::Store,
        _ => return None,
    })
}

/// Names of folders in which people put what they add: empty ones are no sign of writing.
pub(crate) fn is_drop_in(name: &str) -> bool {
    ["plugin", "theme", "template", "module", "addon", "extension", "local", "custom", "lang", "locale", "skin", "hook"]
        .iter()
        .any(|word| name.contains(word))
}

/// Whether a folder of this name is one that is served.
pub(crate) fn is_public(name: &str) -> bool {
    matches!(
        name,
        "public"
            | "htdocs"
            | "www"
            | "web"
            | "webroot"
            | "public_html"
            | "httpdocs"
            | "html"
            | "docroot"
            | "wwwroot"
            | "pub"
    )
}

/// Whether a path is called like an installer, at any of its levels.
pub(crate) fn is_installers(path: &Path) -> bool {
    path.components().any(|name| {
        let name = name.as_os_str().to_string_lossy().to_ascii_lowercase();
        name.contains("install") || name.starts_with("setup") || name.starts_with("upgrade")
    })
}

/// What an application is called by the folders that lead to it: `/usr/share/quay/www` is `quay`'s.
pub(crate) fn application_names(root: &Path) -> Vec<String> {
    let usual = [
        "usr",
        "share",
        "srv",
        "www",
        "var",
        "lib",
        "opt",
        "home",
        "html",
        "htdocs",
        "public",
        "public_html",
        "web",
        "webroot",
        "app",
        "apps",
        "application",
        "site",
        "sites",
        "current",
        "releases",
        "local",
        "php",
        "vhosts",
        "data",
    ];
    let names = root.iter().filter_map(|name| name.to_str()).filter(|name| *name != "/");
    names.filter(|name| !usual.contains(name) && name.len() > 2).map(str::to_owned).collect()
}

/// Why what a file does says nothing about the deployed application.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Aside {
    /// Tests, builds, development, documentation.
    Development,
    /// Started from a shell.
    CommandLine,
    /// Somebody else's library.
    Library,
}

/// Where a path stands beside the application itself.
/// By names alone; [`Deployed::aside`] knows libraries that carry their own papers, too.
pub(crate) fn aside(path: &Path) -> Option<Aside> {
    let mut found = None;
    let above = path.parent().unwrap_or(Path::new(""));
    for name in above.components().map(|name| name.as_os_str().to_string_lossy().to_ascii_lowercase()) {
        let here = match name.as_str() {
            "test" | "tests" | "testing" | "phpunit" | "spec" | "specs" | "fixtures" | "docs" | "doc"
            | "documentation" | "examples" | "example" | "samples" | "demo" | "demos" | "build" | "docker"
            | "contrib" | ".github" | "dev" | "devtools" | "debian" | "packaging" | "ci" | ".git" => Aside::Development,
            "vendor" | "vendors" | "node_modules" | "bower_components" | "third_party" | "thirdparty"
            | "third-party" | "3rdparty" | "externals" | "external" | "extlib" | "pear" | "composer" => Aside::Library,
            "bin" | "cli" | "console" | "command" | "commands" | "cron" | "sbin" | "utils" | "tools" => {
                Aside::CommandLine
            }
            name if is_release(name) => Aside::Library,
            _ => continue,
        };
        found = found.filter(|f| *f == Aside::Development).or(Some(here));
    }
    found
}

pattern!(RELEASE: Regex = r"^[a-z_.]+[-_]v?(?:\d+\.\d+[\w.-]*|[0-9a-f]{7,40})$|-[0-9a-f]{7,40}$");

/// Whether a folder is called as unpacked releases of libraries are: `name-1.2.0`, `name-5829c3b`.
fn is_release(name: &str) -> bool {
    RELEASE.is_match(name)
}

/// The folders that are somebody else's library: below the root, with papers of their own.
pub(crate) fn libraries<'p>(files: impl Iterator<Item = &'p PathBuf>) -> BTreeSet<PathBuf> {
    let mut papers: BTreeMap<&Path, usize> = BTreeMap::new();
    for path in files {
        let name = lower_name(path);
        let stem = name.split('.').next().unwrap_or_default();
        let is_paper = matches!(
            stem,
            "license" | "licence" | "copying" | "version" | "changelog" | "changes" | "install" | "readme" | "authors"
        ) || name == "composer.json";
        let above = path.parent().filter(|above| above.components().count() >= 2);
        if let Some(above) = above.filter(|_| is_paper) {
            *papers.entry(above).or_default() += 1;
        }
    }
    papers.into_iter().filter(|(_, count)| *count >= 2).map(|(dir, _)| dir.to_owned()).collect()
}

/// Whether a file of this name, in lower case, tells the web server or PHP how to treat a folder.
pub(crate) fn is_control_file(name: &str) -> bool {
    matches!(name, ".htaccess" | ".user.ini" | "web.config")
}

pattern!(SETTINGS: Regex = r"(?x)^(?:
          \.env(?:\..*)? | env\.php
        | [\w.-]*(?:config|configuration|conf|settings?|parameters?|credentials?|secrets?|localsettings)[\w-]*(?:\.[\w-]+)*\.(?:php\d?|inc|ini|ya?ml|json|xml|neon|cfg|conf|env|toml)
        | (?:database|db|dbconnect|db_connect|local|mysql|dbconfig)(?:\.inc)?\.(?:php|inc|ini|ya?ml|cfg|conf)
        | auth\.json
        )$");

/// Whether files of this name hold settings.
pub(crate) fn is_settings_name(name: &str) -> bool {
    SETTINGS.is_match(name)
}

pattern!(KEY_FILE: Regex = r"(?i)(?:secret|private|salt|token|credential|passw|api.?key|master.?key|encryption)[\w.-]*$|(?:^|[._-])keys?(?:[._-][\w.-]*)?$|\.(?:key|pem|p12|pfx|secret|salt)$");

/// Whether a file of this name holds a key or passwords.
pub(crate) fn is_key_name(name: &str) -> bool {
    let shown = [".js", ".css", ".html", ".png", ".svg", ".md", ".mo", ".po"].iter().any(|end| name.ends_with(end));
    !shown && KEY_FILE.is_match(name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("settings.php", true)]
    #[case("config.inc.php", true)]
    #[case("gauges.ini", false)]
    #[case("database.php", true)]
    #[case(".env", true)]
    #[case("site-config.php", true)]
    #[case("Bookings.php", false)]
    #[case("config.js", false)]
    fn settings_names(#[case] name: &str, #[case] want: bool) {
        assert_eq!(is_settings_name(name), want);
    }

    #[rstest]
    #[case("cache", Some(Use::Scratch))]
    #[case("templates_c", Some(Use::Scratch))]
    #[case("feeds_cache", Some(Use::Store))]
    #[case("page-cache", Some(Use::Scratch))]
    #[case("_data", Some(Use::Store))]
    #[case("sessions", Some(Use::Scratch))]
    #[case("logs", Some(Use::Log))]
    #[case("uploads", Some(Use::Store))]
    #[case("user_files", Some(Use::Store))]
    #[case("lib", None)]
    #[case("templates", None)]
    #[case("catalog", None)]
    fn names_of_the_trade(#[case] name: &str, #[case] want: Option<Use>) {
        assert_eq!(trade(name), want);
    }

    #[rstest]
    #[case("lib/a.php", None)]
    #[case("tests/a.php", Some(Aside::Development))]
    #[case("lib/Tests/a.php", Some(Aside::Development))]
    #[case("docs/a.php", Some(Aside::Development))]
    #[case("vendor/x/a.php", Some(Aside::Library))]
    #[case("vendor/x/tests/a.php", Some(Aside::Development))]
    #[case("lib/mailer-6.1.0/a.php", Some(Aside::Library))]
    #[case("lib/mailer_v2.0/a.php", Some(Aside::Library))]
    #[case("lib/someone-mailer-5829c3b/a.php", Some(Aside::Library))]
    #[case("bin/a.php", Some(Aside::CommandLine))]
    #[case("bin.php", None)]
    #[case("tests.php", None)]
    #[case("quay-1/a.php", None)]
    fn what_stands_beside_the_application(#[case] path: &str, #[case] want: Option<Aside>) {
        assert_eq!(aside(Path::new(path)), want);
    }

    #[rstest]
    #[case("csrf-secret.php", true)]
    #[case("secret.key", true)]
    #[case("api_key.txt", true)]
    #[case("server.pem", true)]
    #[case(".htpasswd", true)]
    #[case("salt", true)]
    #[case("monkey.php", false)]
    #[case("secrets.js", false)]
    #[case("tokens.css", false)]
    #[case("keyboard.php", false)]
    fn names_of_keys(#[case] name: &str, #[case] want: bool) {
        assert_eq!(is_key_name(name), want);
    }

    #[rstest]
    #[case("plugins", true)]
    #[case("themes.local", true)]
    #[case("lang", true)]
    #[case("cache", false)]
    fn names_of_drop_ins(#[case] name: &str, #[case] want: bool) {
        assert_eq!(is_drop_in(name), want);
    }

    #[test]
    fn libraries_carry_papers_of_their_own() {
        let files = ["README", "LICENSE", "lib/mail/README.md", "lib/mail/LICENSE", "lib/quay/README", "ext/a/VERSION"];
        let files: Vec<PathBuf> = files.iter().map(PathBuf::from).collect();
        assert_eq!(libraries(files.iter()), [PathBuf::from("lib/mail")].into());
    }
}
