//! Reads a site file: every key checked, every mistake of the file collected, each with its line.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::{Path, PathBuf};

use jiff::civil::Date;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::{
    Accept, Access, Detected, Grant, MOST_ACCESS, Others, Overrides, Part, Pattern, PatternError, Problem, Problems,
    Serving, Site, Use, Who, Word, Write, absolute_components, is_systems,
};
use crate::account::{Account, Accounts};
use crate::host::{Detector, Role, Undecided};
use crate::mode::{Mode, ModeSpec};
use crate::nearest::nearest;

const SECTIONS: &[&str] = &["site", "accounts", "selinux", "part", "access", "accept"];
const ACCESS_KEYS: &[&str] = &["user", "group", "path", "may"];
const SELINUX_KEYS: &[&str] = &["switches"];
const SITE_KEYS: &[&str] = &["name", "root", "served", "url", "pages"];
const ACCOUNT_KEYS: &[&str] = &["keeper", "php", "web", "others", "grant"];
const PART_KEYS: &[&str] =
    &["path", "use", "write", "from", "create", "deep", "served", "owner", "group", "dir_mode", "file_mode", "type"];
const ACCEPT_KEYS: &[&str] = &["check", "path", "reason", "until"];

/// Reads the text of the site file `file`; users and groups must be among `accounts`, accepted checks among `checks`.
///
/// Errors: every mistake of the file at once, in the order of their lines.
pub fn read(text: &str, file: &Path, accounts: &Accounts, checks: &[&str]) -> Result<Site, Problems> {
    read_detecting(text, file, accounts, checks, &Detector::blind())
}

/// As [`read`], the accounts that the file leaves out named by `detector`.
pub fn read_detecting(
    text: &str,
    file: &Path,
    accounts: &Accounts,
    checks: &[&str],
    detector: &Detector<'_>,
) -> Result<Site, Problems> {
    let lines = text.match_indices('\n').map(|(at, _)| at).collect();
    let mut reader = SiteReader { text, lines, accounts, checks, detector, detected: Vec::new(), problems: Vec::new() };
    let (document, errors) = DeTable::parse_recoverable(text);
    for error in errors {
        let span = error.span().unwrap_or(0..0);
        let what = format!("this is not TOML: {}", error.message().trim_end().replace('\n', ", "));
        reader.problem(
            &span,
            what,
            "mend the syntax (strings in quotes, tables as [site], [accounts], [[part]], [[accept]])",
        );
    }
    let site = reader.site(&document, file);
    let mut list = reader.problems;
    list.sort_by_key(|p| (p.line, p.column));
    list.dedup();
    match site {
        Some(site) if list.is_empty() => Ok(site),
        _ => Err(Problems { file: file.to_owned(), list }),
    }
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

/// A table of the file with the keys that it may hold.
struct Table<'d> {
    table: &'d DeTable<'d>,
    span: Range<usize>,
    name: &'static str,
}

struct SiteReader<'a> {
    text: &'a str,
    /// Where its lines end.
    lines: Vec<usize>,
    accounts: &'a Accounts,
    checks: &'a [&'a str],
    detector: &'a Detector<'a>,
    detected: Vec<Detected>,
    problems: Vec<Problem>,
}

impl SiteReader<'_> {
    fn problem(&mut self, span: &Range<usize>, what: impl Into<String>, right: impl Into<String>) {
        self.problems.push(Problem::at(self.text, span, what, right));
    }

    fn site(&mut self, document: &Spanned<DeTable<'_>>, file: &Path) -> Option<Site> {
        let top = Table { table: document.get_ref(), span: 0..0, name: "the file" };
        self.known_keys(&top, SECTIONS);
        let empty = DeTable::new();
        let site = self.section(&top, "site", &empty);
        let accounts = self.section(&top, "accounts", &empty);
        self.known_keys(&site, SITE_KEYS);
        self.known_keys(&accounts, ACCOUNT_KEYS);

        let name = self.name(&site, file);
        let root = self.root(&site);
        let served = self.served(&site);
        let url = self.url(&site);
        let pages = self.pages(&site);
        let keeper = self.account(&accounts, "keeper").or_else(|| self.accounts.account("root:root").ok());
        let folder = root.as_ref().zip(served.as_ref()).map(|(root, served)| served.below(root));
        let folder = folder.as_ref().and_then(Pattern::as_path).map(|path| Path::new("/").join(path));
        let php = self.account_or_detected(&accounts, "php", Role::Php, folder.as_deref().or(root.as_deref()));
        let web = self.account_or_detected(&accounts, "web", Role::Web, folder.as_deref()).or_else(|| php.clone());
        let others = self.word(&accounts, "others").unwrap_or(Others::Read);
        let grant = self.word(&accounts, "grant").unwrap_or(Grant::Owner);
        let parts = self.parts(&top, root.as_deref());
        let access = self.accesses(&top, root.as_deref(), &parts, php.as_ref());
        let accepts = self.accepts(&top, root.as_deref());
        let selinux = self.section(&top, "selinux", &empty);
        self.known_keys(&selinux, SELINUX_KEYS);
        let switches = self.switches(&selinux);
        Some(Site {
            name: name?,
            file: file.to_owned(),
            root: root?,
            served,
            serving: Serving::default(),
            making: crate::host::Making::default(),
            php_settings: None,
            url,
            pages,
            keeper_group: keeper.as_ref()?.ids.gid,
            keeper: keeper.and_then(|keeper| self.by_itself(keeper))?,
            php: php?,
            web: web?,
            others,
            grant,
            parts,
            access,
            accepts,
            switches,
            detected: self.detected.clone(),
            exposed: None,
        })
    }

    /// The account that a key names; where it is left out, the one that the host tells for the served folder.
    fn account_or_detected(
        &mut self,
        table: &Table<'_>,
        key: &'static str,
        role: Role,
        folder: Option<&Path>,
    ) -> Option<Account> {
        if table.table.get(key).is_some() {
            return self.account(table, key);
        }
        let found = match folder {
            Some(folder) => self.detector.account(role, folder),
            None => Err(Undecided::Unknown),
        };
        match found {
            Ok(answer) => {
                self.detected.push(Detected { key, user: answer.account.user.clone(), because: answer.because });
                Some(answer.account)
            }
            // Without a web server's account php's stands for it.
            Err(Undecided::Unknown | Undecided::OnlyHints(_)) if key == "web" => None,
            Err(undecided) => {
                self.problem(
                    &table.span,
                    format!("[accounts] does not name {key}, and {undecided}"),
                    format!("name the account: {key} = \"…\" (`ambrik accounts` lists those of this host)"),
                );
                None
            }
        }
    }

    /// The table `key`, or an empty one: a missing required key in it is then reported on the file's first line.
    fn section<'d>(&mut self, top: &Table<'d>, key: &'static str, empty: &'d DeTable<'d>) -> Table<'d> {
        let name = match key {
            "site" => "[site]",
            "selinux" => "[selinux]",
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

    fn known_keys(&mut self, table: &Table<'_>, known: &[&'static str]) {
        for key in table.table.keys() {
            let word: &str = key.get_ref();
            if known.contains(&word) {
                continue;
            }
            let right = match nearest(word, known.iter().copied()) {
                Some(near) => format!("did you mean \"{near}\"?"),
                None => format!("known here: {}", known.join(", ")),
            };
            self.problem(&key.span(), format!("unknown key \"{word}\" in {}", table.name), right);
        }
    }

    fn string<'d>(&mut self, table: &Table<'d>, key: &str) -> Option<(&'d str, Range<usize>)> {
        let value = table.table.get(key)?;
        if let DeValue::String(text) = value.get_ref() {
            return Some((text, value.span()));
        }
        self.problem(&value.span(), format!("{key} is not a text"), format!("write it in quotes: {key} = \"…\""));
        None
    }

    fn required<'d>(&mut self, table: &Table<'d>, key: &str, right: &str) -> Option<(&'d str, Range<usize>)> {
        if table.table.get(key).is_none() {
            self.problem(&table.span, format!("{} has no {key}", table.name), right);
        }
        self.string(table, key)
    }

    /// The texts of a list, each as `read` finds it right.
    fn list<T>(
        &mut self,
        table: &Table<'_>,
        key: &str,
        right: &str,
        read: impl Fn(&str) -> Option<T>,
    ) -> Option<Vec<T>> {
        let value = table.table.get(key)?;
        let DeValue::Array(list) = value.get_ref() else {
            self.problem(&value.span(), format!("{key} is no list"), right);
            return None;
        };
        let mut found = Vec::new();
        for item in list {
            let text = if let DeValue::String(text) = item.get_ref() { read(text) } else { None };
            match text {
                Some(text) => found.push(text),
                None => self.problem(&item.span(), format!("this cannot stand in {key}"), right),
            }
        }
        Some(found)
    }

    /// The policy switches that the application needs.
    fn switches(&mut self, table: &Table<'_>) -> Vec<String> {
        let right = "write switches = [\"httpd_…\"], the names of policy switches that are to be on";
        let name = |text: &str| crate::security_context::is_boolean_name(text).then(|| text.to_owned());
        self.list(table, "switches", right, name).unwrap_or_default()
    }

    /// The pages that are asked before and after a change.
    fn pages(&mut self, table: &Table<'_>) -> Vec<String> {
        let right = "write pages = [\"/\", \"/login.php\"], paths below url";
        let is_page = |text: &str| text.starts_with('/') && text.bytes().all(|byte| byte.is_ascii_graphic());
        let pages = self.list(table, "pages", right, |text| is_page(text).then(|| text.to_owned()));
        if pages.is_some() && table.table.get("url").is_none() {
            let span = table.table.get("pages").map_or(0..0, Spanned::span);
            self.problem(&span, "pages are below url, and there is no url", "add url = \"http://…/\"");
        }
        pages.unwrap_or_default()
    }

    fn boolean(&mut self, table: &Table<'_>, key: &str) -> bool {
        match table.table.get(key).map(|value| (value.get_ref(), value.span())) {
            None => false,
            Some((DeValue::Boolean(value), _)) => *value,
            Some((_, span)) => {
                self.problem(&span, format!("{key} is neither true nor false"), format!("write {key} = true"));
                false
            }
        }
    }

    fn word<W: Word>(&mut self, table: &Table<'_>, key: &str) -> Option<W> {
        let (text, span) = self.string(table, key)?;
        let word = W::of_word(text);
        if word.is_none() {
            let words: Vec<&str> = W::WORDS.iter().map(|(w, _)| *w).collect();
            let right = match nearest(text, words.iter().copied()) {
                Some(near) => format!("did you mean \"{near}\"?"),
                None => format!("it is one of: {}", words.join(", ")),
            };
            self.problem(&span, format!("{key} = \"{text}\" is unknown"), right);
        }
        word
    }

    fn account(&mut self, table: &Table<'_>, key: &str) -> Option<Account> {
        let (text, span) = self.string(table, key)?;
        match self.accounts.account(text) {
            Ok(account) => Some(account),
            Err(unknown) => {
                self.problem(
                    &span,
                    format!("{key} = \"{text}\": {unknown}"),
                    "name a user, or user:group, that exists",
                );
                None
            }
        }
    }

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
        let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-');
        if name.is_empty() || name.starts_with(['.', '-']) || !name.chars().all(plain) || name.len() > 100 {
            self.problem(
                &span,
                format!("\"{name}\" cannot be a site's name"),
                "use letters, digits, \".\", \"_\" and \"-\", beginning with a letter or digit",
            );
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

    /// The tables of an array such as `[[part]]`.
    fn tables<'d>(&mut self, top: &Table<'d>, key: &'static str, name: &'static str) -> Vec<Table<'d>> {
        let Some(value) = top.table.get(key) else { return Vec::new() };
        let DeValue::Array(array) = value.get_ref() else {
            self.problem(&value.span(), format!("\"{key}\" is no list of tables"), format!("write {name} before each"));
            return Vec::new();
        };
        let mut tables = Vec::new();
        for value in array {
            match value.get_ref() {
                DeValue::Table(table) => tables.push(Table { table, span: value.span(), name }),
                _ => self.problem(
                    &value.span(),
                    format!("\"{key}\" is no list of tables"),
                    format!("write {name} before each"),
                ),
            }
        }
        tables
    }

    fn parts(&mut self, top: &Table<'_>, root: Option<&Path>) -> Vec<Part> {
        let mut parts = Vec::new();
        let mut lines: BTreeMap<String, usize> = BTreeMap::new();
        for table in self.tables(top, "part", "[[part]]") {
            self.known_keys(&table, PART_KEYS);
            let path_span = table.table.get("path").map_or(table.span.clone(), Spanned::span);
            let Some(part) = self.part(&table, root) else { continue };
            if let Some(line) = lines.insert(part.pattern.text().to_owned(), part.line) {
                let what = format!("path = \"{}\" stands twice (first in line {line})", part.shown);
                self.problem(&path_span, what, "keep one of the two parts");
            }
            parts.push(part);
        }
        parts
    }

    fn part(&mut self, table: &Table<'_>, root: Option<&Path>) -> Option<Part> {
        let path = self.required(table, "path", "name the file or directory, relative to root: path = \"…\"");
        let used_as: Option<Use> = if table.table.get("use").is_some() {
            self.word(table, "use")
        } else {
            let words: Vec<&str> = Use::WORDS.iter().map(|(w, _)| *w).collect();
            self.problem(
                &table.span,
                "[[part]] has no use",
                format!("say what it is for: use = one of {}", words.join(", ")),
            );
            None
        };
        let write = self.word(table, "write");
        let from = self.sample(table);
        let create = self.boolean(table, "create");
        let deep = table.table.get("deep").is_none() || self.boolean(table, "deep");
        let served = self.boolean(table, "served");
        let overrides = self.overrides(table);
        let (shown, span) = path?;
        let pattern = self.part_pattern(shown, &span, root)?;
        if pattern.as_path().is_none() && (create || from.is_some()) {
            let key = if create { "create" } else { "from" };
            self.problem(
                &span,
                format!("{key} needs one path, and \"{shown}\" holds a wildcard"),
                "name the path without \"*\", \"?\" and \"[\"",
            );
        }
        let used_as = used_as?;
        if served && matches!(used_as, Use::Secret | Use::Log | Use::Hidden | Use::Foreign) {
            self.problem(
                &table.span,
                format!("served = true on a part whose use is {used_as}: the web server never reads that"),
                "leave served out, or give the part another use (store, scratch, code)",
            );
        }
        if !deep && (used_as.goes() || from.is_some()) {
            let why = if from.is_some() { "from is for a file" } else { "what goes, goes with all that is in it" };
            self.problem(&table.span, format!("deep = false is for a directory that stays: {why}"), "leave deep out");
        }
        if used_as == Use::Remove && write.is_some_and(|write| write != Write::Never) {
            self.problem(
                &table.span,
                "write on a part whose use is remove: nothing is done with it but to remove it",
                "leave write out, or give the part another use",
            );
        }
        let line = self.lines.partition_point(|end| *end < table.span.start) + 1;
        let write = write.unwrap_or_else(|| used_as.default_write());
        Some(Part {
            shown: shown.to_owned(),
            pattern,
            used_as,
            write,
            from,
            create,
            deep,
            served,
            overrides,
            line,
            other: None,
        })
    }

    /// The part's paths from `/` on.
    fn part_pattern(&mut self, shown: &str, span: &Range<usize>, root: Option<&Path>) -> Option<Pattern> {
        let pattern = match Pattern::parse(shown) {
            Ok(pattern) => pattern,
            Err(error) => {
                let right = match error {
                    PatternError::Upwards => "a part lies below root, or is absolute; leave \"..\" out",
                    PatternError::Glob(_) => {
                        "* is one component, ** any depth; put a \"\\\" before a \"[\" that means itself"
                    }
                    PatternError::Nul | PatternError::Empty => "name a file or directory",
                };
                self.problem(span, format!("path = \"{}\": {error}", shown.escape_debug()), right);
                return None;
            }
        };
        let root = root?;
        if !shown.starts_with('/') {
            return Some(pattern.below(root));
        }
        let prefix = Path::new("/").join(pattern.literal_prefix());
        if root.starts_with(&prefix) && root != prefix {
            self.problem(
                span,
                format!("path = \"{shown}\" is above root"),
                "a part lies below root, or somewhere else altogether",
            );
            return None;
        }
        self.not_the_hosts_own(&prefix, span, "path")?;
        Some(pattern)
    }

    fn sample(&mut self, table: &Table<'_>) -> Option<PathBuf> {
        let (text, span) = self.string(table, "from")?;
        let sample = Pattern::parse(text).ok().and_then(|p| p.as_path()).filter(|_| !text.starts_with('/'));
        if sample.is_none() {
            self.problem(
                &span,
                format!("from = \"{text}\" is no path below root"),
                "name the sample relative to root, without \"..\" and wildcards",
            );
        }
        sample
    }

    fn overrides(&mut self, table: &Table<'_>) -> Overrides {
        let mut overrides = Overrides::default();
        if let Some((text, span)) = self.string(table, "owner") {
            overrides.owner = self.accounts.user(text).map(|a| a.ids.uid);
            if overrides.owner.is_none() {
                self.problem(&span, format!("owner = \"{text}\": there is no such user"), "name a user that exists");
            }
        }
        if let Some((text, span)) = self.string(table, "group") {
            overrides.group = self.accounts.gid(text);
            if overrides.group.is_none() {
                self.problem(&span, format!("group = \"{text}\": there is no such group"), "name a group that exists");
            }
        }
        overrides.dir_mode = self.mode(table, "dir_mode", Mode::SET_UID);
        overrides.file_mode = self.mode(table, "file_mode", Mode::SET_UID | Mode::SET_GID);
        if let Some((text, span)) = self.string(table, "type") {
            if !text.is_empty() && text.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_' || b == b'.') {
                overrides.selinux_type = Some(text.to_owned());
            } else {
                self.problem(
                    &span,
                    format!("type = \"{text}\" is no SELinux type"),
                    "letters, digits and \"_\", as in type = \"httpd_sys_content_t\"",
                );
            }
        }
        overrides
    }

    /// A mode that an override sets; what no site file may give is an error: write to all others, and these special bits.
    fn mode(&mut self, table: &Table<'_>, key: &str, special: u16) -> Option<ModeSpec> {
        let (text, span) = self.string(table, key)?;
        match text.parse::<ModeSpec>() {
            Ok(mode) => {
                // Whatever the solver finds: it never gives others write, nor these bits.
                let bases = [0, 0o770, 0o775, 0o2770].map(Mode::of_st_mode);
                let made = bases.map(|base| mode.apply(base.without(special), true));
                let wrong = if made.iter().any(|mode| mode.has(0o002)) {
                    "gives every account write"
                } else if made.iter().any(|mode| mode.has(special)) {
                    "has whoever runs it run with another account's rights"
                } else {
                    return Some(mode);
                };
                self.problem(
                    &span,
                    format!("{key} = \"{text}\" {wrong}, which no site may need"),
                    "leave that out; grant = \"group\" or \"acl\", or another use, gives a single account write",
                );
                None
            }
            Err(error) => {
                let text = error.to_string();
                let (what, right) = text.split_once(": ").unwrap_or((&text, "write octal digits"));
                self.problem(&span, format!("{key}: {what}"), right);
                None
            }
        }
    }

    fn accesses(&mut self, top: &Table<'_>, root: Option<&Path>, parts: &[Part], php: Option<&Account>) -> Vec<Access> {
        let tables = self.tables(top, "access", "[[access]]");
        if let Some(table) = tables.get(MOST_ACCESS) {
            let right = "give a group access instead of its members one by one";
            self.problem(&table.span, format!("there are more than {MOST_ACCESS} [[access]]"), right);
        }
        tables.iter().filter_map(|table| self.access(table, root, parts, php)).collect()
    }

    fn access(
        &mut self,
        table: &Table<'_>,
        root: Option<&Path>,
        parts: &[Part],
        php: Option<&Account>,
    ) -> Option<Access> {
        self.known_keys(table, ACCESS_KEYS);
        let who = self.who(table, php);
        let path = self.required(table, "path", "name a part, or a path in one; \".\" = the whole site");
        if table.table.get("may").is_none() {
            self.problem(&table.span, "[[access]] has no may", "say what it may: may = \"read\" or \"write\"");
        }
        let may = self.word(table, "may");
        let (shown, span) = path?;
        let pattern = match Pattern::parse(shown) {
            Ok(pattern) if !shown.starts_with('/') => pattern.below(root?),
            Ok(pattern) => pattern,
            Err(error) => {
                let right = "name a path relative to root, or one in a part outside it";
                self.problem(&span, format!("path = \"{}\": {error}", shown.escape_debug()), right);
                return None;
            }
        };
        let prefix = Path::new("/").join(pattern.literal_prefix());
        let outside = || parts.iter().filter(|part| part.shown.starts_with('/'));
        if !root.is_some_and(|root| prefix.starts_with(root)) && !outside().any(|part| part.pattern.covers(&prefix)) {
            let right = "name a part, or a path in one";
            self.problem(&span, format!("path = \"{shown}\" is neither below root nor in a part outside it"), right);
            return None;
        }
        let whole = root.is_some_and(|root| pattern.as_path().is_some_and(|path| Path::new("/").join(path) == root));
        Some(Access { who: who?, may: Some(may?), patterns: vec![pattern], whole })
    }

    /// Whom a table gives access: not PHP, and nobody through whom PHP would have it.
    fn who(&mut self, table: &Table<'_>, php: Option<&Account>) -> Option<Who> {
        let (user, group) = (self.string(table, "user"), self.string(table, "group"));
        let (who, span, what) = match (user, group) {
            (Some((user, span)), None) => {
                let account = self.accounts.user(user);
                (account.map(Who::User), span, format!("user = \"{user}\": there is no such user"))
            }
            (None, Some((group, span))) => {
                let gid = self.accounts.gid(group).filter(|gid| self.accounts.group_name(*gid).is_some());
                let named = gid.map(|gid| Who::Group(group.to_owned(), gid));
                (named, span, format!("group = \"{group}\": there is no such group"))
            }
            _ => {
                let right = "name one account: user = \"…\", or group = \"…\"";
                self.problem(&table.span, "[[access]] is for a user or for a group", right);
                return None;
            }
        };
        let Some(who) = who else {
            self.problem(&span, what, "name one that exists");
            return None;
        };
        let is_phps = match &who {
            Who::User(account) => php.is_some_and(|php| php.ids.uid == account.ids.uid),
            Who::Group(_, gid) => php.is_some_and(|php| php.ids.is_in(*gid)),
        };
        if is_phps {
            let php = php.map(|php| php.user.as_str()).unwrap_or_default();
            let what = match &who {
                Who::User(_) => format!("PHP runs as {php}: what it may is said by the parts, and by nothing else"),
                Who::Group(..) => format!("PHP's account {php} is in {who}, and would get all that the group gets"),
            };
            self.problem(&span, what, "name an account, or a group, that PHP is no member of");
            return None;
        }
        Some(who)
    }

    fn accepts(&mut self, top: &Table<'_>, root: Option<&Path>) -> Vec<Accept> {
        let tables = self.tables(top, "accept", "[[accept]]");
        tables.iter().filter_map(|table| self.accept(table, root)).collect()
    }

    fn accept(&mut self, table: &Table<'_>, root: Option<&Path>) -> Option<Accept> {
        self.known_keys(table, ACCEPT_KEYS);
        let check = self.required(table, "check", "name the check whose finding is accepted");
        if let Some((name, span)) = &check
            && !self.checks.contains(&&**name)
        {
            let right = match nearest(name, self.checks.iter().copied()) {
                Some(near) => format!("did you mean \"{near}\"?"),
                None => "docs/checks.md lists them".to_owned(),
            };
            self.problem(span, format!("there is no check \"{name}\""), right);
        }
        let path = self.required(table, "path", "name the path for which it is accepted; \".\" = the whole site");
        let reason = self.required(table, "reason", "say why, for whoever reads this next");
        let until = self.date(table);
        let (shown, span) = path?;
        let pattern = match Pattern::parse(shown) {
            Ok(pattern) if shown.starts_with('/') => Some(pattern),
            Ok(pattern) => root.map(|root| pattern.below(root)),
            Err(error) => {
                self.problem(
                    &span,
                    format!("path = \"{shown}\": {error}"),
                    "name a path relative to root, or an absolute one",
                );
                None
            }
        };
        Some(Accept { check: check?.0.to_owned(), pattern: pattern?, reason: reason?.0.to_owned(), until })
    }

    fn date(&mut self, table: &Table<'_>) -> Option<Date> {
        let value = table.table.get("until")?;
        let date = match value.get_ref() {
            DeValue::Datetime(toml::value::Datetime { date: Some(date), .. }) => {
                let (year, month, day) = (date.year.try_into(), date.month.try_into(), date.day.try_into());
                match (year, month, day) {
                    (Ok(year), Ok(month), Ok(day)) => Date::new(year, month, day).ok(),
                    _ => None,
                }
            }
            DeValue::String(text) => text.parse().ok(),
            _ => None,
        };
        if date.is_none() {
            self.problem(&value.span(), "until is no date", "write until = 2027-03-31");
        }
        date
    }
}

#[cfg(test)]
mod tests {
    use super::super::Write;
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
