//! Installers and left-overs: what such things look like in general, where no part names them.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::atomic::{AtomicI64, AtomicU64, Ordering};

use super::contents::{self, ContentsTell};
use super::{Check, Judge, PathCase, Reason, Remedy, Severity, is_php_name};
use crate::entry::Kind;
use crate::shown::Shown;
use crate::site::{Phase, Use};

pub(crate) static INSTALLER_LEFT: Check = Check {
    name: "installer-left",
    severity: Severity::High,
    wrong: "an installer is still there",
    lets: "anybody who finds its address can set the site up anew as its administrator",
    remedy: Remedy::Seal,
    judge: Judge::Path(|case| {
        if case.phase == Phase::Open {
            return None;
        }
        if case.context.used_as == Use::Setup {
            if !case.named {
                return None;
            }
            return Some(Reason::Says("named in the site file".into()));
        }
        match recognised(case)? {
            Recognised { guess: Guess::Installer(what), .. } => Some(Reason::Looks((*what).into())),
            Recognised { guess: Guess::Leftover(_), .. } => None,
        }
    }),
};

pub(crate) static UNWANTED_LEFT: Check = Check {
    name: "unwanted-left",
    severity: Severity::Medium,
    wrong: "what the site file wants removed is still there",
    lets: "it tells whoever finds it what runs here, or more",
    remedy: Remedy::Seal,
    judge: Judge::Path(|case| {
        let goes = case.phase == Phase::Sealed && case.context.used_as == Use::Remove && case.named;
        goes.then(|| Reason::Says("named in the site file".into()))
    }),
};

pub(crate) static LEFTOVER_SERVED: Check = Check {
    name: "leftover-served",
    severity: Severity::Medium,
    wrong: "left-overs lie where the web server serves them",
    lets: "anybody can download them: source code, data, passwords",
    remedy: Remedy::Seal,
    judge: Judge::Path(|case| match recognised(case)? {
        Recognised { guess: Guess::Leftover(what), told } => Some(match told {
            ContentsTell::Proven(by) => Reason::Says(format!("{what}: {by}")),
            ContentsTell::Unknown | ContentsTell::Other => Reason::Looks((*what).into()),
        }),
        Recognised { guess: Guess::Installer(_), .. } => None,
    }),
};

/// What a path looks like, and whether its content proves it.
#[derive(Debug)]
pub(crate) struct Recognised {
    guess: Guess,
    told: ContentsTell,
}

/// What a path looks like.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Guess {
    /// An installer, of this kind.
    Installer(&'static str),
    /// A left-over, of this kind.
    Leftover(&'static str),
}

impl Guess {
    /// Whether it is an archive or a database dump.
    #[must_use]
    pub fn is_archive_or_dump(&self) -> bool {
        matches!(self, Self::Leftover("archive" | "packed database dump" | SCHEMA_OR_DUMP))
    }
}

/// The most that is read of a file to know what it is.
const SNIFFED: usize = 4096;
/// The most that is read of an archive, a dump or a copy, from its beginning and from its end.
const SNIFFED_BLOCKS: usize = 1 << 16;
/// `<?phpinfo();` is the shortest way to say it.
const SHORTEST_INFORMATION_PAGE: u64 = 12;
/// A page that shows PHP's settings does little else: a longer file is an application's.
const LONGEST_INFORMATION_PAGE: u64 = 1024;

fn recognised<'c>(case: &'c PathCase<'_>) -> Option<&'c Recognised> {
    case.guess.get_or_init(|| recognise(case)).as_ref()
}

fn recognise(case: &PathCase<'_>) -> Option<Recognised> {
    // What is declared wins over what is guessed: only served code is looked at so.
    if !case.context.served || case.context.used_as != Use::Code {
        return None;
    }
    let name = case.look.os_name();
    let Some(guess) = guess(name, case.facts.kind) else { return by_content(case) };
    let above = (case.below_served)();
    if above.iter().any(|name| self::guess(name, Kind::Directory).is_some()) {
        // It goes with the folder that it is in.
        return None;
    }
    if let Guess::Installer(_) = guess {
        return is_entrance(&above, name, case).then_some(Recognised { guess, told: ContentsTell::Unknown });
    }
    let told = told(case, guess);
    (told != ContentsTell::Other).then_some(Recognised { guess, told })
}

/// What the first blocks of a left-over tell about it.
fn told(case: &PathCase<'_>, guess: Guess) -> ContentsTell {
    let name = case.look.os_name();
    let Guess::Leftover(kind) = guess else { return ContentsTell::Unknown };
    if case.facts.kind == Kind::Directory {
        let inside = case.look.names_in_it();
        // git's, and the folders of the others that hold their stores.
        let kept = ["HEAD", "store", "wc.db", "entries", "Entries", "Root", "branch", "repo", "_FOSSIL_", "pristine"];
        let proof = inside.iter().find(|name| kept.iter().any(|kept| *name == OsStr::new(kept)));
        return proof
            .map_or(ContentsTell::Unknown, |name| ContentsTell::Proven(format!("holds {}", Shown(Path::new(name)))));
    }
    let mut buffer = vec![0; SNIFFED_BLOCKS];
    let Ok(head) = case.look.first_bytes(&mut buffer) else { return ContentsTell::Unknown };
    let whole = u64::try_from(head.len()).is_ok_and(|read| read >= case.facts.size);
    match kind {
        "archive" | "packed database dump" => contents::packed(head, whole, || {
            let mut tail = vec![0; SNIFFED_BLOCKS];
            let length = case.look.last_bytes(&mut tail).ok()?;
            tail.truncate(length);
            Some(tail)
        }),
        SCHEMA_OR_DUMP => contents::sql(head),
        INFORMATION_PAGE => match shows_settings(head) {
            true => ContentsTell::Proven("calls phpinfo()".into()),
            false if whole => ContentsTell::Other,
            false => ContentsTell::Unknown,
        },
        _ => contents::copy(name, head),
    }
}

const SCHEMA_OR_DUMP: &str = "database dump";
const INFORMATION_PAGE: &str = "PHP information page";

/// What a name alone tells.
#[must_use]
pub fn guess(name: &OsStr, kind: Kind) -> Option<Guess> {
    let bytes = name.as_bytes();
    match kind {
        Kind::Directory => directory(bytes),
        Kind::File => file(bytes),
        Kind::Symlink | Kind::Fifo | Kind::Socket | Kind::Device => None,
    }
}

fn directory(name: &[u8]) -> Option<Guess> {
    if matches!(name, b".git" | b".svn" | b".hg" | b".bzr" | b"CVS" | b"_darcs" | b".jj" | b".fossil") {
        return Some(Guess::Leftover("version-control folder"));
    }
    matches!(
        &*name.to_ascii_lowercase(),
        b"install"
            | b"installer"
            | b"installation"
            | b"_install"
            | b"_installation"
            | b"_installer"
            | b"setup"
            | b"_setup"
            | b"web-install"
            | b"webinstall"
    )
    .then_some(Guess::Installer("installer folder"))
}

fn file(name: &[u8]) -> Option<Guess> {
    let first = *name.first()?;
    let last = *name.last()?;
    if last == b'~' || (first == b'#' && last == b'#' && name.len() > 2) {
        return Some(Guess::Leftover("editor's copy"));
    }
    let lower = name.to_ascii_lowercase();
    if lower.starts_with(b".#") || has_suffix(&lower, &[b".swp", b".swo", b".swn", b".kate-swp"]) {
        return Some(Guess::Leftover("editor's copy"));
    }
    if is_packed_asset(&lower) {
        return None;
    }
    if has_suffix(&lower, ARCHIVES) {
        let dump = has_suffix(&lower, &[b".sql.gz", b".sql.bz2", b".sql.xz", b".sql.zst", b".sql.zip", b".dump.gz"]);
        return Some(Guess::Leftover(if dump { "packed database dump" } else { "archive" }));
    }
    if has_suffix(&lower, COPIES) || is_numbered_copy(&lower) {
        return Some(Guess::Leftover("backup copy"));
    }
    if has_suffix(&lower, &[b".dump", b".dmp", b".sqldump", b".pgdump", b".mysqldump"]) {
        return Some(Guess::Leftover("database dump"));
    }
    if has_suffix(&lower, &[b".sql"]) {
        return Some(Guess::Leftover(SCHEMA_OR_DUMP));
    }
    if is_php_name(Path::new(OsStr::from_bytes(&lower))) {
        return php_file(&lower);
    }
    None
}

const ARCHIVES: &[&[u8]] = &[
    b".zip", b".tar", b".tgz", b".tbz", b".tbz2", b".txz", b".tzst", b".gz", b".bz2", b".xz", b".zst", b".7z", b".rar",
    b".lz", b".lzma", b".cpio", b".z",
];

/// Endings of what is packed by itself, and not together with others.
const PACKED: &[&[u8]] = &[b".gz", b".br", b".bz2", b".xz", b".zst", b".lz", b".lzma", b".z"];

/// Endings of what is served unpacked too, or is data that an application brings along.
const ASSETS: &[&[u8]] = &[
    b".css", b".js", b".mjs", b".map", b".svg", b".wasm", b".ico", b".ttf", b".otf", b".eot", b".woff", b".pcf",
    b".pfb", b".pfa", b".afm", b".dat", b".mmdb",
];

/// Whether it is an asset, packed so that a web server hands it out as it is: it gives nothing away.
fn is_packed_asset(lower: &[u8]) -> bool {
    PACKED.iter().filter_map(|ending| lower.strip_suffix(*ending)).any(|stem| has_suffix(stem, ASSETS))
}

/// Endings that people and editors put on copies; before them stands the name of what was copied. A copy that ends as PHP files do
/// is run and not handed out, and such names are those of living code as well.
const COPIES: &[&[u8]] = &[
    b".bak",
    b".backup",
    b".bkp",
    b".old",
    b".orig",
    b".save",
    b".saved",
    b".copy",
    b".rej",
    b".php_",
    b".php-old",
    b".php.txt",
    b".inc.txt",
    b".dpkg-old",
    b".dpkg-dist",
    b".rpmsave",
    b".rpmnew",
    b".ucf-old",
];

fn has_suffix(name: &[u8], suffixes: &[&[u8]]) -> bool {
    suffixes.iter().any(|suffix| name.len() > suffix.len() && name.ends_with(suffix))
}

/// `settings.php.1`, `settings.php.20260101`: a PHP file with a number behind it.
fn is_numbered_copy(lower: &[u8]) -> bool {
    let Some(dot) = lower.iter().rposition(|&b| b == b'.') else { return false };
    let (stem, digits) = (&lower[..dot], &lower[dot + 1..]);
    !digits.is_empty() && digits.iter().all(u8::is_ascii_digit) && stem.ends_with(b".php")
}

fn php_file(lower: &[u8]) -> Option<Guess> {
    let stem = lower.split(|&b| b == b'.').next().unwrap_or(lower);
    if matches!(stem, b"phpinfo" | b"php-info" | b"php_info" | b"infophp" | b"_phpinfo") {
        return Some(Guess::Leftover(INFORMATION_PAGE));
    }
    let single = [
        &b"install"[..],
        b"installer",
        b"installation",
        b"_install",
        b"setup",
        b"_setup",
        b"web-install",
        b"webinstall",
        b"web_install",
        b"install_",
    ];
    single.contains(&stem).then_some(Guess::Installer("installer file"))
}

/// Folders in which what looks like an installer is an application's own code, or a library's.
const OF_LIBRARIES: &[&str] = &[
    "vendor",
    "vendors",
    "node_modules",
    "lib",
    "libs",
    "library",
    "libraries",
    "src",
    "app",
    "application",
    "classes",
    "includes",
    "include",
    "inc",
    "modules",
    "plugins",
    "packages",
    "third_party",
    "thirdparty",
    "controllers",
    "templates",
    "views",
    "lang",
    "locale",
    "docs",
    "doc",
    "tests",
    "test",
    "bower_components",
    "themes",
    "assets",
    "js",
    "css",
];

/// Whether a folder of this name holds code that is loaded, not asked for.
pub(super) fn is_librarys(name: &OsStr) -> bool {
    OF_LIBRARIES.contains(&&*name.to_string_lossy().to_ascii_lowercase())
}

/// An installer is found near the top of what is served; the like deeper down is an application's own code or a
/// library's, and so is a folder that nothing in it lets a visitor start.
fn is_entrance(below_served: &Path, name: &OsStr, case: &PathCase<'_>) -> bool {
    let depth = below_served.iter().count();
    let library = below_served.iter().any(is_librarys);
    if depth > 1 || library {
        return false;
    }
    if case.facts.kind != Kind::Directory {
        return case.facts.size > 0;
    }
    let lower = name.to_string_lossy().to_ascii_lowercase();
    let starts = |entry: &str| {
        is_php_name(Path::new(entry)) && {
            let stem = entry.split('.').next().unwrap_or_default().to_ascii_lowercase();
            matches!(
                &*stem,
                "index"
                    | "install"
                    | "installer"
                    | "setup"
                    | "step1"
                    | "step"
                    | "wizard"
                    | "start"
                    | "upgrade"
                    | "default"
                    | "main"
            ) || stem == lower
        }
    };
    case.look.names_in_it().iter().any(|entry| starts(&entry.to_string_lossy()))
}

/// How many short PHP files are still opened to know what they are: in a tree with very many of them only those near
/// the top are, once so many were.
#[derive(Debug)]
pub(crate) struct Sniffing {
    left: AtomicI64,
    passed_over: AtomicU64,
}

impl Sniffing {
    pub(crate) const fn new(most: i64) -> Self {
        Self { left: AtomicI64::new(most), passed_over: AtomicU64::new(0) }
    }

    /// Whether one more may be opened; what is near the top always may.
    fn may_open(&self, near_the_top: impl FnOnce() -> bool) -> bool {
        let may = self.left.fetch_sub(1, Ordering::Relaxed) > 0 || near_the_top();
        if !may {
            self.passed_over.fetch_add(1, Ordering::Relaxed);
        }
        may
    }

    /// How many were not opened.
    pub(crate) fn passed_over(&self) -> u64 {
        self.passed_over.load(Ordering::Relaxed)
    }
}

/// A short PHP file that shows PHP's settings and does little else. What is only included (`.inc`) is a piece of a page, and
/// not one: no server runs it by itself.
fn by_content(case: &PathCase<'_>) -> Option<Recognised> {
    const NEAR_THE_TOP: usize = 1;
    let facts = case.facts;
    let short =
        facts.kind == Kind::File && (SHORTEST_INFORMATION_PAGE..=LONGEST_INFORMATION_PAGE).contains(&facts.size);
    let name = Path::new(case.look.os_name());
    let included = name.extension().is_some_and(|end| end.eq_ignore_ascii_case("inc"));
    if !short || !is_php_name(name) || included {
        return None;
    }
    let near_the_top = || (case.below_served)().iter().count() <= NEAR_THE_TOP;
    if !case.sniffing.is_some_and(|sniffing| sniffing.may_open(near_the_top)) {
        return None;
    }
    let mut buffer = [0; SNIFFED];
    let head = case.look.first_bytes(&mut buffer).ok()?;
    shows_settings(head).then(|| Recognised {
        guess: Guess::Leftover(INFORMATION_PAGE),
        told: ContentsTell::Proven("calls phpinfo()".into()),
    })
}

/// Whether PHP code calls `phpinfo` when it is asked for; comments and definitions of classes and functions left aside.
fn shows_settings(code: &[u8]) -> bool {
    if !code.windows(7).any(|word| word.eq_ignore_ascii_case(b"phpinfo")) {
        return false;
    }
    let text = String::from_utf8_lossy(code).to_ascii_lowercase();
    text.match_indices("phpinfo").any(|(at, word)| {
        let (before, after) = (&text[..at], &text[at + word.len()..]);
        after.trim_start().starts_with('(') && is_call(before) && !is_in_definition(before)
    })
}

/// Whether what comes after this is a function's name where it is called, not part of another word, a method, a text
/// or a comment.
fn is_call(before: &str) -> bool {
    let line = before.rsplit('\n').next().unwrap_or(before);
    let commented = line.contains("//") || line.contains('#') || line.trim_start().starts_with('*');
    let part_of_word = before.ends_with(|c: char| c.is_alphanumeric() || matches!(c, '_' | '$' | '\'' | '"'));
    let other = ["->", "::"].iter().any(|mark| before.ends_with(mark)) || before.trim_end().ends_with("function");
    !commented && !part_of_word && !other
}

/// Whether a brace that a class or function opened is open still.
fn is_in_definition(before: &str) -> bool {
    let open = before.matches('{').count() > before.matches('}').count();
    let defines = |word: &str| before.split(|c: char| !c.is_ascii_alphanumeric() && c != '_').any(|w| w == word);
    open && (defines("class") || defines("function") || defines("trait"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("install", Kind::Directory, Some(Guess::Installer("installer folder")))]
    #[case("Setup", Kind::Directory, Some(Guess::Installer("installer folder")))]
    #[case("installed", Kind::Directory, None)]
    #[case(".git", Kind::Directory, Some(Guess::Leftover("version-control folder")))]
    #[case(".gitignore", Kind::File, None)]
    #[case("install.php", Kind::File, Some(Guess::Installer("installer file")))]
    #[case("uninstall.php", Kind::File, None)]
    #[case("setup.inc.php", Kind::File, Some(Guess::Installer("installer file")))]
    #[case("settings.php~", Kind::File, Some(Guess::Leftover("editor's copy")))]
    #[case(".settings.php.swp", Kind::File, Some(Guess::Leftover("editor's copy")))]
    #[case("settings.php.bak", Kind::File, Some(Guess::Leftover("backup copy")))]
    #[case("settings.php.2", Kind::File, Some(Guess::Leftover("backup copy")))]
    #[case("jquery.1", Kind::File, None)]
    #[case("site.tar.gz", Kind::File, Some(Guess::Leftover("archive")))]
    #[case("db.sql.gz", Kind::File, Some(Guess::Leftover("packed database dump")))]
    #[case("site.css.gz", Kind::File, None)]
    #[case("site.min.js.br", Kind::File, None)]
    #[case("harbour.svg.gz", Kind::File, None)]
    #[case("font.pcf.gz", Kind::File, None)]
    #[case("tides.dat.gz", Kind::File, None)]
    #[case("customers.json.gz", Kind::File, Some(Guess::Leftover("archive")))]
    #[case("index.php.gz", Kind::File, Some(Guess::Leftover("archive")))]
    #[case("backup.gz", Kind::File, Some(Guess::Leftover("archive")))]
    #[case("tide_backup.php", Kind::File, None)]
    #[case("settings-old.php", Kind::File, None)]
    #[case("berths.sql", Kind::File, Some(Guess::Leftover("database dump")))]
    #[case(".zip", Kind::File, None)]
    #[case("index.php", Kind::File, None)]
    #[case("phpinfo.php", Kind::File, Some(Guess::Leftover(INFORMATION_PAGE)))]
    fn by_name(#[case] name: &str, #[case] kind: Kind, #[case] want: Option<Guess>) {
        assert_eq!(guess(OsStr::new(name), kind), want);
    }

    #[test]
    fn once_so_many_were_opened_only_those_near_the_top_are() {
        let sniffing = Sniffing::new(2);
        let far = || false;
        assert!(sniffing.may_open(far) && sniffing.may_open(far));
        assert!(!sniffing.may_open(far) && sniffing.may_open(|| true) && !sniffing.may_open(far));
        assert_eq!(sniffing.passed_over(), 2);
    }

    #[rstest]
    #[case("<?php phpinfo(); ?>", true)]
    #[case("<?php PHPInfo ( INFO_ALL );", true)]
    #[case("<html><?=phpinfo()?>", true)]
    #[case("<?php // phpinfo();", false)]
    #[case("<?php $x->phpinfo();", false)]
    #[case("<?php function phpinfo() {}", false)]
    #[case("<?php echo 'phpinfo()';", false)]
    #[case("<?php my_phpinfo();", false)]
    #[case("<?php if (isset($_GET['i'])) { phpinfo(); }", true)]
    #[case("<?php final class Info { public function show() { phpinfo(); } }", false)]
    #[case("<?php function x() { return 1; }\nphpinfo();", true)]
    fn by_what_it_does(#[case] code: &str, #[case] want: bool) {
        assert_eq!(shows_settings(code.as_bytes()), want);
    }
}
