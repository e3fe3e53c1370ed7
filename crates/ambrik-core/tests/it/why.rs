//! What `why` says about a site: what is wanted, what makes it right, everything that an account can do.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ambrik_core::account::{Gid, Ids, Uid};
use ambrik_core::acl::{ACCESS_ATTRIBUTE, Acl};
use ambrik_core::audit::host_findings;
use ambrik_core::host::{self, Services};
use ambrik_core::mode::Perm;
use ambrik_core::site::{Phase, Site};
use ambrik_core::tree::{Host, Progress};
use ambrik_core::why::{
    self, Act, Answer, Asker, Cure, Everything, Match, Now, PolicySite, Refusals, Subject, Whom, WhySetting,
};
use rstest::rstest;

use crate::host::{TestHost, found, id, is_root};
use crate::kernel::as_account;

const SITE: &str = r#"served = "public"
[accounts]
php = "php"
web = "web"
[[part]]
path = "config/settings.php"
use = "secret"
write = "install"
[[part]]
path = "data"
use = "store"
[[part]]
path = "public/uploads"
use = "store"
"#;

/// A site that is as it should be.
fn sound() -> TestHost {
    let host = TestHost::new(&[]);
    host.file("public/index.php", "root", 0o644);
    host.file("public/uploads/q01.png", "php", 0o640);
    host.file("config/settings.php", "root", 0o640);
    host.file("data/one", "php", 0o600);
    let site = host.site(SITE);
    if is_root() {
        assert!(host.set(&site).failures.is_empty());
        let outcome = host.audit(&site);
        assert_eq!(outcome.changes_pending(), 0);
    }
    host
}

fn subject(name: &str) -> Subject {
    Subject {
        name: name.into(),
        ids: Ids::new(Uid(id(name)), Gid(id(name)), []),
        process: None,
        stale: None,
        domain: None,
    }
}

fn ask_in(test: &TestHost, site: &Arc<Site>, phase: Phase, who: &str, path: impl AsRef<Path>) -> Answer {
    let host = Host::at(&test.real("/")).unwrap();
    let holders = [PolicySite::new(site, phase, &host, &test.accounts)];
    let setting = WhySetting { host: &host, accounts: &test.accounts, holders: &holders, labels: None };
    Asker::new(setting, subject(who)).ask(&Path::new("/srv/www/site").join(path))
}

fn ask(test: &TestHost, who: &str, path: impl AsRef<Path>) -> Answer {
    ask_in(test, &test.site(SITE), Phase::Sealed, who, path)
}

fn said(answer: &Answer) -> Vec<String> {
    let refused = answer.steps().into_iter().filter(|step| step.allows != Some(true));
    refused.map(|step| format!("{} {}: {}", step.act.word(), step.path.display(), step.says)).collect()
}

fn mends(answer: &Answer) -> Vec<String> {
    let mends = &answer.wanted.as_ref().unwrap().mends;
    let each = mends.iter().map(|mend| match (&mend.remedy, &mend.to) {
        (Cure::Set, to) => format!("{}: {} to {}", mend.path.display(), mend.from, to.as_deref().unwrap_or("?")),
        (Cure::Hand(words), _) => words.clone(),
    });
    each.collect()
}

#[rstest]
#[case("php", "public/index.php", "read")]
#[case("php", "config/settings.php", "read")]
#[case("php", "data/one", "read write delete")]
#[case("php", "data", "read write search create")]
#[case("php", "data/new", "create")]
#[case("php", "lib/new", "")]
#[case("php", "data/new/new", "")]
#[case("php", "data/new/data", "")]
#[case("web", "public/uploads/q01.png", "read")]
#[case("web", "config/settings.php", "")]
#[case("stranger", "public/index.php", "read")]
#[case("stranger", "data/one", "")]
fn a_sound_site_is_as_wanted(#[case] who: &str, #[case] path: &str, #[case] can: &str) {
    if !is_root() {
        return;
    }
    let answer = ask(&sound(), who, path);
    let each = [
        ("read", answer.can.read),
        ("write", answer.can.write),
        ("search", answer.can.search),
        ("create", answer.can.create.filter(|_| answer.kind != Some(ambrik_core::entry::Kind::File))),
        ("delete", answer.can.delete),
    ];
    let able: Vec<&str> = each.iter().filter(|(_, can)| *can == Some(true)).map(|(act, _)| *act).collect();
    assert_eq!(able.join(" "), can, "{:#?}", answer.steps());
    assert_eq!(answer.wanted.unwrap().is, Match::AsWanted);
}

#[test]
fn every_obstacle_is_named_and_mending_them_in_one_go_is_enough() {
    if !is_root() {
        return;
    }
    let host = sound();
    for (path, mode) in [("data/one", 0o400), ("data", 0o700), ("", 0o700)] {
        host.give(&host.site_path(path), "root", mode);
    }
    host.give(&host.real("srv"), "root", 0o700);
    let answer = ask(&host, "php", "data/one");
    assert_eq!(
        said(&answer),
        [
            "search /srv: root:root 0700; php is neither its owner nor in its group, and others have ---; search is missing",
            "search /srv/www/site: root:root 0700; php is neither its owner nor in its group, and others have ---; search is missing",
            "search /srv/www/site/data: root:root 0700; php is neither its owner nor in its group, and others have ---; search is missing",
            "read /srv/www/site/data/one: root:root 0400; php is neither its owner nor in its group, and others have ---; read is missing",
            "write /srv/www/site/data/one: root:root 0400; php is neither its owner nor in its group, and others have ---; write is missing",
            "execute /srv/www/site/data/one: root:root 0400; php is neither its owner nor in its group, and others have ---; execute is missing",
            "delete /srv/www/site/data: root:root 0700; php is neither its owner nor in its group, and others have ---; write and search are missing",
        ]
    );
    assert_eq!(answer.wanted.as_ref().unwrap().is, Match::TooLittle(vec![Act::Read, Act::Write]));
    assert_eq!(
        mends(&answer),
        [
            "setfacl -m u:php:--x /srv",
            "/srv/www/site: root:root 0700 to root:root 0755",
            "/srv/www/site/data: root:root 0700 to php:php 0700",
            "/srv/www/site/data/one: root:root 0400 to php:php 0600",
        ]
    );
    // What is to be done is done, as it says.
    let list = Acl::with_users(Perm::RWX, Perm::NONE, Perm::NONE, &[(Uid(id("php")), Perm::X)]);
    crate::attributes::set(&host.real("srv"), ACCESS_ATTRIBUTE, &list.to_attribute());
    assert!(host.set(&host.site(SITE)).failures.is_empty());
    let mended = ask(&host, "php", "data/one");
    assert_eq!((mended.can.write, mended.wanted.unwrap().is), (Some(true), Match::AsWanted));
}

#[test]
fn too_much_is_told_with_what_takes_it_away() {
    if !is_root() {
        return;
    }
    let host = sound();
    host.give(&host.site_path("config/settings.php"), "php", 0o666);
    host.give(&host.site_path("config"), "root", 0o777);
    let answer = ask(&host, "php", "config/settings.php");
    assert_eq!(answer.wanted.as_ref().unwrap().is, Match::TooMuch(vec![Act::Write, Act::Delete]));
    assert!(answer.wanted.as_ref().unwrap().in_window);
    assert_eq!(
        mends(&answer),
        [
            "/srv/www/site/config/settings.php: php:php 0666 to root:php 0640",
            "/srv/www/site/config: root:root 0777 to root:root 0755",
        ]
    );
    let open = ask_in(&host, &host.site(SITE), Phase::Open, "php", "config/settings.php");
    assert_eq!(open.wanted.unwrap().right.word(), "rw", "in an install window it may be written");
    let stranger = ask(&host, "stranger", "config/settings.php").wanted.unwrap();
    assert_eq!(stranger.is, Match::TooMuch(vec![Act::Read, Act::Write, Act::Delete]));
}

#[test]
fn what_is_of_no_site_is_answered_without_wishes() {
    let host = sound();
    let answer = ask(&host, "php", "/etc/passwd");
    assert!(answer.wanted.is_none());
    assert_eq!(answer.can.read, Some(true));
}

#[test]
fn links_lead_to_what_they_lead_to_and_are_removed_themselves() {
    if !is_root() {
        return;
    }
    let host = sound();
    std::os::unix::fs::symlink("../config/settings.php", host.site_path("data/link")).unwrap();
    std::os::unix::fs::symlink("nothing", host.site_path("data/dangling")).unwrap();
    let answer = ask(&host, "php", "data/link");
    assert_eq!(answer.leads_to.as_deref(), Some(Path::new("/srv/www/site/config/settings.php")));
    assert_eq!((answer.can.read, answer.can.write, answer.can.delete), (Some(true), Some(false), Some(true)));
    let dangling = ask(&host, "php", "data/dangling");
    assert_eq!((dangling.kind, dangling.can.read, dangling.can.delete), (None, Some(false), Some(true)));
}

/// Links of others in a sticky directory that all can write to, as the host has it set.
#[rstest]
#[case("1\n", false)]
#[case("0\n", true)]
fn protected_links(#[case] set: &str, #[case] follows: bool) {
    if !is_root() {
        return;
    }
    let host = TestHost::new(&[]);
    fs::create_dir_all(host.real("proc/sys/fs")).unwrap();
    fs::write(host.real("proc/sys/fs/protected_symlinks"), set).unwrap();
    host.folder("shared", "root", 0o1777);
    host.file("public/index.php", "root", 0o644);
    let link = host.site_path("shared/link");
    std::os::unix::fs::symlink("/srv/www/site/public/index.php", &link).unwrap();
    std::os::unix::fs::lchown(&link, Some(id("stranger")), None).unwrap();
    assert_eq!(ask(&host, "php", "shared/link").can.read, Some(follows));
    assert_eq!(ask(&host, "stranger", "shared/link").can.read, Some(true), "its own");
}

#[test]
fn where_it_cannot_look_it_does_not_answer() {
    if !is_root() {
        return;
    }
    let host = sound();
    host.give(&host.site_path("data"), "php", 0o700);
    host.folder("closed", "root", 0o711);
    host.give(&host.site_path("closed"), "root", 0o700);
    let root = host.real("/");
    let passwd = fs::read_to_string(host.real("etc/passwd")).unwrap();
    let group = fs::read_to_string(host.real("etc/group")).unwrap();
    let ids = Ids::new(Uid(id("outsider")), Gid(id("outsider")), []);
    let answers = as_account(&ids, move || {
        let host = Host::at(&root).unwrap();
        let accounts = ambrik_core::account::Accounts::from_texts(&passwd, &group);
        let setting = WhySetting { host: &host, accounts: &accounts, holders: &[], labels: None };
        let asked = |who: &str, path: &str| {
            let answer = Asker::new(setting, subject(who)).ask(Path::new(path));
            (answer.can.read, answer.is_complete(), said(&answer).concat())
        };
        [
            asked("php", "/srv/www/site/data/one"),
            asked("stranger", "/srv/www/site/data/one"),
            asked("php", "/srv/www/site/public/index.php"),
        ]
    });
    let [hidden, refused, open] = answers;
    assert_eq!((hidden.0, hidden.1), (None, false));
    assert!(hidden.2.contains("cannot tell from here: permission denied; run it as root"), "{}", hidden.2);
    assert_eq!((refused.0, refused.1), (Some(false), true), "it does not get that far in any case");
    assert_eq!((open.0, open.1), (Some(true), true));
}

fn services(host: &TestHost, groups: &str, capabilities: &str) -> Services {
    let ids = format!("{0}\t{0}\t{0}\t{0}", id("php"));
    let status =
        format!("Name:\tphp-fpm8.2\nPPid:\t50\nUid:\t{ids}\nGid:\t{ids}\nGroups:\t{groups}\nCapEff:\t{capabilities}\n");
    for (pid, text, title) in [
        (
            50,
            "Name:\tphp-fpm8.2\nPPid:\t1\nUid:\t0\t0\t0\t0\nGid:\t0\t0\t0\t0\nGroups:\t0\n",
            "php-fpm: master process (/etc/php-fpm.conf)",
        ),
        (51, &*status, "php-fpm: pool site"),
    ] {
        let folder = host.real(format!("proc/{pid}"));
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join("status"), text).unwrap();
        fs::write(folder.join("cmdline"), format!("{title}\0")).unwrap();
    }
    host::look(&Host::at(&host.real("/")).unwrap(), &host.accounts)
}

#[test]
fn a_running_service_has_the_groups_that_it_was_started_with() {
    let host = TestHost::new(&[("harbour", 61_900, "php"), ("gone", 61_901, "")]);
    let services = services(&host, "61901", "0000000000000002");
    let site = host.site(SITE);
    let at = Host::at(&host.real("/")).unwrap();
    let of_site = Subject::of_site(&Whom::Php, &site, &at, &host.accounts, &services).unwrap();
    assert!(of_site.ids.is_in(Gid(61_901)) && !of_site.ids.is_in(Gid(61_900)));
    assert_eq!(of_site.ids.powers.names(), "CAP_DAC_OVERRIDE");
    assert_eq!(
        of_site.stale.as_deref(),
        Some("php is now in harbour and no longer in gone: its process was started before; restart the service")
    );
    assert_eq!(Subject::named("php", &host.accounts, &services).unwrap().ids, of_site.ids);
    let keeper = Subject::of_site(&Whom::Keeper, &site, &at, &host.accounts, &services).unwrap();
    assert_eq!((keeper.ids.uid, keeper.stale), (Uid::ROOT, None));
}

#[rstest]
#[case::name("web", 61_002, &[61_002])]
#[case::uid("61002", 61_002, &[61_002])]
#[case::groups("web:harbour,7", 61_002, &[7, 61_900])]
#[case::numbers("12345:8,9", 12_345, &[8, 9])]
#[case::nobody("12345", 12_345, &[u32::MAX - 1])]
fn accounts_are_named(#[case] text: &str, #[case] uid: u32, #[case] groups: &[u32]) {
    let host = TestHost::new(&[("harbour", 61_900, "php")]);
    let subject = Subject::named(text, &host.accounts, &Services::default()).unwrap();
    let groups: Vec<Gid> = groups.iter().map(|gid| Gid(*gid)).collect();
    assert_eq!((subject.ids.uid, subject.ids.groups()), (Uid(uid), &groups[..]));
}

#[rstest]
#[case("wbe", "did you mean \"web\"?")]
#[case("web:none", "\"web:none\" is no account: write a user's name, a uid, or uid:gid,gid,…")]
fn accounts_that_are_none(#[case] text: &str, #[case] want: &str) {
    let host = TestHost::new(&[]);
    let error = Subject::named(text, &host.accounts, &Services::default()).unwrap_err().to_string();
    assert!(error.contains(want), "{error}");
}

fn everything(test: &TestHost, who: &str, act: Act, services: &Services) -> Everything {
    let host = Host::at(&test.real("/")).unwrap();
    let holder = PolicySite::new(&test.site(SITE), Phase::Sealed, &host, &test.accounts);
    let setting = WhySetting { host: &host, accounts: &test.accounts, holders: &[], labels: None };
    why::everything(setting, &holder, &subject(who), act, services, (2, &Progress::default())).unwrap()
}

#[test]
fn everything_is_what_one_question_after_the_other_answers() {
    if !is_root() {
        return;
    }
    let host = sound();
    host.give(&host.site_path("public"), "root", 0o1777);
    host.file("public/assets/style.css", "stranger", 0o666);
    host.file("public/more.php", "php", 0o444);
    std::os::unix::fs::symlink("index.php", host.site_path("public/link")).unwrap();
    for who in ["php", "web", "stranger"] {
        for act in [Act::Read, Act::Write] {
            let all = everything(&host, who, act, &Services::default());
            let paths: Vec<PathBuf> = all.paths().map(|(path, _)| path).collect();
            let mut questions = 0;
            for entry in crate::host::picture(&host.site_path(""), false).into_keys() {
                let path = entry.strip_prefix(host.site_path("")).unwrap();
                let path = if path.as_os_str().is_empty() { Path::new(".") } else { path };
                let answer = ask(&host, who, path);
                let link = entry.is_symlink();
                let can = answer.can;
                let writes =
                    if answer.kind == Some(ambrik_core::entry::Kind::Directory) { can.create } else { can.write };
                let able = match act {
                    Act::Read => !link && can.read == Some(true),
                    // The root itself is no path of the site that could be replaced.
                    _ => (!link && writes == Some(true)) || (can.delete == Some(true) && path != Path::new(".")),
                };
                assert_eq!(paths.iter().any(|known| known == path), able, "{who} {act:?} {path:?}");
                questions += 1;
            }
            assert_eq!(all.entries, questions);
            assert_eq!(all.able(), u64::try_from(paths.len()).unwrap());
        }
    }
}

#[test]
fn where_php_would_be_run_is_said() {
    if !is_root() {
        return;
    }
    let host = sound();
    let nowhere = everything(&host, "web", Act::Write, &Services::default());
    assert!(nowhere.runs_php.unwrap().folders.is_empty());
    let assumed = everything(&host, "php", Act::Write, &Services::default()).runs_php.unwrap();
    assert_eq!((assumed.folders, assumed.server), (vec![PathBuf::from("public/uploads")], None));
    let served = |location: &str| {
        let php = "location ~ \\.php$ { fastcgi_pass unix:/run/a.sock; }";
        let text = format!("http {{ server {{ root /srv/www/site/public; {location} {php} }} }}");
        fs::create_dir_all(host.real("etc/nginx")).unwrap();
        fs::write(host.real("etc/nginx/nginx.conf"), text).unwrap();
        let services = host::look(&Host::at(&host.real("/")).unwrap(), &host.accounts);
        everything(&host, "php", Act::Write, &services).runs_php.unwrap()
    };
    let said = served("");
    assert_eq!((said.folders, said.server.as_deref()), (vec![PathBuf::from("public/uploads")], Some("nginx")));
    assert!(served("location ^~ /uploads/ { }").folders.is_empty());
}

#[test]
fn whole_directories_stand_for_what_is_in_them() {
    if !is_root() {
        return;
    }
    let host = sound();
    host.file("data/deep/er/two", "php", 0o600);
    host.give(&host.site_path("data/deep"), "php", 0o700);
    host.give(&host.site_path("data/deep/er"), "php", 0o700);
    host.give(&host.site_path("public/index.php"), "php", 0o644);
    let all = everything(&host, "php", Act::Write, &Services::default());
    let shown: Vec<String> = all
        .folders
        .iter()
        .map(|f| {
            format!(
                "{} {} {}/{} {:?}",
                f.path.display(),
                if f.whole { "whole" } else { "some" },
                f.able,
                f.paths,
                f.names
            )
        })
        .collect();
    assert_eq!(shown, ["data whole 5/5 []", "public some 2/2 [\"index.php\"]", "public/uploads whole 2/2 []"]);
    assert_eq!(all.too_many(), 1);
}

#[rstest]
#[case::wanted("data", 0o500, "file_put_contents(/srv/www/site/data/new)", Now::Wanted)]
#[case::works("data", 0o700, "file_put_contents(/srv/www/site/data/new)", Now::Works)]
#[case::rightly("config", 0o755, "file_put_contents(/srv/www/site/config/settings.php)", Now::Unwanted)]
#[case::opened("config", 0o755, "fopen(/srv/www/site/config/settings.php)", Now::ReadsOnly)]
#[case::opened_up("config/settings.php", 0o666, "file_put_contents(/srv/www/site/config/settings.php)", Now::Opened)]
#[case::elsewhere("config", 0o755, "file_put_contents(/etc/passwd)", Now::NoSite)]
#[case::reading("public", 0o700, "require(/srv/www/site/public/index.php)", Now::Wanted)]
fn refusals_in_logs_are_judged_by_what_is_wanted(
    #[case] folder: &str,
    #[case] mode: u32,
    #[case] call: &str,
    #[case] now: Now,
) {
    if !is_root() {
        return;
    }
    let host = sound();
    let owner = if folder == "data" { "php" } else { "root" };
    host.give(&host.site_path(folder), owner, mode);
    let mut refusals = Refusals::new(jiff::civil::date(2026, 11, 23));
    let line =
        format!("PHP Warning:  {call}: Failed to open stream: Permission denied in /srv/www/site/x.php on line 1\n");
    refusals.read(line.as_bytes()).unwrap();
    let [refusal] = &refusals.list()[..] else { panic!("{refusals:?}") };
    assert_eq!(refusal.now(&ask(&host, "php", &refusal.path)), now);
}

#[rstest]
#[case::as_all_do("config/settings.php", "root", 0o644, "other can read, open to every account")]
#[case::as_owner("public/index.php", "stranger", 0o644, "other can write, as the owner")]
#[case::by_group("data/one", "stranger", 0o040, "")]
fn the_php_of_another_site_and_its_way_in(
    #[case] path: &str,
    #[case] owner: &str,
    #[case] mode: u32,
    #[case] want: &str,
) {
    if !is_root() {
        return;
    }
    let host = sound();
    let other = host.site("name = \"other\"\n[accounts]\nphp = \"stranger\"\n");
    let site = host.site(SITE);
    assert_eq!(found(&host.audit_beside(&site, &[Arc::clone(&other)]), "reaches-other-site"), Vec::<String>::new());
    host.give(&host.site_path(path), owner, mode);
    let audit = host.audit_beside(&site, &[other, Arc::clone(&site)]);
    let finding = audit.wrong.findings.iter().find(|f| f.check.name == "reaches-other-site");
    match finding {
        Some(finding) => assert!(!want.is_empty() && audit.says(finding).contains(want), "{}", audit.says(finding)),
        None => assert!(want.is_empty(), "nothing of {path}"),
    }
}

#[test]
fn two_sites_whose_php_is_one_account() {
    let host = sound();
    let other = host.site("name = \"other\"\n[accounts]\nphp = \"php\"\n[[part]]\npath = \"keys\"\nuse = \"secret\"\n");
    let audit = host.audit_beside(&host.site(SITE), &[other]);
    let told = |audit| host_findings(&[audit]).pop();
    let finding = told(audit).unwrap();
    assert_eq!((finding.check.name, finding.sites.len()), ("php-shared", 2));
    assert!(finding.says.contains("all run as php (") && finding.says.contains("other with keys"), "{finding:?}");
    assert!(told(host.audit(&host.site(SITE))).is_none());
}

/// What nobody can change is no finding, and where PHP must write it is.
#[test]
fn the_immutable_flag_counts_in_an_audit() {
    if !is_root() {
        return;
    }
    let host = sound();
    let open = host.file("public/open.php", "php", 0o666);
    let data = host.site_path("data/one");
    let flagged = |flag: rustix::fs::IFlags| {
        [&open, &data].iter().all(|path| {
            let file = fs::File::open(path).unwrap();
            rustix::fs::ioctl_setflags(&file, flag).is_ok()
        })
    };
    assert_eq!(found(&host.audit(&host.site(SITE)), "php-writes-code"), ["public/open.php"]);
    if !flagged(rustix::fs::IFlags::IMMUTABLE) {
        test_support::skipped("this file system has no immutable flag");
        return;
    }
    let audit = host.audit(&host.site(SITE));
    let broken = found(&audit, "php-cannot-write");
    let finding = audit.wrong.findings.iter().find(|f| f.check.name == "php-cannot-write").unwrap();
    let remedy = audit.remedy(finding);
    let writes = found(&audit, "php-writes-code");
    assert!(flagged(rustix::fs::IFlags::empty()));
    assert_eq!((writes, broken), (Vec::<String>::new(), vec!["data/one".to_owned()]));
    assert!(remedy.contains("chattr -i"), "{remedy}");
}

/// To make a missing file writable, the folder around it is not opened: the site file is what says that it is to be made.
#[rstest]
#[case::of_a_part(
    "[[part]]\npath = \"config/berths.db\"\nuse = \"store\"\n",
    "create = true for the part config/berths.db has it made"
)]
#[case::of_a_pattern(
    "[[part]]\npath = \"config/*.db\"\nuse = \"store\"\n",
    "a [[part]] for config that PHP may write to"
)]
fn no_mend_gives_what_the_site_file_denies(#[case] part: &str, #[case] says: &str) {
    if !is_root() {
        return;
    }
    let host = sound();
    let site = host.site(&format!("[accounts]\nphp = \"php\"\nweb = \"web\"\n{part}"));
    assert!(host.set(&site).failures.is_empty());
    let answer = ask_in(&host, &site, Phase::Sealed, "php", "config/berths.db");
    let mends = mends(&answer);
    assert_eq!(answer.can.create, Some(false));
    assert!(mends.len() == 1 && mends[0].contains(says) && !mends[0].contains("setfacl"), "{mends:?}");
}
