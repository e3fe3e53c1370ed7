//! A deployment from `open` to `seal`, and back.

use std::fs;
use std::os::unix::fs::MetadataExt as _;
use std::path::Path;

use rstest::rstest;

use crate::documents::document;
use crate::host::{PHP, TestHost, give, is_root, picture};

const SAMPLE: &str = "<?php return ['key' => 'change-me'];\n";

/// An application just unpacked: a sample of settings, an installer, a data folder that is not there yet.
fn host() -> TestHost {
    let host = TestHost::new();
    host.site(
        "berths",
        "[[part]]\npath = \"config/settings.php\"\nuse = \"secret\"\nwrite = \"install\"\nfrom = \"config/settings.sample.php\"\n\
         [[part]]\npath = \"plugins\"\nuse = \"code\"\nwrite = \"install\"\n\
         [[part]]\npath = \"/var/lib/berths\"\nuse = \"store\"\ncreate = true\n\
         [[part]]\npath = \"install\"\nuse = \"setup\"\n",
    );
    let file = host.at("etc/ambrik/sites/berths.toml");
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, text.replacen("[accounts]", "url = \"http://127.0.0.1:8080/\"\n[accounts]", 1)).unwrap();
    host.file("index.php", 0, 0o644);
    host.file("plugins/one.php", 0, 0o644);
    host.file("install/index.php", 0, 0o644);
    host.write("srv/www/berths/config/settings.sample.php", SAMPLE);
    for folder in ["srv/www/berths", "srv/www/berths/config", "srv/www/berths/plugins", "srv/www/berths/install"] {
        give(&host.at(folder), 0, 0o755);
    }
    give(&host.at("srv/www/berths/config/settings.sample.php"), 0, 0o644);
    fs::create_dir_all(host.at("var/lib")).unwrap();
    host
}

/// The same without an address, where no server would answer.
fn without_address() -> TestHost {
    let host = host();
    let file = host.at("etc/ambrik/sites/berths.toml");
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, text.replacen("url = \"http://127.0.0.1:8080/\"\n", "", 1)).unwrap();
    host
}

fn settings(host: &TestHost) -> std::path::PathBuf {
    host.at("srv/www/berths/config/settings.php")
}

/// What the installer does, and badly.
fn install(host: &TestHost) {
    fs::write(settings(host), "<?php return ['key' => 'made-up'];\n").unwrap();
    give(&settings(host), PHP, 0o666);
    give(&host.write("srv/www/berths/plugins/two.php", "<?php\n"), PHP, 0o666);
}

#[test]
fn open_lets_the_installer_write_what_it_needs_and_nothing_else() {
    if !is_root() {
        return;
    }
    let host = host();
    let preview = host.run(&["open", "berths", "--preview"]);
    assert_eq!(preview.code, 1, "{preview:?}");
    assert!(!settings(&host).exists(), "a preview makes nothing");
    let ran = host.run(&["open", "berths", "--for", "45m", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert!(ran.out.contains("(45 minutes left)"), "{ran:?}");
    assert!(ran.out.contains("PHP (php) may write until then: config/settings.php, plugins"), "{ran:?}");
    assert!(
        ran.out.contains("next: open http://127.0.0.1:8080/install/ in a browser, then: ambrik seal berths"),
        "{ran:?}"
    );
    assert_eq!(fs::read_to_string(settings(&host)).unwrap(), SAMPLE);
    assert_eq!(settings(&host).metadata().unwrap().mode() & 0o7777, 0o660);
    assert!(host.at("var/lib/berths").is_dir());
    let open_to_all = picture(&host.at("srv")).into_iter().filter(|(path, _)| {
        let meta = host.at("srv").join(path).symlink_metadata().unwrap();
        meta.mode() & 0o002 != 0
    });
    assert_eq!(open_to_all.count(), 0, "never for everybody");
    let writable = host.run(&["why", "--writable", "berths"]);
    assert_eq!(writable.code, 0, "nothing that the site file does not want: {writable:?}");
    for path in ["config/settings.php", "plugins", "plugins/one.php"] {
        assert!(host.run(&["why", &format!("/srv/www/berths/{path}")]).out.contains("write"), "{path}");
    }
    let closed = host.run(&["why", "--brief", "/srv/www/berths/index.php", "/srv/www/berths/install/index.php"]);
    assert!(closed.out.lines().skip(1).all(|line| line.starts_with("php      yes   no ")), "{closed:?}");
    let audit = host.run(&["audit", "berths"]);
    assert!(audit.err.contains("berths: open until") && audit.out.contains(", open; keeper"), "{audit:?}");
    let until = document(&host, &["audit", "berths", "--fail-on", "never"], "audit")["sites"][0]["until"].clone();
    assert!(until.as_str().is_some_and(|until| until.parse::<jiff::Timestamp>().is_ok()), "{until}");
}

#[test]
fn settings_that_are_there_are_kept() {
    if !is_root() {
        return;
    }
    let host = host();
    host.file("config/settings.php", 0, 0o640);
    let ran = host.run(&["open", "berths", "--yes"]);
    assert_eq!(ran.code, 0, "{ran:?}");
    assert_eq!(fs::read_to_string(settings(&host)).unwrap(), "content\n");
}

#[test]
fn a_window_for_one_part_and_its_end() {
    if !is_root() {
        return;
    }
    let host = host();
    assert_eq!(host.run(&["open", "berths", "--part", "plugins", "--for", "1ms", "--yes"]).code, 0);
    assert!(!settings(&host).exists(), "the sample is not for this window");
    let writes = |path: &str| {
        let why = document(&host, &["why", path], "why");
        why["answers"][0]["create"] == true
    };
    assert!(writes("/srv/www/berths/plugins") && !writes("/srv/www/berths/config"));
    let audit = host.run(&["audit", "berths"]);
    assert_eq!(audit.code, 1);
    assert!(audit.out.contains("high    window-overdue") && audit.err.contains("its window ended at"), "{audit:?}");
    let extended = host.run(&["open", "berths", "--for", "2h", "--yes"]);
    assert_eq!(extended.code, 0, "{extended:?}");
    assert!(writes("/srv/www/berths/plugins") && settings(&host).exists());
    assert!(!host.run(&["audit", "berths"]).out.contains("window-overdue"));
    assert_eq!(host.run(&["set", "berths", "--yes"]).code, 0);
    assert!(!writes("/srv/www/berths/plugins"), "set closes it");
    assert!(!host.run(&["audit", "berths"]).err.contains("open until"));
}

#[test]
fn seal_closes_what_the_installer_left_open_and_says_what_appeared() {
    if !is_root() {
        return;
    }
    let host = without_address();
    host.run(&["open", "berths", "--yes"]);
    let refused = host.run(&["seal", "berths", "--yes"]);
    assert_eq!((refused.code, host.at("srv/www/berths/install").exists()), (2, true), "{refused:?}");
    assert!(refused.err.contains("the installer did not run: config/settings.php is as its sample is"), "{refused:?}");
    install(&host);
    let sealed = host.run(&["seal", "berths", "--yes"]);
    assert_eq!(sealed.code, 1, "{sealed:?}");
    assert!(sealed.out.contains("written while it was open, as it should be: config/settings.php"), "{sealed:?}");
    assert!(
        sealed.out.contains("1 path changed") && sealed.out.contains("  added     plugins/two.php  (PHP)"),
        "{sealed:?}"
    );
    let line = sealed.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(line.contains("to make a file in 1 writable directory: refused and made, as it should be"), "{sealed:?}");
    // Nobody has said that what was added is right.
    assert!(sealed.out.ends_with("sealed; findings remain (1 medium): ambrik audit berths\n"), "{sealed:?}");
    let audit = host.run(&["audit", "berths"]);
    assert!(audit.code == 1 && audit.out.contains("changed-in-window"), "{audit:?}");
    let meta = settings(&host).metadata().unwrap();
    assert_eq!((meta.uid(), meta.gid(), meta.mode() & 0o7777), (0, PHP, 0o640));
    assert!(!host.at("srv/www/berths/install").exists());
}

#[test]
fn a_site_can_be_sealed_unfinished() {
    if !is_root() {
        return;
    }
    let host = without_address();
    host.run(&["open", "berths", "--yes"]);
    fs::write(settings(&host), "").unwrap();
    assert_eq!(host.run(&["seal", "berths", "--yes"]).code, 2, "empty settings");
    assert_eq!(host.run(&["seal", "berths", "--yes", "--unfinished"]).code, 0);
}

#[test]
fn a_whole_deployment_is_taken_back() {
    if !is_root() {
        return;
    }
    let host = without_address();
    host.file("old.zip", PHP, 0o666);
    let before = picture(&host.at("srv"));
    host.run(&["open", "berths", "--yes"]);
    install(&host);
    fs::remove_file(host.at("srv/www/berths/plugins/two.php")).unwrap();
    host.run(&["open", "berths", "--for", "1h", "--yes"]);
    assert_eq!(host.run(&["seal", "berths", "--yes"]).code, 0);
    let history = document(&host, &["history"], "history");
    let stories: Vec<i64> =
        history["change_sets"].as_array().unwrap().iter().map(|set| set["deployment"].as_i64().unwrap()).collect();
    assert_eq!(stories, [1, 1, 1]);
    assert!(host.run(&["history"]).out.contains("a whole deployment is taken back by: ambrik undo --since 1"));
    let preview = host.run(&["undo", "--since", "1", "--preview"]);
    assert_eq!(preview.code, 1, "{preview:?}");
    let undone = document(&host, &["undo", "--since", "1", "--yes"], "undo");
    assert_eq!((undone["undoes"].as_i64(), undone["also"].as_array().unwrap().len()), (Some(3), 2), "{undone:#}");
    assert_eq!(picture(&host.at("srv")), before);
    let kept = fs::read_dir(host.at("var/lib/ambrik/keepsakes")).unwrap().count();
    assert_eq!(kept, 2, "what the installer wrote is kept, as is what seal removed");
    assert!(!host.run(&["audit", "berths"]).err.contains("open until"));
}

/// A sample is read as root and given to PHP: nothing but a file of its own may stand there.
#[rstest]
#[case::link(true)]
#[case::second_name(false)]
fn a_sample_that_could_be_somebody_elses_file_is_refused(#[case] link: bool) {
    if !is_root() {
        return;
    }
    let host = host();
    let secret = host.write("srv/secret", "the keys of the harbour\n");
    give(&secret, 0, 0o600);
    let sample = host.at("srv/www/berths/config/settings.sample.php");
    fs::remove_file(&sample).unwrap();
    if link {
        std::os::unix::fs::symlink(Path::new("../../../secret"), &sample).unwrap();
    } else {
        fs::hard_link(&secret, &sample).unwrap();
    }
    let ran = host.run(&["open", "berths", "--yes"]);
    assert_eq!(ran.code, 3, "{ran:?}");
    assert!(!settings(&host).exists(), "{ran:?}");
}

#[rstest]
#[case::too_long(&["open", "berths", "--for", "25h"], "at most 24 hours")]
#[case::nothing(&["open", "berths", "--for", "0s"], "longer than nothing")]
#[case::no_duration(&["open", "berths", "--for", "soon"], "write a duration, such as 30m")]
#[case::no_part(&["open", "berths", "--part", "plugin"], "no part with write = \"install\" is called plugin; those are: config/settings.php, plugins")]
#[case::no_terminal(&["open", "berths"], "there is no terminal to ask on")]
#[case::nothing_since(&["undo", "--since", "7"], "there is nothing to take back")]
fn bad_input(#[case] words: &[&str], #[case] says: &str) {
    let host = host();
    let before = picture(&host.at("srv"));
    let ran = host.run(words);
    assert_eq!(ran.code, 2, "{ran:?}");
    assert!(ran.err.contains(says), "{ran:?}");
    assert_eq!(picture(&host.at("srv")), before);
}

#[test]
fn without_a_service_manager_arm_says_so() {
    if !is_root() {
        return;
    }
    let host = host();
    let before = picture(&host.at(""));
    let ran = host.run(&["open", "berths", "--yes", "--arm"]);
    assert!(ran.err.contains("no systemd runs here that could close the window, so nothing was opened"), "{ran:?}");
    assert_eq!((ran.code, picture(&host.at(""))), (2, before));
}

/// A server that ends the run that asks it for the PHP file which was put up for that.
#[test]
fn what_is_put_up_for_visitors_goes_though_the_run_is_ended() {
    use std::io::{Read as _, Write as _};
    if !is_root() {
        return;
    }
    let host = TestHost::new();
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    host.site("berths", "[[part]]\npath = \"uploads\"\nuse = \"store\"\n");
    let file = host.at("etc/ambrik/sites/berths.toml");
    let text = fs::read_to_string(&file).unwrap();
    let url = format!("url = \"http://127.0.0.1:{port}/\"\nserved = \".\"\n[accounts]");
    fs::write(&file, text.replacen("[accounts]", &url, 1)).unwrap();
    let uploads = host.at("srv/www/berths/uploads");
    fs::create_dir(&uploads).unwrap();
    give(&uploads, PHP, 0o755);
    let mut child =
        host.command(&["audit", "berths", "--over-http"]).stdout(std::process::Stdio::null()).spawn().unwrap();
    let pid = rustix::process::Pid::from_child(&child);
    let mut seen = 0;
    while seen == 0 {
        let (mut stream, _) = listener.accept().unwrap();
        let mut request = [0; 2048];
        let length = stream.read(&mut request).unwrap();
        if String::from_utf8_lossy(&request[..length]).contains("ambrik-probe-") {
            seen = fs::read_dir(&uploads).unwrap().count();
            rustix::process::kill_process(pid, rustix::process::Signal::TERM).unwrap();
        }
        stream.write_all(b"HTTP/1.1 404 x\r\nContent-Length: 0\r\nConnection: close\r\n\r\n").unwrap();
    }
    let status = child.wait().unwrap();
    assert_eq!(std::os::unix::process::ExitStatusExt::signal(&status), Some(15), "{status:?}");
    assert_eq!((seen, fs::read_dir(&uploads).unwrap().count()), (1, 0));
}

#[test]
fn sites_without_an_address_are_left_out_unless_they_are_named() {
    let host = TestHost::new();
    let all = host.run(&["audit", "--over-http"]);
    assert!(all.err.contains("berths: its site file has no url: not asked over HTTP"), "{all:?}");
    let named = host.run(&["audit", "berths", "--over-http"]);
    assert_eq!(named.code, 2);
    assert!(named.err.contains("has no url; add url ="), "{named:?}");
}

/// A site with settings that its installer writes, of this content, and without a sample.
fn installable(settings: Option<&str>) -> TestHost {
    let host = TestHost::new();
    host.site(
        "berths",
        "[[part]]\npath = \"settings.php\"\nuse = \"secret\"\nwrite = \"install\"\n\
         [[part]]\npath = \"install\"\nuse = \"setup\"\n",
    );
    host.file("index.php", 0, 0o644);
    host.file("install/index.php", 0, 0o644);
    give(&host.at("srv/www/berths/install"), 0, 0o755);
    if let Some(text) = settings {
        give(&host.write("srv/www/berths/settings.php", text), 0, 0o640);
    }
    host
}

/// An installer that has not run is not removed, however the site came there.
#[rstest]
#[case::no_settings(None, "settings.php is not there", false)]
#[case::empty(Some(""), "settings.php is empty", false)]
#[case::without_values(Some("<?php return ['secret_key' => ''];"), "settings.php is without a value", false)]
#[case::it_has_run(Some("<?php return ['secret_key' => 'made-up'];"), "", true)]
fn what_has_not_been_installed_is_not_sealed(#[case] settings: Option<&str>, #[case] why: &str, #[case] has_run: bool) {
    if !is_root() {
        return;
    }
    let host = installable(settings);
    let installer = || host.at("srv/www/berths/install/index.php").exists();
    let audit = host.run(&["audit"]);
    let flat = audit.out.split_whitespace().collect::<Vec<_>>().join(" ");
    let advice = if has_run {
        "put it right: ambrik seal berths"
    } else {
        "ambrik open berths, run it, then: ambrik seal berths"
    };
    assert!(audit.code == 1 && flat.contains(advice) && flat.contains(why), "{audit:?}");
    let json = document(&host, &["audit", "--fail-on", "never"], "audit");
    let findings = json["sites"][0]["findings"].as_array().unwrap();
    let left = findings.iter().find(|finding| finding["check"] == "installer-left").unwrap();
    assert_eq!(left["remedy"], if has_run { "ambrik seal berths" } else { "ambrik open berths" });
    let sealed = host.run(&["seal", "berths", "--yes"]);
    assert_eq!((sealed.code, installer()), if has_run { (0, false) } else { (2, true) }, "{sealed:?}");
    assert!(sealed.err.contains(why), "{sealed:?}");
    if !has_run {
        let sealed = host.run(&["seal", "berths", "--yes", "--unfinished", "--fail-on", "never"]);
        assert_eq!((sealed.code, installer()), (0, false), "{sealed:?}");
    }
}

/// Settings that are not there are made for the installer to write, and go again where it did not.
#[rstest]
#[case::undone(false, &["undo", "--yes"], false)]
#[case::sealed_unwritten(false, &["seal", "berths", "--yes", "--unfinished", "--fail-on", "never"], false)]
#[case::sealed_written(true, &["seal", "berths", "--yes"], true)]
fn missing_settings_are_made_for_the_window(#[case] written: bool, #[case] words: &[&str], #[case] stays: bool) {
    if !is_root() {
        return;
    }
    let host = installable(None);
    let file = host.at("srv/www/berths/settings.php");
    let opened = host.run(&["open", "berths", "--yes"]);
    assert_eq!(opened.code, 0, "{opened:?}");
    assert!(opened.out.contains("may write until then: settings.php"), "{opened:?}");
    let meta = file.metadata().unwrap();
    assert_eq!((meta.len(), meta.uid(), meta.gid(), meta.mode() & 0o7777), (0, 0, PHP, 0o660));
    if written {
        fs::write(&file, "<?php return ['key' => 'made-up'];").unwrap();
    }
    let ran = host.run(words);
    assert_eq!((ran.code, file.exists()), (0, stays), "{ran:?}");
}

/// What cannot be written is not promised, and a window that opens nothing says so.
#[rstest]
#[case::cannot_be_made(
    "path = \"var/plugins\"\nuse = \"code\"\nwrite = \"install\"",
    "not there, and PHP cannot make it: var/plugins"
)]
#[case::nothing("path = \"var\"\nuse = \"scratch\"\ncreate = true", "nothing opens: no part that is there has write")]
fn open_promises_what_is_so(#[case] part: &str, #[case] says: &str) {
    let host = TestHost::new();
    host.site("berths", &format!("[[part]]\n{part}\n"));
    let opened = host.run(&["open", "berths", "--yes"]);
    let flat = opened.out.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(flat.contains(says) && !flat.contains("may write until then: var"), "{opened:?}");
}

/// Where nothing can be changed nothing is recorded.
#[test]
fn an_ordinary_user_begins_nothing() {
    if !is_root() {
        return;
    }
    let mut host = installable(Some("<?php"));
    let state = host.at("own-state");
    fs::create_dir(&state).unwrap();
    give(&state, 61_009, 0o700);
    give(&host.at("srv/www/berths/index.php"), PHP, 0o666);
    host.run_as = Some(61_009);
    let before = picture(&host.at("srv"));
    for words in
        [&["open", "berths", "--yes"][..], &["set", "berths", "--yes"], &["seal", "berths", "--yes", "--unfinished"]]
    {
        let ran = host.run(&[words, &["--state", state.to_str().unwrap()]].concat());
        assert_eq!(ran.code, 4, "{words:?}: {ran:?}");
        assert!(ran.err.contains("nothing was; run it as root"), "{ran:?}");
    }
    assert_eq!(picture(&host.at("srv")), before);
    let history = host.run(&["history", "--state", state.to_str().unwrap()]);
    assert!(history.out.contains("nothing has been changed yet"), "{history:?}");
}

/// `history ID` tells every path, with what it has now.
#[test]
fn each_change_set_is_told_path_by_path() {
    if !is_root() {
        return;
    }
    let host = without_address();
    host.run(&["open", "berths", "--yes"]);
    install(&host);
    host.run(&["seal", "berths", "--yes"]);
    host.run(&["undo", "--yes"]);
    let told = |id: &str| {
        let document = document(&host, &["history", id], "history");
        let set = document["change_sets"][0].clone();
        assert_eq!(set["id"].to_string(), id);
        set["paths"].as_array().unwrap().clone()
    };
    let of = |paths: &[serde_json::Value], what: &str| -> Vec<String> {
        let all = paths.iter().filter(|path| path["what"] == what);
        all.map(|path| path["path"].as_str().unwrap().to_owned()).collect()
    };
    let opened = told("1");
    assert!(of(&opened, "create").contains(&"/srv/www/berths/config/settings.php".to_owned()), "{opened:#?}");
    let sealed = told("2");
    assert_eq!(of(&sealed, "remove"), ["/srv/www/berths/install"]);
    let undone = told("3");
    assert_eq!(of(&undone, "restore"), ["/srv/www/berths/install"]);
    let rights = undone.iter().filter(|path| path["what"] == "rights");
    for path in rights.clone() {
        let meta = host.at(path["path"].as_str().unwrap().trim_start_matches('/')).metadata().unwrap();
        assert!(path["to"].as_str().unwrap().ends_with(&format!(" {:04o}", meta.mode() & 0o7777)), "{path:#}");
    }
    assert!(rights.count() > 1, "{undone:#?}");
    let text = host.run(&["history", "2"]);
    assert!(text.out.starts_with("berths: seal, ") && text.out.contains("taken back by 3"), "{text:?}");
    let none = host.run(&["history", "9"]);
    assert!(none.code == 2 && none.err.contains("there is no change set 9"), "{none:?}");
}

/// The question can be answered with a list of every path, and of one part.
#[test]
fn what_is_asked_about_can_be_listed() {
    if !is_root() {
        return;
    }
    let host = host();
    host.file("index.php", PHP, 0o666);
    host.file("lib/page.php", PHP, 0o666);
    let asked = host.on_a_terminal(&["set", "berths"], "list\nlist plugins\nn\n");
    assert_eq!(asked.code, 2, "{asked:?}");
    for path in ["index.php", "lib/page.php"] {
        assert!(asked.out.contains(&format!("/srv/www/berths/{path}  php:php 0666 → root:root 0644")), "{asked:?}");
    }
    assert_eq!(asked.out.matches("Make these changes to berths? [y/N/list]").count(), 3, "{asked:?}");
    let yes = host.on_a_terminal(&["set", "berths"], "l\ny\n");
    assert_eq!(yes.code, 0, "{yes:?}");
    assert!(host.run(&["history", "1"]).out.contains("/srv/www/berths/index.php"));
}
