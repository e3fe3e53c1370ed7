//! Asks the kernel: a thread becomes the account for good, tries, and ends.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use ambrik_core::account::{Ids, Powers};
use rustix::thread::{
    CapabilitySet, CapabilitySets, set_capabilities, set_keep_capabilities, set_thread_groups, set_thread_res_gid,
    set_thread_res_uid,
};

/// What an account can really do with a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Can {
    /// Open it for reading; a directory: list it.
    pub(crate) read: bool,
    /// Open it for writing; a directory: make and remove a name in it.
    pub(crate) write: bool,
    /// Remove it, or rename it away.
    pub(crate) replace: bool,
}

/// Runs `ask` with the ids of an account, and its capabilities.
pub(crate) fn as_account<T: Send + 'static>(ids: &Ids, ask: impl FnOnce() -> T + Send + 'static) -> T {
    let ids = ids.clone();
    std::thread::spawn(move || {
        set_keep_capabilities(true).unwrap();
        let group = rustix::process::Gid::from_raw(ids.gid.0);
        let user = rustix::process::Uid::from_raw(ids.uid.0);
        let groups: Vec<_> = ids.groups().iter().map(|g| rustix::process::Gid::from_raw(g.0)).collect();
        set_thread_groups(&groups).unwrap();
        set_thread_res_gid(group, group, group).unwrap();
        set_thread_res_uid(user, user, user).unwrap();
        let has = |power, flag| if ids.powers.has(power) { flag } else { CapabilitySet::empty() };
        let effective = has(Powers::DAC_OVERRIDE, CapabilitySet::DAC_OVERRIDE)
            | has(Powers::DAC_READ_SEARCH, CapabilitySet::DAC_READ_SEARCH)
            | has(Powers::FOWNER, CapabilitySet::FOWNER);
        let sets = CapabilitySets { effective, permitted: effective, inheritable: CapabilitySet::empty() };
        set_capabilities(None, sets).unwrap();
        ask()
    })
    .join()
    .unwrap()
}

/// What the account can do with each path; everything that is tried is taken back.
pub(crate) fn asks(ids: &Ids, paths: &[PathBuf]) -> Vec<Can> {
    let paths = paths.to_vec();
    as_account(ids, move || paths.iter().map(|path| ask(path)).collect())
}

fn ask(path: &Path) -> Can {
    let is_dir = path.symlink_metadata().is_ok_and(|meta| meta.is_dir());
    let read = if is_dir { lists(path) } else { fs::File::open(path).is_ok() };
    let write = if is_dir { makes_and_removes(path) } else { fs::OpenOptions::new().write(true).open(path).is_ok() };
    Can { read, write, replace: replaces(path) }
}

fn lists(path: &Path) -> bool {
    fs::read_dir(path).is_ok() && fs::metadata(path.join(".")).is_ok()
}

fn makes_and_removes(path: &Path) -> bool {
    let probe = path.join(".probe");
    fs::File::create_new(&probe).and_then(|_| fs::remove_file(&probe)).is_ok()
}

/// Renames it away and back.
fn replaces(path: &Path) -> bool {
    let away = path.with_file_name(".away");
    let gone: io::Result<()> = fs::rename(path, &away);
    if gone.is_ok() {
        fs::rename(&away, path).unwrap();
    }
    gone.is_ok()
}

pub(crate) mod random {
    //! Random trees, random accounts: the computed answer is the kernel's.

    use super::*;
    use ambrik_core::access::permits;
    use ambrik_core::account::{Gid, Uid};
    use ambrik_core::acl::{ACCESS_ATTRIBUTE, Acl, AclEntry, Tag};
    use ambrik_core::mode::Perm;
    use ambrik_core::tree::Host;
    use rand::rngs::StdRng;
    use rand::{Rng as _, SeedableRng as _};
    use std::os::unix::fs::{PermissionsExt, chown};

    const TREES: usize = 60;
    const FILES: usize = 20;
    const ACCOUNTS: usize = 6;
    pub(crate) const IDS: [u32; 4] = [61_001, 61_002, 61_003, 61_004];

    fn any_perm(rng: &mut StdRng) -> Perm {
        Perm::from_low_bits(rng.random_range(0..8))
    }

    pub(crate) fn any_acl(rng: &mut StdRng) -> Acl {
        let mut entries: Vec<AclEntry> = [Tag::Owner, Tag::OwningGroup, Tag::Mask, Tag::Other]
            .map(|tag| AclEntry { tag, perm: any_perm(rng) })
            .into();
        for id in IDS {
            if rng.random_bool(0.4) {
                entries.push(AclEntry { tag: Tag::User(Uid(id)), perm: any_perm(rng) });
            }
            if rng.random_bool(0.4) {
                entries.push(AclEntry { tag: Tag::Group(Gid(id)), perm: any_perm(rng) });
            }
        }
        Acl::new(entries).unwrap()
    }

    pub(crate) fn any_id(rng: &mut StdRng) -> u32 {
        IDS[rng.random_range(0..IDS.len())]
    }

    #[test]
    fn the_computed_answer_is_the_kernels() {
        if !crate::host::is_root() {
            return;
        }
        let seed: u64 = rand::random();
        eprintln!("seed {seed}");
        let mut rng = StdRng::seed_from_u64(seed);
        let mut questions = 0;
        for _ in 0..TREES {
            questions += one_tree(&mut rng);
        }
        assert!(questions >= 20_000, "only {questions} questions were asked");
    }

    /// A folder with files of random owners, modes and lists; every account asks the kernel about each.
    fn one_tree(rng: &mut StdRng) -> usize {
        let dir = tempfile::tempdir().unwrap();
        fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let paths: Vec<PathBuf> = (0..FILES).map(|n| dir.path().join(n.to_string())).collect();
        for path in &paths {
            fs::write(path, "x").unwrap();
            chown(path, Some(any_id(rng)), Some(any_id(rng))).unwrap();
            fs::set_permissions(path, fs::Permissions::from_mode(rng.random_range(0..0o1000))).unwrap();
            if rng.random_bool(0.6) {
                crate::attributes::set(path, ACCESS_ATTRIBUTE, &any_acl(rng).to_attribute());
            }
        }
        let host = Host::at(dir.path()).unwrap();
        let mut questions = 0;
        for _ in 0..ACCOUNTS {
            let groups: Vec<Gid> = IDS.iter().filter(|_| rng.random_bool(0.4)).map(|id| Gid(*id)).collect();
            let ids = Ids::new(Uid(any_id(rng)), Gid(any_id(rng)), groups);
            let asked = paths.clone();
            let answers = as_account(&ids, move || {
                asked.iter().map(|p| (1..8).map(|want| accessible(p, want)).collect::<Vec<bool>>()).collect::<Vec<_>>()
            });
            for (path, answers) in paths.iter().zip(answers) {
                let name = Path::new("/").join(path.file_name().unwrap());
                let facts = host.resolve(&name).unwrap().facts;
                for (want, kernel) in (1..8).zip(answers) {
                    let computed = permits(&ids, facts.kind, &facts.rights, Perm::from_low_bits(want));
                    assert_eq!(computed, kernel, "{ids:?} wants {want:o} of {:?}", facts.rights);
                    questions += 1;
                }
            }
        }
        questions
    }

    fn accessible(path: &Path, want: u16) -> bool {
        let access = rustix::fs::Access::from_bits_truncate(want.into());
        rustix::fs::accessat(rustix::fs::CWD, path, access, rustix::fs::AtFlags::EACCESS).is_ok()
    }
}
