//! What PHP makes next, against the kernel: in place, and uploaded and moved; in any directory, with any umask.

use std::fs;
use std::os::unix::fs::{OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ambrik_core::account::{Gid, Uid};
use ambrik_core::acl::{Acl, DEFAULT_ATTRIBUTE};
use ambrik_core::created::{made_in, uploaded};
use ambrik_core::entry::{Kind, Rights};
use ambrik_core::host::Making;
use ambrik_core::mode::Perm;
use ambrik_core::site::Site;
use proptest::prelude::*;
use proptest::sample::select;
use rstest::rstest;

use crate::host::{TestHost, id, is_root};
use crate::kernel::{as_account, asks};

/// A process of php's with this umask: threads share theirs.
fn as_php(host: &TestHost, umask: u16, script: &str, dir: &Path) {
    let (script, dir) = (format!("umask {umask:04o}; {script}"), dir.to_owned());
    let ids = host.accounts.account("php").unwrap().ids;
    let done = as_account(&ids, move || {
        std::process::Command::new("sh").args(["-c", &script]).current_dir(dir).status().unwrap().success()
    });
    assert!(done);
}

/// A directory's group, mode and default list.
fn directory() -> impl Strategy<Value = (u32, u32, Option<Acl>)> {
    let perm = || select(vec![Perm::NONE, Perm::R, Perm::RX, Perm::RWX, Perm::RW, Perm::X]);
    let user = (select(vec!["web", "stranger", "deploy"]), perm());
    let list = (perm(), perm(), perm(), proptest::collection::vec(user, 0..3), select(vec!["web", "deploy"]), perm());
    let list = list.prop_map(|(owner, group, other, users, gid, of_group)| {
        let users: Vec<(Uid, Perm)> = users.into_iter().map(|(name, perm)| (Uid(id(name)), perm)).collect();
        Acl::with_named(owner, group, other, &users, &[(Gid(id(gid)), of_group)])
    });
    (select(vec!["php", "web", "deploy"]), any::<bool>(), proptest::option::of(list))
        .prop_map(|(group, set_gid, list)| (id(group), if set_gid { 0o2777 } else { 0o777 }, list))
}

fn make(host: &TestHost, name: &str, (gid, mode, list): &(u32, u32, Option<Acl>)) -> (PathBuf, Rights) {
    let dir = host.folder(name, "root", 0o777);
    std::os::unix::fs::chown(&dir, None, Some(*gid)).unwrap();
    fs::set_permissions(&dir, fs::Permissions::from_mode(*mode)).unwrap();
    if let Some(list) = list {
        rustix::fs::setxattr(&dir, DEFAULT_ATTRIBUTE, &list.to_attribute(), rustix::fs::XattrFlags::empty()).unwrap();
    }
    (dir.clone(), rights(&dir))
}

fn rights(path: &Path) -> Rights {
    let host = ambrik_core::tree::Host::this().unwrap();
    Rights { label: None, ..host.resolve(path).unwrap().facts.rights }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, ..ProptestConfig::default() })]

    #[test]
    fn is_what_the_kernel_makes(
        place in directory(),
        upload in directory(),
        umask in select(vec![0o000_u16, 0o002, 0o022, 0o027, 0o077, 0o177]),
    ) {
        if !is_root() {
            return Ok(());
        }
        let host = TestHost::new(&[]);
        let (dir, now) = make(&host, "store", &place);
        let (tmp, of_tmp) = make(&host, "tmp", &upload);
        let php = host.accounts.account("php").unwrap().ids;
        as_php(&host, umask, "> file; mkdir folder", &dir);
        prop_assert_eq!(rights(&dir.join("file")), made_in(&now, &php, Kind::File, 0o666, umask));
        prop_assert_eq!(rights(&dir.join("folder")), made_in(&now, &php, Kind::Directory, 0o777, umask));
        // As mkstemp(3), rename(2) and chmod(2) do it.
        let (from, to) = (tmp.join("php-upload"), dir.join("upload"));
        let made = as_account(&php, move || {
            let mode = fs::Permissions::from_mode(u32::from(0o666 & !umask));
            fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&from)?;
            fs::rename(&from, &to)?;
            fs::set_permissions(&to, mode)
        });
        prop_assert!(made.is_ok(), "{:?}", made);
        prop_assert_eq!(rights(&dir.join("upload")), uploaded(&of_tmp, &php, umask));
    }
}

/// What is said of the next files is so: `set` gives the directory the form that holds where there is one, and the audit names the
/// umask where there is none.
#[rstest]
fn what_is_said_of_the_next_files_is_so(
    #[values(0o022, 0o027, 0o077)] umask: u16,
    #[values("owner", "group", "acl")] grant: &str,
    #[values("root:root", "deploy")] keeper: &str,
    #[values(false, true)] own_upload_folder: bool,
) {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&[]);
    let site = host.site(&format!(
        "[accounts]\nkeeper = \"{keeper}\"\nphp = \"php\"\nweb = \"web\"\ngrant = \"{grant}\"\n[[part]]\npath = \"uploads\"\n\
         use = \"store\"\n[[part]]\npath = \"incoming\"\nuse = \"store\"\n"
    ));
    let upload = if own_upload_folder { PathBuf::from("/srv/www/site/incoming") } else { PathBuf::from("/tmp-of-php") };
    let making = Making { umasks: vec![(umask, "process 7".into())], upload: upload.clone() };
    let site = Arc::new(Site { making, ..Site::clone(&site) });
    fs::create_dir(host.real("tmp-of-php")).unwrap();
    host.give(&host.real("tmp-of-php"), "root", 0o1777);
    for folder in ["uploads", "incoming"] {
        host.folder(folder, "php", 0o755);
    }
    assert!(host.set(&site).failures.is_empty());
    let audit = host.audit(&site);
    let said: Vec<String> = audit
        .wrong
        .findings
        .iter()
        .filter(|finding| finding.check.name == "next-files-closed")
        .filter(|finding| audit.paths(finding).any(|path| path == Path::new("uploads")))
        .map(|finding| audit.says(finding))
        .collect();
    let uploads = host.site_path("uploads");
    as_php(&host, umask, "> made; mkdir folder; > folder/inside", &uploads);
    let script = format!(
        "umask 0177; > {0}/new; umask {umask:04o}; mv {0}/new uploaded; chmod $(printf %o $((0666 & ~0{umask:o}))) uploaded",
        host.real(&upload).display()
    );
    as_php(&host, umask, &script, &uploads);
    let readers: Vec<&str> = if keeper == "deploy" { vec!["web", "deploy"] } else { vec!["web"] };
    let paths = ["made", "folder/inside", "uploaded"].map(|name| uploads.join(name));
    let mut shut_out = false;
    for who in readers {
        let can = asks(&host.accounts.account(who).unwrap().ids, &paths);
        assert!(can[0].read && can[1].read, "{who}: what is made there is read, whatever the umask: {said:?}");
        shut_out |= !can[2].read;
    }
    assert_eq!(said.is_empty(), !shut_out, "{said:?}");
    assert!(said.iter().all(|says| says.contains(&format!("umask {umask:04o} (process 7)"))), "{said:?}");
    let stranger = asks(&host.accounts.account("stranger").unwrap().ids, &paths);
    assert!(stranger.iter().all(|can| !can.read && !can.write));
}
