//! What was refused, out of the logs of web servers and of PHP: each path once, with how often and when.
//!
//! Anybody who can send a request can put words into such a log. Nothing is changed for what is read here: it is only
//! asked about.

use std::collections::hash_map::Entry;
use std::collections::{HashMap, HashSet};
use std::ffi::OsString;
use std::io::{self, BufRead, BufReader, Read};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use flate2::read::MultiGzDecoder;
use jiff::civil::{Date, DateTime};

use super::denials::{By, DenialFound, Denials, Nameless, Other, What};
use super::messages::{FORMS, REASON, SCRIPT, absolute, path_of, time};
use super::{Act, Answer, Match, inodes};
use crate::entry::Kind;
use crate::policy::Right;
use crate::tree::{Host, Progress};

/// A path that was refused.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    /// The path, as the log has it.
    pub path: PathBuf,
    /// Who was refused.
    pub by: By,
    /// What was tried; nothing where the log does not tell how it was opened.
    pub act: Option<Act>,
    /// The function or call that failed.
    pub call: String,
    /// The PHP file that called it.
    pub script: Option<PathBuf>,
    /// How often.
    pub count: u64,
    /// When first, as the log's clock had it.
    pub first: Option<DateTime>,
    /// When last.
    pub last: Option<DateTime>,
}

/// What is known of a refused path now.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Now {
    /// It is still refused, and the site file wants it: the path that was forgotten.
    Wanted,
    /// It works by now, and the site file does not want it: somebody granted what was asked for.
    Opened,
    /// It is refused, and the site file does not want it: a sign that something is wrong.
    Unwanted,
    /// It is refused, and no site holds the path.
    NoSite,
    /// It can be read; the log does not tell whether it was to be written, which the site file does not want.
    ReadsOnly,
    /// It works by now.
    Works,
    /// It cannot be told.
    Unknown,
}

/// Refusals, gathered from any number of logs.
#[derive(Debug, Default)]
pub struct Refusals {
    found: HashMap<(PathBuf, By, Option<Act>), Refusal>,
    /// The day on which logs without a year are read.
    today: Option<Date>,
    /// How many refusals did not name a path.
    pub without_path: u64,
    /// How many refusals of further paths were only counted.
    pub more: u64,
    denials: Denials,
    /// Denials of SELinux that are no matter of files.
    pub others: Vec<Other>,
    /// Denials of SELinux about files of which only the inode is told.
    nameless: HashMap<(u64, OsString, By, Act), Nameless>,
    /// What was denied of files whose path is told, by path: the labels of then, and what governs them.
    pub(super) of_files: HashMap<(PathBuf, By), What>,
}

/// As many kinds of denials that are no matter of files are kept.
const MOST_KINDS: usize = 256;
/// As many different paths are kept.
const MOST: usize = 10_000;
/// Of a longer line only the beginning is read.
const LONGEST: usize = 1 << 16;

impl Refusals {
    /// None yet; `today` tells the year of logs that have none.
    #[must_use]
    pub fn new(today: Date) -> Self {
        Self { today: Some(today), ..Self::default() }
    }

    /// Adds what a log tells; one that is compressed by gzip (RFC 1952) is unpacked.
    pub fn read(&mut self, log: impl Read) -> io::Result<()> {
        let mut log = BufReader::with_capacity(1 << 16, log);
        if log.fill_buf()?.starts_with(&[0x1f, 0x8b]) {
            return self.lines(&mut BufReader::with_capacity(1 << 16, MultiGzDecoder::new(log)));
        }
        self.lines(&mut log)
    }

    fn lines(&mut self, log: &mut impl BufRead) -> io::Result<()> {
        let mut line = Vec::new();
        let mut when = None;
        while next_line(log, &mut line)? {
            when = time(&line, self.today).or(when);
            if line.windows(6).any(|w| w == b"audit(") {
                let mut found = Vec::new();
                let taken = self.denials.line(&line, &mut found);
                self.denied(found);
                self.without_path += std::mem::take(&mut self.denials.unread);
                if taken {
                    continue;
                }
            }
            if REASON.is_match(&line) {
                self.line(&line, when);
            }
        }
        let mut found = Vec::new();
        self.denials.end(&mut found);
        self.denied(found);
        Ok(())
    }

    /// PHP runs as these users here: what they were denied is PHP's, whatever the command is called.
    #[must_use]
    pub fn for_php(mut self, users: impl IntoIterator<Item = (String, u32)>) -> Self {
        let both = users.into_iter().flat_map(|(name, uid)| [name.into_bytes(), uid.to_string().into_bytes()]);
        self.denials.php = both.collect();
        self
    }

    fn denied(&mut self, found: Vec<DenialFound>) {
        use std::os::unix::ffi::OsStrExt as _;
        for denial in found {
            match denial {
                DenialFound::File(of) => {
                    self.add(of.path.as_os_str().as_bytes(), Some(of.act), &of.call, of.by, None, of.when);
                    if self.of_files.len() < MOST {
                        self.of_files.insert((of.path, of.by), of.what);
                    }
                }
                DenialFound::Other(new) => self.other(new),
                DenialFound::Nameless(new) => {
                    let key = (new.inode, new.name.clone(), new.other.by, new.act);
                    let full = self.nameless.len() >= MOST;
                    match self.nameless.entry(key) {
                        Entry::Occupied(mut known) => {
                            let known = &mut known.get_mut().other;
                            known.count += 1;
                            known.last = known.last.max(new.other.last);
                        }
                        Entry::Vacant(place) if !full => {
                            place.insert(new);
                        }
                        Entry::Vacant(_) => self.more += 1,
                    }
                }
            }
        }
    }

    fn other(&mut self, new: Other) {
        let same = |known: &&mut Other| (known.by, &known.what) == (new.by, &new.what);
        if let Some(known) = self.others.iter_mut().find(same) {
            known.count += new.count;
            known.last = known.last.max(new.last);
        } else if self.others.len() < MOST_KINDS {
            self.others.push(new);
        } else {
            self.more += new.count;
        }
    }

    /// Looks for the files of which only the inode is told, first among those of these sites and then on the whole host. What is
    /// not found is answered by what the log has of it.
    pub fn find_inodes(&mut self, host: &Host, sites: &[std::sync::Arc<crate::site::Site>], progress: &Progress) {
        let mut left: Vec<Nameless> = std::mem::take(&mut self.nameless).into_values().collect();
        left.sort_by(|a, b| (a.inode, &a.name, a.other.by, a.act).cmp(&(b.inode, &b.name, b.other.by, b.act)));
        for place in [inodes::Place::Sites(sites), inodes::Place::Host] {
            let wanted: HashSet<u64> = left.iter().map(|nameless| nameless.inode).collect();
            if wanted.is_empty() {
                return;
            }
            let found = inodes::find(host, place, &wanted, progress);
            left.retain(|of| {
                let is_it = |(inode, path): &&(u64, PathBuf)| *inode == of.inode && path.file_name() == Some(&*of.name);
                let mut paths = found.iter().filter(is_it);
                let Some((_, path)) = paths.next() else { return true };
                // Another file system may have the same number, and the same name.
                if paths.next().is_some() {
                    return true;
                }
                self.add(path.as_os_str().as_bytes(), Some(of.act), &of.call, of.other.by, None, of.other.last);
                if let Some(known) = self.found.get_mut(&(path.clone(), of.other.by, Some(of.act))) {
                    known.count += of.other.count - 1;
                }
                self.of_files.insert((path.clone(), of.other.by), of.other.what.clone());
                false
            });
        }
        for of in left {
            self.other(of.other);
        }
    }

    fn line(&mut self, line: &[u8], when: Option<DateTime>) {
        // What follows in a web server's line is the request, in the words of whoever sent it.
        let end = line.windows(10).position(|w| w == b", client: ").unwrap_or(line.len());
        let line = &line[..end];
        let mut any = false;
        for form in FORMS.iter() {
            for captures in form.pattern.captures_iter(line) {
                any = true;
                let from = captures.get(0).map_or(0, |whole| whole.end());
                let script = SCRIPT.captures(&line[from..]).and_then(|c| c.get(1)).map(|m| path_of(m.as_bytes()));
                for (path, act, call) in (form.read)(&captures) {
                    self.add(path, act, &call, form.by, script.as_deref(), when);
                }
            }
            if any {
                return;
            }
        }
        self.without_path += 1;
    }

    fn add(
        &mut self,
        path: &[u8],
        act: Option<Act>,
        call: &str,
        by: By,
        script: Option<&Path>,
        when: Option<DateTime>,
    ) {
        let Some(path) = absolute(path, script) else {
            self.without_path += 1;
            return;
        };
        let key = (path.clone(), by, act);
        if self.found.len() >= MOST && !self.found.contains_key(&key) {
            self.more += 1;
            return;
        }
        let refusal = self.found.entry(key).or_insert_with(|| Refusal {
            path,
            by,
            act,
            call: call.to_owned(),
            script: script.map(Path::to_owned),
            count: 0,
            first: when,
            last: when,
        });
        refusal.count += 1;
        refusal.first = [refusal.first, when].into_iter().flatten().min();
        refusal.last = [refusal.last, when].into_iter().flatten().max();
    }

    /// What was refused, by path.
    #[must_use]
    pub fn list(&self) -> Vec<Refusal> {
        let mut list: Vec<Refusal> = self.found.values().cloned().collect();
        list.sort_by(|a, b| (&a.path, a.by, a.act).cmp(&(&b.path, b.by, b.act)));
        list
    }
}

impl Refusal {
    /// What is known of it now, from the answer about its path and the account that was refused.
    #[must_use]
    pub fn now(&self, answer: &Answer) -> Now {
        let can = answer.can;
        let writes = if answer.kind.is_some() { can.write } else { can.create };
        let right = answer.wanted.as_ref().map(|wanted| wanted.right);
        let able = |act: Act| match act {
            Act::Write | Act::Create if answer.kind == Some(Kind::Directory) => can.create,
            Act::Write | Act::Create => writes,
            Act::Delete => can.delete,
            Act::Search | Act::Execute => can.search,
            Act::Read | Act::Follow | Act::Find => can.read,
        };
        // Where the log does not tell, the most that the site file wants is what counts.
        let act = self.act.unwrap_or(match right {
            Some(Right::Read | Right::None) => Act::Read,
            Some(Right::Write) | None => Act::Write,
        });
        match (able(act), &answer.wanted) {
            (None, _) => Now::Unknown,
            (Some(true), Some(wanted)) if self.act.is_none() && !wanted.wants(Act::Write) && writes == Some(false) => {
                Now::ReadsOnly
            }
            (Some(true), Some(wanted)) if !wanted.wants(act) => Now::Opened,
            (Some(true), _) => Now::Works,
            (Some(false), None) => Now::NoSite,
            // What is asked of a log beyond adding to it is refused on purpose.
            (Some(false), Some(wanted)) if wanted.wants(act) && wanted.is != Match::AsWanted => Now::Wanted,
            (Some(false), Some(_)) => Now::Unwanted,
        }
    }
}

/// The next line, at most [`LONGEST`] bytes of it, without its end; whether there was one.
fn next_line(log: &mut impl BufRead, line: &mut Vec<u8>) -> io::Result<bool> {
    line.clear();
    loop {
        let buffer = match log.fill_buf() {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            buffer => buffer?,
        };
        if buffer.is_empty() {
            return Ok(!line.is_empty());
        }
        let end = buffer.iter().position(|&b| b == b'\n');
        let part = &buffer[..end.unwrap_or(buffer.len())];
        let room = LONGEST.saturating_sub(line.len());
        line.extend_from_slice(&part[..part.len().min(room)]);
        let used = end.map_or(buffer.len(), |end| end + 1);
        log.consume(used);
        if end.is_some() {
            return Ok(true);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Write as _;

    fn refusals(log: &[u8]) -> Refusals {
        let mut refusals = Refusals::new(jiff::civil::date(2026, 11, 23));
        refusals.read(log).unwrap();
        refusals
    }

    const NGINX: &str = "2026/11/20 10:11:12 [error] 42#42: *1 ";
    const APACHE: &str =
        "[Fri Nov 20 10:11:12.123456 2026] [core:error] [pid 7:tid 8] (13)Permission denied: [client 192.0.2.7:5] ";
    const END: &str = ", client: 192.0.2.7, server: _, request: \"GET /x HTTP/1.1\", host: \"quay-1.example\"";

    /// Each message: what was tried, by whom, and on which path.
    #[rstest]
    #[case::put(
        "PHP Warning:  file_put_contents(/srv/a/x.php): Failed to open stream: Permission denied in /srv/a/i.php on line 3",
        "php write /srv/a/x.php"
    )]
    #[case::older(
        "PHP Warning: fopen(/srv/a/x): failed to open stream: Permission denied in /srv/a/i.php:3",
        "php open /srv/a/x"
    )]
    #[case::with_brackets(
        "PHP Warning:  file(/srv/a/x (1).txt): Failed to open stream: Permission denied in /a on line 1",
        "php read /srv/a/x (1).txt"
    )]
    #[case::relative(
        "PHP Warning:  touch(data/x): Failed to open stream: Permission denied in /srv/a/i.php on line 3",
        "php write /srv/a/data/x"
    )]
    #[case::method(
        "PHP Fatal error:  Uncaught RuntimeException: SplFileObject::__construct(/srv/a/x): Failed to open stream: Permission denied in /srv/a/i.php:3",
        "php open /srv/a/x"
    )]
    #[case::directory(
        "PHP Warning:  opendir(/srv/a/d): Failed to open directory: Permission denied in /srv/a/i.php on line 3",
        "php read /srv/a/d"
    )]
    #[case::unlink(
        "PHP Warning:  unlink(/srv/a/x): Permission denied in /srv/a/i.php on line 3",
        "php delete /srv/a/x"
    )]
    #[case::rename(
        "PHP Warning:  rename(/srv/a/x,/srv/a/y): Permission denied in /srv/a/i.php on line 3",
        "php delete /srv/a/x; php write /srv/a/y"
    )]
    #[case::touch(
        "PHP Warning:  touch(): Unable to create file /srv/a/x because Permission denied in /srv/a/i.php on line 3",
        "php write /srv/a/x"
    )]
    #[case::session(
        "PHP Warning:  session_start(): open(/var/lib/s/sess_1, O_RDWR) failed: Permission denied (13) in /srv/a/i.php on line 3",
        "php write /var/lib/s/sess_1"
    )]
    #[case::read_only(
        "PHP Warning:  file_put_contents(/srv/a/x): Failed to open stream: Read-only file system in /a.php on line 3",
        "php write /srv/a/x"
    )]
    #[case::primary(
        "[20-Nov-2026 10:11:12] WARNING: [pool a] child 9 said into stderr: \"ERROR: Unable to open primary script: /srv/a/i.php (Permission denied)\"",
        "php read /srv/a/i.php"
    )]
    #[case::not_a_path(
        "PHP Warning:  fopen(http://quay-1.example/): Failed to open stream: Permission denied in /a.php on line 3",
        ""
    )]
    #[case::no_path("PHP Warning:  mkdir(): Permission denied in /srv/a/i.php on line 3", "")]
    #[case::nothing(
        "PHP Warning:  fopen(/srv/a/x): Failed to open stream: No such file or directory in /a.php on line 3",
        ""
    )]
    fn messages_of_php(#[case] message: &str, #[case] want: &str) {
        let alone = shown(&refusals(format!("[20-Nov-2026 10:11:12 UTC] {message}\n").as_bytes()));
        assert_eq!(alone, want);
        let passed_on =
            format!("{NGINX}FastCGI sent in stderr: \"PHP message: {message}\" while reading upstream{END}\n");
        assert_eq!(shown(&refusals(passed_on.as_bytes())), want, "as nginx passes it on");
        let passed_on = format!(
            "[Fri Nov 20 10:11:12 2026] [proxy_fcgi:error] [pid 7] [client 192.0.2.7:5] AH01071: Got error 'PHP message: {message}'\n"
        );
        assert_eq!(shown(&refusals(passed_on.as_bytes())), want, "as Apache httpd passes it on");
    }

    #[rstest]
    #[case::open(r#"open() "/srv/a/x y.png" failed (13: Permission denied)"#, "web read /srv/a/x y.png")]
    #[case::stat(r#"stat() "/srv/a/x" failed (13: Permission denied)"#, "web read /srv/a/x")]
    #[case::forbidden(r#""/srv/a/index.php" is forbidden (13: Permission denied)"#, "web read /srv/a/index.php")]
    #[case::temporary(
        r#"open() "/var/lib/nginx/body/1" failed (13: Permission denied)"#,
        "web read /var/lib/nginx/body/1"
    )]
    #[case::socket(
        "connect() to unix:/run/php/a.sock failed (13: Permission denied) while connecting to upstream",
        "web write /run/php/a.sock"
    )]
    #[case::rename(r#"rename() "/a/1" to "/a/2" failed (13: Permission denied)"#, "web delete /a/1; web write /a/2")]
    #[case::missing(r#"open() "/srv/a/x" failed (2: No such file or directory)"#, "")]
    fn messages_of_nginx(#[case] message: &str, #[case] want: &str) {
        assert_eq!(shown(&refusals(format!("{NGINX}{message}{END}\n").as_bytes())), want);
    }

    #[rstest]
    #[case::search(
        "AH00035: access to /x denied (filesystem path '/srv/a/x') because search permissions are missing on a component of the path",
        "web read /srv/a/x"
    )]
    #[case::file(
        "AH00132: file permissions deny server access: /srv/a/x y.png, referer: http://quay-1.example/",
        "web read /srv/a/x y.png"
    )]
    #[case::access_file(
        "AH00529: /srv/a/.htaccess pcfg_openfile: unable to check htaccess file, ensure it is readable and that '/srv/a/' is executable",
        "web read /srv/a/.htaccess"
    )]
    #[case::socket(
        "AH02454: FCGI: attempt to connect to Unix domain socket /run/php/a.sock (*) failed",
        "web write /run/php/a.sock"
    )]
    #[case::another("AH09999: cannot do something with /srv/a/x", "web open /srv/a/x")]
    fn messages_of_apache(#[case] message: &str, #[case] want: &str) {
        assert_eq!(shown(&refusals(format!("{APACHE}{message}\n").as_bytes())), want);
    }

    fn shown(refusals: &Refusals) -> String {
        let each = refusals.list().into_iter().map(|refusal| {
            let by = if refusal.by == By::Php { "php" } else { "web" };
            format!("{by} {} {}", refusal.act.map_or("open", Act::word), refusal.path.display())
        });
        each.collect::<Vec<_>>().join("; ")
    }

    #[test]
    fn what_a_visitor_asked_for_is_not_taken_for_a_message() {
        let request = format!(
            "{NGINX}open() \"/srv/a/x\" failed (13: Permission denied), client: 192.0.2.7, request: \"GET /?fopen(/etc/shadow): Failed to open stream: Permission denied HTTP/1.1\"\n"
        );
        assert_eq!(shown(&refusals(request.as_bytes())), "web read /srv/a/x");
    }

    #[rstest]
    #[case("2026/11/20 10:11:12 [error]", "2026-11-20T10:11:12")]
    #[case("[Fri Nov 20 10:11:12.123456 2026] [core", "2026-11-20T10:11:12")]
    #[case("[20-Nov-2026 10:11:12 Europe/Berlin] PHP", "2026-11-20T10:11:12")]
    #[case("2026-11-20T10:11:12.123+01:00 quay-1 php", "2026-11-20T10:11:12")]
    #[case("Nov  2 10:11:12 quay-1 php[1]:", "2026-11-02T10:11:12")]
    #[case("Dec 24 10:11:12 quay-1 php[1]:", "2025-12-24T10:11:12")]
    fn times(#[case] line: &str, #[case] want: &str) {
        assert_eq!(time(line.as_bytes(), Some(jiff::civil::date(2026, 11, 23))).unwrap().to_string(), want);
    }

    #[test]
    fn the_same_path_is_counted_in_any_number_of_logs_compressed_ones_too() {
        let line = |day: u32| {
            format!("2026/11/{day:02} 10:00:00 [error] 1#1: open() \"/srv/a/x\" failed (13: Permission denied)\n")
        };
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
        packed.write_all(line(3).as_bytes()).unwrap();
        let mut two = packed.finish().unwrap();
        two.extend(two.clone());
        let mut refusals = refusals(line(9).as_bytes());
        refusals.read(&two[..]).unwrap();
        let [one] = &refusals.list()[..] else { panic!("{refusals:?}") };
        assert_eq!(one.count, 3);
        let seen = [one.first, one.last].map(|time| time.unwrap().to_string());
        assert_eq!(seen, ["2026-11-03T10:00:00", "2026-11-09T10:00:00"]);
    }

    #[test]
    fn endless_lines_and_endless_paths_stay_small() {
        let mut log = vec![b'x'; 3 << 20];
        log.extend(b"\nfopen(/a): Failed to open stream: Permission denied\n");
        for n in 0..MOST + 5 {
            writeln!(log, "unlink(/b/{n}): Permission denied").unwrap();
        }
        let refusals = refusals(&log);
        assert_eq!((refusals.list().len(), refusals.more), (MOST, 6));
        assert_eq!(refusals.list()[0].path, Path::new("/a"));
    }

    proptest::proptest! {
        #[test]
        fn any_line_is_read(pieces in proptest::collection::vec(proptest::sample::select(vec![
            "fopen(", "/srv/a", "): ", "Failed to open stream: ", "Permission denied", " in ", "/x.php", " on line 3",
            "open() \"", "\" failed (13: ", ")", "(13)Permission denied: ", "rename(", ",", "\u{e9}", "[20-Nov-2026 10:11:12]", "99/99/99",
        ]), 0..12)) {
            let mut refusals = Refusals::new(jiff::civil::date(2026, 11, 23));
            proptest::prop_assert!(refusals.read(pieces.concat().as_bytes()).is_ok());
            proptest::prop_assert!(refusals.list().iter().all(|refusal| refusal.path.is_absolute()));
        }
    }
}
