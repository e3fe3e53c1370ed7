//! Reads a site file, with the outline and the host file behind it: every key checked, every mistake collected, each with its
//! file and line.

mod keys;
mod layer;
mod parts;

use std::ops::Range;
use std::path::{Path, PathBuf};

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::{HostFile, Pattern, Problem, Problems, Site, Source, absolute_components, is_systems};
use crate::account::{Account, Accounts};
use crate::host::Detector;

use layer::{Layer, LayerKind};

const ACCESS_KEYS: &[&str] = &["user", "group", "path", "may"];
const PART_KEYS: &[&str] =
    &["path", "use", "write", "from", "create", "deep", "served", "owner", "group", "dir_mode", "file_mode", "type"];
const ACCEPT_KEYS: &[&str] = &["check", "path", "reason", "until"];

/// Finds the outline of a name.
pub type FindOutline<'a> = dyn Fn(&str) -> Result<Source, NoOutline> + 'a;

/// Why an outline cannot be had, and what to do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NoOutline {
    /// Why.
    pub what: String,
    /// What would be right.
    pub right: String,
}

/// What a site file is read with.
#[derive(Clone, Copy)]
pub struct Reading<'a> {
    /// Users and groups must be among these.
    pub accounts: &'a Accounts,
    /// The checks whose findings can be accepted.
    pub checks: &'a [&'a str],
    /// Names the accounts that are left out.
    pub detector: &'a Detector<'a>,
    /// What holds for all sites.
    pub host_file: &'a HostFile,
    /// Finds the outline that it names.
    pub outline: &'a FindOutline<'a>,
}

/// Reads the text of the site file `file`; users and groups must be among `accounts`, accepted checks among `checks`. There is
/// nothing behind it.
///
/// Errors: every mistake of the file at once, in the order of their lines.
pub fn read(text: &str, file: &Path, accounts: &Accounts, checks: &[&str]) -> Result<Site, Problems> {
    alone(accounts, checks, |reading| read_within(text, file, reading))
}

/// Reads a file on its own: on a host that tells nothing, with nothing behind it.
fn alone<T>(accounts: &Accounts, checks: &[&str], read: impl FnOnce(&Reading<'_>) -> T) -> T {
    let none = |_: &str| Err(NoOutline { what: "there are no outlines here".into(), right: "leave it out".into() });
    let (detector, host_file) = (&Detector::blind(), &HostFile::default());
    read(&Reading { accounts, checks, detector, host_file, outline: &none })
}

/// Reads the text of the site file `file` with what stands behind it: its outline, then the host file.
///
/// Errors: every mistake at once, those of the site file first.
pub fn read_within(text: &str, file: &Path, reading: &Reading<'_>) -> Result<Site, Problems> {
    let source = Source { file: file.to_owned(), text: text.to_owned() };
    let mut own = Layer::new(&source, reading, LayerKind::Site);
    let outline = own.outline(reading.outline);
    let outline = outline.as_ref().map(|source| Layer::new(source, reading, LayerKind::Outline));
    let of_host = reading.host_file.sources.iter().map(|source| Layer::of_host(source, reading));
    let mut behind: Vec<Layer<'_>> = outline.into_iter().chain(of_host).collect();
    let site = own.site(&mut behind, reading.detector);
    let mut list = Vec::new();
    for layer in std::iter::once(own).chain(behind) {
        list.extend(layer.into_problems());
    }
    match site {
        Some(site) if list.is_empty() => Ok(site),
        _ => Err(Problems { list }),
    }
}

/// Reads the host file and its drop-ins, in this order.
///
/// Errors: every mistake in them at once.
pub fn read_host_file(mut sources: Vec<Source>, accounts: &Accounts, checks: &[&str]) -> Result<HostFile, Problems> {
    sources.reverse();
    let mut found = HostFile::default();
    let mut list = Vec::new();
    for source in &sources {
        let (kept, problems) = alone(accounts, checks, |reading| {
            let mut layer = Layer::of_host(source, reading);
            (layer.kept(), layer.problems_alone())
        });
        list.extend(problems);
        found.keepsakes = found.keepsakes.or(kept.keepsakes);
        found.history = found.history.or(kept.history);
        found.fail_on = found.fail_on.or(kept.fail_on);
    }
    found.sources = sources;
    if list.is_empty() { Ok(found) } else { Err(Problems { list }) }
}

/// What is wrong with an outline on its own, whatever sites go by it.
///
/// Errors: every mistake in it.
pub fn read_outline(source: &Source, accounts: &Accounts, checks: &[&str]) -> Result<(), Problems> {
    let list = alone(accounts, checks, |reading| Layer::new(source, reading, LayerKind::Outline).problems_alone());
    if list.is_empty() { Ok(()) } else { Err(Problems { list }) }
}

/// The root that a site file says, where that can be read, whatever else is wrong with it.
#[must_use]
pub fn root_of(text: &str) -> Option<PathBuf> {
    let (document, _) = DeTable::parse_recoverable(text);
    let DeValue::Table(site) = document.get_ref().get("site")?.get_ref() else { return None };
    let DeValue::String(root) = site.get("root")?.get_ref() else { return None };
    let names = absolute_components(Path::new(&**root)).filter(|_| !root.contains('\0'))?;
    Some(Path::new("/").join(names.iter().collect::<PathBuf>()))
}

/// The paths of a site file's parts as they stand there, as far as they can be read.
#[must_use]
pub fn part_paths(text: &str) -> Vec<String> {
    let (document, _) = DeTable::parse_recoverable(text);
    let Some(DeValue::Array(parts)) = document.get_ref().get("part").map(Spanned::get_ref) else { return Vec::new() };
    let path = |part: &Spanned<DeValue<'_>>| match part.get_ref() {
        DeValue::Table(table) => match table.get("path")?.get_ref() {
            DeValue::String(path) => Some(path.to_string()),
            _ => None,
        },
        _ => None,
    };
    parts.iter().filter_map(path).collect()
}

/// A table of the file with the keys that it may hold.
struct Table<'d> {
    table: &'d DeTable<'d>,
    span: Range<usize>,
    name: &'static str,
}

/// Reads the tables of one file.
struct SiteReader<'a> {
    source: &'a Source,
    /// Where its lines end.
    lines: Vec<usize>,
    accounts: &'a Accounts,
    checks: &'a [&'a str],
    problems: Vec<Problem>,
}

impl SiteReader<'_> {
    fn problem(&mut self, span: &Range<usize>, what: impl Into<String>, right: impl Into<String>) {
        self.problems.push(Problem::at(self.source, span, what, right));
    }

    /// The table `key`, or an empty one: a missing required key in it is then reported on the file's first line.
    fn section<'d>(&mut self, top: &Table<'d>, key: &'static str, empty: &'d DeTable<'d>) -> Table<'d> {
        let name = match key {
            "site" => "[site]",
            "selinux" => "[selinux]",
            "defaults" => "[defaults]",
            "keep" => "[keep]",
            "audit" => "[audit]",
            _ => "[accounts]",
        };
        match top.table.get(key) {
            Some(value) => match value.get_ref() {
                DeValue::Table(table) => return Table { table, span: value.span(), name },
                _ => self.problem(
                    &value.span(),
                    format!("\"{key}\" is no table"),
                    format!("write [{key}] on a line of its own"),
                ),
            },
            None if key == "site" => self.problem(&(0..0), "there is no [site]", "begin with [site] and root = \"/…\""),
            None => {}
        }
        Table { table: empty, span: 0..0, name }
    }
}

impl SiteReader<'_> {
    /// The account with the ids that a login as it has: a group named beside it is what its files get, and does not
    /// make it a member.
    fn by_itself(&self, account: Account) -> Option<Account> {
        let ids = self.accounts.user(&account.user)?.ids;
        Some(Account { ids, ..account })
    }

    fn name(&mut self, site: &Table<'_>, file: &Path) -> Option<String> {
        let stem = file.file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default();
        let (name, span) = match self.string(site, "name") {
            Some((name, span)) => (name.to_owned(), span),
            None => (stem, 0..0),
        };
        if !is_name(&name) {
            self.problem(&span, format!("\"{name}\" cannot be a site's name"), NAMES);
            return None;
        }
        Some(name)
    }

    fn root(&mut self, site: &Table<'_>) -> Option<PathBuf> {
        let (text, span) = self.required(site, "root", "write root = \"/…\", the application's folder")?;
        let path = Path::new(text);
        let Some(names) = absolute_components(path).filter(|_| !text.contains('\0')) else {
            self.problem(
                &span,
                format!("root = \"{text}\" is not an absolute path"),
                "begin it with \"/\", and leave \"..\" out",
            );
            return None;
        };
        let root: PathBuf = Path::new("/").join(names.iter().collect::<PathBuf>());
        self.not_the_hosts_own(&root, &span, "root")?;
        Some(root)
    }

    fn not_the_hosts_own(&mut self, path: &Path, span: &Range<usize>, key: &str) -> Option<()> {
        if is_systems(path) {
            let what = format!("{key} = \"{}\" is the operating system's own", path.display());
            self.problem(span, what, "name the application's own folder, or file");
            return None;
        }
        Some(())
    }

    fn served(&mut self, site: &Table<'_>) -> Option<Pattern> {
        let Some((text, span)) = self.string(site, "served") else {
            return (site.table.get("served").is_none()).then(|| Pattern::literal(Path::new("")));
        };
        let right = "give the document root relative to root, without wildcards; \".\" = the whole root";
        if text.starts_with('/') {
            self.problem(&span, format!("served = \"{text}\" is absolute"), right);
            return None;
        }
        match Pattern::parse(text) {
            Ok(pattern) if pattern.as_path().is_some() => Some(pattern),
            Ok(_) => {
                self.problem(&span, format!("served = \"{text}\" holds a wildcard"), right);
                None
            }
            Err(error) => {
                self.problem(&span, format!("served = \"{text}\": {error}"), right);
                None
            }
        }
    }

    fn url(&mut self, site: &Table<'_>) -> Option<String> {
        let (text, span) = self.string(site, "url")?;
        let host = text.strip_prefix("http://").or_else(|| text.strip_prefix("https://"));
        if host.is_none_or(|host| host.is_empty() || host.starts_with('/')) {
            self.problem(&span, format!("url = \"{text}\" is no web address"), "write http://HOST/ or https://HOST/");
            return None;
        }
        Some(text.to_owned())
    }
}

/// What names are like.
const NAMES: &str = "use letters, digits, \".\", \"_\" and \"-\", beginning with a letter or digit";

/// Whether a site or an outline may be called so: it is the stem of a file.
#[must_use]
pub fn is_name(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-');
    !name.is_empty() && !name.starts_with(['.', '-']) && name.chars().all(plain) && name.len() <= 100
}

#[cfg(test)]
mod tests {
    use super::super::{Grant, Others, Use, Write};
    use super::*;
    use rstest::rstest;

    fn accounts() -> Accounts {
        Accounts::from_texts(
            "root:x:0:0::/:/\nwww-data:x:33:33::/:/\nnginx:x:101:101::/:/\n",
            "root:x:0:\nwww-data:x:33:\nnginx:x:101:\n",
        )
    }

    fn problems(text: &str) -> Vec<String> {
        match read(text, Path::new("berths.toml"), &accounts(), &crate::check::names()) {
            Ok(_) => Vec::new(),
            Err(problems) => problems.to_string().lines().map(Into::into).collect(),
        }
    }

    #[rstest]
    #[case::php_itself("user = \"www-data\"\npath = \".\"\nmay = \"read\"", "PHP runs as www-data")]
    #[case::phps_group(
        "group = \"www-data\"\npath = \".\"\nmay = \"read\"",
        "PHP's account www-data is in group www-data"
    )]
    #[case::unknown("user = \"backup\"\npath = \".\"\nmay = \"read\"", "there is no such user")]
    #[case::two("user = \"nginx\"\ngroup = \"nginx\"\npath = \".\"\nmay = \"read\"", "for a user or for a group")]
    #[case::nobody("path = \".\"\nmay = \"read\"", "for a user or for a group")]
    #[case::no_path("user = \"nginx\"\nmay = \"read\"", "[[access]] has no path")]
    #[case::no_may("user = \"nginx\"\npath = \".\"", "[[access]] has no may")]
    #[case::may_what("user = \"nginx\"\npath = \".\"\nmay = \"execute\"", "may = \"execute\" is unknown")]
    #[case::outside("user = \"nginx\"\npath = \"/var/lib/y\"\nmay = \"read\"", "nor in a part outside it")]
    #[case::a_key("user = \"nginx\"\npath = \".\"\nmay = \"read\"\nuntil = 1", "unknown key \"until\"")]
    #[case::right("group = \"nginx\"\npath = \"/var/lib/x/a\"\nmay = \"write\"", "")]
    fn access_is_for_others_than_php(#[case] lines: &str, #[case] want: &str) {
        let found = problems(&format!(
            "[site]\nroot = \"/srv/x\"\n[accounts]\nphp = \"www-data\"\n[[part]]\npath = \"/var/lib/x\"\nuse = \"store\"\n\
             [[access]]\n{lines}\n"
        ));
        match want {
            "" => assert!(found.is_empty(), "{found:?}"),
            want => assert!(found.iter().any(|line| line.contains(want)), "{found:?}"),
        }
    }

    #[rstest]
    #[case::an_installer("use = \"setup\"", "deep = false is for a directory that stays")]
    #[case::what_goes("use = \"remove\"", "deep = false is for a directory that stays")]
    #[case::a_file("use = \"secret\"\nfrom = \"b\"", "from is for a file")]
    #[case::written("use = \"remove\"\nwrite = \"always\"", "nothing is done with it but to remove it")]
    #[case::right("use = \"store\"", "")]
    fn a_directory_alone_stays(#[case] lines: &str, #[case] want: &str) {
        let found = problems(&format!(
            "[site]\nroot = \"/srv/x\"\n[accounts]\nphp = \"www-data\"\n[[part]]\npath = \"a\"\ndeep = false\n{lines}\n"
        ));
        match want {
            "" => assert!(found.is_empty(), "{found:?}"),
            want => assert!(found.iter().any(|line| line.contains(want)), "{found:?}"),
        }
    }

    const WHOLE: &str = r#"
[site]
name   = "berths"
root   = "/srv/www/berths"
served = "public"
url    = "http://127.0.0.1/"

[accounts]
keeper = "root:root"
php    = "www-data"
web    = "nginx"
others = "none"
grant  = "acl"

[[part]]
path  = "config/settings.php"
use   = "secret"
write = "install"
from  = "config/settings.sample.php"

[[part]]
path = "var/*/cache"
use  = "scratch"
dir_mode = "2770"
file_mode = "u=rw,g=r,o="
owner = "www-data"
group = "nginx"
type = "httpd_cache_t"

[[part]]
path   = "/var/lib/berths"
use    = "store"
create = true

[[accept]]
check  = "everyone-reads"
path   = "public/feeds"
reason = "partners pull these files"
until  = 2027-03-31
"#;

    #[test]
    fn reads_every_key() {
        let site = read(WHOLE, Path::new("/etc/ambrik/sites/x.toml"), &accounts(), &crate::check::names()).unwrap();
        assert_eq!((&*site.name, site.root.to_str()), ("berths", Some("/srv/www/berths")));
        assert_eq!((site.others, site.grant), (Others::None, Grant::Acl));
        assert_eq!((site.php.ids.uid.0, site.web.ids.uid.0, site.keeper.ids.uid.0), (33, 101, 0));
        let [settings, cache, data] = &site.parts[..] else { panic!("three parts") };
        assert_eq!((settings.used_as, settings.write), (Use::Secret, Write::Install));
        assert_eq!(settings.from.as_deref(), Some(Path::new("config/settings.sample.php")));
        assert_eq!(cache.write, Write::Always);
        assert!(cache.overrides.dir_mode.is_some() && cache.overrides.selinux_type.is_some());
        assert!(data.create && data.pattern.text() == "var/lib/berths");
        assert_eq!(site.outside_parts().count(), 1);
        let accept = &site.accepts[0];
        assert!(accept.holds_on("2027-03-31".parse().unwrap()) && !accept.holds_on("2027-04-01".parse().unwrap()));
    }

    #[test]
    fn defaults_are_the_designs() {
        let site = read(
            "[site]\nroot = \"/srv/x\"\n[accounts]\nphp = \"www-data\"",
            Path::new("notices.toml"),
            &accounts(),
            &crate::check::names(),
        );
        let site = site.unwrap();
        assert_eq!((&*site.name, site.keeper.to_string()), ("notices", "root:root".into()));
        assert_eq!(site.web, site.php);
        assert_eq!((site.others, site.grant), (Others::Read, Grant::Owner));
        assert_eq!(site.served.unwrap().text(), "");
    }

    #[test]
    fn every_mistake_at_once_in_the_order_of_the_lines() {
        let text = r#"[site]
root = "srv/berths"
servd = "public"
[accounts]
php = "www-date"
others = "reed"
[[part]]
path = "../above"
use = "stroe"
[[part]]
path = "var"
use = "store"
dir_mode = "0999"
create = "yes"
[[accept]]
check = "everyone-read"
path = "x"
"#;
        let found = problems(text);
        let lines: Vec<&str> = found.iter().map(|p| p.split(':').nth(1).unwrap()).collect();
        assert_eq!(lines, ["2", "3", "5", "6", "8", "9", "13", "14", "15", "16"], "{found:#?}");
        assert!(found[1].contains("unknown key \"servd\" in [site]; did you mean \"served\"?"), "{found:#?}");
    }

    #[rstest]
    #[case::not_toml("[site\nroot=1", "1:", "this is not TOML")]
    #[case::no_site("", "1:1", "there is no [site]")]
    #[case::no_root("[site]\n", "1:1", "[site] has no root")]
    #[case::no_php("[site]\nroot = \"/srv/x\"", "1:1", "does not name php")]
    #[case::number("[site]\nroot = 5", "2:8", "root is not a text")]
    #[case::root_of_host("[site]\nroot = \"/etc\"", "2:8", "is the operating system's own")]
    #[case::up("[site]\nroot = \"/srv/../etc\"", "2:8", "is not an absolute path")]
    #[case::twice(
        "[site]\nroot = \"/srv/x\"\n[accounts]\nphp=\"33\"\n[[part]]\npath=\"a/b\"\nuse=\"log\"\n[[part]]\npath=\"./a//b/\"\nuse=\"store\"",
        "9:6",
        "stands twice (first in line 5)"
    )]
    #[case::above(
        "[site]\nroot = \"/srv/www/x\"\n[accounts]\nphp=\"33\"\n[[part]]\npath=\"/srv/www\"\nuse=\"log\"",
        "6:6",
        "is above root"
    )]
    #[case::create_glob(
        "[site]\nroot = \"/srv/x\"\n[accounts]\nphp=\"33\"\n[[part]]\npath=\"a*\"\nuse=\"log\"\ncreate=true",
        "6:6",
        "create needs one path"
    )]
    #[case::accounts_no_table("accounts = 3\n[site]\nroot = \"/srv/x\"", "1:12", "is no table")]
    #[case::date(
        "[site]\nroot = \"/srv/x\"\n[accounts]\nphp=\"33\"\n[[accept]]\ncheck=\"unknown-owner\"\npath=\".\"\nreason=\"r\"\nuntil=5",
        "9:7",
        "until is no date"
    )]
    fn says_where_and_what(#[case] text: &str, #[case] place: &str, #[case] what: &str) {
        let found = problems(text);
        let hit = found
            .iter()
            .any(|p| p.starts_with(&format!("berths.toml:{place}")) && p.contains(what) && p.contains("; "));
        assert!(hit, "{found:#?}");
    }

    /// What the promises exclude no override may give.
    #[rstest]
    #[case("file_mode = \"0666\"", "gives every account write")]
    #[case("dir_mode = \"0777\"", "gives every account write")]
    #[case("dir_mode = \"1777\"", "gives every account write")]
    #[case("dir_mode = \"a+w\"", "gives every account write")]
    #[case("file_mode = \"4755\"", "another account's rights")]
    #[case("file_mode = \"2755\"", "another account's rights")]
    #[case("dir_mode = \"u+s\"", "another account's rights")]
    #[case("dir_mode = \"2770\"", "")]
    #[case("file_mode = \"g+w\"", "")]
    #[case("file_mode = \"u=rwX,g=rX,o=\"", "")]
    fn overrides_have_limits(#[case] line: &str, #[case] says: &str) {
        let text =
            format!("[site]\nroot = \"/srv/x\"\n[accounts]\nphp=\"33\"\n[[part]]\npath=\"a\"\nuse=\"store\"\n{line}\n");
        let found = problems(&text).join("\n");
        assert!(found.is_empty() == says.is_empty() && found.contains(says), "{found}");
    }

    #[test]
    fn an_absolute_part_below_the_root_is_the_same_part() {
        let text = "[site]\nroot = \"/srv/x\"\n[accounts]\nphp=\"33\"\n[[part]]\npath=\"/srv/x/a\"\nuse=\"log\"\n[[part]]\npath=\"a\"\nuse=\"log\"";
        assert!(problems(text)[0].contains("stands twice"));
    }

    proptest::proptest! {
        #[test]
        fn any_text_is_read_or_refused(text in "(\\[site\\]\n)?([a-z\\[\\]\"=/.* \n]{0,60})") {
            let _ = read(&text, Path::new("x.toml"), &accounts(), &crate::check::names());
        }
    }
}
