//! What a configuration that was read says of what is served.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use super::super::files::Files;
use super::super::php_settings;
use super::super::program::Family;
use super::super::{Address, PhpThrough, Place, ServedFolder, Server};
use super::applies::{applies, bare_id, first, is_direct, is_of, is_servers_own};
use super::{ApacheLine, Layout, Section};

/// All lines of a configuration, conditions decided.
pub(super) struct Configuration<'f, 'h> {
    pub(super) files: &'f mut Files<'h>,
    pub(super) layout: &'f Layout<'f>,
    pub(super) umask: Option<(u16, Place)>,
    pub(super) lines: Vec<ApacheLine>,
    pub(super) php_inside: bool,
}

impl Configuration<'_, '_> {
    pub(super) fn server(mut self) -> Server {
        let global = |name: &str| {
            let line = self.lines.iter().rev().find(|line| line.sections.is_empty() && line.name == name)?;
            Some((line.arguments.first()?.clone(), line.at.clone()))
        };
        let account = match (global("user"), global("group")) {
            (Some((user, at)), Some((group, _))) => Some((format!("{}:{}", bare_id(&user), bare_id(&group)), at)),
            (Some((user, at)), None) => Some((bare_id(&user).to_owned(), at)),
            (None, _) => None,
        };
        let listens: Vec<String> = self.lines.iter().filter(|line| line.name == "listen").filter_map(first).collect();
        let mut hosts: Vec<Section> = Vec::new();
        for line in &self.lines {
            let host = line.sections.iter().find(|section| section.name == "virtualhost");
            if let Some(host) = host.filter(|host| !hosts.contains(host)) {
                hosts.push(host.clone());
            }
        }
        let mut folders = Vec::new();
        // The main server answers only where no virtual host does.
        if hosts.is_empty() {
            folders.extend(self.folders(None, &listens));
        }
        for host in &hosts {
            folders.extend(self.folders(Some(host), &listens));
        }
        Server {
            family: Family::of(&super::APACHE),
            program: self.layout.program,
            account,
            main: Place::new(self.layout.main, 0),
            folders,
            umask: self.umask,
        }
    }

    /// The document root of a virtual host (or of the main server), and its aliases.
    pub(super) fn folders(&mut self, host: Option<&Section>, listens: &[String]) -> Vec<ServedFolder> {
        let own: Vec<ApacheLine> = self.lines.iter().filter(|line| is_of(line, host)).cloned().collect();
        let direct = |name: &'static str| own.iter().filter(move |line| line.name == name && is_direct(line));
        let mut names: Vec<String> = direct("servername").filter_map(first).collect();
        names.extend(direct("serveralias").flat_map(|line| line.arguments.clone()));
        let account = direct("assignuserid").chain(direct("suexecusergroup")).find_map(|line| {
            let [user, group, ..] = line.arguments.as_slice() else { return None };
            Some((format!("{}:{}", bare_id(user), bare_id(group)), line.at.clone()))
        });
        let listens = match host {
            Some(host) => host.argument.split_whitespace().map(Into::into).collect(),
            None => listens.to_vec(),
        };
        let mut roots: Vec<(String, PathBuf, Place)> = direct("documentroot")
            .filter_map(|line| Some((String::new(), self.layout.root.join(line.arguments.first()?), line.at.clone())))
            .collect();
        // An alias of the whole server holds for every virtual host.
        let everywhere =
            self.lines.iter().filter(|line| line.name == "alias" && (is_of(line, None) || is_of(line, host)));
        let aliases =
            everywhere.filter(|line| is_direct(line) && !line.arguments.first().is_some_and(|u| is_servers_own(u)));
        roots.extend(aliases.filter_map(|line| match line.arguments.as_slice() {
            [url, folder] => Some((url.trim_end_matches('/').to_owned(), PathBuf::from(folder), line.at.clone())),
            _ => None,
        }));
        let index: Vec<String> = direct("directoryindex").flat_map(|line| line.arguments.clone()).collect();
        let mut folders = Vec::new();
        for (below, path, at) in roots {
            let through = self.through(host, &path, &below);
            let names = match (names.is_empty(), below.is_empty()) {
                (true, true) => Vec::new(),
                (true, false) => vec![below.clone()],
                (false, _) => names.iter().map(|name| format!("{name}{below}")).collect(),
            };
            let path = PathBuf::from(path.to_string_lossy().trim_end_matches('/'));
            let overrides = self.overrides(&path, &below);
            let settings = self.php_settings(host, &path, &below);
            let without_php = if through == PhpThrough::Nothing { Vec::new() } else { self.without_php(host, &path) };
            folders.push(ServedFolder {
                denied: self.denied(&path),
                without_php,
                path,
                url_path: below,
                names,
                listens: listens.clone(),
                index: index.clone(),
                program: self.layout.program.into(),
                through,
                account: account.clone(),
                overrides,
                settings,
                at,
            });
        }
        folders
    }

    /// Whether `.htaccess` files in a folder are heeded: what the longest section that applies says (`AllowOverride`; nothing
    /// by itself).
    pub(super) fn overrides(&self, folder: &Path, url: &str) -> bool {
        let lines = self.lines.iter().filter(|line| matches!(&*line.name, "allowoverride" | "allowoverridelist"));
        let applying = lines.filter_map(|line| Some((applies(line, folder, url)?, line)));
        let last = applying.max_by_key(|(place, _)| *place);
        last.is_some_and(|(_, line)| !line.arguments.iter().all(|word| word.eq_ignore_ascii_case("none")))
    }

    /// What the configuration sets of PHP's settings for a folder, the narrowest section last.
    pub(super) fn php_settings(
        &self,
        host: Option<&Section>,
        folder: &Path,
        url: &str,
    ) -> Vec<php_settings::SettingLine> {
        let own = self.lines.iter().filter(|line| is_of(line, host) || is_of(line, None));
        let mut found: Vec<((u8, usize), php_settings::SettingLine)> = own
            .filter_map(|line| {
                let set = php_settings::SettingLine::of_server(&line.name, &line.arguments, &line.at)?;
                Some((applies(line, folder, url)?, set))
            })
            .collect();
        found.sort_by_key(|(place, _)| *place);
        found.into_iter().map(|(_, line)| line).collect()
    }

    /// How PHP files in `folder` are run: the last of the sections that apply decides, in the order in which the
    /// server merges them (directories from short to long, then files, then locations).
    pub(super) fn through(&mut self, host: Option<&Section>, folder: &Path, url: &str) -> PhpThrough {
        let mut said: Vec<((u8, usize), ApacheLine)> = Vec::new();
        for line in &self.lines {
            let of_host = is_of(line, host) || is_of(line, None);
            if of_host && let Some(rank) = applies(line, folder, url) {
                said.push((rank, line.clone()));
            }
        }
        said.sort_by_key(|(rank, _)| *rank);
        let mut through = PhpThrough::Nothing;
        for (_, line) in said {
            if let Some(next) = self.handler(&line) {
                through = next;
            }
        }
        through
    }

    /// What a line says of how PHP files are run.
    pub(super) fn handler(&mut self, line: &ApacheLine) -> Option<PhpThrough> {
        let first = line.arguments.first()?;
        let at = line.at.clone();
        match line.name.as_str() {
            "sethandler" => self.handled_by(first, at),
            "addhandler" | "addtype" if line.arguments[1..].iter().any(|ending| ending.trim_matches('.') == "php") => {
                self.handled_by(first, at)
            }
            "proxypassmatch" | "proxypass" => {
                let whole = first == "/" && line.name == "proxypass";
                let target = line.arguments.get(1)?;
                if first.contains("php") || (whole && target.contains("fcgi:")) {
                    self.handled_by(&format!("proxy:{target}"), at)
                } else {
                    (whole && target.starts_with("http")).then(|| PhpThrough::Server(target.clone(), at))
                }
            }
            "php_admin_flag" | "php_flag" => {
                let off =
                    line.arguments.get(1).is_some_and(|value| matches!(&*value.to_ascii_lowercase(), "off" | "0"));
                (first == "engine" && off && self.php_inside).then_some(PhpThrough::Nothing)
            }
            "fcgidwrapper" | "fastcgiexternalserver" | "fastcgiserver" => {
                let says = format!("{} {}: PHP behind it is not followed", line.name, line.arguments.join(" "));
                self.files.note(&at, says.clone());
                Some(PhpThrough::Unclear(says, at))
            }
            _ => None,
        }
    }

    pub(super) fn handled_by(&mut self, handler: &str, at: Place) -> Option<PhpThrough> {
        if let Some(target) = handler.strip_prefix("proxy:") {
            let address = match target.split_once('|') {
                Some((socket, _)) => Address::read(socket),
                None => target
                    .strip_prefix("fcgi://")
                    .map(|rest| rest.split('/').next().unwrap_or(rest))
                    .and_then(Address::read),
            };
            if let Some(address) = address {
                return Some(PhpThrough::Socket(address, at));
            }
            let says = format!("{handler}: not an address that is understood");
            self.files.note(&at, says.clone());
            return Some(PhpThrough::Unclear(says, at));
        }
        let is_php = handler.starts_with("application/x-httpd-php")
            || matches!(handler, "php-script" | "php5-script" | "php7-script");
        if is_php && !handler.ends_with("-source") {
            return self.php_inside.then_some(PhpThrough::Inside(at));
        }
        matches!(handler, "None" | "none" | "default-handler").then_some(PhpThrough::Nothing)
    }

    /// The folders below `root` for which a `<Directory>` section switches PHP off.
    pub(super) fn without_php(&mut self, host: Option<&Section>, root: &Path) -> Vec<PathBuf> {
        let sections = self.lines.iter().flat_map(|line| &line.sections).filter(|section| section.name == "directory");
        let folders: BTreeSet<PathBuf> =
            sections.map(|section| PathBuf::from(section.argument.trim_end_matches('/'))).collect();
        let below = folders.into_iter().filter(|folder| folder.starts_with(root) && folder != root);
        below.filter(|folder| self.through(host, folder, "") == PhpThrough::Nothing).collect()
    }

    /// The folders below `root` that `<Directory>` sections refuse.
    pub(super) fn denied(&self, root: &Path) -> Vec<PathBuf> {
        let refused = self.lines.iter().filter(|line| match line.name.as_str() {
            "require" => line.arguments == ["all", "denied"],
            "deny" => line.arguments == ["from", "all"],
            _ => false,
        });
        let folders = refused.filter_map(|line| {
            let [.., section] = line.sections.as_slice() else { return None };
            (section.name == "directory").then(|| PathBuf::from(section.argument.trim_end_matches('/')))
        });
        folders.filter(|folder| folder.starts_with(root)).collect()
    }
}
