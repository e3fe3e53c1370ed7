//! The configuration of nginx: its workers' account, the folders that it serves, and where it sends PHP.

mod parse;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::files::Files;
use super::program::{Family, Keep, Launches, Options, Program};
use super::{Address, PhpThrough, Place, Role, ServedFolder, Server};
use parse::NginxReader;

/// nginx(8).
pub(super) static NGINX: Program = Program {
    in_units: &["nginx"],
    has_workers: true,
    brings_group: true,
    options: Options {
        main: &["-c"],
        prefix: &["-p"],
        names: &["nginx.conf", "conf/nginx.conf", "etc/nginx.conf"],
        usual: &["/etc/nginx/nginx.conf", "/usr/local/nginx/conf/nginx.conf", "/usr/local/etc/nginx/nginx.conf"],
        bases: &["/usr/share/nginx", "/etc/nginx", "/usr/local/nginx"],
    },
    read: Some(read),
    lines: Some(lines),
    read_again: "nginx -t && nginx -s reload",
    ..Program::named("nginx", Role::Web, |name| name == "nginx")
};

/// Includes and blocks are followed so deep.
const DEEPEST: usize = 16;

/// One directive, its includes already in place.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Directive {
    name: String,
    arguments: Vec<String>,
    block: Option<Vec<Directive>>,
    at: Place,
}

/// The configuration of every nginx found: in the usual places, and those that `started` ones read.
fn read(files: &mut Files<'_>, launches: &Launches) -> Vec<Server> {
    let mut servers: Vec<Server> = Vec::new();
    let usual = NGINX.options.usual.iter().map(PathBuf::from);
    for main in launches.mains.iter().map(|(main, _)| main.clone()).chain(usual) {
        if servers.iter().all(|server| server.main.file != main) {
            servers.extend(server(files, &main));
        }
    }
    servers
}

fn server(files: &mut Files<'_>, main: &Path) -> Option<Server> {
    let text = files.text(main)?;
    let base = main.parent().unwrap_or(Path::new("/")).to_owned();
    let top = NginxReader { files: &mut *files, base: &base, deep: DEEPEST }.directives(&text, main);
    let user = top.iter().find(|directive| directive.name == "user");
    let account = user.and_then(|user| match user.arguments.as_slice() {
        [name] => Some((name.clone(), user.at.clone())),
        [name, group] => Some((format!("{name}:{group}"), user.at.clone())),
        _ => None,
    });
    let http = top.iter().filter(|directive| directive.name == "http").filter_map(|http| http.block.as_deref());
    let mut folders = Vec::new();
    for http in http {
        let upstreams = upstreams(http);
        for server in http.iter().filter(|directive| directive.name == "server") {
            let Some(block) = server.block.as_deref() else { continue };
            folders.extend(ServerBlock::new(http, block, server.at.clone(), &upstreams).folders(files));
        }
    }
    Some(Server {
        family: Family::of(&NGINX),
        program: NGINX.name,
        account,
        main: Place::new(main, 0),
        folders,
        umask: None,
    })
}

/// What keeps something from visitors.
fn lines(keep: Keep, _served: &str, path: &str) -> String {
    match keep {
        Keep::PhpFromRunning => {
            format!("location ^~ /{path}/ {{\n    location ~* \\.(php\\d?|phtml|phar|inc)$ {{ return 403; }}\n}}")
        }
        Keep::FromServing => format!("location ^~ /{path} {{ return 404; }}"),
        Keep::FromListing => format!("location ^~ /{path}/ {{ autoindex off; }}"),
    }
}

/// The names that stand for addresses: `upstream NAME { server ADDRESS; }`.
fn upstreams(http: &[Directive]) -> BTreeMap<String, Vec<String>> {
    let of = |block: &[Directive]| -> Vec<String> {
        let servers = block.iter().filter(|directive| directive.name == "server");
        servers.filter_map(|directive| directive.arguments.first().cloned()).collect()
    };
    let all = http.iter().filter(|directive| directive.name == "upstream");
    all.filter_map(|directive| Some((directive.arguments.first()?.clone(), of(directive.block.as_deref()?)))).collect()
}

/// One `server` block.
struct ServerBlock<'d> {
    block: &'d [Directive],
    at: Place,
    /// What `http` says of `root`.
    root: Option<String>,
    upstreams: &'d BTreeMap<String, Vec<String>>,
    /// What `set` says.
    variables: BTreeMap<String, String>,
}

/// Where a location is in the tree of them.
#[derive(Clone)]
struct BlockContext {
    /// The document root that holds here.
    root: Option<String>,
    /// Where PHP goes, where a location around says it.
    through: PhpThrough,
}

impl<'d> ServerBlock<'d> {
    fn new(
        http: &[Directive],
        block: &'d [Directive],
        at: Place,
        upstreams: &'d BTreeMap<String, Vec<String>>,
    ) -> Self {
        let sets = block.iter().filter(|directive| directive.name == "set");
        let variables = sets.filter_map(|directive| match directive.arguments.as_slice() {
            [name, value] => Some((name.trim_start_matches('$').to_owned(), value.clone())),
            _ => None,
        });
        let root = first_argument(http, "root").map(|(root, _)| root);
        Self { block, at, root, upstreams, variables: variables.collect() }
    }

    fn all(&self, name: &str) -> Vec<String> {
        let named = self.block.iter().filter(|directive| directive.name == name);
        named.flat_map(|directive| directive.arguments.iter().cloned()).collect()
    }

    fn folders(&self, files: &mut Files<'_>) -> Vec<ServedFolder> {
        let names: Vec<String> = self.all("server_name").into_iter().filter(|name| name != "_").collect();
        let listens = self.block.iter().filter(|directive| directive.name == "listen");
        let listens: Vec<String> = listens.filter_map(|directive| directive.arguments.first().cloned()).collect();
        let mut folders = Vec::new();
        let around = BlockContext { root: self.root.clone(), through: PhpThrough::Nothing };
        self.context(files, self.block, &around, "", &mut folders);
        for (folder, below) in &mut folders {
            folder.names = if names.is_empty() && below.is_empty() {
                Vec::new()
            } else if names.is_empty() {
                vec![below.clone()]
            } else {
                names.iter().map(|name| format!("{name}{below}")).collect()
            };
            folder.listens.clone_from(&listens);
        }
        folders.into_iter().map(|(folder, _)| folder).collect()
    }

    /// The folders that a server or location serves, each with the path that leads to it.
    fn context(
        &self,
        files: &mut Files<'_>,
        block: &[Directive],
        around: &BlockContext,
        below: &str,
        folders: &mut Vec<(ServedFolder, String)>,
    ) {
        let own = first_argument(block, "root").or_else(|| first_argument(block, "alias"));
        let root = own.as_ref().map(|(root, _)| root.clone()).or_else(|| around.root.clone());
        let through = self.through(block).unwrap_or_else(|| around.through.clone());
        let inside = BlockContext { root, through };
        if let PhpThrough::Unclear(says, at) = &inside.through {
            files.note(at, says.clone());
        }
        let at = own.map_or_else(|| self.at.clone(), |(_, at)| at);
        if let Some(root) = self.own_root(block, &inside, below) {
            match self.filled_in(&root) {
                Some(path) if path.starts_with('/') => {
                    let path = PathBuf::from(path);
                    if !folders.iter().any(|(folder, _)| folder.path == path) {
                        let folder = ServedFolder {
                            denied: denied(block, &path),
                            overrides: false,
                            settings: Vec::new(),
                            without_php: without_php(block, &path),
                            path,
                            url_path: below.to_owned(),
                            names: Vec::new(),
                            listens: Vec::new(),
                            index: self.all("index"),
                            program: NGINX.name.into(),
                            through: inside.through.clone(),
                            account: None,
                            at,
                        };
                        folders.push((folder, below.to_owned()));
                    }
                }
                Some(path) => files.note(&at, format!("root {path}: relative to a folder set when nginx was built")),
                None => files.note(&at, format!("root {root}: made of variables, so the folder is not known")),
            }
        }
        for location in block.iter().filter(|directive| directive.name == "location") {
            let Some(nested) = location.block.as_deref() else { continue };
            let below = match location.arguments.as_slice() {
                [path] if path.starts_with('/') && path != "/" => path.trim_end_matches('/').to_owned(),
                [sign, path] if (sign == "^~" || sign == "=") && path != "/" => path.trim_end_matches('/').to_owned(),
                _ => below.to_owned(),
            };
            self.context(files, nested, &inside, &below, folders);
        }
    }

    /// The folder that this context serves of its own, where it is the server's or one set just here.
    fn own_root(&self, block: &[Directive], inside: &BlockContext, below: &str) -> Option<String> {
        let own = first_argument(block, "root").or_else(|| first_argument(block, "alias"));
        let is_server = std::ptr::eq(block, self.block);
        let root = if is_server { inside.root.clone() } else { own.as_ref().map(|(root, _)| root.clone()) }?;
        // `root` in a location is what stands before the whole path; `alias` stands for it.
        let adds_path = !is_server && first_argument(block, "alias").is_none();
        let regex = below.is_empty();
        Some(if adds_path && !regex { format!("{}{below}", root.trim_end_matches('/')) } else { root })
    }

    /// Where PHP requests of this block go: said by itself, or by a location in it that is for PHP.
    fn through(&self, block: &[Directive]) -> Option<PhpThrough> {
        if let Some((to, at)) = first_argument(block, "fastcgi_pass") {
            return Some(self.address(&to, at));
        }
        let locations = block.iter().filter(|directive| directive.name == "location");
        let of_php = |directive: &&Directive| directive.arguments.last().is_some_and(|pattern| pattern.contains("php"));
        let of_all = |directive: &&Directive| directive.arguments.iter().any(|word| word == "/" || word == "@php");
        let php = locations.clone().filter(of_php).chain(locations.filter(of_all));
        let found = php.filter_map(|location| {
            let nested = location.block.as_deref()?;
            let (to, at) = first_argument(nested, "fastcgi_pass")?;
            Some(self.address(&to, at))
        });
        let passed = || first_argument(block, "proxy_pass").map(|(to, at)| PhpThrough::Server(to, at));
        found.into_iter().next().or_else(passed).or_else(|| {
            let all = block.iter().find(|d| d.name == "location" && d.arguments.last().is_some_and(|a| a == "/"))?;
            first_argument(all.block.as_deref()?, "proxy_pass").map(|(to, at)| PhpThrough::Server(to, at))
        })
    }

    fn address(&self, to: &str, at: Place) -> PhpThrough {
        let Some(to) = self.filled_in(to) else {
            return PhpThrough::Unclear(format!("fastcgi_pass {to}: made of variables"), at);
        };
        let to = match self.upstreams.get(&to).map(Vec::as_slice) {
            Some([one]) => one.clone(),
            Some([]) | None => to,
            Some(several) => {
                return PhpThrough::Unclear(format!("{to} stands for {} addresses", several.len()), at);
            }
        };
        match Address::read(&to) {
            Some(address) => PhpThrough::Socket(address, at),
            None => PhpThrough::Unclear(format!("fastcgi_pass {to}: not an address that is understood"), at),
        }
    }

    /// A value with the variables that `set` gives; nothing where others are in it.
    fn filled_in(&self, value: &str) -> Option<String> {
        let mut filled = String::new();
        let mut rest = value;
        while let Some((before, after)) = rest.split_once('$') {
            filled.push_str(before);
            let braced = after.strip_prefix('{').and_then(|inner| inner.split_once('}'));
            let (name, next) = braced.unwrap_or_else(|| {
                let end = after.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(after.len());
                after.split_at(end)
            });
            filled.push_str(self.variables.get(name)?);
            rest = next;
        }
        filled.push_str(rest);
        Some(filled)
    }
}

/// The folders below `root` that a location refuses.
fn denied(block: &[Directive], root: &Path) -> Vec<PathBuf> {
    let locations = block.iter().filter(|directive| directive.name == "location");
    let refused = locations.filter_map(|location| {
        let path = location.arguments.last().filter(|path| path.starts_with('/'))?;
        refuses(location.block.as_deref()?).then(|| root.join(path.trim_matches('/')))
    });
    refused.collect()
}

/// Whether a location's block answers everything with a refusal.
fn refuses(block: &[Directive]) -> bool {
    block.iter().any(|directive| match directive.name.as_str() {
        "deny" => directive.arguments == ["all"],
        "internal" => true,
        "return" => directive.arguments.first().is_some_and(|code| code == "403" || code == "404"),
        _ => false,
    })
}

/// The folders below `root` in which PHP files are not run: a location of theirs keeps them from the one that runs PHP.
fn without_php(block: &[Directive], root: &Path) -> Vec<PathBuf> {
    let of_php = |location: &Directive| location.arguments.last().is_some_and(|pattern| pattern.contains("php"));
    let mut folders = Vec::new();
    let mut php_comes_later = true;
    for location in block.iter().filter(|directive| directive.name == "location") {
        let Some(nested) = location.block.as_deref() else { continue };
        let words: Vec<&str> = location.arguments.iter().map(String::as_str).collect();
        let folder = match words.as_slice() {
            // Regular expressions are asked in their order.
            ["~" | "~*", pattern] => {
                php_comes_later &= !(of_php(location) && runs_php(nested));
                (php_comes_later && of_php(location) && refuses(nested)).then(|| anchored(pattern)).flatten()
            }
            // The longest prefix keeps them from being asked, with `^~`.
            ["^~", path] if !runs_php(nested) => Some(*path),
            // Those inside a prefix are asked before those around it.
            [path] | ["^~", path] if path.starts_with('/') => {
                let mut inner = nested.iter().filter(|d| d.name == "location" && of_php(d));
                inner.any(|d| d.block.as_deref().is_some_and(refuses)).then_some(*path)
            }
            _ => None,
        };
        folders.extend(folder.map(|path| root.join(path.trim_matches('/'))));
    }
    folders
}

/// Whether a location's block, or one inside it, has PHP run.
fn runs_php(block: &[Directive]) -> bool {
    block.iter().any(|d| d.name == "fastcgi_pass" || d.block.as_deref().is_some_and(runs_php))
}

/// The folder that a regular expression like `^/uploads/.*\.php$` is about.
fn anchored(pattern: &str) -> Option<&str> {
    let path = pattern.strip_prefix("^/")?;
    let literal = path.find(|c: char| !(c.is_ascii_alphanumeric() || "/_-".contains(c))).unwrap_or(path.len());
    let (folder, _) = path[..literal].rsplit_once('/')?;
    (!folder.is_empty()).then_some(folder)
}

fn first_argument(block: &[Directive], name: &str) -> Option<(String, Place)> {
    let directive = block.iter().find(|directive| directive.name == name)?;
    Some((directive.arguments.first()?.clone(), directive.at.clone()))
}
