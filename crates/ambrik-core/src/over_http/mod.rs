//! A site asked over HTTP, where its site file names an address: what a visitor gets is what counts.
//!
//! What must not be served is asked for and compared with what is on the disk; into each served folder that PHP may
//! write to a harmless PHP file is put for a moment, to see whether it is run.

mod client;
mod pages;
mod probe;

use std::collections::BTreeSet;
use std::ffi::OsString;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStringExt as _;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use crate::audit::{Audit, HttpAnswers, HttpFinding};
use crate::check::{self, Raised};
use crate::entry::Kind;
use crate::host::{Keep, Services, configuration_lines};
use crate::policy::Right;
use crate::site::{Phase, Site, Use};
use crate::tree::{Host, sys};

use client::{Client, Reply};

pub use pages::{Page, ask_pages, broken};

/// Why nothing can be asked.
#[derive(Debug, thiserror::Error)]
pub enum HttpError {
    /// The site file names no address.
    #[error("site {0}: its site file has no url; add url = \"http://…/\" to its [site]")]
    NoUrl(String),
    /// The address is none.
    #[error("site {0}: url = \"{1}\" is no address of a web server; write http://… or https://…")]
    NoAddress(String, String),
    /// Nothing is served.
    #[error("site {0}: nothing of it is served (served is left out)")]
    NotServed(String),
}

/// As many paths of a kind are asked for.
const EACH: usize = 40;
/// As much of a file and of an answer is compared.
const COMPARED: usize = 1024;

/// As many static files are asked for to see that it is this site that answers; they are looked for among as many names, and
/// no deeper than this.
const STATIC: usize = 5;
const STATIC_LOOKED_FOR: usize = 2_000;
const STATIC_DEEPEST: usize = 3;

/// What web servers hand out as it is, and nobody has a reason to refuse.
const STATICS: &[&str] = &[
    "css", "js", "mjs", "svg", "png", "jpg", "jpeg", "gif", "webp", "ico", "woff", "woff2", "ttf", "map", "html", "htm",
];

/// A site is asked no longer than this, if nothing else is said.
pub const LONGEST: Duration = Duration::from_secs(30);

/// Asks for what must not be served, and whether PHP is run where it may write; no longer than `longest` altogether, whatever
/// the server does.
pub fn ask(host: &Host, audit: &Audit, services: &Services, longest: Duration) -> Result<HttpAnswers, HttpError> {
    let site = &audit.site;
    let url = site.url.as_deref().ok_or_else(|| HttpError::NoUrl(site.name.clone()))?;
    let client = Client::new(url).ok_or_else(|| HttpError::NoAddress(site.name.clone(), url.to_owned()))?;
    let served = site.served_folder().ok_or_else(|| HttpError::NotServed(site.name.clone()))?;
    let servers: BTreeSet<String> = services
        .served
        .iter()
        .filter(|runs| served.starts_with(&runs.folder.path) || runs.folder.path.starts_with(&served))
        .map(|runs| runs.folder.program.clone())
        .collect();
    let deadline = Instant::now() + longest;
    let root = audit.seen.starts.first().and_then(|start| sys::pin_directory(&start.parent, &start.name).ok());
    let root = root.ok_or_else(|| HttpError::NotServed(site.name.clone()))?;
    let mut inquiry =
        Inquiry { host, audit, client, served, servers, asked: HttpAnswers::default(), nothing: None, root, deadline };
    // What the server answers for what is not there: some applications answer everything.
    let name = format!("ambrik-{}", probe::token());
    match inquiry.get(Path::new(&name), false) {
        Ok(reply) => inquiry.nothing = Some(reply),
        Err(why) => {
            inquiry.asked.unanswered.push(format!("{url}: {why}"));
            return Ok(inquiry.asked);
        }
    }
    let shown = inquiry.is_this_site();
    if shown == Some(false) {
        let other = "what answers there is not this site: none of its static files comes as it is on the disk";
        inquiry.asked.unanswered.push(format!("{url}: {other}"));
        return Ok(inquiry.asked);
    }
    if audit.phase == Phase::Sealed {
        inquiry.installers();
    }
    inquiry.secrets();
    inquiry.folders();
    let seen = inquiry.probes();
    if shown.is_none() && !seen {
        let unknown = "that it is this site which answers could not be shown: it has no static file to compare";
        inquiry.asked.unanswered.push(format!("{url}: {unknown}"));
    }
    Ok(inquiry.asked)
}

struct Inquiry<'i> {
    host: &'i Host,
    audit: &'i Audit,
    client: Client,
    /// The served folder, from `/` on.
    served: PathBuf,
    servers: BTreeSet<String>,
    asked: HttpAnswers,
    nothing: Option<Reply>,
    /// The site's root: what is read for comparison lies below it.
    root: OwnedFd,
    deadline: Instant,
}

impl Inquiry<'_> {
    fn site(&self) -> &Site {
        &self.audit.site
    }

    fn get(&mut self, path: &Path, directory: bool) -> Result<Reply, String> {
        self.asked.addresses += 1;
        self.client.get(path, directory, self.deadline)
    }

    /// Asks, and notes what could not be.
    fn try_get(&mut self, path: &Path, directory: bool) -> Option<Reply> {
        if self.is_over() {
            return None;
        }
        match self.get(path, directory) {
            Err(_) if self.is_over() => {
                let over = "the time for this site is over; what was not asked is not known";
                self.asked.unanswered.push(format!("{}: {over}", self.client.address(path)));
                None
            }
            Ok(reply) => Some(reply),
            Err(why) => {
                self.asked.unanswered.push(format!("{}: {why}", self.client.address(path)));
                None
            }
        }
    }

    /// Whether an answer is the one that the server gives for what is not there: the same, or a page of the same title.
    fn is_nothing(&self, reply: &Reply) -> bool {
        let same = |nothing: &Reply| {
            nothing.body == reply.body || title(&nothing.body).is_some_and(|name| title(&reply.body) == Some(name))
        };
        self.nothing.as_ref().is_some_and(|nothing| nothing.status == reply.status && same(nothing))
    }

    fn report(&mut self, raised: Raised, below: &Path, keep: Keep) {
        let of = |program: &String| Some((program.clone(), configuration_lines(program, keep, &self.served, below)?));
        let lines = self.servers.iter().filter_map(of).collect();
        let found = HttpFinding { raised, path: self.served.join(below), lines };
        self.asked.found.push(found);
    }

    /// The literal paths of the parts with one of these uses that lie in the served folder, below it.
    fn served_parts(&self, uses: &[Use]) -> Vec<(Use, PathBuf)> {
        let parts = self.site().parts.iter().filter(|part| uses.contains(&part.used_as));
        let paths = parts.filter_map(|part| {
            let path = Path::new("/").join(part.pattern.as_path()?);
            Some((part.used_as, path.strip_prefix(&self.served).ok()?.to_owned()))
        });
        paths.collect()
    }

    /// Whether there is no time left.
    fn is_over(&self) -> bool {
        Instant::now() >= self.deadline
    }

    /// What is at a path below the served folder, links that stay in the site followed and no others: PHP may have made one
    /// that leads to what only root may read.
    fn local(&self, below: &Path) -> Option<(OwnedFd, Kind)> {
        let path = self.served.join(below);
        let path = path.strip_prefix(&self.site().root).ok()?;
        let handle = sys::pin_within(&self.root, path).ok()?;
        let kind = sys::look_at(&handle).ok()?.kind;
        Some((handle, kind))
    }

    fn kind(&self, below: &Path) -> Option<Kind> {
        self.local(below).map(|(_, kind)| kind)
    }

    /// The first bytes of a regular file of the site.
    fn beginning(&self, below: &Path) -> Option<Vec<u8>> {
        let (handle, _) = self.local(below).filter(|(_, kind)| *kind == Kind::File)?;
        let mut bytes = vec![0; COMPARED];
        let read = sys::reopen_file(&handle).and_then(|file| sys::read_some(&file, &mut bytes)).ok()?;
        bytes.truncate(read);
        Some(bytes)
    }

    /// Whether it is this site that answers: whether a static file of it comes as it is on the disk. Nothing where it has
    /// none.
    fn is_this_site(&mut self) -> Option<bool> {
        let files = self.static_files();
        let mut asked = false;
        for below in files {
            let Some(content) = self.beginning(&below) else { continue };
            let Some(reply) = self.try_get(&below, false) else { continue };
            // Of a short one no more may come: many answers begin with a few bytes.
            let whole = content.len() == COMPARED || reply.body.len() == content.len();
            if reply.status == 200 && whole && reply.body.starts_with(&content) {
                return Some(true);
            }
            // What is refused may be there.
            asked |= !matches!(reply.status, 401 | 403);
        }
        asked.then_some(false)
    }

    /// Some files near the top of the served folder that web servers hand out as they are.
    fn static_files(&self) -> Vec<PathBuf> {
        let mut found: Vec<PathBuf> = Vec::new();
        let mut folders = vec![PathBuf::new()];
        let mut left = STATIC_LOOKED_FOR;
        let mut at = 0;
        while let Some(folder) = folders.get(at).cloned().filter(|_| found.len() < STATIC && left > 0) {
            at += 1;
            for name in self.names(&folder).into_iter().take(left) {
                left -= 1;
                let below = folder.join(&name);
                let context = self.audit.policy.at(&self.served.join(&below)).context;
                if !context.is_managed()
                    || context.used_as.goes()
                    || context.row.web < Right::Read
                    || name.to_string_lossy().starts_with('.')
                {
                    continue;
                }
                let extension = below.extension().map(|end| end.to_string_lossy().to_ascii_lowercase());
                match self.kind(&below) {
                    Some(Kind::Directory) if folder.components().count() < STATIC_DEEPEST => folders.push(below),
                    Some(Kind::File) if extension.is_some_and(|end| STATICS.contains(&&*end)) => {
                        let empty = self.beginning(&below).is_none_or(|content| content.is_empty());
                        found.extend((!empty).then_some(below));
                    }
                    _ => {}
                }
            }
        }
        found.truncate(STATIC);
        found
    }

    /// Installers must not answer.
    fn installers(&mut self) {
        let mut paths: BTreeSet<PathBuf> = self.served_parts(&[Use::Setup]).into_iter().map(|(_, path)| path).collect();
        paths.extend(self.findings(&["installer-left"]));
        for below in paths.into_iter().take(EACH) {
            let directory = self.kind(&below) != Some(Kind::File) && below.extension().is_none();
            let Some(reply) = self.try_get(&below, directory) else { continue };
            if matches!(reply.status, 403 | 404 | 410) || self.is_nothing(&reply) {
                continue;
            }
            let raised = check::installer_answers(&self.client.address(&below), reply.status);
            self.report(raised, &below, Keep::FromServing);
        }
    }

    /// Settings, logs, hidden parts, left-overs, version control and dot-files must not come as they are.
    fn secrets(&mut self) {
        let mut files: BTreeSet<PathBuf> = BTreeSet::new();
        for (_, below) in self.served_parts(&[Use::Secret, Use::Hidden, Use::Log]) {
            self.add_files(&below, 3, &mut files);
        }
        for below in self.findings(&["leftover-served", "secret-exposed"]) {
            self.add_files(&below, 2, &mut files);
        }
        for name in self.names(Path::new("")) {
            if name.to_string_lossy().starts_with('.') {
                self.add_files(Path::new(&name), 2, &mut files);
            }
        }
        for below in files {
            let Some(content) = self.beginning(&below).filter(|content| !content.is_empty()) else { continue };
            let Some(reply) = self.try_get(&below, false) else { continue };
            if reply.status == 200 && reply.body.starts_with(&content) && !self.is_nothing(&reply) {
                self.report(check::secret_served(&self.client.address(&below)), &below, Keep::FromServing);
            }
        }
    }

    /// Adds the files at and below a path, some of each directory.
    fn add_files(&self, below: &Path, depth: usize, files: &mut BTreeSet<PathBuf>) {
        match self.kind(below) {
            Some(Kind::File) if files.len() < EACH => {
                files.insert(below.to_owned());
            }
            Some(Kind::Directory) if depth > 0 => {
                for name in self.names(below).into_iter().take(8) {
                    self.add_files(&below.join(name), depth - 1, files);
                }
            }
            _ => {}
        }
    }

    fn names(&self, below: &Path) -> Vec<OsString> {
        let folder = self.local(below).filter(|(_, kind)| *kind == Kind::Directory);
        let names = folder.and_then(|(handle, _)| sys::names(sys::reopen_directory(&handle).ok()?).ok());
        let names = names.unwrap_or_default().into_iter().map(|name| OsString::from_vec(name.into_bytes()));
        let mut names: Vec<OsString> = names.collect();
        names.sort();
        names
    }

    /// What the audit found in the served folder.
    fn findings(&self, checks: &[&str]) -> Vec<PathBuf> {
        let findings =
            self.audit.wrong.findings.iter().filter(|f| checks.contains(&f.check.name) && f.accepted.is_none());
        let paths = findings.flat_map(|finding| self.audit.paths(finding)).map(|path| self.site().root.join(path));
        let below = paths.filter_map(|path| path.strip_prefix(&self.served).ok().map(Path::to_owned));
        below.filter(|path| !path.as_os_str().is_empty()).take(EACH).collect()
    }

    /// A directory without an index must not list what is in it.
    fn folders(&mut self) {
        let mut folders: BTreeSet<PathBuf> = self
            .served_parts(&[Use::Store, Use::Scratch, Use::Hidden, Use::Log])
            .into_iter()
            .map(|(_, path)| path)
            .collect();
        folders.extend(self.names(Path::new("")).into_iter().map(PathBuf::from));
        for below in folders.into_iter().take(EACH) {
            if self.kind(&below) != Some(Kind::Directory) {
                continue;
            }
            let names = self.names(&below);
            let shown: Vec<String> = names.iter().filter_map(|name| name.to_str()).map(str::to_owned).collect();
            let shown: Vec<String> = shown.into_iter().filter(|name| !name.starts_with('.')).take(3).collect();
            if shown.is_empty() || names.iter().any(|name| name.to_string_lossy().starts_with("index.")) {
                continue;
            }
            let Some(reply) = self.try_get(&below, true) else { continue };
            let text = String::from_utf8_lossy(&reply.body).into_owned();
            if reply.status == 200 && shown.iter().all(|name| text.contains(&format!("href=\"{name}"))) {
                self.report(check::folder_listed(&self.client.address(&below)), &below, Keep::FromListing);
            }
        }
    }

    /// PHP must not be run where it may write. Whether a file that was put there came back.
    fn probes(&mut self) -> bool {
        let mut seen = false;
        let folders = self.served_parts(&[Use::Store, Use::Scratch]);
        let mut folders: Vec<PathBuf> = folders.into_iter().map(|(_, path)| path).collect();
        folders.retain(|below| self.kind(below) == Some(Kind::Directory));
        for below in folders {
            if self.is_over() {
                break;
            }
            let folder = self.served.join(&below);
            let probe = match probe::Probe::put(self.host, self.audit, &folder) {
                Ok(probe) => probe,
                Err(why) => {
                    let why = format!("{}: cannot put a file there to see whether PHP is run: {why}", folder.display());
                    self.asked.unanswered.push(why);
                    continue;
                }
            };
            let reply = self.try_get(&below.join(probe.name()), false);
            let runs = reply.as_ref().is_some_and(|reply| probe.was_run(&reply.body));
            seen |= runs || reply.is_some_and(|reply| probe.came(&reply.body));
            drop(probe);
            if runs {
                let raised = check::php_runs_in_store(&self.client.address(&below));
                self.report(raised, &below, Keep::PhpFromRunning);
            }
        }
        seen
    }
}

/// The title of a page.
fn title(page: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(page).to_ascii_lowercase();
    let (_, after) = text.split_once("<title>")?;
    Some(after.split_once("</title>")?.0.trim().to_owned())
}
