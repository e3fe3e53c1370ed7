//! Installers under whatever name: known by what their pages do.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicI64, Ordering};
use std::sync::{Mutex, PoisonError};

use regex::bytes::RegexSet;

use super::{Check, Judge, PathCase, Raised, Reason, Remedy, Severity, guess, is_php_name};
use crate::entry::Kind;
use crate::pattern::pattern;
use crate::site::{Phase, Use};

pub(crate) static INSTALLER_RENAMED: Check = Check {
    name: "installer-renamed",
    severity: Severity::High,
    wrong: "what does an installer's work is there under another name",
    lets: "a new name is soon guessed: whoever finds it can set the site up anew as its administrator",
    remedy: Remedy::Hand(
        "look at it; then remove it, or name it in the site file with use = \"setup\", and seal: `ambrik seal` keeps what it removes",
    ),
    judge: Judge::Path(|case| {
        let signs = signs(case)?;
        (case.pages?.of_a_page((case.below_served)(), signs)).then(|| Reason::Says(signs.says()))
    }),
};

/// As many pages are read in one audit, those in few folders below the document root.
const MOST_PAGES: i64 = 4_000;
/// Installers are not deeper below the document root.
const DEEPEST: usize = 2;
/// No page of an installer is shorter, in bytes; of longer ones as much is read as the second says.
const SHORTEST: u64 = 200;
const LONGEST: u64 = 256 << 10;

/// What a page does, one bit each.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct InstallerSigns(u8);

/// What installers do: the bit, what to say of it, and how code that does it looks.
const DOES: [(u8, &str, &str); 7] = [
    (
        InstallerSigns::DATABASE,
        "asks for the database",
        r#"(?i-u)(?:\$_(?:POST|REQUEST|GET|SESSION)\s*\[\s*|name\s*=\s*\\?|(?:post|get|input|param|text|field)\w*\s*\(\s*)["'][\w\[\].-]*(?:db|database|mysql|sql|dsn)[\w\[\].-]*?(?:host|server|user|name|pass|prefix|pwd|type)"#,
    ),
    (
        InstallerSigns::SETTINGS,
        "writes the settings",
        r"(?i-u)\b(?:file_put_contents|fopen|fwrite|fputs|rename|copy|put|write)\s*\([^;]{0,200}(?:config|settings|\.env\b|local|parameters)",
    ),
    (InstallerSigns::WRITABLE, "checks what is writable", r"(?i-u)\bis_write?able\s*\("),
    (
        InstallerSigns::STEPS,
        "goes in steps",
        r#"(?i-u)(?:\$_(?:POST|REQUEST|GET|SESSION)\s*\[\s*|name\s*=\s*\\?|(?:post|get)\s*\(\s*)["'](?:\w*_)?(?:step|stage|phase)\b|[?&](?:amp;)?(?:step|stage)="#,
    ),
    (InstallerSigns::TABLES, "makes tables", r"(?i-u)create\s+(?:table|database)\b|\.sql\b"),
    (InstallerSigns::FORM, "", r"(?i-u)<form|<input|\$_POST|\$_REQUEST"),
    (InstallerSigns::INSTALLS, "", r"(?is-u)\binstall.*install|set-?up\s+wizard"),
];

pattern!(EXPRESSIONS: RegexSet = DOES.iter().map(|(.., expression)| expression));

impl InstallerSigns {
    const DATABASE: u8 = 1;
    const SETTINGS: u8 = 2;
    const WRITABLE: u8 = 4;
    const STEPS: u8 = 8;
    const TABLES: u8 = 16;
    const FORM: u8 = 32;
    const INSTALLS: u8 = 64;

    fn of(text: &[u8]) -> Self {
        let found = EXPRESSIONS.matches(text);
        Self(found.iter().fold(0, |signs, number| signs | DOES[number].0))
    }

    const fn has(self, signs: u8) -> bool {
        self.0 & signs == signs
    }

    /// Whether one page that does all this is an installer: it talks of installing, has a form, and does two things that
    /// belong together there alone.
    const fn are_an_installers(self) -> bool {
        let database = self.has(Self::DATABASE) && self.0 & (Self::SETTINGS | Self::WRITABLE | Self::TABLES) != 0;
        let settings = self.has(Self::SETTINGS) && self.0 & (Self::WRITABLE | Self::STEPS) != 0;
        self.has(Self::FORM | Self::INSTALLS) && (database || settings)
    }

    fn says(self) -> String {
        let does = DOES.iter().filter(|(sign, says, _)| self.has(*sign) && !says.is_empty());
        does.map(|(_, says, _)| *says).collect::<Vec<_>>().join(", ")
    }
}

/// The pages read so far.
#[derive(Debug)]
pub(crate) struct Pages {
    left: AtomicI64,
    /// What the pages of a folder do together, and whether one of them is an installer by itself.
    folders: Mutex<BTreeMap<PathBuf, (InstallerSigns, bool)>>,
}

impl Pages {
    pub(crate) const fn new() -> Self {
        Self { left: AtomicI64::new(MOST_PAGES), folders: Mutex::new(BTreeMap::new()) }
    }

    /// Notes what a page does. Whether it is an installer.
    fn of_a_page(&self, folder: PathBuf, signs: InstallerSigns) -> bool {
        let is_one = signs.are_an_installers();
        let mut folders = self.folders.lock().unwrap_or_else(PoisonError::into_inner);
        let (all, one) = folders.entry(folder).or_default();
        *all = InstallerSigns(all.0 | signs.0);
        *one |= is_one;
        is_one
    }

    /// The folders below the document root whose pages together do an installer's work, though none does it alone.
    pub(crate) fn together(&self) -> Vec<(PathBuf, Raised)> {
        let folders = self.folders.lock().unwrap_or_else(PoisonError::into_inner);
        let installs = |signs: InstallerSigns| {
            signs.has(
                InstallerSigns::DATABASE | InstallerSigns::SETTINGS | InstallerSigns::FORM | InstallerSigns::INSTALLS,
            ) && signs.0 & (InstallerSigns::WRITABLE | InstallerSigns::STEPS | InstallerSigns::TABLES) != 0
        };
        let found =
            folders.iter().filter(|(folder, (signs, one))| !folder.as_os_str().is_empty() && !*one && installs(*signs));
        found.map(|(folder, (signs, _))| (folder.clone(), (&INSTALLER_RENAMED, Reason::Says(signs.says())))).collect()
    }
}

/// Whether a PHP page of this name in this folder below the document root may be an installer's of another name: it is near the top,
/// not the front page, in no folder of libraries, and not called as installers are, which is found by that.
pub(crate) fn may_be_an_installers(folder: &Path, name: &OsStr) -> bool {
    let front_page = folder.as_os_str().is_empty() && name == "index.php";
    let elsewhere = |name: &OsStr| super::names::is_librarys(name) || guess(name, Kind::Directory).is_some();
    !front_page
        && folder.iter().count() <= DEEPEST
        && !folder.iter().any(elsewhere)
        && guess(name, Kind::File).is_none()
}

/// Whether what stands here of a page does an installer's work by itself: what it does.
pub(crate) fn does_an_installers(text: &[u8]) -> Option<String> {
    let signs = InstallerSigns::of(text);
    signs.are_an_installers().then(|| signs.says())
}

/// What a PHP page near the top of what is served does; nothing of other files.
fn signs(case: &PathCase<'_>) -> Option<InstallerSigns> {
    let facts = case.facts;
    let is_page = facts.kind == Kind::File && facts.size >= SHORTEST && is_php_name(Path::new(case.look.os_name()));
    let is_code = case.context.served && case.context.used_as == Use::Code && !case.named;
    if case.phase == Phase::Open || !is_page || !is_code {
        return None;
    }
    if !may_be_an_installers(&(case.below_served)(), case.look.os_name()) {
        return None;
    }
    if case.pages?.left.fetch_sub(1, Ordering::Relaxed) <= 0 {
        return None;
    }
    let mut buffer = vec![0; usize::try_from(facts.size.min(LONGEST)).ok()?];
    Some(InstallerSigns::of(case.look.first_bytes(&mut buffer).ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const CHECKS: &str = "<?php if (!is_writable('../config')) echo 'not writable';";
    const WRITES: &str = "<?php file_put_contents(__DIR__ . '/../config/settings.php', $text);";
    const FORM: &str = "<form method=post><h1>Install</h1>the installer asks: <input name=\"db_host\"></form>";

    #[rstest]
    #[case::all(&[CHECKS, WRITES, FORM], true)]
    #[case::asks_and_writes(&[WRITES, FORM], true)]
    #[case::asks_and_checks(&[CHECKS, FORM], true)]
    #[case::only_a_form(&[FORM], false)]
    #[case::settings_of_an_administrator(&[CHECKS, WRITES, "<form>"], false)]
    #[case::steps(&["<?php // install, installer\nif ($_POST['step'] == 2) { fwrite(fopen('settings.php', 'w'), $x); }"], true)]
    #[case::talk(&["<?php // how to install this: see the installer's README; <form>"], false)]
    fn an_installer_is_known_by_what_it_does(#[case] texts: &[&str], #[case] want: bool) {
        assert_eq!(InstallerSigns::of(texts.concat().as_bytes()).are_an_installers(), want);
    }

    #[test]
    fn pages_of_one_folder_are_taken_together() {
        let pages = Pages::new();
        for (folder, text) in [("new", CHECKS), ("new", WRITES), ("new", FORM), ("a", CHECKS), ("b", FORM)] {
            pages.of_a_page(folder.into(), InstallerSigns::of(text.as_bytes()));
        }
        let found: Vec<PathBuf> = pages.together().into_iter().map(|(folder, _)| folder).collect();
        assert_eq!(found, [Path::new("new")]);
    }
}
