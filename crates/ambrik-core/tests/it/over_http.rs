//! A site asked over HTTP: a small server on the loopback answers as well or as badly as each case wants.

use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use ambrik_core::audit::HttpAnswers;
use ambrik_core::host::Services;
use ambrik_core::over_http::{HttpError, LONGEST, ask};
use ambrik_core::site::Phase;
use ambrik_core::tree::Host;
use rstest::rstest;

use crate::host::TestHost;

/// How a server answers for a path in a folder: status and content.
type Answers = fn(&Path, &str) -> (u16, Vec<u8>);

/// A server for one folder, until it is dropped.
struct Server {
    port: u16,
    ends: Arc<AtomicBool>,
    thread: Option<std::thread::JoinHandle<()>>,
}

impl Server {
    fn start(folder: PathBuf, answers: Answers) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let ends = Arc::new(AtomicBool::new(false));
        let until = Arc::clone(&ends);
        let thread = std::thread::spawn(move || {
            for stream in listener.incoming() {
                if until.load(Ordering::SeqCst) {
                    return;
                }
                serve(stream.unwrap(), &folder, answers);
            }
        });
        Self { port, ends, thread: Some(thread) }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.ends.store(true, Ordering::SeqCst);
        let _ = TcpStream::connect(("127.0.0.1", self.port));
        self.thread.take().unwrap().join().unwrap();
    }
}

fn serve(mut stream: TcpStream, folder: &Path, answers: Answers) {
    let mut request = Vec::new();
    let mut buffer = [0; 1024];
    while !request.windows(4).any(|end| end == b"\r\n\r\n") {
        match stream.read(&mut buffer) {
            Ok(0) | Err(_) => return,
            Ok(length) => request.extend_from_slice(&buffer[..length]),
        }
    }
    let line = String::from_utf8_lossy(&request).lines().next().unwrap_or_default().to_owned();
    let path = line.split(' ').nth(1).unwrap_or("/").trim_start_matches('/').to_owned();
    let (status, body) = answers(folder, &path);
    let location =
        if status == 302 { format!("Location: /{}\r\n", String::from_utf8_lossy(&body)) } else { String::new() };
    let head = format!("HTTP/1.1 {status} x\r\n{location}Content-Length: {}\r\nConnection: close\r\n\r\n", body.len());
    let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(&body));
}

/// Everything is handed out as it is, PHP run in the simplest way, and folders listed.
fn badly(folder: &Path, path: &str) -> (u16, Vec<u8>) {
    let whole = folder.join(path);
    if whole.is_dir() {
        let names = std::fs::read_dir(&whole).unwrap().map(|e| e.unwrap().file_name().to_string_lossy().into_owned());
        let page: String = names.map(|name| format!("<a href=\"{name}\">{name}</a>")).collect();
        return (200, page.into_bytes());
    }
    match std::fs::read(&whole) {
        Ok(content) if path.contains("ambrik-probe-") => {
            let text = String::from_utf8_lossy(&content).into_owned();
            let said = text.split('\'').nth(1).unwrap_or_default();
            (200, said.bytes().rev().collect())
        }
        Ok(content) => (200, content),
        Err(_) => (404, b"not here".to_vec()),
    }
}

/// Only code is handed out; what is run is not told.
fn well(folder: &Path, path: &str) -> (u16, Vec<u8>) {
    let closed = ["settings", "dump", ".git", "install", "uploads/", "uploads"].iter().any(|name| path.contains(name));
    if closed { (403, Vec::new()) } else { badly(folder, path) }
}

/// One page for everything, as applications with a front controller have it.
fn one_page(_folder: &Path, path: &str) -> (u16, Vec<u8>) {
    (200, format!("<title>Berths at Quay 1</title><h1>No page {path}</h1>").into_bytes())
}

/// Everything leads to a page of its own.
fn leads_on(folder: &Path, path: &str) -> (u16, Vec<u8>) {
    match path {
        "install/" => (302, b"install/first.php".to_vec()),
        "install/first.php" => (200, b"step 1".to_vec()),
        _ => well(folder, path),
    }
}

/// A site with everything that should not be served.
fn asked(answers: Answers) -> (TestHost, HttpAnswers) {
    let test = TestHost::new(&[]);
    test.file("index.php", "root", 0o644);
    test.file("settings.ini", "root", 0o640);
    let dump = test.file("dump.sql", "root", 0o644);
    std::fs::write(&dump, "INSERT INTO berths VALUES (1);\n".repeat(200_000)).unwrap();
    test.file(".git/HEAD", "root", 0o644);
    test.file("install/index.html", "root", 0o644);
    test.folder("uploads", "php", 0o755);
    test.file("uploads/q01.svg", "php", 0o644);
    let server = Server::start(test.site_path(""), answers);
    let site = test.site(&format!(
        "served = \".\"\nurl = \"http://127.0.0.1:{}/\"\n[accounts]\nphp = \"php\"\nweb = \"web\"\n\
         [[part]]\npath = \"settings.ini\"\nuse = \"secret\"\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n\
         [[part]]\npath = \"install\"\nuse = \"setup\"\n",
        server.port
    ));
    let audit = test.audit_in(&site, Phase::Sealed);
    let asked = ask(&Host::at(&test.real("/")).unwrap(), &audit, &Services::default(), LONGEST).unwrap();
    (test, asked)
}

fn found(asked: &HttpAnswers) -> Vec<String> {
    let mut found: Vec<String> = asked
        .found
        .iter()
        .map(|found| format!("{} {}", found.raised.0.name, found.path.strip_prefix("/srv/www/site").unwrap().display()))
        .collect();
    found.sort();
    found
}

#[test]
fn what_a_visitor_gets_and_should_not() {
    let (test, asked) = asked(badly);
    assert_eq!(
        found(&asked),
        [
            "folder-listed .git",
            "folder-listed uploads",
            "installer-answers install",
            "php-runs-in-store uploads",
            "secret-served .git/HEAD",
            "secret-served dump.sql",
            "secret-served settings.ini",
        ]
    );
    assert_eq!(asked.unanswered, Vec::<String>::new());
    let left = std::fs::read_dir(test.site_path("uploads")).unwrap().count();
    assert_eq!(left, 1, "the probe is gone");
}

#[rstest]
#[case::closed(well as Answers)]
#[case::one_page_for_all(one_page as Answers)]
fn what_is_closed_is_no_finding(#[case] answers: Answers) {
    assert_eq!(found(&asked(answers).1), Vec::<String>::new());
}

#[test]
fn a_redirect_on_the_same_host_is_followed() {
    let (_test, asked) = asked(leads_on);
    assert_eq!(found(&asked), ["installer-answers install"]);
}

/// Every address answers, with something of another site.
fn another_site(_folder: &Path, path: &str) -> (u16, Vec<u8>) {
    if path.starts_with("ambrik-") { (404, b"not here".to_vec()) } else { (200, b"another".to_vec()) }
}

fn refuses(_folder: &Path, _path: &str) -> (u16, Vec<u8>) {
    (403, Vec::new())
}

/// Not asked is not right: an audit that could not ask, or whose answers are another site's, is not complete.
#[rstest]
#[case::another(another_site as Answers, "what answers there is not this site")]
#[case::all_refused(refuses as Answers, "could not be shown")]
fn what_answers_must_be_this_site(#[case] answers: Answers, #[case] says: &str) {
    let (test, asked) = asked(answers);
    assert!(asked.found.is_empty() && asked.unanswered.iter().any(|why| why.contains(says)), "{asked:?}");
    let site = test.site("[accounts]\nphp = \"php\"\n");
    let audit = test.audit(&site).with_asked(asked, "2026-11-27".parse().unwrap());
    assert!(!audit.is_complete());
    let finding = audit.wrong.findings.iter().find(|finding| finding.check.name == "could-not-look").unwrap();
    assert!(audit.says(finding).contains(says) && audit.remedy(finding).contains("web server runs"));
}

#[test]
fn a_server_that_does_not_answer_is_told_of() {
    let test = TestHost::new(&[]);
    // Nobody listens on a port that was just given back.
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let site = test.site(&format!("url = \"http://127.0.0.1:{port}/\"\nserved = \".\"\n[accounts]\nphp = \"php\"\n"));
    let audit = test.audit(&site);
    let asked = ask(&Host::at(&test.real("/")).unwrap(), &audit, &Services::default(), LONGEST).unwrap();
    assert!(asked.found.is_empty() && asked.unanswered.len() == 1, "{asked:?}");
}

/// What is compared is read as root: only regular files of the site, through links that stay in it.
#[test]
fn nothing_is_read_through_a_link_that_leaves_the_site() {
    let test = TestHost::new(&[]);
    let secret = test.real("etc/secret");
    std::fs::write(&secret, "only root may read this").unwrap();
    for folder in ["logs", "uploads"] {
        test.folder(folder, "php", 0o755);
    }
    std::os::unix::fs::symlink(&secret, test.site_path("logs/app.log")).unwrap();
    std::os::unix::fs::symlink("/dev/zero", test.site_path("logs/zero")).unwrap();
    std::os::unix::fs::symlink("../inside.log", test.site_path("logs/stays")).unwrap();
    test.file("inside.log", "php", 0o644);
    // The server hands out whatever is there: what is not compared is not found.
    let server = Server::start(test.site_path(""), badly);
    let site = test.site(&format!(
        "served = \".\"\nurl = \"http://127.0.0.1:{}/\"\n[accounts]\nphp = \"php\"\n[[part]]\npath = \"logs\"\nuse = \"log\"\n",
        server.port
    ));
    let audit = test.audit(&site);
    let asked = ask(&Host::at(&test.real("/")).unwrap(), &audit, &Services::default(), LONGEST).unwrap();
    let served: Vec<String> = found(&asked).into_iter().filter(|line| line.starts_with("secret-served")).collect();
    assert_eq!(served, ["secret-served logs/stays"]);
}

/// A server that answers ever so slowly: the time for a site is over, and that is said.
#[test]
fn a_site_is_asked_no_longer_than_it_may_be() {
    let test = TestHost::new(&[]);
    test.file("index.php", "root", 0o644);
    // Somebody listens and never answers.
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let site = test.site(&format!("url = \"http://127.0.0.1:{port}/\"\nserved = \".\"\n[accounts]\nphp = \"php\"\n"));
    let audit = test.audit(&site);
    let moment = std::time::Duration::from_millis(300);
    let asked = ask(&Host::at(&test.real("/")).unwrap(), &audit, &Services::default(), moment).unwrap();
    assert!(asked.found.is_empty() && asked.unanswered.len() == 1, "{asked:?}");
}

#[rstest]
#[case("served = \".\"\n", "has no url")]
#[case("served = \".\"\nurl = \"ftp://quay-1.example/\"\n", "no address of a web server")]
fn what_cannot_be_asked(#[case] lines: &str, #[case] want: &str) {
    let test = TestHost::new(&[]);
    let text = format!("{lines}[accounts]\nphp = \"php\"\n");
    let Ok(site) = ambrik_core::site::read(
        &format!("[site]\nroot = \"/srv/www/site\"\n{text}"),
        Path::new("site.toml"),
        &test.accounts,
        &[],
    ) else {
        // The site file itself refuses it.
        return;
    };
    let audit = test.audit(&Arc::new(site));
    let error: HttpError = ask(&Host::at(&test.real("/")).unwrap(), &audit, &Services::default(), LONGEST).unwrap_err();
    assert!(error.to_string().contains(want), "{error}");
}
