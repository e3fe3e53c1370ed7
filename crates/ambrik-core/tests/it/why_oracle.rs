//! Random trees: what `why` answers about every path is what the kernel does for a process with these ids.

use std::fs;
use std::os::unix::fs::{PermissionsExt, lchown, symlink};
use std::path::{Path, PathBuf};

use ambrik_core::account::{Accounts, Gid, Ids, Powers, Uid};
use ambrik_core::acl::{ACCESS_ATTRIBUTE, Acl, Tag};
use ambrik_core::mode::Perm;
use ambrik_core::tree::Host;
use ambrik_core::why::{Act, Answer, Subject, WhySetting, ask_all};
use rand::rngs::StdRng;
use rand::{Rng as _, SeedableRng as _};
use rustix::fs::{Access, AtFlags, CWD, IFlags, Mode, OFlags};

use crate::kernel::as_account;
use crate::kernel::random::{IDS, any_acl, any_id};

const TREES: usize = 30;
const PATHS: usize = 24;
const ACCOUNTS: usize = 6;

/// What the kernel did, in the order of [`QUESTIONS`].
type Answers = [bool; QUESTIONS.len()];
const QUESTIONS: [&str; 7] = ["read", "write", "search", "create", "delete", "link", "chmod"];

/// A tree whose flags are taken away at the end, so that it can be removed.
struct Tree {
    dir: tempfile::TempDir,
    paths: Vec<PathBuf>,
    flagged: Vec<PathBuf>,
}

impl Drop for Tree {
    fn drop(&mut self) {
        for path in &self.flagged {
            set_flag(path, IFlags::empty());
        }
    }
}

fn set_flag(path: &Path, flag: IFlags) -> bool {
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOFOLLOW;
    let Ok(file) = rustix::fs::open(path, flags, Mode::empty()) else { return false };
    let now = rustix::fs::ioctl_getflags(&file).unwrap_or(IFlags::empty());
    let fixed = IFlags::IMMUTABLE | IFlags::APPEND;
    rustix::fs::ioctl_setflags(&file, (now - fixed) | flag).is_ok()
}

impl Tree {
    fn random(rng: &mut StdRng) -> Self {
        let dir = tempfile::tempdir().unwrap();
        fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let links = dir.path().join("links");
        fs::create_dir(&links).unwrap();
        fs::set_permissions(&links, fs::Permissions::from_mode(0o777)).unwrap();
        let mut tree = Self { paths: Vec::new(), flagged: Vec::new(), dir };
        let mut folders = vec![tree.dir.path().to_owned()];
        for n in 0..PATHS {
            let path = folders[rng.random_range(0..folders.len())].join(n.to_string());
            match rng.random_range(0..10) {
                0..4 => {
                    fs::create_dir(&path).unwrap();
                    folders.push(path.clone());
                }
                4 => {
                    let to = match (tree.paths.is_empty(), rng.random_range(0..4)) {
                        (true, _) | (_, 0) => PathBuf::from("../nothing"),
                        (false, 1) => {
                            Path::new("..").join(tree.paths[rng.random_range(0..tree.paths.len())].file_name().unwrap())
                        }
                        (false, _) => tree.paths[rng.random_range(0..tree.paths.len())].clone(),
                    };
                    symlink(to, &path).unwrap();
                    lchown(&path, Some(any_id(rng)), Some(any_id(rng))).unwrap();
                    tree.paths.push(path);
                    continue;
                }
                5 => rustix::fs::mknodat(CWD, &path, rustix::fs::FileType::Fifo, Mode::RUSR, 0).unwrap(),
                _ => fs::write(&path, "x").unwrap(),
            }
            tree.dress(rng, &path);
            tree.paths.push(path);
        }
        let flagged: Vec<PathBuf> = tree.paths.iter().filter(|_| rng.random_bool(0.12)).cloned().collect();
        for path in flagged.into_iter().rev() {
            let regular = path.symlink_metadata().unwrap().is_dir() || path.symlink_metadata().unwrap().is_file();
            let flag = if rng.random_bool(0.5) { IFlags::IMMUTABLE } else { IFlags::APPEND };
            if regular && set_flag(&path, flag) {
                tree.flagged.push(path);
            }
        }
        let through: Vec<PathBuf> =
            folders.iter().skip(1).map(|folder| folder.join("..").join("links").join("none")).collect();
        tree.paths.extend(through.into_iter().take(3));
        tree
    }

    /// Gives a path a random owner, mode and list; directories are open more often than not, so that there is
    /// something behind them.
    fn dress(&self, rng: &mut StdRng, path: &Path) {
        lchown(path, Some(any_id(rng)), Some(any_id(rng))).unwrap();
        let special = if rng.random_bool(0.3) { rng.random_range(0..8) << 9 } else { 0 };
        let open = if path.is_dir() && rng.random_bool(0.5) { 0o111 } else { 0 };
        let mode = rng.random_range(0..0o1000) | open | special;
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
        if rng.random_bool(0.4) {
            crate::attributes::set(path, ACCESS_ATTRIBUTE, &any_acl(rng).to_attribute());
        }
    }

    /// Asks the kernel, as an account. What is made or moved is put back, by root where the account cannot.
    fn kernel(&self, ids: &Ids) -> Vec<Answers> {
        let (paths, links) = (self.paths.clone(), self.dir.path().join("links"));
        let answers = as_account(ids, move || {
            paths.iter().enumerate().map(|(n, path)| one(path, n, &links)).collect::<Vec<Answers>>()
        });
        let probes = self.paths.iter().enumerate().map(|(n, path)| path.join(probe(n)));
        for probe in probes.filter(|probe| probe.symlink_metadata().is_ok()) {
            let above = fs::canonicalize(probe.parent().unwrap()).unwrap();
            set_flag(&above, IFlags::empty());
            fs::remove_file(&probe).unwrap();
            if self.flagged.contains(&above) {
                set_flag(&above, IFlags::APPEND);
            }
        }
        answers
    }
}

fn probe(n: usize) -> String {
    format!(".probe{n}")
}

fn one(path: &Path, n: usize, links: &Path) -> Answers {
    let access = |right: Access| rustix::fs::accessat(CWD, path, right, AtFlags::EACCESS).is_ok();
    let open = |flags: OFlags| rustix::fs::open(path, flags | OFlags::NONBLOCK | OFlags::CLOEXEC, Mode::RUSR);
    let meta = path.metadata();
    let is_file = meta.as_ref().is_ok_and(fs::Metadata::is_file);
    let is_dir = meta.as_ref().is_ok_and(fs::Metadata::is_dir);
    let (read, write) = (access(Access::READ_OK), access(Access::WRITE_OK));
    if is_file {
        assert_eq!(open(OFlags::RDONLY).is_ok(), read);
        assert_eq!(open(OFlags::WRONLY | OFlags::APPEND).is_ok(), write);
    }
    let create = is_dir && {
        let probe = path.join(probe(n));
        let made = fs::File::create_new(&probe).is_ok();
        // Where this fails root removes it afterwards.
        let _ = fs::remove_file(&probe);
        made
    };
    let away = path.with_file_name(format!(".away{n}"));
    let delete = path.file_name().is_some() && fs::rename(path, &away).is_ok();
    if delete {
        fs::rename(&away, path).unwrap();
    }
    let second = links.join(n.to_string());
    let link = !is_dir && rustix::fs::linkat(CWD, path, CWD, &second, AtFlags::SYMLINK_FOLLOW).is_ok();
    if link {
        fs::remove_file(&second).unwrap();
    }
    let now = meta.map(|meta| meta.permissions());
    let chmod = now.is_ok_and(|now| fs::set_permissions(path, now).is_ok());
    [read, write, access(Access::EXEC_OK), create, delete, link, chmod]
}

fn computed(answer: &Answer) -> Answers {
    let can = answer.can;
    let directory = answer.kind == Some(ambrik_core::entry::Kind::Directory);
    let answers = [can.read, can.write, can.search, can.create, can.delete, can.link, can.chmod];
    let mut answers = answers.map(|answer| answer.unwrap());
    // Of what is no directory the kernel was not asked whether it could be made.
    answers[3] &= directory;
    answers
}

fn subject(ids: Ids) -> Subject {
    Subject { name: "somebody".into(), ids, process: None, stale: None, domain: None }
}

fn any_ids(rng: &mut StdRng) -> Ids {
    let groups: Vec<Gid> = IDS.iter().filter(|_| rng.random_bool(0.4)).map(|id| Gid(*id)).collect();
    let ids = Ids::new(Uid(any_id(rng)), Gid(any_id(rng)), groups);
    match rng.random_range(0..10) {
        0 => ids.with_powers(Powers::DAC_OVERRIDE),
        1 => ids.with_powers(Powers::DAC_READ_SEARCH),
        2 => ids.with_powers(Powers::FOWNER),
        _ => ids,
    }
}

/// The first obstacle, and all further ones: nothing is refused without a step that says so, and nothing is given
/// where a step on the way refuses.
fn steps_explain(answer: &Answer) -> bool {
    let steps = answer.steps();
    let refused = |acts: &[Act]| {
        steps.iter().any(|step| {
            step.allows == Some(false) && (step.on_the_way || step.act == Act::Find || acts.contains(&step.act))
        })
    };
    let can = answer.can;
    (can.read == Some(true)) != refused(&[Act::Read])
        && (can.write == Some(true)) != refused(&[Act::Write])
        && (can.search == Some(true) || refused(&[Act::Search, Act::Execute]))
        && (can.delete == Some(true) || refused(&[Act::Delete]))
}

#[test]
fn the_answer_is_what_the_kernel_does() {
    if !crate::host::is_root() {
        return;
    }
    let seed: u64 = std::env::var("AMBRIK_SEED").ok().and_then(|seed| seed.parse().ok()).unwrap_or_else(rand::random);
    eprintln!("seed {seed} (AMBRIK_SEED={seed} runs it again)");
    let mut rng = StdRng::seed_from_u64(seed);
    let host = Host::this().unwrap();
    let accounts = Accounts::from_texts("", "");
    let setting = WhySetting { host: &host, accounts: &accounts, holders: &[], labels: None };
    let (mut questions, mut flags) = (0, 0);
    for _ in 0..TREES {
        let tree = Tree::random(&mut rng);
        flags += tree.flagged.len();
        for _ in 0..ACCOUNTS {
            let ids = any_ids(&mut rng);
            let answers = ask_all(setting, &subject(ids.clone()), &tree.paths, 2);
            let kernel = tree.kernel(&ids);
            for ((answer, kernel), path) in answers.iter().zip(kernel).zip(&tree.paths) {
                assert_eq!(computed(answer), kernel, "{ids:?} {path:?} {QUESTIONS:?}: {:#?}", answer.steps());
                assert!(steps_explain(answer), "{ids:?} {path:?}: {:?} {:#?}", answer.can, answer.steps());
                questions += kernel.len();
            }
        }
    }
    eprintln!("{questions} questions, {flags} immutable or append-only paths");
    if flags == 0 {
        test_support::skipped("this file system has no immutable flag");
    }
    assert!(questions >= 20_000, "only {questions} questions were asked");
}

#[test]
fn root_without_its_capabilities_is_an_account_like_others() {
    if !crate::host::is_root() {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
    let path = dir.path().join("closed");
    fs::write(&path, "x").unwrap();
    lchown(&path, Some(61_001), Some(61_001)).unwrap();
    fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).unwrap();
    let list = Acl::with_users(Perm::RW, Perm::R, Perm::NONE, &[(Uid(0), Perm::R)]);
    let host = Host::this().unwrap();
    let setting = WhySetting { host: &host, accounts: &Accounts::from_texts("", ""), holders: &[], labels: None };
    let root = Ids::new(Uid(0), Gid(0), []);
    let reads = |ids: &Ids| ask_all(setting, &subject(ids.clone()), std::slice::from_ref(&path), 1)[0].can.read;
    let bare = root.clone().with_powers(Powers::NONE);
    assert_eq!((reads(&root), reads(&bare)), (Some(true), Some(false)));
    let asked = path.clone();
    assert!(!as_account(&bare, move || fs::File::open(asked).is_ok()));
    crate::attributes::set(&path, ACCESS_ATTRIBUTE, &list.to_attribute());
    assert!(list.entries().iter().any(|entry| entry.tag == Tag::User(Uid(0))));
    assert_eq!(reads(&bare), Some(true));
}

/// Found by the test above: a further name takes reading and writing at once, which two groups do not add up to.
#[test]
fn two_rights_of_two_groups_give_no_further_name() {
    if !crate::host::is_root() {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o777)).unwrap();
    let path = dir.path().join("file");
    fs::write(&path, "x").unwrap();
    fs::set_permissions(&path, fs::Permissions::from_mode(0o660)).unwrap();
    let entry = |tag: Tag, perm: Perm| ambrik_core::acl::AclEntry { tag, perm };
    let list = Acl::new([
        entry(Tag::Owner, Perm::RW),
        entry(Tag::OwningGroup, Perm::NONE),
        entry(Tag::Group(Gid(61_002)), Perm::R),
        entry(Tag::Group(Gid(61_003)), Perm::W),
        entry(Tag::Mask, Perm::RW),
        entry(Tag::Other, Perm::NONE),
    ]);
    crate::attributes::set(&path, ACCESS_ATTRIBUTE, &list.unwrap().to_attribute());
    let ids = Ids::new(Uid(61_001), Gid(61_002), [Gid(61_003)]);
    let host = Host::this().unwrap();
    let setting = WhySetting { host: &host, accounts: &Accounts::from_texts("", ""), holders: &[], labels: None };
    let can = ask_all(setting, &subject(ids.clone()), std::slice::from_ref(&path), 1)[0].can;
    let kernel = as_account(&ids, move || one(&path, 0, path.parent().unwrap()));
    assert_eq!((can.read, can.write, can.link), (Some(kernel[0]), Some(kernel[1]), Some(kernel[5])));
}

/// Mounts forbid what modes allow.
#[test]
fn mount_options_count() {
    if !crate::host::is_root() {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let root = dir.path().to_owned();
    // On a thread of its own: it gets mounts of its own.
    std::thread::spawn(move || {
        use rustix::mount::{MountFlags, MountPropagationFlags};
        #[expect(deprecated, reason = "unsafe only for the descriptor table, which stays shared here")]
        let unshared = rustix::thread::unshare(rustix::thread::UnshareFlags::NEWNS);
        let private = MountPropagationFlags::PRIVATE | MountPropagationFlags::REC;
        if unshared.is_err() || rustix::mount::mount_change("/", private).is_err() {
            test_support::skipped("this test may not have mounts of its own");
            return;
        }
        let folder = root.join("mounted");
        fs::create_dir(&folder).unwrap();
        fs::set_permissions(&root, fs::Permissions::from_mode(0o777)).unwrap();
        rustix::mount::mount("none", &folder, "tmpfs", MountFlags::empty(), None::<&std::ffi::CStr>).unwrap();
        let file = folder.join("program");
        fs::write(&file, "#!/bin/sh\n").unwrap();
        fs::set_permissions(&file, fs::Permissions::from_mode(0o777)).unwrap();
        let host = Host::this().unwrap();
        let accounts = Accounts::from_texts("", "");
        let setting = WhySetting { host: &host, accounts: &accounts, holders: &[], labels: None };
        let ids = Ids::new(Uid(61_001), Gid(61_001), []);
        let ask = || {
            let host = Host::this().unwrap();
            let setting = WhySetting { host: &host, ..setting };
            let mut asker = ambrik_core::why::Asker::new(setting, subject(ids.clone()));
            [asker.ask(&file), asker.ask(&folder)]
        };
        let [of_file, of_folder] = ask();
        assert_eq!((of_file.can.write, of_file.can.search), (Some(true), Some(true)));
        assert_eq!(of_folder.can.delete, Some(false), "a mount point");
        let flags = MountFlags::RDONLY | MountFlags::NOEXEC;
        rustix::mount::mount_remount(&folder, flags, "").unwrap();
        let [of_file, of_folder] = ask();
        assert_eq!((of_file.can.read, of_file.can.write), (Some(true), Some(false)));
        assert_eq!((of_file.can.search, of_folder.can.create), (Some(false), Some(false)));
        assert!(rustix::fs::accessat(CWD, &file, Access::EXEC_OK, AtFlags::EACCESS).is_err());
        let said: Vec<String> = of_file.steps().iter().map(|step| step.says.to_string()).collect();
        assert!(said.iter().any(|says| says.contains("read-only")) && said.iter().any(|says| says.contains("noexec")));
    })
    .join()
    .unwrap();
}
