//! The document root: which folder of the tree the web server is meant to serve.

use std::path::{Path, PathBuf};

use regex::Regex;

use super::clue::Seen;
use super::deployed::Deployed;
use super::names::{is_installers, is_public, lower_name};
use super::weights::docroot;
use crate::entry::Kind;
use crate::pattern::pattern;

/// A folder that may be the document root.
#[derive(Clone, Debug)]
pub(crate) struct Candidate {
    /// Relative to the root.
    pub(crate) path: PathBuf,
    pub(crate) weight: f64,
    pub(crate) because: Vec<(String, Seen)>,
}

pattern!(LOADS_FROM_ABOVE: Regex = r#"(?i)(?:require|include)(?:_once)?[^;]*(?:\.\./|dirname\s*\(\s*__DIR__|dirname\s*\(\s*dirname|dirname\s*\(\s*__FILE__\s*,\s*2)|chdir\s*\([^;]*(?:\.\.|dirname)|dirname\s*\(\s*__DIR__|=\s*(?:__DIR__|dirname\(__FILE__\))\s*\.\s*['"]/\.\."#);
pattern!(SENDS_AWAY: Regex = r#"(?i)(?:location:\s*\\?["']?(?:\./|/)?|http-equiv=["']?refresh["']?[^>]*url=(?:\./)?|(?:require|include)(?:_once)?\s*\(?\s*(?:__DIR__\s*\.\s*)?['"]/?(?:\./)?)(?P<to>[\w-]+)/"#);
pattern!(REWRITES: Regex = r"(?im)^\s*RewriteRule\s+\S+\s+/?(?P<to>[\w-]+)/(?:\$1|index\.php|\s|$)");
pattern!(CONFIGURED: Regex = r#"(?im)(?:DocumentRoot|^\s*root|php\s+-S\s+\S+\s+-t|Alias\s+\S+)\s+["']?(?P<path>[^\s"';]+)"#);

/// The candidates, the likeliest first; never none.
pub(crate) fn candidates(deployed: &Deployed, texts: &[(PathBuf, String)]) -> Vec<Candidate> {
    let mut found = vec![root(deployed)];
    let dirs =
        deployed.directories().filter(|dir| dir.components().count() <= 2 && deployed.aside(&dir.join("x")).is_none());
    found.extend(dirs.filter_map(|dir| folder(deployed, dir)));
    for (file, text) in texts {
        configured(&mut found, file, text);
    }
    let away = sends_away(deployed);
    for candidate in &mut found {
        if let Some((to, seen)) = &away
            && candidate.path.starts_with(to)
            && !to.as_os_str().is_empty()
        {
            candidate.weight += docroot::SENT_TO;
            candidate.because.push(("requests to the root are sent there".into(), seen.clone()));
        }
    }
    found.sort_by(|a, b| b.weight.total_cmp(&a.weight).then_with(|| a.path.cmp(&b.path)));
    found
}

fn root(deployed: &Deployed) -> Candidate {
    let index = ["index.php", "index.html", "index.htm"].iter().map(Path::new).find(|name| deployed.is_file(name));
    let path = PathBuf::new();
    let Some(index) = index else { return Candidate { path, weight: docroot::ROOT_EMPTY, because: Vec::new() } };
    let is_page = lower_name(index) == "index.php" || deployed.entries.get(index).is_some_and(|entry| entry.size > 600);
    let mut candidate =
        Candidate { path, weight: if is_page { docroot::ROOT_PAGE } else { docroot::ROOT_STUB }, because: Vec::new() };
    candidate.because.push(("the page that is asked for first is in the root".into(), Seen::at(index, 0)));
    if sends_away(deployed).is_some() {
        candidate.weight -= docroot::SENT_TO;
    }
    candidate
}

/// Where the root's own index, or its rules, send every request.
fn sends_away(deployed: &Deployed) -> Option<(PathBuf, Seen)> {
    for name in ["index.php", "index.html", ".htaccess"].map(Path::new) {
        let Some(text) = deployed.text(name, 8192).filter(|text| text.len() < 3000) else { continue };
        let expression = if name == Path::new(".htaccess") { &REWRITES } else { &SENDS_AWAY };
        let to = expression.captures(&text).and_then(|found| found.name("to"));
        if let Some(to) = to.map(|to| PathBuf::from(to.as_str()))
            && ["index.php", "app.php"].iter().any(|index| deployed.is_file(&to.join(index)))
            && !is_installers(&to)
        {
            return Some((to, Seen::at(name, 0)));
        }
    }
    None
}

fn folder(deployed: &Deployed, dir: &Path) -> Option<Candidate> {
    let name = lower_name(dir);
    if is_installers(dir) {
        return None;
    }
    let public = is_public(&name) || matches!(name.as_str(), "httpd" | "public_www");
    let index =
        ["index.php", "app.php", "index.html"].iter().map(|name| dir.join(name)).find(|path| deployed.is_file(path))?;
    let deep = dir.components().count() > 1;
    let mut weight = if public { docroot::CALLED_SO } else { 0.0 } - if deep { docroot::DEEP } else { 0.0 };
    let mut because = Vec::new();
    if public {
        because.push((format!("a folder named {name} with an index"), Seen::at(&index, 0)));
    }
    let text = deployed.text(&index, 64 << 10).unwrap_or_default();
    weight += if lower_name(&index) == "index.html" { docroot::PLAIN_INDEX } else { docroot::INDEX };
    if let Some(hit) = LOADS_FROM_ABOVE.find(&text) {
        weight += if public { docroot::LOADS_FROM_ABOVE } else { docroot::LOADS_FROM_ABOVE_ALONE };
        let line = text[..hit.start()].matches('\n').count() + 1;
        because.push(("its index loads code from above it".into(), Seen::at(&index, line)));
    }
    let root_index = ["index.php", "index.html", "index.htm"].iter().any(|name| deployed.is_file(Path::new(name)));
    if !root_index {
        weight += docroot::NO_INDEX_ABOVE;
        because.push(("there is no index in the root".into(), Seen::at(Path::new("."), 0)));
    }
    if let Some(above) = dir.parent().filter(|_| deep)
        && deployed.inside(above).any(|(path, entry)| entry.kind == Kind::File && lower_name(path) == "index.php")
    {
        weight -= docroot::NO_INDEX_ABOVE;
    }
    Some(Candidate { path: dir.to_owned(), weight, because })
}

/// A web server's configuration, or words about one, in the tree.
fn configured(found: &mut [Candidate], file: &Path, text: &str) {
    let mut told = Vec::new();
    for hit in CONFIGURED.captures_iter(text) {
        let Some(path) = hit.name("path") else { continue };
        let named = path.as_str().trim_end_matches(['/', '.', '>']);
        let deepest = found
            .iter_mut()
            .filter(|candidate| !candidate.path.as_os_str().is_empty() && Path::new(named).ends_with(&candidate.path))
            .max_by_key(|candidate| candidate.path.components().count());
        if let Some(candidate) = deepest
            && !told.contains(&candidate.path)
        {
            told.push(candidate.path.clone());
            let line = text[..path.start()].matches('\n').count() + 1;
            candidate.weight += docroot::CONFIGURED;
            candidate.because.push(("a web server's configuration serves it".into(), Seen::at(file, line)));
        }
    }
}
