//! The kernel's answers about labels (`/sys/fs/selinux`): whether a context is valid, and what a domain may do with it.

use std::collections::{BTreeSet, HashMap};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use rustix::io::Errno;

use super::state::INTERFACE;
use crate::entry::Kind;
use crate::security_context::SecurityContext;
use crate::tree::{Host, sys};

/// The permissions of a class that an account needs, as the policy language names them.
pub(crate) type Permissions = &'static [&'static str];

/// What a domain may do with a label.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Allowed {
    /// The permissions that are given, by their bits.
    bits: u32,
    /// The numbers of the class's permissions.
    numbers: HashMap<String, u32>,
    /// Whether what is not given is logged only, for this domain.
    pub permissive: bool,
}

impl Allowed {
    #[cfg(test)]
    pub(super) const fn of(bits: u32, numbers: HashMap<String, u32>) -> Self {
        Self { bits, numbers, permissive: false }
    }

    /// Whether all of these are given. What the class does not have counts for nothing.
    pub(crate) fn all(&self, permissions: Permissions) -> bool {
        permissions.iter().all(|name| self.numbers.get(*name).is_none_or(|number| self.has(*number)))
    }

    /// Whether one of these is given.
    pub(super) fn any(&self, permissions: Permissions) -> bool {
        permissions.iter().any(|name| self.numbers.get(*name).is_some_and(|number| self.has(*number)))
    }

    const fn has(&self, number: u32) -> bool {
        number >= 1 && number <= 32 && self.bits & (1 << (number - 1)) != 0
    }
}

/// Who is asked.
#[derive(Debug)]
enum PolicySource {
    /// The kernel that this runs on.
    Running,
    /// Answers recorded in a folder that stands for a host: in `access` lines of a question and its answer, in `context`
    /// the valid contexts.
    Recorded { answers: HashMap<String, String>, valid: BTreeSet<String> },
}

/// What is known of a class of objects.
#[derive(Clone, Debug)]
struct ObjectClass {
    index: u32,
    numbers: HashMap<String, u32>,
}

/// The answers that are known, by domain, label and class.
type KnownAnswers = HashMap<(SecurityContext, SecurityContext, &'static str), Option<Allowed>>;

/// The kernel's interface, each question asked once.
#[derive(Debug)]
pub struct Kernel {
    source: PolicySource,
    classes: HashMap<&'static str, ObjectClass>,
    known: Mutex<KnownAnswers>,
}

/// The class of a file of this kind.
pub(super) const fn class_of(kind: Kind) -> &'static str {
    match kind {
        Kind::File => "file",
        Kind::Directory => "dir",
        Kind::Symlink => "lnk_file",
        Kind::Fifo => "fifo_file",
        Kind::Socket => "sock_file",
        Kind::Device => "chr_file",
    }
}

const CLASSES: [&str; 6] = ["file", "dir", "lnk_file", "fifo_file", "sock_file", "chr_file"];

impl Kernel {
    /// The interface of `host`; nothing where there is none.
    #[must_use]
    pub fn of(host: &Host) -> Option<Self> {
        let at = |name: &str| Path::new(INTERFACE).join(name);
        host.read(&at("enforce"), 64).ok()?;
        let source = if host.is_this() {
            PolicySource::Running
        } else {
            let text = |name: &str| {
                let bytes = host.read(&at(name), 1 << 20).unwrap_or_default();
                String::from_utf8_lossy(&bytes).into_owned()
            };
            let answers = text("access").lines().filter_map(recorded).collect();
            let valid = text("context").lines().map(|line| line.trim_end_matches('\0').to_owned()).collect();
            PolicySource::Recorded { answers, valid }
        };
        let number = |path: &Path| {
            let bytes = host.read(path, 64).ok()?;
            String::from_utf8_lossy(&bytes).trim().parse::<u32>().ok()
        };
        let class = |name: &'static str| {
            let folder = at("class").join(name);
            let perms = folder.join("perms");
            let numbers = host.names_in(&perms).ok()?.into_iter().filter_map(|perm| {
                let value = number(&perms.join(&perm))?;
                Some((perm.into_string().ok()?, value))
            });
            Some((name, ObjectClass { index: number(&folder.join("index"))?, numbers: numbers.collect() }))
        };
        let classes = CLASSES.into_iter().filter_map(class).collect();
        Some(Self { source, classes, known: Mutex::default() })
    }

    /// Whether the loaded policy knows a context.
    #[must_use]
    pub fn is_valid(&self, context: &SecurityContext) -> bool {
        match &self.source {
            PolicySource::Running => ask("context", context.text()).is_ok(),
            PolicySource::Recorded { valid, .. } => valid.contains(context.text()),
        }
    }

    /// What `domain` may do with something of this kind that has `label`. Nothing where either is unknown to the policy,
    /// or the interface does not answer.
    #[must_use]
    pub fn allows(&self, domain: &SecurityContext, label: &SecurityContext, kind: Kind) -> Option<Allowed> {
        let class = class_of(kind);
        let key = (domain.clone(), label.clone(), class);
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(answer) = known.get(&key) {
            return answer.clone();
        }
        let answer = self.ask(domain, label, class);
        known.insert(key, answer.clone());
        answer
    }

    fn ask(&self, domain: &SecurityContext, label: &SecurityContext, class: &str) -> Option<Allowed> {
        let ObjectClass { index, numbers } = self.classes.get(class)?;
        let question = format!("{domain} {label} {index}");
        let answer = match &self.source {
            PolicySource::Running => self::ask("access", &question).ok()?,
            PolicySource::Recorded { answers, .. } => answers.get(&question)?.clone(),
        };
        let (bits, permissive) = read_answer(&answer)?;
        Some(Allowed { bits, numbers: numbers.clone(), permissive })
    }
}

/// A recorded line: the question's three words, and the answer's.
fn recorded(line: &str) -> Option<(String, String)> {
    let words: Vec<&str> = line.split_ascii_whitespace().collect();
    let (question, answer) = words.split_at_checked(3)?;
    (!answer.is_empty() && !line.starts_with('#')).then(|| (question.join(" "), answer.join(" ")))
}

/// `allowed decided auditallow auditdeny seqno flags`: hexadecimal but for the number; the first flag is that the domain
/// is permissive (security/selinux/selinuxfs.c).
fn read_answer(text: &str) -> Option<(u32, bool)> {
    let words: Vec<&str> = text.trim_end_matches(['\0', '\n']).split_ascii_whitespace().collect();
    let hexadecimal = |word: &&str| u32::from_str_radix(word, 16).ok();
    let flags = words.get(5).and_then(hexadecimal).unwrap_or(0);
    Some((hexadecimal(words.first()?)?, flags & 1 != 0))
}

/// Asks the running kernel: the question is written, the answer read from the same handle.
fn ask(file: &str, question: &str) -> Result<String, Errno> {
    let path: PathBuf = Path::new(INTERFACE).join(file);
    sys::ask_kernel(&path, question.as_bytes()).map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("43e7f ffffffff 0 ffffffff 2 0", Some((0x43e7f, false)))]
    #[case("0 ffffffff 0 ffffffff 2 1\0", Some((0, true)))]
    #[case("ff", Some((0xff, false)))]
    #[case("", None)]
    #[case("x y", None)]
    fn answers(#[case] text: &str, #[case] want: Option<(u32, bool)>) {
        assert_eq!(read_answer(text), want);
    }

    #[test]
    fn a_bit_is_one_less_than_its_permissions_number() {
        let numbers = HashMap::from([("read".to_owned(), 2), ("write".to_owned(), 3), ("map".to_owned(), 32)]);
        let allowed = Allowed { bits: 0x8000_0002, numbers, permissive: false };
        assert!(allowed.all(&["read", "map"]) && !allowed.all(&["read", "write"]) && !allowed.any(&["write"]));
        assert!(allowed.all(&["read", "watch"]), "a permission that this kernel does not have");
    }

    #[test]
    fn recorded_answers_stand_for_a_kernel() {
        let dir = tempfile::tempdir().unwrap();
        let folder = dir.path().join("sys/fs/selinux");
        std::fs::create_dir_all(folder.join("class/file/perms")).unwrap();
        for (name, text) in [
            ("enforce", "1"),
            ("class/file/index", "6"),
            ("class/file/perms/read", "2"),
            ("access", "# domain, label, class\nu:r:httpd_t:s0 u:r:a_t:s0 6 2 ffffffff 0 ffffffff 2 0\n"),
            ("context", "u:r:a_t:s0\n"),
        ] {
            std::fs::write(folder.join(name), text).unwrap();
        }
        let kernel = Kernel::of(&Host::at(dir.path()).unwrap()).unwrap();
        let of = |text: &str| text.parse::<SecurityContext>().unwrap();
        let (domain, label) = (of("u:r:httpd_t:s0"), of("u:r:a_t:s0"));
        assert!(kernel.allows(&domain, &label, Kind::File).unwrap().all(&["read"]));
        assert_eq!(kernel.allows(&domain, &label, Kind::Directory), None, "a class that is not there");
        assert_eq!(kernel.allows(&domain, &of("u:r:b_t:s0"), Kind::File), None);
        assert!(kernel.is_valid(&label) && !kernel.is_valid(&domain));
    }
}
