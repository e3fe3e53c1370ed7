//! SELinux denials, out of the audit log (auditd(8): records of one event carry one serial number) and out of the kernel's
//! own messages.

use std::collections::{HashMap, HashSet};
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
use crate::security_context::is_type_name;

/// Who was refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum By {
    /// PHP.
    Php,
    /// The web server.
    Web,
}

/// What was denied, by the words of the policy.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct What {
    /// The permissions, the one that tells most first.
    pub permission: String,
    /// The class of what it was denied on.
    pub class: String,
    /// Its type.
    pub type_name: String,
    /// The domain of the process.
    pub domain: String,
    /// A port's number.
    pub port: Option<u32>,
    /// The last component of a file's name.
    pub name: Option<OsString>,
    /// The command, where it is neither PHP nor a web server itself but what one of them started.
    pub child: Option<OsString>,
}

/// A denial that is no matter of a file whose path is known: the network, mail, memory, sockets.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Other {
    /// Who was refused.
    pub by: By,
    /// What was.
    pub what: What,
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
    /// What was tried.
    pub act: Act,
    /// The words for it.
    pub call: String,
    /// What it is where no file is found.
    pub other: Other,
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
    port: Option<u32>,
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
    /// Who ran the process: a number, or a name where the log was interpreted.
    user: Option<Vec<u8>>,
    when: Option<DateTime>,
}

/// As many events wait for their other records.
const WAITING: usize = 4_096;

/// Denials being read.
#[derive(Debug, Default)]
pub(super) struct Denials {
    waiting: HashMap<Vec<u8>, Event>,
    order: Vec<Vec<u8>>,
    /// How many denials do not say in the policy's words what was denied.
    pub(super) unread: u64,
    /// The users that PHP runs as, by number and by name.
    pub(super) php: HashSet<Vec<u8>>,
}

/// A denial about a file.
pub(super) struct OfFile {
    pub(super) path: PathBuf,
    pub(super) by: By,
    pub(super) act: Act,
    pub(super) call: String,
    pub(super) when: Option<DateTime>,
    pub(super) what: What,
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

/// An event's time and number; the time in seconds, or as `ausearch -i` writes it.
static STAMP: LazyLock<Regex> = LazyLock::new(|| pattern(r"(?-u)audit\(([^()]{1,40}):(\d+)\) ?:"));
static DENIED: LazyLock<Regex> = LazyLock::new(|| pattern(r"(?-u)avc: +denied +\{ ([a-z_ ]+) \} for "));
static KEY: LazyLock<Regex> = LazyLock::new(|| pattern(r"(?-u)(?:^| )([a-z_]+)="));
static KIND: LazyLock<Regex> =
    LazyLock::new(|| pattern(r"(?-u)type=(AVC|1400|USER_AVC|CWD|1307|PATH|1302|SYSCALL|1300)\b"));

/// The fields of a record, each with its value; of several of one name the first counts. Values end where the next field begins:
/// what is interpreted has blanks in it. What the kernel did not write itself follows a separator.
fn fields(record: &[u8]) -> HashMap<&[u8], &[u8]> {
    let record = record.split(|byte| *byte == 0x1d).next().unwrap_or(record);
    let keys: Vec<_> = KEY.captures_iter(record).filter_map(|found| Some((found.get(0)?, found.get(1)?))).collect();
    let mut fields = HashMap::new();
    let mut quoted_to = 0;
    for (n, (whole, key)) in keys.iter().enumerate() {
        // A word in quotes is a value, whatever stands in it.
        if whole.start() < quoted_to {
            continue;
        }
        let rest = &record[whole.end()..];
        let value = match rest.strip_prefix(b"\"").and_then(|inside| inside.iter().position(|byte| *byte == b'"')) {
            Some(length) => &rest[..length + 2],
            None => &record[whole.end()..keys.get(n + 1).map_or(record.len(), |(next, _)| next.start())],
        };
        quoted_to = whole.end() + value.len();
        fields.entry(key.as_bytes()).or_insert(value.trim_ascii());
    }
    fields
}

/// A time as records have it: seconds since 1970, else as `ausearch -i` writes it, in the forms of the usual locales.
fn time(text: &[u8]) -> Option<DateTime> {
    let text = std::str::from_utf8(text).ok()?;
    let (whole, _milliseconds) = text.rsplit_once('.')?;
    if let Ok(seconds) = whole.parse::<i64>() {
        return Some(Timestamp::from_second(seconds).ok()?.to_zoned(TimeZone::UTC).datetime());
    }
    // Two digits first: `%Y` would take them for a year of the first century.
    let forms = ["%m/%d/%y %H:%M:%S", "%m/%d/%Y %H:%M:%S", "%Y-%m-%d %H:%M:%S", "%d.%m.%Y %H:%M:%S"];
    forms.iter().find_map(|form| DateTime::strptime(form, whole).ok())
}

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
                    event.end(&self.php, found);
                }
            }
            self.order.push(key.clone());
        }
        let event = self.waiting.entry(key).or_default();
        event.when = event.when.or_else(|| time(&stamp[1]));
        // What is interpreted has no hexadecimal digits for bytes.
        let interpreted = !stamp[1].first().is_some_and(u8::is_ascii_digit) || stamp[1].contains(&b' ');
        let fields = fields(&line[stamp.get(0).map_or(0, |whole| whole.end())..]);
        let field = |name: &str| fields.get(name.as_bytes()).copied();
        let number = |name: &str| std::str::from_utf8(field(name)?).ok()?.parse().ok();
        let text =
            |name: &str| field(name).map(|value| String::from_utf8_lossy(value).into_owned()).unwrap_or_default();
        let bytes = |name: &str| field(name).map(|value| decoded(value, interpreted));
        match kind {
            b"CWD" | b"1307" => event.directory = bytes("cwd"),
            b"PATH" | b"1302" => {
                let name = bytes("name").filter(|name| name != b"(null)");
                event.paths.extend(name.map(|name| NamedObject { name, inode: number("inode") }));
            }
            b"SYSCALL" | b"1300" => event.user = field("uid").map(<[u8]>::to_vec),
            _ => {
                let Some(denied) = DENIED.captures(line) else { return true };
                let (domain, label, class) = (type_of(&text("scontext")), type_of(&text("tcontext")), text("tclass"));
                // Whoever may write to a log may write anything: what no kernel calls so would stand in commands that are advised.
                if ![&domain, &label, &class].iter().all(|name| is_type_name(name)) {
                    self.unread += 1;
                    return true;
                }
                let permissions = String::from_utf8_lossy(&denied[1]).split(' ').map(str::to_owned).collect();
                event.denied.push(Denied {
                    permissions,
                    command: bytes("comm").unwrap_or_default(),
                    path: bytes("path").filter(|path| path.starts_with(b"/")),
                    name: bytes("name"),
                    inode: number("ino"),
                    domain,
                    label,
                    class,
                    port: number("dest").or_else(|| number("src")).and_then(|port: u64| u32::try_from(port).ok()),
                });
            }
        }
        true
    }

    /// Hands out everything that still waits.
    pub(super) fn end(&mut self, found: &mut Vec<DenialFound>) {
        for key in std::mem::take(&mut self.order) {
            if let Some(event) = self.waiting.remove(&key) {
                event.end(&self.php, found);
            }
        }
    }
}

impl Event {
    fn end(self, php: &HashSet<Vec<u8>>, found: &mut Vec<DenialFound>) {
        let runs_as_php = self.user.as_ref().is_some_and(|user| php.contains(user));
        for denied in &self.denied {
            let Some(by) = denied.by(runs_as_php) else { continue };
            let (when, act) = (self.when, denied.act());
            let other = Other { by, what: denied.what(), count: 1, last: when };
            // A socket's file has a path; what listens at it has none.
            if !matches!(&*denied.class, "file" | "dir" | "lnk_file" | "sock_file" | "fifo_file") {
                found.push(DenialFound::Other(other));
                continue;
            }
            let permissions = denied.permissions.join(" ");
            let call = format!("SELinux: {permissions} on {} for {}", denied.label, denied.domain);
            match (self.path(denied), denied.name.clone(), denied.inode) {
                (Some(path), ..) => {
                    let of = OfFile { path, by, act, call, when, what: other.what };
                    found.push(DenialFound::File(of));
                }
                (None, Some(name), Some(inode)) => {
                    let name = OsString::from_vec(name);
                    found.push(DenialFound::Nameless(Nameless { name, inode, act, call, other }));
                }
                _ => found.push(DenialFound::Other(other)),
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
    /// PHP or the web server; nothing for anything else. What neither is and runs in their domain, or as PHP's account, was
    /// started by PHP: web servers start nothing else there.
    fn by(&self, runs_as_php: bool) -> Option<By> {
        let command = String::from_utf8_lossy(&self.command).into_owned();
        if is_web_server(&command) {
            return Some(By::Web);
        }
        let in_domain = self.domain == "httpd_t" || self.domain.starts_with("httpd_sys_script");
        (command.starts_with("php") || in_domain || runs_as_php).then_some(By::Php)
    }

    fn what(&self) -> What {
        let command = String::from_utf8_lossy(&self.command).into_owned();
        let itself = command.starts_with("php") || is_web_server(&command);
        // What changes something tells more than what looks at it.
        let told = ["write", "append", "create", "unlink", "rename", "add_name", "remove_name", "execute", "read"];
        let most = told.iter().find_map(|tells| self.permissions.iter().find(|permission| permission == tells));
        What {
            permission: most.or(self.permissions.first()).cloned().unwrap_or_default(),
            class: self.class.clone(),
            type_name: self.label.clone(),
            domain: self.domain.clone(),
            port: self.port,
            name: self.name.clone().map(OsString::from_vec),
            child: (!itself && !self.command.is_empty()).then(|| OsString::from_vec(self.command.clone())),
        }
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

/// A value: in quotes, or interpreted, as it is, else hexadecimal digits for bytes that cannot stand in quotes.
fn decoded(value: &[u8], interpreted: bool) -> Vec<u8> {
    if let Some(inside) = value.strip_prefix(b"\"").and_then(|rest| rest.strip_suffix(b"\"")) {
        return inside.to_vec();
    }
    if interpreted {
        return value.to_vec();
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
        denials.php = [b"33".to_vec(), b"www-data".to_vec()].into();
        for line in lines {
            denials.line(line.as_bytes(), &mut found);
        }
        denials.end(&mut found);
        let shown = |found: &DenialFound| match found {
            DenialFound::File(of) => format!("{:?} {} {} [{}]", of.by, of.act.word(), of.path.display(), of.call),
            DenialFound::Nameless(of) => {
                format!("{:?} {} {} {}", of.other.by, of.act.word(), of.name.display(), of.inode)
            }
            DenialFound::Other(Other { by, what, .. }) => {
                let port = what.port.map(|port| format!(" {port}")).unwrap_or_default();
                let child = what.child.as_ref().map(|child| format!(" by {}", child.display())).unwrap_or_default();
                format!("{by:?} {} {} {}{port}{child}", what.permission, what.class, what.type_name)
            }
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
        &["Php name_connect tcp_socket mysqld_port_t 3306"])]
    #[case::of_a_child(
        &["type=AVC msg=audit(1.5:9): avc:  denied  { execute } for  pid=220 comm=\"sh\" name=\"sendmail\" dev=\"vda\" ino=9978 scontext=system_u:system_r:httpd_t:s0 tcontext=u:object_r:sendmail_exec_t:s0 tclass=file permissive=0"],
        &["Php execute sendmail 9978"])]
    #[case::by_its_account(
        &["type=SYSCALL msg=audit(1.5:9): arch=c000003e uid=33 gid=33 comm=\"convert\" subj=u:r:convert_t:s0\u{1d}ARCH=x86_64 UID=\"www-data\"",
          "type=AVC msg=audit(1.5:9): avc:  denied  { execmem } for  pid=220 comm=\"convert\" scontext=u:r:convert_t:s0 tcontext=u:r:convert_t:s0 tclass=process permissive=0"],
        &["Php execmem process convert_t by convert"])]
    #[case::of_nobody_here(
        &["type=SYSCALL msg=audit(1.5:9): arch=c000003e uid=0 comm=\"convert\"",
          "type=AVC msg=audit(1.5:9): avc:  denied  { execmem } for  pid=220 comm=\"convert\" scontext=u:r:convert_t:s0 tcontext=u:r:convert_t:s0 tclass=process"],
        &[])]
    #[case::interpreted(
        &["type=PATH msg=audit(11/28/2026 08:13:03.187:25) : item=0 name=/srv/www/berths/a b/ inode=99 dev=fe:00 mode=dir,755 nametype=PARENT",
          "type=CWD msg=audit(11/28/2026 08:13:03.187:25) : cwd=/srv/www/berths",
          "type=AVC msg=audit(11/28/2026 08:13:03.187:25) : avc:  denied  { write } for  pid=135 comm=php-fpm8.2 name=a b dev=\"vda\" ino=99 scontext=system_u:system_r:httpd_t:s0 tcontext=unconfined_u:object_r:httpd_sys_content_t:s0 tclass=dir permissive=0"],
        &["Php write /srv/www/berths/a b/ [SELinux: write on httpd_sys_content_t for httpd_t]"])]
    #[case::interpreted_names_are_no_digits(
        &["type=AVC msg=audit(11/28/26 08:13:03.187:25) : avc:  denied  { read } for  pid=135 comm=php-fpm name=cafe dev=\"vda\" ino=99 scontext=u:r:httpd_t:s0 tcontext=u:r:var_t:s0 tclass=file"],
        &["Php read cafe 99"])]
    #[case::of_others(&["type=AVC msg=audit(1.5:4): avc:  denied  { read } for  pid=7 comm=\"sshd\" name=\"x\" ino=1 scontext=u:r:sshd_t:s0 tcontext=u:r:var_t:s0 tclass=file"], &[])]
    #[case::granted(&["type=AVC msg=audit(1.5:4): avc:  granted  { read } for  pid=7 comm=\"php\""], &[])]
    fn records(#[case] lines: &[&str], #[case] want: &[&str]) {
        assert_eq!(read(lines), want);
    }

    #[rstest]
    #[case("1795853583.187", "2026-11-28T08:13:03")]
    #[case("11/28/26 08:13:03.187", "2026-11-28T08:13:03")]
    #[case("11/28/2026 08:13:03.187", "2026-11-28T08:13:03")]
    #[case("2026-11-28 08:13:03.187", "2026-11-28T08:13:03")]
    #[case("28.11.2026 08:13:03.187", "2026-11-28T08:13:03")]
    fn times(#[case] text: &str, #[case] want: &str) {
        assert_eq!(time(text.as_bytes()).map(|time| time.to_string()).as_deref(), Some(want));
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
