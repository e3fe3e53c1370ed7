//! The proof on disk that PHP can write where it should and nowhere else: made by a process of its own with PHP's ids.
//!
//! Whoever has PHP's ids may stop or kill a process that has them too, so it is not this one; what is done to it is told.
//! The child is started as root, finds the places by handles, and only then becomes the account: from then on nobody with
//! these ids can trace it (prctl(2), `PR_SET_DUMPABLE`), and it executes nothing.

use std::ffi::{CString, OsString};
use std::io::{self, BufRead as _, BufReader, Read, Write};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::os::unix::process::ExitStatusExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{self, RecvTimeoutError};
use std::time::Duration;

use rustix::io::Errno;
use rustix::thread::{set_thread_groups, set_thread_res_gid, set_thread_res_uid};

use super::afterwards::{Afterwards, LeftOverSpot};
use super::folder::as_os;
use crate::account::{Gid, Ids, Uid};
use crate::signals;
use crate::site::Site;
use crate::tree::{Host, sys};

/// How the program is started that makes the proof: it must call [`answer`].
#[derive(Clone, Debug)]
pub struct Prover {
    /// The program.
    pub program: PathBuf,
    /// Its arguments.
    pub arguments: Vec<OsString>,
}

/// What the kernel answered to a process of PHP's account.
#[derive(Debug, Default)]
pub struct Proof {
    /// How many files it tried to open for writing.
    pub opened: usize,
    /// In how many directories it made and removed a file.
    pub made: usize,
    /// Whether it was in the SELinux domain that PHP runs in.
    pub in_domain: bool,
    /// What was not as it should be.
    pub differences: Vec<(PathBuf, String)>,
    /// What was done to the process that makes the proof, where it did not come to its end.
    pub disturbed: Option<String>,
}

/// As long a silence is none of its own.
const SILENCE: Duration = Duration::from_secs(5);

/// Has PHP's account try, in a process of its own: files that it must not write to are opened for writing (nothing is
/// written), and in each directory that it must write to a file is made and removed. `domain` is the SELinux domain that PHP
/// runs in; the process takes it where the policy lets it.
///
/// Nothing where this process may not become that account, or where nothing can be kept from PHP: it is root, or the keeper.
#[must_use]
pub fn prove(host: &Host, site: &Site, found: &Afterwards, domain: Option<&str>, prover: &Prover) -> Option<Proof> {
    let ids = &site.php.ids;
    if !rustix::process::geteuid().is_root() || ids.uid == Uid::ROOT || ids.uid == site.keeper.ids.uid {
        return None;
    }
    let keeper = site.keeper.ids.uid;
    let _held = signals::hold();
    // What is made and removed leaves its time on the directory: it goes back.
    let folders = found.writable.iter().filter_map(|spot| {
        let start = host.resolve_safely(&spot.start, keeper).ok()?;
        let folder = sys::open_directory_beneath(&start.handle, &spot.below).ok()?;
        let times = sys::times(&folder).ok()?;
        Some((folder, times))
    });
    let folders: Vec<(OwnedFd, sys::Times)> = folders.collect();
    let question = ProofQuestion {
        host: if host.is_this() { PathBuf::new() } else { std::path::absolute(host.root()).unwrap_or_default() },
        keeper,
        ids: ids.clone(),
        domain: domain.unwrap_or_default().to_owned(),
        closed: found.closed().cloned().collect(),
        writable: found.writable.clone(),
    };
    let (proof, child) = question.ask(prover);
    for (folder, times) in folders {
        if let (Some(_), Some(child)) = (&proof.disturbed, child) {
            // On file systems that know no files without a name it may have left one.
            let _ = sys::unlink(&folder, &proof_name(child), false);
        }
        // Where that fails the time is that of now, which is true as well.
        let _ = sys::set_times(&folder, times);
    }
    Some(proof)
}

/// What a child is asked, as it reads it: fields that each end in a NUL.
#[derive(Debug, PartialEq, Eq)]
struct ProofQuestion {
    /// The folder that stands for the host; empty for this one.
    host: PathBuf,
    keeper: Uid,
    ids: Ids,
    /// A SELinux context; empty for none.
    domain: String,
    closed: Vec<LeftOverSpot>,
    writable: Vec<LeftOverSpot>,
}

impl ProofQuestion {
    fn write(&self) -> Vec<u8> {
        let numbers = |ids: &[Gid]| ids.iter().map(ToString::to_string).collect::<Vec<_>>().join(",");
        let mut fields: Vec<Vec<u8>> = vec![
            self.host.as_os_str().as_bytes().to_vec(),
            self.keeper.to_string().into_bytes(),
            self.ids.uid.to_string().into_bytes(),
            self.ids.gid.to_string().into_bytes(),
            numbers(self.ids.groups()).into_bytes(),
            self.domain.clone().into_bytes(),
            self.closed.len().to_string().into_bytes(),
        ];
        for spot in self.closed.iter().chain(&self.writable) {
            fields.extend([&spot.start, &spot.below].map(|path| path.as_os_str().as_bytes().to_vec()));
        }
        fields.into_iter().flat_map(|field| [field, vec![0]].concat()).collect()
    }

    fn read(bytes: &[u8]) -> Option<Self> {
        let mut fields = bytes.strip_suffix(&[0])?.split(|byte| *byte == 0);
        let path = |field: &[u8]| PathBuf::from(OsString::from_vec(field.to_vec()));
        let number = |field: &[u8]| std::str::from_utf8(field).ok()?.parse::<u32>().ok();
        let host = path(fields.next()?);
        let keeper = Uid(number(fields.next()?)?);
        let (uid, gid) = (Uid(number(fields.next()?)?), Gid(number(fields.next()?)?));
        let groups = fields.next()?.split(|byte| *byte == b',').map(number).collect::<Option<Vec<u32>>>()?;
        let domain = String::from_utf8(fields.next()?.to_vec()).ok()?;
        let closed = usize::try_from(number(fields.next()?)?).ok()?;
        let mut spots = Vec::new();
        while let Some(start) = fields.next() {
            spots.push(LeftOverSpot { start: path(start), below: path(fields.next()?) });
        }
        let writable = (closed <= spots.len()).then(|| spots.split_off(closed))?;
        let ids = Ids::new(uid, gid, groups.into_iter().map(Gid));
        Some(Self { host, keeper, ids, domain, closed: spots, writable })
    }

    /// Asks a child, and takes what it says until it ends, falls silent, or is ended by somebody. The answer is told with the
    /// child's number.
    fn ask(&self, prover: &Prover) -> (Proof, Option<u32>) {
        let disturbed = |why: String| (Proof { disturbed: Some(why), ..Proof::default() }, None);
        let mut command = Command::new(&prover.program);
        command.args(&prover.arguments).env_clear().current_dir("/");
        let child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn();
        let mut child = match child {
            Ok(child) => child,
            Err(cause) => return disturbed(format!("it could not be started: {cause}")),
        };
        let (input, output) = (child.stdin.take(), child.stdout.take());
        let (Some(mut input), Some(output)) = (input, output) else {
            return disturbed("it could not be asked".into());
        };
        // A child that does not read is ended below, by its silence: this thread then ends too.
        let question = self.write();
        let asking = std::thread::spawn(move || input.write_all(&question));
        let (send, lines) = mpsc::channel();
        let listening = std::thread::spawn(move || {
            for line in BufReader::new(output).lines().map_while(Result::ok) {
                if send.send(line).is_err() {
                    return;
                }
            }
        });
        let proof = self.listen(&mut child, &lines);
        // Both end with the child, which is gone.
        let _ = (asking.join(), listening.join());
        (proof, Some(child.id()))
    }

    fn listen(&self, child: &mut Child, lines: &mpsc::Receiver<String>) -> Proof {
        let mut proof = Proof::default();
        let mut spots =
            self.closed.iter().map(|spot| (spot, false)).chain(self.writable.iter().map(|spot| (spot, true)));
        let silent = loop {
            match lines.recv_timeout(SILENCE) {
                Ok(line) if line == "end" => break None,
                Ok(line) if line == "domain" => proof.in_domain = true,
                Ok(line) => {
                    if let Some((spot, writable)) = spots.next() {
                        proof.take(spot, writable, &line);
                    }
                }
                Err(silent) => break Some(silent),
            }
        };
        // Whoever is the account can stop the child at any moment, also between its last word and its end: it is never
        // waited for without this. How one ended that is gone already stays as it was.
        let _ = child.kill();
        let status = child.wait().ok();
        proof.disturbed = silent.map(|silent| match (silent, status.and_then(|status| status.signal()), status) {
            (RecvTimeoutError::Timeout, ..) => {
                format!("it was silent for {} seconds: something stopped it", SILENCE.as_secs())
            }
            (_, Some(signal), _) => format!("it was ended by signal {signal}"),
            (_, None, Some(status)) => format!("it did not come to its end ({status})"),
            (_, None, None) => "it did not come to its end".into(),
        });
        proof
    }
}

impl Proof {
    /// Takes the answer for one spot: `-` where it could not be asked, `0` for done, else an error's number.
    fn take(&mut self, spot: &LeftOverSpot, writable: bool, answer: &str) {
        let Ok(number) = answer.parse::<i32>() else { return };
        let path = || spot.start.join(&spot.below);
        if !writable {
            self.opened += 1;
            if number == 0 {
                self.differences.push((path(), "it can be opened for writing".into()));
            }
            return;
        }
        self.made += 1;
        if number != 0 {
            let why = io::Error::from_raw_os_error(number).to_string();
            let why = why.split(" (os error").next().unwrap_or(&why).to_lowercase();
            self.differences.push((path(), format!("no file can be made in it: {why}")));
        }
    }
}

/// What the child does: reads a question, becomes the account, tries, and says what came of it, line by line.
///
/// Errors where it cannot be asked or answered, or may not become the account; it then says nothing more.
pub fn answer(mut question: impl Read, mut out: impl Write) -> io::Result<()> {
    let mut bytes = Vec::new();
    question.read_to_end(&mut bytes)?;
    let question = ProofQuestion::read(&bytes).ok_or(io::ErrorKind::InvalidData)?;
    let host = if question.host.as_os_str().is_empty() { Host::this() } else { Host::at(&question.host) };
    let host = host.map_err(|error| io::Error::other(error.to_string()))?;
    // From the starts on by handles: that the account reaches these the audit has judged, from the host's `/`.
    let mut starts: Vec<(&Path, OwnedFd)> = Vec::new();
    for spot in question.closed.iter().chain(&question.writable) {
        if starts.iter().all(|(path, _)| *path != spot.start)
            && let Ok(resolved) = host.resolve_safely(&spot.start, question.keeper)
        {
            starts.push((&spot.start, resolved.handle));
        }
    }
    if !question.domain.is_empty() && take_domain(&question.domain).is_ok() {
        writeln!(out, "domain")?;
    }
    become_account(&question.ids)?;
    let mut say = |answer: Option<Result<(), Errno>>| {
        match answer {
            None => writeln!(out, "-")?,
            Some(Ok(())) => writeln!(out, "0")?,
            Some(Err(errno)) => writeln!(out, "{}", errno.raw_os_error())?,
        }
        out.flush()
    };
    let start = |spot: &LeftOverSpot| starts.iter().find(|(path, _)| *path == spot.start).map(|(_, handle)| handle);
    for spot in &question.closed {
        say(start(spot).map(|start| sys::open_for_writing(start, &spot.below).map(drop)))?;
    }
    for spot in &question.writable {
        say(start(spot).map(|start| make_and_remove(start, &spot.below)))?;
    }
    writeln!(out, "end")?;
    out.flush()
}

/// Takes another SELinux domain (`setcon(3)`); that is up to the policy.
fn take_domain(context: &str) -> io::Result<()> {
    std::fs::write("/proc/self/attr/current", context)
}

/// Gives the calling thread, which is the only one, the ids of an account for good.
fn become_account(ids: &Ids) -> Result<(), Errno> {
    let group = rustix::process::Gid::from_raw(ids.gid.0);
    let user = rustix::process::Uid::from_raw(ids.uid.0);
    let groups: Vec<_> = ids.groups().iter().map(|gid| rustix::process::Gid::from_raw(gid.0)).collect();
    set_thread_groups(&groups)?;
    set_thread_res_gid(group, group, group)?;
    set_thread_res_uid(user, user, user)
}

/// Makes a file in a folder and removes it: where the file system knows files without a name, one that never has any.
fn make_and_remove(start: &OwnedFd, folder: &Path) -> Result<(), Errno> {
    match sys::create_unnamed(sys::open_directory_beneath(start, folder)?) {
        Err(Errno::OPNOTSUPP | Errno::ISDIR | Errno::NOENT | Errno::INVAL) => {}
        made => return made.map(drop),
    }
    let name = proof_name(std::process::id());
    sys::create_beneath(start, &folder.join(as_os(&name)))?;
    let dir = sys::open_directory_beneath(start, folder)?;
    sys::unlink(&dir, &name, false)
}

/// What the process with this number calls a file that it makes.
fn proof_name(pid: u32) -> CString {
    CString::new(format!(".ambrik-proof-{pid}")).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    /// It comes to an end whatever the child does, or others do to it.
    #[rstest]
    #[case::well("echo end", None)]
    #[case::stopped_after_its_last_word("echo end; kill -s STOP $$", None)]
    #[case::stopped_when_it_says_no_more("exec >&-; kill -s STOP $$", Some("ended by signal 9"))]
    #[case::ended("kill -s TERM $$", Some("ended by signal 15"))]
    #[case::cut_short("exit 4", Some("exit status: 4"))]
    fn a_child_is_not_waited_for(#[case] script: &str, #[case] disturbed: Option<&str>) {
        let ids = Ids::new(Uid(7), Gid(7), []);
        let (host, domain) = (PathBuf::new(), String::new());
        let question = ProofQuestion { host, keeper: Uid(7), ids, domain, closed: vec![], writable: vec![] };
        let arguments = vec!["-c".into(), format!("cat > /dev/null; {script}").into()];
        let (proof, _) = question.ask(&Prover { program: "/bin/sh".into(), arguments });
        match disturbed {
            None => assert_eq!(proof.disturbed, None),
            Some(text) => assert!(proof.disturbed.as_deref().is_some_and(|why| why.contains(text)), "{proof:?}"),
        }
    }

    fn spot() -> impl Strategy<Value = LeftOverSpot> {
        let path = || proptest::collection::vec(1u8..=255, 0..12).prop_map(|b| PathBuf::from(OsString::from_vec(b)));
        (path(), path()).prop_map(|(start, below)| LeftOverSpot { start, below })
    }

    proptest! {
        #[test]
        fn a_question_comes_back(
            host in "[/a-z]{0,8}", ids in (any::<u32>(), any::<u32>(), proptest::collection::vec(any::<u32>(), 0..4)),
            domain in "[a-z_:]{0,9}", closed in proptest::collection::vec(spot(), 0..4), writable in proptest::collection::vec(spot(), 0..4),
        ) {
            let ids = Ids::new(Uid(ids.0), Gid(ids.1), ids.2.into_iter().map(Gid));
            let question = ProofQuestion { host: host.into(), keeper: Uid(7), ids, domain, closed, writable };
            prop_assert_eq!(ProofQuestion::read(&question.write()), Some(question));
        }

        #[test]
        fn any_bytes_are_a_question_or_none(bytes in proptest::collection::vec(any::<u8>(), 0..80)) {
            let _ = ProofQuestion::read(&bytes);
        }
    }
}
