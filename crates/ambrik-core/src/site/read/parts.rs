//! Parts, further accounts and accepted exceptions.

use std::collections::BTreeMap;
use std::ops::Range;
use std::path::{Path, PathBuf};

use jiff::civil::Date;
use toml::Spanned;
use toml::de::DeValue;

use super::super::{Accept, Access, Overrides, Part, Pattern, PatternError, Use, Who, Word, Write};
use super::{ACCEPT_KEYS, ACCESS_KEYS, LayerKind, PART_KEYS, SiteReader, Table};
use crate::account::Account;
use crate::mode::{Mode, ModeSpec};
use crate::nearest::nearest;

impl SiteReader<'_> {
    /// The tables of an array such as `[[part]]`.
    pub(super) fn tables<'d>(&mut self, top: &Table<'d>, key: &'static str, name: &'static str) -> Vec<Table<'d>> {
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

    pub(super) fn parts(&mut self, top: &Table<'_>, root: Option<&Path>) -> Vec<Part> {
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

    pub(super) fn part(&mut self, table: &Table<'_>, root: Option<&Path>) -> Option<Part> {
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
        let line = self.line_of(table.span.start);
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
            file: self.source.file.clone(),
            line,
            other: None,
        })
    }

    /// The part's paths from `/` on.
    pub(super) fn part_pattern(&mut self, shown: &str, span: &Range<usize>, root: Option<&Path>) -> Option<Pattern> {
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

    pub(super) fn sample(&mut self, table: &Table<'_>) -> Option<PathBuf> {
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

    pub(super) fn overrides(&mut self, table: &Table<'_>) -> Overrides {
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
    pub(super) fn mode(&mut self, table: &Table<'_>, key: &str, special: u16) -> Option<ModeSpec> {
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

    pub(super) fn accesses(
        &mut self,
        top: &Table<'_>,
        root: Option<&Path>,
        parts: &[Part],
        php: Option<&Account>,
        kind: LayerKind,
    ) -> Vec<Access> {
        let tables = self.tables(top, "access", "[[access]]");
        tables.iter().filter_map(|table| self.access(table, root, parts, php, kind)).collect()
    }

    pub(super) fn access(
        &mut self,
        table: &Table<'_>,
        root: Option<&Path>,
        parts: &[Part],
        php: Option<&Account>,
        kind: LayerKind,
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
            // What holds for all sites holds for those that have it.
            if kind != LayerKind::Site {
                return None;
            }
            let right = "name a part, or a path in one";
            self.problem(&span, format!("path = \"{shown}\" is neither below root nor in a part outside it"), right);
            return None;
        }
        let whole = root.is_some_and(|root| pattern.as_path().is_some_and(|path| Path::new("/").join(path) == root));
        Some(Access { who: who?, may: Some(may?), patterns: vec![pattern], whole })
    }

    /// Whom a table gives access: not PHP, and nobody through whom PHP would have it.
    pub(super) fn who(&mut self, table: &Table<'_>, php: Option<&Account>) -> Option<Who> {
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

    pub(super) fn accepts(&mut self, top: &Table<'_>, root: Option<&Path>) -> Vec<Accept> {
        let tables = self.tables(top, "accept", "[[accept]]");
        tables.iter().filter_map(|table| self.accept(table, root)).collect()
    }

    pub(super) fn accept(&mut self, table: &Table<'_>, root: Option<&Path>) -> Option<Accept> {
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

    pub(super) fn date(&mut self, table: &Table<'_>) -> Option<Date> {
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
