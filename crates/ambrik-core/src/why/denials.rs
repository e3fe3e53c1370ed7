//! SELinux denials, out of the audit log (auditd(8): records of one event carry one serial number) and out of the kernel's
//! own messages.

use std::collections::HashMap;
use std::ffi::OsString;
use std::os::unix::ffi::OsStringExt as _;
use std::path::{Path, PathBuf};
use std::sync::LazyLock;

use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use regex::bytes::Regex;

use super::Act;
use crate::host::is_web_server;

/// Who was refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum By {
    /// PHP.
    Php,
    /// The web server.
    Web,
}

/// A denial that is no matter of files: the network, mail, memory.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Other {
    /// Who was refused.
    pub by: By,
    /// The permission, the class, and the type that it was for.
    pub what: [String; 3],
    /// How often.
    pub count: u64,
    /// When last.
    pub last: Option<DateTime>,
}

/// A denial about a file of which the log tells the name and the inode, and not the path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Nameless {
    /// The last component of its name.
    pub name: OsString,
    /// The inode.
    pub inode: u64,
    /// Who was refused.
    pub by: By,
    /// What was tried.
    pub act: Act,
    /// The words for it.
    pub call: String,
    /// How often.
    pub count: u64,
    /// When last.
    pub last: Option<DateTime>,
}

/// One denied access.
#[derive(Clone, Debug)]
struct Denied {
    permissions: Vec<String>,
    command: Vec<u8>,
    path: Option<Vec<u8>>,
    name: Option<Vec<u8>>,
    inode: Option<u64>,
    domain: String,
    label: String,
    class: String,
}

/// A path that an event names.
#[derive(Clone, Debug)]
struct NamedObject {
    name: Vec<u8>,
    inode: Option<u64>,
}

/// What is known of an event.
#[derive(Debug, Default)]
struct Event {
    denied: Vec<Denied>,
    paths: Vec<NamedObject>,
    directory: Option<Vec<u8>>,
    when: Option<DateTime>,
}

/// As many events wait for their other records.
const WAITING: usize = 4_096;

/// Denials being read.
#[derive(Debug, Default)]
pub(super) struct Denials {
    waiting: HashMap<Vec<u8>, Event>,
    order: Vec<Vec<u8>>,
}

/// A denial about a file.
pub(super) struct OfFile {
    pub(super) path: PathBuf,
    pub(super) by: By,
    pub(super) act: Act,
    pub(super) call: String,
    pub(super) when: Option<DateTime>,
}

/// What an event came to.
pub(super) enum DenialFound {
    File(OfFile),
    Nameless(Nameless),
    Other(Other),
}

#[expect(clippy::expect_used, reason = "the patterns are constants, and a test uses each")]
fn pattern(text: &str) -> Regex {
    Regex::new(text).expect("a constant pattern")
}

static STAMP: LazyLock<Regex> = LazyLock::new(|| pattern(r"(?-u)audit\((\d+)\.\d+:(\d+)\):"));
static DENIED: LazyLock<Regex> = LazyLock::new(|| pattern(r"(?-u)avc: +denied +\{ ([a-z_ ]+) \} for "));
static FIELD: LazyLock<Regex> = LazyLock::new(|| pattern(r#"(?-u)(?:^| )([a-z_]+)=("[^"]*"|[^ ]+)"#));
static KIND: LazyLock<Regex> = LazyLock::new(|| pattern(r"(?-u)type=(AVC|1400|USER_AVC|CWD|1307|PATH|1302)\b"));

impl Denials {
    /// Adds a line; whether it belongs to an event. What is complete is handed out.
    pub(super) fn line(&mut self, line: &[u8], found: &mut Vec<DenialFound>) -> bool {
        let Some(stamp) = STAMP.captures(line) else { return false };
        let bare = DENIED.is_match(line).then_some(&b"AVC"[..]);
        let Some(kind) = KIND.captures(line).map(|c| c.get(1).map_or(&b""[..], |m| m.as_bytes())).or(bare) else {
            return false;
        };
        let key = stamp[0].to_vec();
        if !self.waiting.contains_key(&key) {
            if self.order.len() >= WAITING {
                let oldest = self.order.remove(0);
                if let Some(event) = self.waiting.remove(&oldest) {
                    event.end(found);
                }
            }
            self.order.push(key.clone());
        }
        let event = self.waiting.entry(key).or_default();
        event.when = event.when.or_else(|| {
            let seconds: i64 = std::str::from_utf8(&stamp[1]).ok()?.parse().ok()?;
            Some(Timestamp::from_second(seconds).ok()?.to_zoned(TimeZone::UTC).datetime())
        });
        let rest = &line[stamp.get(0).map_or(0, |whole| whole.end())..];
        let fields: HashMap<Vec<u8>, Vec<u8>> =
            FIELD.captures_iter(rest).map(|c| (c[1].to_vec(), c[2].to_vec())).collect();
        let field = |name: &str| fields.get(name.as_bytes());
        let number = |name: &str| std::str::from_utf8(field(name)?).ok()?.parse().ok();
        let text =
            |name: &str| field(name).map(|value| String::from_utf8_lossy(value).into_owned()).unwrap_or_default();
        match kind {
            b"CWD" | b"1307" => event.directory = field("cwd").map(|value| decoded(value)),
            b"PATH" | b"1302" => {
                let name = field("name").filter(|name| *name != b"(null)").map(|name| decoded(name));
                event.paths.extend(name.map(|name| NamedObject { name, inode: number("inode") }));
            }
            _ => {
                let Some(denied) = DENIED.captures(line) else { return true };
                let permissions = String::from_utf8_lossy(&denied[1]).split(' ').map(str::to_owned).collect();
                event.denied.push(Denied {
                    permissions,
                    command: field("comm").map(|value| decoded(value)).unwrap_or_default(),
                    path: field("path").map(|value| decoded(value)).filter(|path| path.starts_with(b"/")),
                    name: field("name").map(|value| decoded(value)),
                    inode: number("ino"),
                    domain: type_of(&text("scontext")),
                    label: type_of(&text("tcontext")),
                    class: text("tclass"),
                });
            }
        }
        true
    }

    /// Hands out everything that still waits.
    pub(super) fn end(&mut self, found: &mut Vec<DenialFound>) {
        for key in std::mem::take(&mut self.order) {
            if let Some(event) = self.waiting.remove(&key) {
                event.end(found);
            }
        }
    }
}

impl Event {
    fn end(self, found: &mut Vec<DenialFound>) {
        for denied in &self.denied {
            let Some(by) = denied.by() else { continue };
            let when = self.when;
            if !matches!(&*denied.class, "file" | "dir" | "lnk_file" | "sock_file" | "fifo_file") {
                let permission = denied.permissions.first().cloned().unwrap_or_default();
                let what = [permission, denied.class.clone(), denied.label.clone()];
                found.push(DenialFound::Other(Other { by, what, count: 1, last: when }));
                continue;
            }
            let act = denied.act();
            let permissions = denied.permissions.join(" ");
            let call = format!("SELinux: {permissions} on {} for {}", denied.label, denied.domain);
            match (self.path(denied), denied.name.clone(), denied.inode) {
                (Some(path), ..) => found.push(DenialFound::File(OfFile { path, by, act, call, when })),
                (None, Some(name), Some(inode)) => {
                    let name = OsString::from_vec(name);
                    found.push(DenialFound::Nameless(Nameless { name, inode, by, act, call, count: 1, last: when }));
                }
                _ => {}
            }
        }
    }

    /// The path: as the denial has it, else the one of the event that has its inode, or its name.
    fn path(&self, denied: &Denied) -> Option<PathBuf> {
        let absolute = |path: &[u8]| {
            let path = PathBuf::from(OsString::from_vec(path.to_vec()));
            match (&self.directory, path.is_absolute()) {
                (_, true) => Some(path),
                (Some(directory), false) => Some(Path::new(&OsString::from_vec(directory.clone())).join(path)),
                (None, false) => None,
            }
        };
        if let Some(path) = &denied.path {
            return absolute(path);
        }
        let by_inode = self.paths.iter().find(|named| named.inode.is_some() && named.inode == denied.inode);
        let ends_so = |named: &&NamedObject| {
            denied.name.as_ref().is_some_and(|name| named.name.rsplit(|b| *b == b'/').next() == Some(name))
        };
        by_inode.or_else(|| self.paths.iter().find(ends_so)).and_then(|named| absolute(&named.name))
    }
}

impl Denied {
    /// PHP or the web server, by the command's name; nothing for anything else.
    fn by(&self) -> Option<By> {
        let command = String::from_utf8_lossy(&self.command).into_owned();
        if command.starts_with("php") {
            return Some(By::Php);
        }
        (is_web_server(&command) || self.domain == "httpd_t").then_some(By::Web)
    }

    fn act(&self) -> Act {
        let has = |names: &[&str]| self.permissions.iter().any(|permission| names.contains(&&**permission));
        if has(&["create", "add_name"]) {
            Act::Create
        } else if has(&["unlink", "rename", "remove_name", "rmdir", "reparent"]) {
            Act::Delete
        } else if has(&["write", "append", "setattr", "link"]) {
            Act::Write
        } else if has(&["search"]) {
            Act::Search
        } else if has(&["execute", "execute_no_trans"]) {
            Act::Execute
        } else {
            Act::Read
        }
    }
}

/// A value: in quotes as it is, else hexadecimal digits for bytes that cannot stand in quotes.
fn decoded(value: &[u8]) -> Vec<u8> {
    if let Some(inside) = value.strip_prefix(b"\"").and_then(|rest| rest.strip_suffix(b"\"")) {
        return inside.to_vec();
    }
    let (pairs, odd) = value.as_chunks::<2>();
    let byte = |pair: &[u8; 2]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    let bytes: Option<Vec<u8>> = pairs.iter().map(byte).collect();
    bytes.filter(|_| odd.is_empty() && !pairs.is_empty()).unwrap_or_else(|| value.to_vec())
}

fn type_of(context: &str) -> String {
    context.split(':').nth(2).unwrap_or(context).to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const AVC: &str = "type=AVC msg=audit(1763910000.123:45): avc:  denied  { write } for  pid=7 comm=\"php-fpm8.2\" name=\"uploads\" dev=\"vda\" ino=99 scontext=system_u:system_r:httpd_t:s0 tcontext=system_u:object_r:var_t:s0 tclass=dir permissive=0";

    fn read(lines: &[&str]) -> Vec<String> {
        let (mut denials, mut found) = (Denials::default(), Vec::new());
        for line in lines {
            denials.line(line.as_bytes(), &mut found);
        }
        denials.end(&mut found);
        let shown = |found: &DenialFound| match found {
            DenialFound::File(of) => format!("{:?} {} {} [{}]", of.by, of.act.word(), of.path.display(), of.call),
            DenialFound::Nameless(of) => format!("{:?} {} {} {}", of.by, of.act.word(), of.name.display(), of.inode),
            DenialFound::Other(of) => format!("{:?} {}", of.by, of.what.join(" ")),
        };
        found.iter().map(shown).collect()
    }

    #[rstest]
    #[case::alone(&[AVC], &["Php write uploads 99"])]
    #[case::with_its_path(
        &[AVC, "type=SYSCALL msg=audit(1763910000.123:45): arch=c000003e syscall=257", "type=CWD msg=audit(1763910000.123:45): cwd=\"/srv/www/berths\"", "type=PATH msg=audit(1763910000.123:45): item=0 name=\"uploads/\" inode=99 nametype=PARENT"],
        &["Php write /srv/www/berths/uploads/ [SELinux: write on var_t for httpd_t]"])]
    #[case::by_its_name(
        &["type=PATH msg=audit(1.5:2): item=1 name=2F7372762F612062 nametype=CREATE", "type=AVC msg=audit(1.5:2): avc:  denied  { add_name } for  pid=7 comm=\"php-fpm\" name=6120622E scontext=u:r:httpd_t:s0 tcontext=u:r:var_t:s0 tclass=dir", "type=PATH msg=audit(1.5:2): item=2 name=2F7372762F6120622E nametype=CREATE"],
        &["Php create /srv/a b. [SELinux: add_name on var_t for httpd_t]"])]
    #[case::of_the_kernel(
        &["[   12.345678] audit: type=1400 audit(1763910000.123:46): avc:  denied  { read open } for  pid=8 comm=\"nginx\" path=\"/srv/www/berths/q.svg\" dev=\"vda\" ino=3 scontext=system_u:system_r:httpd_t:s0 tcontext=system_u:object_r:default_t:s0 tclass=file permissive=1"],
        &["Web read /srv/www/berths/q.svg [SELinux: read open on default_t for httpd_t]"])]
    #[case::no_file(
        &["type=AVC msg=audit(1.5:3): avc:  denied  { name_connect } for  pid=7 comm=\"php-fpm\" dest=3306 scontext=system_u:system_r:httpd_t:s0 tcontext=system_u:object_r:mysqld_port_t:s0 tclass=tcp_socket permissive=0"],
        &["Php name_connect tcp_socket mysqld_port_t"])]
    #[case::of_others(&["type=AVC msg=audit(1.5:4): avc:  denied  { read } for  pid=7 comm=\"sshd\" name=\"x\" ino=1 scontext=u:r:sshd_t:s0 tcontext=u:r:var_t:s0 tclass=file"], &[])]
    #[case::granted(&["type=AVC msg=audit(1.5:4): avc:  granted  { read } for  pid=7 comm=\"php\""], &[])]
    fn records(#[case] lines: &[&str], #[case] want: &[&str]) {
        assert_eq!(read(lines), want);
    }

    #[test]
    fn events_without_end_stay_few() {
        let (mut denials, mut found) = (Denials::default(), Vec::new());
        for serial in 0..10_000 {
            denials.line(AVC.replace(":45)", &format!(":{serial})")).as_bytes(), &mut found);
        }
        assert!(denials.waiting.len() <= WAITING && found.len() >= 10_000 - WAITING);
    }

    proptest! {
        #[test]
        fn any_line_is_read(pieces in proptest::collection::vec(proptest::sample::select(vec![
            "type=AVC ", "type=PATH ", "audit(1.2:3):", " avc:  denied  { write } for ", " name=", "\"", "2F", " ino=9", " tclass=dir", "\u{fffd}",
        ]), 0..12)) {
            let (mut denials, mut found) = (Denials::default(), Vec::new());
            denials.line(pieces.concat().as_bytes(), &mut found);
            denials.end(&mut found);
        }
    }
}
