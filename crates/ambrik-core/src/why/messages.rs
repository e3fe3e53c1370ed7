//! The forms of message that web servers and PHP write about a refusal, and the times that stand before them.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};
use std::sync::LazyLock;

use jiff::civil::{Date, DateTime};
use regex::bytes::{Captures, Regex};

use super::Act;
use super::denials::By;

/// What a message names: paths, with what was tried and by which call.
pub(super) type NamedPath<'l> = Vec<(&'l [u8], Option<Act>, String)>;

/// A form of message.
pub(super) struct Form {
    pub(super) pattern: Regex,
    pub(super) by: By,
    pub(super) read: for<'l> fn(&Captures<'l>) -> NamedPath<'l>,
}

/// The reasons for which something is refused.
const WHY: &str = "(?i:permission denied|operation not permitted|read-only file system)";

/// A pattern that is part of the program.
#[expect(clippy::expect_used, reason = "the patterns are constants, and a test compiles each")]
fn pattern(text: &str) -> Regex {
    Regex::new(&text.replace("WHY", WHY)).expect("a constant pattern")
}

pub(super) static REASON: LazyLock<Regex> = LazyLock::new(|| pattern("WHY"));
pub(super) static SCRIPT: LazyLock<Regex> = LazyLock::new(|| pattern(r"(?-u)^ in (/.+?)(?: on line \d+|:\d+)"));

/// Every form of message that is understood; the first that fits counts.
pub(super) static FORMS: LazyLock<Vec<Form>> = LazyLock::new(|| {
    let php = |text: &str, read| Form { pattern: pattern(text), by: By::Php, read };
    let web = |text: &str, read| Form { pattern: pattern(text), by: By::Web, read };
    vec![
        // fopen(/a/b): Failed to open stream: Permission denied
        php(r"(?-u)([A-Za-z_][\w:\\]*)\(((?:[^)]|\)[^:])+?)\): [Ff]ailed to open (?:stream|dir|directory): WHY", |c| {
            one(c, 2, act_of_call(&text(c, 1)), text(c, 1))
        }),
        // rename(/a,/b): Permission denied
        php(r"(?-u)\b(rename)\(((?:[^),]|\)[^:])+?),((?:[^)]|\)[^:])+?)\): WHY", |c| {
            let mut both = one(c, 2, Some(Act::Delete), text(c, 1));
            both.extend(one(c, 3, Some(Act::Write), text(c, 1)));
            both
        }),
        // unlink(/a/b): Permission denied
        php(r"(?-u)\b(unlink|rmdir|opendir|scandir|mkdir|touch|copy)\(((?:[^)]|\)[^:])+?)\): WHY", |c| {
            one(c, 2, act_of_call(&text(c, 1)), text(c, 1))
        }),
        // touch(): Unable to create file /a/b because Permission denied
        php(r"(?-u)(\w+)\(\): Unable to create file (.+?) because WHY", |c| one(c, 2, Some(Act::Write), text(c, 1))),
        // session_start(): open(/a/sess_1, O_RDWR) failed: Permission denied (13)
        php(r"(?-u)(?:(\w+)\(\): )?open\(([^)]+?), O_[A-Z_|]+\) failed: WHY", |c| {
            one(c, 2, Some(Act::Write), if c.get(1).is_some() { text(c, 1) } else { "open".into() })
        }),
        // Unable to open primary script: /a/b.php (Permission denied)
        php(r"(?-u)Unable to open primary script: (.+?) \(WHY\)", |c| one(c, 1, Some(Act::Read), "php-fpm".into())),
        // connect() to unix:/run/php.sock failed (13: Permission denied)
        web(r"(?-u)(connect)\(\) to unix:(.+?) failed \(\d+: WHY\)", |c| one(c, 2, Some(Act::Write), text(c, 1))),
        // rename() "/a" to "/b" failed (13: Permission denied)
        web(r#"(?-u)(rename|link)\(\) "([^"]+)" to "([^"]+)" failed \(\d+: WHY\)"#, |c| {
            let mut both = one(c, 2, Some(Act::Delete), text(c, 1));
            both.extend(one(c, 3, Some(Act::Write), text(c, 1)));
            both
        }),
        // open() "/a/b" failed (13: Permission denied)
        web(r#"(?-u)(\w+)\(\) "(.+?)" failed \(\d+: WHY\)"#, |c| {
            one(c, 2, Some(act_of_system_call(&text(c, 1))), text(c, 1))
        }),
        // "/a/index.php" is forbidden (13: Permission denied)
        web(r#"(?-u)"(/.+?)" is forbidden \(\d+: WHY\)"#, |c| one(c, 1, Some(Act::Read), "open".into())),
        // (13)Permission denied: [client …] AH00035: access to /b denied (filesystem path '/a/b')
        web(r"(?-u)WHY.*?\(filesystem path '(.+?)'\)", |c| one(c, 1, Some(Act::Read), "open".into())),
        // (13)Permission denied: [client …] AH00132: file permissions deny server access: /a/b
        web(r"(?-u)WHY.*?file permissions deny server access: (/.+?)(?:, referer: .*)?$", |c| {
            one(c, 1, Some(Act::Read), "open".into())
        }),
        // (13)Permission denied: AH00529: /a/.htaccess pcfg_openfile: unable to check htaccess file
        web(r"(?-u)WHY.*?: (/.+?) pcfg_openfile", |c| one(c, 1, Some(Act::Read), "open".into())),
        // (13)Permission denied: AH02454: FCGI: attempt to connect to Unix domain socket /run/php.sock (*) failed
        web(r"(?-u)WHY.*?Unix domain socket (/.+?)(?: \([^)]*\))? failed", |c| {
            one(c, 1, Some(Act::Write), "connect".into())
        }),
        // (13)Permission denied: … /a/b
        web(r#"(?-u)\(\d+\)WHY: .*?(/[^\s,;'"()]+)"#, |c| one(c, 1, None, "open".into())),
    ]
});

fn one<'l>(captures: &Captures<'l>, group: usize, act: Option<Act>, call: String) -> NamedPath<'l> {
    captures.get(group).map(|found| (found.as_bytes(), act, call)).into_iter().collect()
}

fn text(captures: &Captures<'_>, group: usize) -> String {
    captures.get(group).map(|found| String::from_utf8_lossy(found.as_bytes()).into_owned()).unwrap_or_default()
}

/// What a function of PHP was about to do; nothing where that depends on how it was called.
fn act_of_call(call: &str) -> Option<Act> {
    let name = call.rsplit(['\\', ':']).next().unwrap_or(call).to_ascii_lowercase();
    match name.as_str() {
        "unlink" | "rmdir" | "rename" => Some(Act::Delete),
        "mkdir" | "file_put_contents" | "move_uploaded_file" | "touch" | "error_log" | "tempnam" | "save"
        | "savehtmlfile" | "imagejpeg" | "imagepng" | "imagegif" | "imagewebp" | "imageavif" | "imagebmp" => {
            Some(Act::Write)
        }
        "include"
        | "include_once"
        | "require"
        | "require_once"
        | "readfile"
        | "file"
        | "file_get_contents"
        | "unknown"
        | "parse_ini_file"
        | "opendir"
        | "scandir"
        | "dir"
        | "simplexml_load_file"
        | "highlight_file"
        | "show_source"
        | "getimagesize"
        | "md5_file"
        | "sha1_file"
        | "hash_file"
        | "exif_read_data"
        | "load"
        | "loadhtmlfile" => Some(Act::Read),
        name if name.starts_with("imagecreatefrom") => Some(Act::Read),
        // `DirectoryIterator::__construct` says "directory" in its own words; a file object may do either.
        _ => None,
    }
}

fn act_of_system_call(call: &str) -> Act {
    match call {
        "mkdir" | "chmod" | "utimes" | "link" | "symlink" | "connect" => Act::Write,
        "unlink" | "rmdir" | "rename" => Act::Delete,
        _ => Act::Read,
    }
}

/// The path that a message names, absolute: PHP takes a relative one from the folder of the script.
pub(super) fn absolute(path: &[u8], script: Option<&Path>) -> Option<PathBuf> {
    let path = path.strip_prefix(b"file://").or_else(|| path.strip_prefix(b"compress.zlib://")).unwrap_or(path);
    if path.is_empty() || path.contains(&0) || path.windows(3).any(|w| w == b"://") {
        return None;
    }
    let path = path_of(path);
    if path.is_absolute() { Some(path) } else { Some(script?.parent()?.join(path)) }
}

pub(super) fn path_of(bytes: &[u8]) -> PathBuf {
    PathBuf::from(OsStr::from_bytes(bytes))
}

/// The forms in which a line begins with its time.
static TIMES: LazyLock<[Regex; 5]> = LazyLock::new(|| {
    [
        r"^(?<y>\d{4})/(?<m>\d\d)/(?<d>\d\d) (?<H>\d\d):(?<M>\d\d):(?<S>\d\d)",
        r"^\[\w{3} (?<m>\w{3}) +(?<d>\d{1,2}) (?<H>\d\d):(?<M>\d\d):(?<S>\d\d)(?:\.\d+)? (?<y>\d{4})\]",
        r"^\[(?<d>\d\d)-(?<m>\w{3})-(?<y>\d{4}) (?<H>\d\d):(?<M>\d\d):(?<S>\d\d)",
        r"^\[?(?<y>\d{4})-(?<m>\d\d)-(?<d>\d\d)[T ](?<H>\d\d):(?<M>\d\d):(?<S>\d\d)",
        r"^(?<m>[A-Z][a-z]{2}) +(?<d>\d{1,2}) (?<H>\d\d):(?<M>\d\d):(?<S>\d\d) (?<y>)",
    ]
    .map(pattern)
});

/// When a line was written, by the log's clock.
pub(super) fn time(line: &[u8], today: Option<Date>) -> Option<DateTime> {
    let captures = TIMES.iter().find_map(|form| form.captures(line))?;
    let text = |name: &str| captures.name(name).map(|m| String::from_utf8_lossy(m.as_bytes()).into_owned());
    let number = |name: &str| text(name)?.parse::<i8>().ok();
    let month = text("m")?;
    let names = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
    let named = names.iter().position(|name| *name == month).and_then(|at| i8::try_from(at + 1).ok());
    let month = named.or_else(|| month.parse().ok())?;
    let day = number("d")?;
    let year = if let Ok(year) = text("y")?.parse() {
        year
    } else {
        // Logs of syslog(3) have no year: the last one in which that day is not to come.
        let today = today?;
        let this = Date::new(today.year(), month, day).is_ok_and(|date| date <= today);
        today.year() - i16::from(!this)
    };
    DateTime::new(year, month, day, number("H")?, number("M")?, number("S")?, 0).ok()
}
