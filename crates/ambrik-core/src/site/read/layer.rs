//! The files that say what a site is, one behind the other: its own, its outline, the host file.

use std::path::Path;

use jiff::SignedDuration;
use toml::Spanned;
use toml::de::DeTable;

use super::super::host_file::kept_for;
use super::super::{Access, Detected, Grant, MOST_ACCESS, Others, Part, Pattern, Problem, Serving, Site, Source};
use super::{FindOutline, NAMES, NoOutline, Reading, SiteReader, Table, is_name};
use crate::account::Account;
use crate::host::{Detector, Role, Undecided};

const SECTIONS: &[&str] = &["site", "accounts", "selinux", "part", "access", "accept"];
const OUTLINE_SECTIONS: &[&str] = &["defaults", "selinux", "part", "access", "accept"];
const HOST_SECTIONS: &[&str] = &["defaults", "access", "accept", "keep", "audit"];
const SELINUX_KEYS: &[&str] = &["switches"];
const SITE_KEYS: &[&str] = &["name", "root", "served", "url", "pages", "outline"];
const ACCOUNT_KEYS: &[&str] = &["keeper", "php", "web", "others", "grant"];
const HOST_DEFAULTS: &[&str] = &["keeper", "web", "others", "grant"];
const OUTLINE_DEFAULTS: &[&str] = &["keeper", "php", "web", "others", "grant", "served", "pages"];
const KEEP_KEYS: &[&str] = &["keepsakes", "history"];
const AUDIT_KEYS: &[&str] = &["fail_on"];
const FAIL_ON: &[&str] = &["high", "medium", "low", "never"];

/// Where a file stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum LayerKind {
    /// It is the site's own.
    Site,
    /// It is what sites of one application have in common.
    Outline,
    /// It is for all sites of the host.
    Host,
}

impl LayerKind {
    const fn sections(self) -> &'static [&'static str] {
        match self {
            Self::Site => SECTIONS,
            Self::Outline => OUTLINE_SECTIONS,
            Self::Host => HOST_SECTIONS,
        }
    }

    /// The table of what can be left to the files behind, and its keys.
    const fn defaults(self) -> (&'static str, &'static [&'static str]) {
        match self {
            Self::Site => ("accounts", ACCOUNT_KEYS),
            Self::Outline => ("defaults", OUTLINE_DEFAULTS),
            Self::Host => ("defaults", HOST_DEFAULTS),
        }
    }
}

/// One of the files that say what a site is, the one before those behind it.
pub(super) struct Layer<'a> {
    reader: SiteReader<'a>,
    document: Spanned<DeTable<'a>>,
    kind: LayerKind,
}

/// What a host file says of the host itself.
pub(super) struct Kept {
    pub(super) keepsakes: Option<SignedDuration>,
    pub(super) history: Option<SignedDuration>,
    pub(super) fail_on: Option<String>,
}

impl<'a> Layer<'a> {
    pub(super) fn of_host(source: &'a Source, reading: &Reading<'a>) -> Self {
        Self::new(source, reading, LayerKind::Host)
    }

    pub(super) fn new(source: &'a Source, reading: &Reading<'a>, kind: LayerKind) -> Self {
        let lines = source.text.match_indices('\n').map(|(at, _)| at).collect();
        let mut reader =
            SiteReader { source, lines, accounts: reading.accounts, checks: reading.checks, problems: Vec::new() };
        let (document, errors) = DeTable::parse_recoverable(&source.text);
        for error in errors {
            let span = error.span().unwrap_or(0..0);
            let what = format!("this is not TOML: {}", error.message().trim_end().replace('\n', ", "));
            reader.problem(
                &span,
                what,
                "mend the syntax (strings in quotes, tables as [site], [accounts], [[part]], [[accept]])",
            );
        }
        let mut layer = Self { reader, document, kind };
        let (defaults, keys) = kind.defaults();
        layer.with(|reader, top| reader.known_keys(top, kind.sections()));
        layer.within(defaults, |reader, table| reader.known_keys(table, keys));
        layer.within("selinux", |reader, table| reader.known_keys(table, SELINUX_KEYS));
        layer
    }

    /// Reads the file as a whole.
    fn with<T>(&mut self, read: impl FnOnce(&mut SiteReader<'a>, &Table<'_>) -> T) -> T {
        let top = Table { table: self.document.get_ref(), span: 0..0, name: "the file" };
        read(&mut self.reader, &top)
    }

    /// Reads one of its tables; where it is not there an empty one, whose missing keys are then reported on the first line.
    fn within<T>(&mut self, section: &'static str, read: impl FnOnce(&mut SiteReader<'a>, &Table<'_>) -> T) -> T {
        let empty = DeTable::new();
        self.with(|reader, top| {
            let table = reader.section(top, section, &empty);
            read(reader, &table)
        })
    }

    fn problems_of(mut list: Vec<Problem>) -> Vec<Problem> {
        list.sort_by_key(|p| (p.line, p.column));
        list.dedup();
        list
    }

    pub(super) fn into_problems(self) -> Vec<Problem> {
        Self::problems_of(self.reader.problems)
    }

    /// What is wrong with a file that stands for itself: of a host file, or an outline, without a site.
    pub(super) fn problems_alone(mut self) -> Vec<Problem> {
        // Any root: what is below it is judged by what it is called.
        let root = Path::new("/srv/site");
        let (kind, accounts) = (self.kind, self.kind.defaults().0);
        self.within(accounts, |reader, table| {
            for key in ["keeper", "php", "web"] {
                reader.account(table, key);
            }
            let _: (Option<Others>, Option<Grant>) = (reader.word(table, "others"), reader.word(table, "grant"));
            if kind == LayerKind::Outline {
                reader.served(table);
                reader.pages(table);
            }
        });
        self.with(|reader, top| {
            let parts = if kind == LayerKind::Outline { reader.parts(top, Some(root)) } else { Vec::new() };
            reader.accesses(top, Some(root), &parts, None, kind);
            reader.accepts(top, Some(root));
        });
        self.within("selinux", SiteReader::switches);
        self.into_problems()
    }

    /// The outline that the site file names.
    pub(super) fn outline(&mut self, find: &FindOutline<'_>) -> Option<Source> {
        self.within("site", |reader, site| {
            let (name, span) = reader.string(site, "outline")?;
            let found = if is_name(name) {
                find(name)
            } else {
                Err(NoOutline {
                    what: format!("outline = \"{name}\" cannot be an outline's name"),
                    right: NAMES.into(),
                })
            };
            found.map_err(|no| reader.problem(&span, no.what, no.right)).ok()
        })
    }

    /// What a host file says of the host itself.
    pub(super) fn kept(&mut self) -> Kept {
        let [keepsakes, history] = ["keepsakes", "history"].map(|key| {
            self.within("keep", |reader, table| {
                reader.known_keys(table, KEEP_KEYS);
                let (text, span) = reader.string(table, key)?;
                let time = kept_for(text).filter(|time| !time.is_zero());
                if time.is_none() {
                    let what = format!("{key} = \"{text}\" is no time");
                    reader.problem(&span, what, format!("say for how many days or weeks: {key} = \"90d\""));
                }
                time
            })
        });
        let fail_on = self.within("audit", |reader, table| {
            reader.known_keys(table, AUDIT_KEYS);
            let (text, span) = reader.string(table, "fail_on")?;
            if !FAIL_ON.contains(&text) {
                let right = format!("it is one of: {}", FAIL_ON.join(", "));
                reader.problem(&span, format!("fail_on = \"{text}\" is unknown"), right);
                return None;
            }
            Some(text.to_owned())
        });
        Kept { keepsakes, history, fail_on }
    }

    /// What the first of these files that has the key says: the site's own, else one behind it.
    fn first<T>(
        &mut self,
        behind: &mut [Self],
        key: &str,
        read: impl Fn(&mut SiteReader<'a>, &Table<'_>) -> Option<T>,
    ) -> Option<T> {
        for layer in std::iter::once(self).chain(behind) {
            let found = layer.within(layer.kind.defaults().0, |reader, table| {
                table.table.contains_key(key).then(|| read(reader, table))
            });
            if let Some(found) = found {
                return found;
            }
        }
        None
    }

    pub(super) fn site(&mut self, behind: &mut [Self], detector: &Detector<'_>) -> Option<Site> {
        let file = self.reader.source.file.clone();
        let (name, root, url) = self.within("site", |reader, site| {
            reader.known_keys(site, SITE_KEYS);
            (reader.name(site, &file), reader.root(site), reader.url(site))
        });
        let says = |layer: &mut Self, key: &str| layer.within("site", |_, site| site.table.contains_key(key));
        let served = if says(self, "served") {
            self.within("site", SiteReader::served)
        } else {
            let said = behind.iter_mut().find_map(|layer| {
                layer.within("defaults", |reader, table| {
                    table.table.contains_key("served").then(|| reader.served(table))
                })
            });
            said.unwrap_or_else(|| Some(Pattern::literal(Path::new(""))))
        };
        let pages = if says(self, "pages") || url.is_none() {
            self.within("site", SiteReader::pages_below_url)
        } else {
            let said = behind.iter_mut().find_map(|layer| layer.within("defaults", SiteReader::pages));
            said.unwrap_or_default()
        };
        let keeper = self.first(behind, "keeper", |reader, table| reader.account(table, "keeper"));
        let keeper = keeper.or_else(|| self.reader.accounts.account("root:root").ok());
        let folder = root.as_ref().zip(served.as_ref()).map(|(root, served)| served.below(root));
        let folder = folder.as_ref().and_then(Pattern::as_path).map(|path| Path::new("/").join(path));
        let mut detected = Vec::new();
        let of_php = folder.as_deref().or(root.as_deref());
        let php = self.account_or_detected(behind, "php", (detector, Role::Php), of_php, &mut detected);
        let web = self.account_or_detected(behind, "web", (detector, Role::Web), folder.as_deref(), &mut detected);
        let web = web.or_else(|| php.clone());
        let others = self.first(behind, "others", |reader, table| reader.word(table, "others"));
        let grant = self.first(behind, "grant", |reader, table| reader.word(table, "grant"));
        let parts = self.all_parts(behind, root.as_deref());
        let (mut access, mut accepts, mut switches) = (Vec::new(), Vec::new(), Vec::new());
        for layer in std::iter::once(&mut *self).chain(behind) {
            let kind = layer.kind;
            layer.with(|reader, top| {
                access.extend(reader.accesses(top, root.as_deref(), &parts, php.as_ref(), kind));
                accepts.extend(reader.accepts(top, root.as_deref()));
            });
            if kind != LayerKind::Host {
                switches.extend(layer.within("selinux", SiteReader::switches));
            }
        }
        self.not_too_many(&access);
        Some(Site {
            name: name?,
            file,
            outline: self
                .within("site", |reader, site| reader.string(site, "outline").map(|(name, _)| name.to_owned())),
            root: root?,
            served,
            serving: Serving::default(),
            making: crate::host::Making::default(),
            php_settings: None,
            url,
            pages,
            keeper_group: keeper.as_ref()?.ids.gid,
            keeper: keeper.and_then(|keeper| self.reader.by_itself(keeper))?,
            php: php?,
            web: web?,
            others: others.unwrap_or(Others::Read),
            grant: grant.unwrap_or(Grant::Owner),
            parts,
            access,
            accepts,
            switches,
            detected,
            exposed: None,
        })
    }

    /// The parts of the site file, then those of the outline whose paths it does not name itself.
    fn all_parts(&mut self, behind: &mut [Self], root: Option<&Path>) -> Vec<Part> {
        let mut parts = self.with(|reader, top| reader.parts(top, root));
        for layer in behind.iter_mut().filter(|layer| layer.kind == LayerKind::Outline) {
            let mut more = layer.with(|reader, top| reader.parts(top, root));
            more.retain(|part| parts.iter().all(|own| own.pattern.text() != part.pattern.text()));
            parts.extend(more);
        }
        parts
    }

    /// The keys of a site have room for so many accounts.
    fn not_too_many(&mut self, access: &[Access]) {
        if access.len() > MOST_ACCESS {
            let right = "give a group access instead of its members one by one";
            self.with(|reader, _| {
                reader.problem(&(0..0), format!("there are more than {MOST_ACCESS} [[access]]"), right);
            });
        }
    }

    /// The account that a key names; where it is left out, the one that the host tells for the served folder.
    fn account_or_detected(
        &mut self,
        behind: &mut [Self],
        key: &'static str,
        (detector, role): (&Detector<'_>, Role),
        folder: Option<&Path>,
        detected: &mut Vec<Detected>,
    ) -> Option<Account> {
        let said = self.first(behind, key, |reader, table| Some(reader.account(table, key)));
        if let Some(account) = said {
            return account;
        }
        let found = match folder {
            Some(folder) => detector.account(role, folder),
            None => Err(Undecided::Unknown),
        };
        match found {
            Ok(answer) => {
                detected.push(Detected { key, user: answer.account.user.clone(), because: answer.because });
                Some(answer.account)
            }
            // Without a web server's account php's stands for it.
            Err(Undecided::Unknown | Undecided::OnlyHints(_)) if key == "web" => None,
            Err(undecided) => {
                self.within("accounts", |reader, table| {
                    reader.problem(
                        &table.span,
                        format!("[accounts] does not name {key}, and {undecided}"),
                        format!("name the account: {key} = \"…\" (`ambrik accounts` lists those of this host)"),
                    );
                });
                None
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use rstest::rstest;
    use serde_json::Value;

    use super::super::{ACCEPT_KEYS, ACCESS_KEYS, PART_KEYS};
    use super::*;
    use crate::site::{Use, Word, Write};

    fn keys(schema: &Value) -> BTreeSet<&str> {
        schema["properties"].as_object().unwrap().keys().map(String::as_str).collect()
    }

    fn set<'k>(keys: &[&'k str]) -> BTreeSet<&'k str> {
        keys.iter().copied().collect()
    }

    /// What editors are told of the files is what is read: each section, each key, each word.
    #[rstest]
    #[case::site("site-file", LayerKind::Site)]
    #[case::outline("outline", LayerKind::Outline)]
    #[case::host("host-file", LayerKind::Host)]
    fn schemas_for_editors_are_true(#[case] name: &str, #[case] kind: LayerKind) {
        let file = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../docs/schemas/{name}.json"));
        let schema: Value = serde_json::from_str(&std::fs::read_to_string(file).unwrap()).unwrap();
        let of = |section: &str| &schema["properties"][section];
        assert_eq!(keys(&schema), set(kind.sections()));
        let (defaults, known) = kind.defaults();
        assert_eq!(keys(of(defaults)), set(known));
        assert_eq!(keys(&of("access")["items"]), set(ACCESS_KEYS));
        assert_eq!(keys(&of("accept")["items"]), set(ACCEPT_KEYS));
        if kind == LayerKind::Host {
            assert_eq!((keys(of("keep")), keys(of("audit"))), (set(KEEP_KEYS), set(AUDIT_KEYS)));
            return;
        }
        assert_eq!((keys(of("selinux")), keys(&of("part")["items"])), (set(SELINUX_KEYS), set(PART_KEYS)));
        let words = |key: &str| -> Vec<&str> {
            let list = of("part")["items"]["properties"][key]["enum"].as_array().unwrap();
            list.iter().map(|word| word.as_str().unwrap()).collect()
        };
        assert_eq!(
            words("use").iter().copied().collect::<BTreeSet<_>>(),
            Use::WORDS.iter().map(|(word, _)| *word).collect()
        );
        assert_eq!(
            words("write").iter().copied().collect::<BTreeSet<_>>(),
            Write::WORDS.iter().map(|(word, _)| *word).collect()
        );
        if kind == LayerKind::Site {
            assert_eq!(keys(of("site")), set(SITE_KEYS));
        }
    }
}
