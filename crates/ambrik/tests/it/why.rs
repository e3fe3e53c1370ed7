//! `why` as it is used: paths from anywhere, a site whole, logs.

use std::fs;
use std::io::Write as _;
use std::process::Stdio;

use insta::assert_snapshot;
use rstest::rstest;

use crate::documents::{checked, document};
use crate::host::{PHP, Ran, TestHost, is_root};
use crate::survey::demo;

/// A site with a store that PHP cannot write to, and settings that it can.
fn host() -> TestHost {
    let host = TestHost::new();
    host.site(
        "berths",
        "[[part]]\npath = \"config/settings.php\"\nuse = \"secret\"\nwrite = \"install\"\n\
         [[part]]\npath = \"uploads\"\nuse = \"store\"\n",
    );
    host.file("index.php", 0, 0o644);
    host.file("config/settings.php", PHP, 0o644);
    host.file("uploads/q01.svg", 0, 0o644);
    host
}

fn with_input(host: &TestHost, words: &[&str], input: &[u8]) -> Ran {
    let mut child =
        host.command(words).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(input).unwrap();
    host.told(&child.wait_with_output().unwrap())
}

#[test]
fn paths() {
    if !is_root() {
        return;
    }
    let host = host();
    let ran = host.run(&[
        "why",
        "/srv/www/berths/config/settings.php",
        "/srv/www/berths/uploads",
        "/srv/www/berths/index.php",
    ]);
    assert_snapshot!("why", ran.out);
    assert_eq!((ran.code, &*ran.err), (1, ""));
    assert_eq!(host.run(&["why", "/srv/www/berths/index.php"]).code, 0, "as wanted");
}

#[test]
fn a_whole_site() {
    if !is_root() {
        return;
    }
    let host = host();
    let ran = host.run(&["why", "--writable", "berths"]);
    assert_snapshot!("why_writable", ran.out);
    assert_eq!(ran.code, 1);
    assert!(host.run(&["why", "--readable", "berths", "--as", "web"]).out.contains("the web server (web) can read"));
    let nobody = host.run(&["why", "--writable", "berths", "--as", "61009"]);
    assert!(nobody.out.starts_with("berths: user can change nothing of "), "{nobody:?}");
    assert_eq!(nobody.code, 0);
}

#[rstest]
#[case::lines(b"/srv/www/berths/index.php\n/srv/www/berths/a b\n", 2)]
#[case::nul(b"/srv/www/berths/index.php\0/srv/www/berths/with\nnewline\0", 2)]
#[case::nothing(b"", 0)]
fn paths_from_standard_input(#[case] input: &[u8], #[case] count: usize) {
    let host = host();
    let ran = with_input(&host, &["why", "--brief", "-"], input);
    assert_eq!(ran.out.lines().count(), count + 1, "{ran:?}");
    let ran = with_input(&host, &["why", "--format", "json", "/srv/www/berths/index.php", "-"], input);
    let answers = checked(&ran.out, "why");
    assert_eq!(answers["answers"].as_array().unwrap().len(), count + 1);
}

#[test]
fn thousands_of_answers_come_in_the_order_of_the_questions() {
    let host = host();
    let paths: Vec<String> = (0..3_000).map(|n| format!("/srv/www/berths/{}/{n}", n % 7)).collect();
    let ran = with_input(&host, &["why", "--format", "json", "-"], paths.join("\n").as_bytes());
    let document = checked(&ran.out, "why");
    let told: Vec<&str> =
        document["answers"].as_array().unwrap().iter().map(|answer| answer["path"].as_str().unwrap()).collect();
    assert_eq!(told, paths);
}

#[test]
fn answers_for_programs() {
    if !is_root() {
        return;
    }
    let host = host();
    let why = document(&host, &["why", "/srv/www/berths/uploads/q01.svg", "/srv/www/berths/none"], "why");
    let [of_file, of_nothing] = &why["answers"].as_array().unwrap()[..] else { panic!("{why:#}") };
    assert_eq!(
        (&of_file["account"], &of_file["read"], &of_file["write"]),
        (&"php".into(), &true.into(), &false.into())
    );
    assert_eq!((&of_file["wanted"]["is"], &of_file["wanted"]["acts"][0]), (&"too-little".into(), &"write".into()));
    assert_eq!(of_file["wanted"]["changes"][0]["remedy"], "ambrik set berths");
    let steps = of_file["steps"].as_array().unwrap();
    assert_eq!(
        (&steps[0]["path"], &steps[0]["act"], &steps[0]["allows"]),
        (&"/".into(), &"search".into(), &true.into())
    );
    assert!(of_nothing["kind"].is_null() && of_nothing["read"] == false);
    let all = document(&host, &["why", "--writable", "berths"], "why");
    assert_eq!(all["everything"]["paths"][0]["path"], "config/settings.php");
    assert_eq!(all["everything"]["unwanted"], 1);
}

/// A log of each kind, one of them compressed.
#[test]
fn refusals_out_of_logs() {
    if !is_root() {
        return;
    }
    let host = host();
    let web = host.write(
        "var/log/nginx/error.log",
        "2026/11/20 10:11:12 [error] 42#42: *1 FastCGI sent in stderr: \"PHP message: PHP Warning:  \
         file_put_contents(/srv/www/berths/uploads/q02.svg): Failed to open stream: Permission denied in \
         /srv/www/berths/index.php on line 14\" while reading upstream, client: 192.0.2.7, request: \"GET / HTTP/1.1\"\n\
         2026/11/21 08:00:00 [error] 42#42: *2 open() \"/srv/www/berths/config/settings.php\" failed (13: Permission denied), client: 192.0.2.7\n",
    );
    let php = host.write(
        "var/log/php.log",
        "[19-Nov-2026 23:00:00 UTC] PHP Warning:  file_put_contents(/srv/www/berths/uploads/q02.svg): Failed to open \
         stream: Permission denied in /srv/www/berths/index.php on line 14\n\
         [22-Nov-2026 23:00:00 UTC] PHP Warning:  file_put_contents(/srv/www/berths/index.php): Failed to open stream: \
         Permission denied in /srv/www/berths/index.php on line 15\n\
         [22-Nov-2026 23:00:00 UTC] PHP Warning:  mkdir(): Permission denied in /srv/www/berths/index.php on line 15\n",
    );
    let packed = host.at("var/log/php.log.1.gz");
    let mut packer = flate2::write::GzEncoder::new(fs::File::create(&packed).unwrap(), flate2::Compression::default());
    packer.write_all(&fs::read(&php).unwrap()).unwrap();
    packer.finish().unwrap();
    let logs = [web.to_str().unwrap(), php.to_str().unwrap(), packed.to_str().unwrap()];
    let ran = host.run(&[&["why", "--from-log"], &logs[..]].concat());
    assert_snapshot!("why_from_log", ran.out);
    assert_eq!(ran.code, 1);
    let why = document(&host, &[&["why", "--from-log"], &logs[..]].concat(), "why");
    let first = &why["answers"][0]["refused"];
    assert_eq!((&first["now"], &first["count"]), (&"refused-and-wanted".into(), &3.into()));
    assert_eq!((&first["first"], &first["last"]), (&"2026-11-19T23:00:00".into(), &"2026-11-20T10:11:12".into()));
    assert_eq!(why["refused_without_path"], 2);
}

#[rstest]
#[case::nobodys(&["why", "/etc/passwd"], "no site file holds /etc/passwd (known: berths), so it is not known who \"php\" is")]
#[case::no_account(&["why", "/etc/passwd", "--as", "wbe"], "did you mean \"web\"?")]
#[case::no_site(&["why", "--writable", "brths"], "there is no site file [HOST]/etc/ambrik/sites/brths.toml; did you mean berths?")]
#[case::no_log(&["why", "--from-log", "/none"], "cannot read the log /none")]
#[case::nothing_asked(&["why"], "the following required arguments were not provided")]
#[case::two_questions(&["why", "/etc", "--writable", "berths"], "cannot be used with")]
fn bad_questions(#[case] words: &[&str], #[case] says: &str) {
    let ran = host().run(words);
    assert_eq!((ran.code, &*ran.out), (2, ""), "{ran:?}");
    assert!(ran.err.contains(says), "{ran:?}");
}

/// A broken site file of another site does not stand in the way of a question that does not need it.
#[test]
fn a_broken_site_file_is_left_out_and_named() {
    let host = host();
    host.write("etc/ambrik/sites/notices.toml", "[site]\nrot = 1\n");
    let ran = host.run(&["why", "/srv/www/berths/index.php", "--as", "web"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(ran.err.contains("left out: ") && ran.err.contains("notices.toml"), "{ran:?}");
}

#[test]
fn an_ordinary_user_is_told_what_cannot_be_told() {
    if !is_root() {
        return;
    }
    let mut host = host();
    crate::host::give(&host.at("srv/www/berths/uploads"), PHP, 0o700);
    host.run_as = Some(61_009);
    let ran = host.run(&["why", "/srv/www/berths/uploads/q01.svg"]);
    assert_eq!(ran.code, 3, "{ran:?}");
    assert!(ran.out.contains("cannot tell from here what php can do"), "{ran:?}");
    let refused = host.run(&["why", "/srv/www/berths/uploads/q01.svg", "--as", "web"]);
    assert_eq!(refused.code, 1, "it is stopped before that: {refused:?}");
    assert!(refused.out.contains("web can do nothing with it"), "{refused:?}");
    let json = document(&host, &["why", "/srv/www/berths/uploads/q01.svg"], "why");
    assert!(json["answers"][0]["read"].is_null() && json["answers"][0]["write"].is_null());
}

/// A service that was started before its account was put into a group.
#[test]
fn groups_that_do_not_count_yet_are_told() {
    if !is_root() {
        return;
    }
    let host = host();
    host.write("etc/group", format!("root:x:0:\nphp:x:{PHP}:\nweb:x:61002:\nharbour:x:61900:php\n"));
    let ids = format!("{PHP}\t{PHP}\t{PHP}\t{PHP}");
    let root = "0\t0\t0\t0";
    for (pid, parent, ids, title) in
        [(50, 1, root, "master process (/etc/php-fpm.conf)"), (51, 50, &*ids, "pool berths")]
    {
        let status = format!("Name:\tphp-fpm8.2\nPPid:\t{parent}\nUid:\t{ids}\nGid:\t{ids}\nGroups:\t\n");
        host.write(&format!("proc/{pid}/status"), &status);
        host.write(&format!("proc/{pid}/cmdline"), format!("php-fpm: {title}\0"));
    }
    let file = host.file("uploads/q02.svg", 0, 0o640);
    std::os::unix::fs::chown(&file, None, Some(61_900)).unwrap();
    let said = "php was put into harbour after its process started: that does not count yet; restart the service";
    let why = host.run(&["why", "/srv/www/berths/uploads/q02.svg"]);
    assert!(why.err.contains(said) && why.out.contains("no   read"), "{why:?}");
    let audit = host.run(&["audit"]);
    assert!(audit.err.contains(&format!("berths: {said}; this audit judges what is then")), "{audit:?}");
}

#[test]
fn every_path_has_its_line_in_no_site_too() {
    let host = demo();
    let mut command = host.command(&["why", "--brief", "-"]);
    let mut asked = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let paths = "/opt/none\n/srv/www/berths/index.php\n/opt/two\n/srv/www/tidewatch/public\n";
    std::io::Write::write_all(&mut asked.stdin.take().unwrap(), paths.as_bytes()).unwrap();
    let ran = host.told(&asked.wait_with_output().unwrap());
    assert_eq!(ran.code, 3, "{ran:?}");
    let told: Vec<&str> = ran.out.lines().skip(1).filter_map(|line| line.split_whitespace().last()).collect();
    assert_eq!(told, paths.lines().collect::<Vec<_>>(), "{ran:?}");
    assert!(ran.out.lines().nth(1).unwrap().contains('?') && ran.err.contains("2 paths are in no site"), "{ran:?}");
    // Alone it is an error, as before; in JSON it is null.
    assert_eq!(host.run(&["why", "/opt/none"]).code, 2);
    let both = host.run(&["why", "/opt/none", "/srv/www/berths/index.php", "--format", "json"]);
    let document: serde_json::Value = serde_json::from_str(&both.out).unwrap();
    assert_eq!(document["answers"][0]["read"], serde_json::Value::Null, "{both:?}");
    assert_eq!(document["answers"][1]["path"], "/srv/www/berths/index.php", "{both:?}");
}

/// Records that a user may not read stand in the way of nothing that only looks.
#[test]
fn a_user_who_may_not_read_the_records_is_answered_all_the_same() {
    if !crate::host::is_root() {
        return;
    }
    let mut host = demo();
    let opened = host.run(&["open", "berths", "--yes"]);
    assert_eq!(opened.code, 0, "{opened:?}");
    host.run_as = Some(61_009);
    for words in [
        &["audit", "berths"][..],
        &["set", "berths", "--preview"],
        &["seal", "berths", "--preview"],
        &["open", "berths", "--preview"],
        &["why", "/srv/www/berths/index.php"],
    ] {
        let ran = host.run(words);
        assert!(ran.code != 4 && ran.code != 2 && !ran.out.is_empty(), "{words:?}: {ran:?}");
        assert!(ran.err.contains("which phase sites are in is not known"), "{words:?}: {ran:?}");
    }
    let audit = host.run(&["audit", "berths", "--format", "json"]);
    let document: serde_json::Value = serde_json::from_str(&audit.out).unwrap();
    assert_eq!(document["sites"][0]["phase_known"], false);
    for words in [&["history"][..], &["undo", "--yes"], &["set", "berths", "--yes"]] {
        assert_eq!(host.run(words).code, 4, "{words:?}");
    }
}
