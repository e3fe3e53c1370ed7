//! The site files that a command is about, and those beside them: read, and set apart where one site lies in another.

use std::cell::RefCell;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ambrik_core::host::Detector;
use ambrik_core::nearest::nearest;
use ambrik_core::nested::{Clash, Ground};
use ambrik_core::own::{Exposed, OwnError};
use ambrik_core::served::serving;
use ambrik_core::shown::Shown;
use ambrik_core::site::{self, NoOutline, Reading, Site, Source};

use crate::failure::{Failure, Wrong};
use crate::session::{Behind, HostView, Session};

/// The sites that a command is about.
#[derive(Debug)]
pub(crate) struct Sites {
    /// Those that can be judged.
    pub(crate) chosen: Vec<Arc<Site>>,
    /// What is wrong with the files of the others.
    pub(crate) wrong: Vec<Wrong>,
    /// These, and the host's other sites: those whose PHP may get at one another.
    pub(crate) neighbours: Vec<Arc<Site>>,
}

/// A site file that was read.
struct Read {
    file: PathBuf,
    site: Result<Arc<Site>, String>,
    /// The root that it says, whatever else is wrong with it.
    root: Option<PathBuf>,
    /// How others could have written it.
    exposed: Option<Exposed>,
    /// Where its site is; nothing where that is not known, or not to be believed.
    ground: Option<Ground>,
}

impl Read {
    fn name(&self) -> String {
        match &self.site {
            Ok(site) => site.name.clone(),
            Err(_) => self.file.file_stem().unwrap_or_default().to_string_lossy().into_owned(),
        }
    }
}

/// As many sites are named where none of them was meant.
const MOST_NAMED: usize = 12;

impl Session<'_> {
    /// The sites that the arguments name: names in the sites directory, or paths of site files; all where none is named.
    ///
    /// Errors: there is none that can be judged.
    pub(crate) fn sites(&self, named: &[PathBuf], looked: &HostView) -> Result<Sites, Failure> {
        let (sites, _) = self.select(named, looked)?;
        if sites.chosen.is_empty() { Err(all_wrong(&sites.wrong)) } else { Ok(sites) }
    }

    /// As [`Self::sites`], of sites that are to be changed: their files must be root's, or the caller's own, alone, and it
    /// must be known that no other site's folder is changed with them.
    pub(crate) fn sites_to_change(&self, named: &[PathBuf], looked: &HostView) -> Result<Sites, Failure> {
        let (sites, beside) = self.select(named, looked)?;
        if !sites.wrong.is_empty() {
            return Err(all_wrong(&sites.wrong));
        }
        let refused: Vec<String> = sites
            .chosen
            .iter()
            .filter_map(|site| exposed(site))
            .chain(beside.iter().filter_map(|other| unknown_inside(&sites.chosen, other, looked)))
            .collect();
        if refused.is_empty() { Ok(sites) } else { Err(Failure::usage(refused.join("\n"))) }
    }

    fn select(&self, named: &[PathBuf], looked: &HostView) -> Result<(Sites, Vec<Read>), Failure> {
        self.behind(looked)?;
        let files = if named.is_empty() { self.all_files()? } else { named.iter().map(|n| self.file(n)).collect() };
        let chosen = self.read(files, looked);
        let beside = self.read_beside(&chosen, looked);
        Ok((set_apart(&chosen, &beside, looked), beside))
    }

    /// All sites of the sites directory that can be judged, and what is wrong with the others: for what does not stand or
    /// fall with them.
    pub(crate) fn known_sites(&self, looked: &HostView) -> Sites {
        let files = self.all_files().map_err(|failure| Wrong { site: String::new(), says: failure.message });
        let mut sites = set_apart(&self.read(files.as_deref().unwrap_or_default().to_vec(), looked), &[], looked);
        sites.wrong.extend(files.err());
        sites
    }

    /// Refuses a name that no site has.
    pub(crate) fn is_a_site(&self, name: &str) -> Result<(), Failure> {
        self.text(&self.file(Path::new(name))).map(|_| ()).map_err(Failure::usage)
    }

    /// Where the sites of the sites directory are.
    pub(crate) fn grounds(&self, looked: &HostView) -> Vec<Ground> {
        let files = self.all_files().unwrap_or_default();
        self.read(files, looked).into_iter().filter_map(|read| read.ground).collect()
    }

    /// The text of a site file.
    pub(crate) fn site_text(&self, file: &Path) -> Result<String, Failure> {
        self.text(file).map(|(text, _)| text).map_err(Failure::usage)
    }

    /// The site that this text describes, in the place of what its file says now.
    pub(crate) fn site_of(&self, text: &str, file: &Path, looked: &HostView) -> Result<Sites, Failure> {
        let (site, _) = self.read_text(text, file, looked);
        let site = Arc::new(site.map_err(Failure::usage)?);
        let ground = Some(Ground::of(&looked.host, Arc::clone(&site)));
        let chosen = [Read { file: file.to_owned(), site: Ok(site), root: None, exposed: None, ground }];
        let sites = set_apart(&chosen, &self.read_beside(&chosen, looked), looked);
        if sites.wrong.is_empty() { Ok(sites) } else { Err(all_wrong(&sites.wrong)) }
    }

    fn text(&self, file: &Path) -> Result<(String, Option<Exposed>), String> {
        let place = self.place(file).map_err(|failure| failure.message)?;
        place.read().map_err(|error| self.unreadable(file, &error))
    }

    fn read(&self, files: Vec<PathBuf>, looked: &HostView) -> Vec<Read> {
        let host = &looked.host;
        let read_one = |file: PathBuf| {
            let (text, exposed) = match self.text(&file) {
                Ok(read) => read,
                Err(says) => return Read { file, site: Err(says), root: None, exposed: None, ground: None },
            };
            let root = site::root_of(&text);
            let (site, behind) = self.read_text(&text, &file, looked);
            let of_site = exposed.clone().or(behind);
            let site = site
                .and_then(|site| looked.labels.check_types(&site).map(|()| site).map_err(|found| found.to_string()))
                .map(|site| Arc::new(Site { exposed: of_site, ..site }));
            let ground = match (&site, &root, &exposed) {
                // What anybody could have written takes nothing out of another site.
                (.., Some(_)) | (Err(_), None, _) => None,
                (Ok(site), ..) => Some(Ground::of(host, Arc::clone(site))),
                (Err(_), Some(root), _) => Some(Ground::of_root(host, &file, root.clone())),
            };
            Read { file, site, root, exposed, ground }
        };
        files.into_iter().map(read_one).collect()
    }

    /// The site that a text describes, with what stands behind it; and how others could have written that.
    fn read_text(&self, text: &str, file: &Path, looked: &HostView) -> (Result<Site, String>, Option<Exposed>) {
        let behind = match self.behind(looked) {
            Ok(behind) => behind,
            Err(failure) => return (Err(failure.message), None),
        };
        let (accounts, checks) = (&looked.accounts, ambrik_core::check::names());
        let detector = Detector::new(&looked.host, looked.services());
        let exposed = RefCell::new(behind.exposed.clone());
        let outline = |name: &str| {
            let (source, open) = self.outline(name)?;
            *exposed.borrow_mut() = exposed.take().or(open);
            Ok(source)
        };
        let reading =
            Reading { accounts, checks: &checks, detector: &detector, host_file: &behind.host_file, outline: &outline };
        let site = site::read_within(text, file, &reading).map_err(|problems| problems.to_string());
        (site, exposed.into_inner())
    }

    /// What holds for all sites: the host file with its drop-ins.
    pub(crate) fn behind<'l>(&self, looked: &'l HostView) -> Result<&'l Behind, Failure> {
        let read = looked.behind.get_or_init(|| self.read_behind(looked));
        read.as_ref().map_err(|says| Failure::usage(says.clone()))
    }

    fn read_behind(&self, looked: &HostView) -> Result<Behind, String> {
        let mut behind = Behind::default();
        let mut sources = Vec::new();
        for file in self.host_files().map_err(|failure| failure.message)? {
            let place = self.place(&file).map_err(|failure| failure.message)?;
            let read = place.read().map_err(|error| format!("cannot read the host file {}: {error}", Shown(&file)))?;
            behind.exposed = behind.exposed.or(read.1);
            sources.push(Source { file, text: read.0 });
        }
        let (accounts, checks) = (&looked.accounts, ambrik_core::check::names());
        behind.host_file = site::read_host_file(sources, accounts, &checks).map_err(|problems| problems.to_string())?;
        Ok(behind)
    }

    /// Whether something is said for all sites.
    pub(crate) fn has_host_file(&self) -> bool {
        self.host_files().is_ok_and(|files| !files.is_empty())
    }

    /// The host file, where there is one, and its drop-ins in the order of their names.
    fn host_files(&self) -> Result<Vec<PathBuf>, Failure> {
        let file = self.beside("host.toml");
        let folder = self.beside("host.d");
        let is_there = |path: &Path| self.place(path).map(|place| place.is_there());
        let mut files: Vec<PathBuf> = is_there(&file)?.then_some(file).into_iter().collect();
        match self.toml_files(&folder) {
            Ok(dropped_in) => files.extend(dropped_in),
            Err(error) if error.is_missing() => {}
            // What holds for all sites is not left out because it cannot be seen.
            Err(error) => return Err(Failure::usage(format!("cannot list {}: {error}", Shown(&folder)))),
        }
        Ok(files)
    }

    /// The outlines, each with what is wrong with it by itself; or why they cannot be listed.
    pub(crate) fn read_outlines(&self, looked: &HostView) -> Result<Vec<(PathBuf, Option<String>)>, String> {
        let (accounts, checks) = (&looked.accounts, ambrik_core::check::names());
        let says = |file: &Path| {
            let name = file.file_stem().unwrap_or_default().to_string_lossy();
            let (source, _) = self.outline(&name).map_err(|NoOutline { what, right }| format!("{what}; {right}"))?;
            site::read_outline(&source, accounts, &checks).map_err(|problems| problems.to_string())
        };
        let folder = self.beside("outlines");
        match self.toml_files(&folder) {
            Ok(files) => {
                Ok(files.into_iter().map(|file| (says(&file).err(), file)).map(|(says, file)| (file, says)).collect())
            }
            Err(error) if error.is_missing() => Ok(Vec::new()),
            Err(error) => Err(format!("the outlines cannot be listed: {error}")),
        }
    }

    /// The files of outlines, by name.
    fn outline_files(&self) -> Vec<PathBuf> {
        self.toml_files(&self.beside("outlines")).unwrap_or_default()
    }

    fn toml_files(&self, folder: &Path) -> Result<Vec<PathBuf>, OwnError> {
        let place = self.place(folder).map_err(|_| OwnError::Long(folder.to_owned()));
        let names = place?.names()?;
        let paths = names.into_iter().map(|name| folder.join(name));
        Ok(paths.filter(|path| path.extension().is_some_and(|ending| ending == "toml")).collect())
    }

    /// An outline; or why there is none, and what to do.
    fn outline(&self, name: &str) -> Result<(Source, Option<Exposed>), NoOutline> {
        let file = self.beside("outlines").join(format!("{name}.toml"));
        let wrong = |what: String| NoOutline { what, right: "leave outline out, or mend that".into() };
        let place = self.place(&file).map_err(|failure| wrong(failure.message))?;
        match place.read() {
            Ok((text, exposed)) => Ok((Source { file, text }, exposed)),
            Err(error) if error.is_missing() => {
                let files = self.outline_files();
                let stems: Vec<String> =
                    files.iter().filter_map(|file| Some(file.file_stem()?.to_string_lossy().into_owned())).collect();
                let right = match nearest(name, stems.iter().map(String::as_str)) {
                    Some(near) => format!("did you mean \"{near}\"?"),
                    None => "ambrik survey DIR --as-outline NAME drafts one".to_owned(),
                };
                Err(NoOutline { what: format!("there is no outline {}", Shown(&file)), right })
            }
            Err(error) => Err(wrong(format!("cannot read the outline {}: {error}", Shown(&file)))),
        }
    }

    /// The files of the sites directory beside the chosen ones; a file that was named by its path stands for the one of the
    /// same site there.
    fn read_beside(&self, chosen: &[Read], looked: &HostView) -> Vec<Read> {
        let mut files = self.all_files().unwrap_or_default();
        files.retain(|file| chosen.iter().all(|read| read.file != *file));
        let mut beside = self.read(files, looked);
        beside.retain(|other| chosen.iter().all(|read| read.name() != other.name()));
        beside
    }

    pub(crate) fn file(&self, named: &Path) -> PathBuf {
        let is_path = named.components().count() > 1 || named.extension().is_some_and(|e| e == "toml");
        if is_path { named.to_owned() } else { self.site_file(&named.display().to_string()) }
    }

    fn unreadable(&self, file: &Path, error: &OwnError) -> String {
        if !error.is_missing() {
            return format!("cannot read the site file {}: {error}", Shown(file));
        }
        let known = self.all_files().unwrap_or_default();
        let names: Vec<String> =
            known.iter().filter_map(|f| Some(f.file_stem()?.to_string_lossy().into_owned())).collect();
        let meant = file.file_stem().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let known = match (nearest(&meant, names.iter().map(String::as_str)), names.len()) {
            (Some(near), _) => format!("; did you mean {near}?"),
            (None, 0) => String::new(),
            (None, 1..=MOST_NAMED) => format!("; the sites here are: {}", names.join(", ")),
            (None, n) => format!("; there are {n} sites here, and none is called nearly so"),
        };
        format!("there is no site file {}{known}", Shown(file))
    }

    fn all_files(&self) -> Result<Vec<PathBuf>, Failure> {
        let sites = self.sites_directory();
        let shown = Shown(sites);
        let names = self.place(sites)?.names().map_err(|error| match error {
            error if error.is_missing() => Failure::usage(format!(
                "there is no sites directory {shown}; name a site file, or another directory with --sites"
            )),
            error => Failure::usage(format!("cannot list the sites directory {shown}: {error}")),
        })?;
        let paths = names.into_iter().map(|name| sites.join(name));
        let files: Vec<PathBuf> = paths.filter(|p| p.extension().is_some_and(|e| e == "toml")).collect();
        if files.is_empty() {
            return Err(Failure::usage(format!("there are no site files in {shown}")));
        }
        Ok(files)
    }
}

/// The chosen sites, each without the folders of all others, and those others.
fn set_apart(chosen: &[Read], beside: &[Read], looked: &HostView) -> Sites {
    let grounds: Vec<Ground> = chosen.iter().chain(beside).filter_map(|read| read.ground.clone()).collect();
    let mut sites = Sites { chosen: Vec::new(), wrong: Vec::new(), neighbours: Vec::new() };
    for (number, read) in chosen.iter().enumerate() {
        let wrong = |says: String| Wrong { site: read.name(), says };
        let twice = chosen[..number].iter().find(|other| other.name() == read.name() && other.file != read.file);
        if let Some(other) = twice {
            sites.wrong.push(wrong(format!(
                "{}: the name \"{}\" is also that of {}; give each site a name of its own",
                Shown(&read.file),
                read.name(),
                Shown(&other.file)
            )));
            continue;
        }
        if chosen[..number].iter().any(|other| other.file == read.file) {
            continue;
        }
        match apart(read, &grounds, looked) {
            Ok(site) => {
                let serving = serving(&looked.host, looked.services(), &site, &without(&grounds, &read.file));
                let making = looked.services().making(site.php.ids.uid);
                let php_settings = php_settings(&site, looked);
                sites.chosen.push(Arc::new(Site { serving, making, php_settings, ..Site::clone(&site) }));
            }
            Err(says) => sites.wrong.push(wrong(says)),
        }
    }
    let with_settings = |site: Arc<Site>| {
        let php_settings = php_settings(&site, looked);
        Arc::new(Site { php_settings, ..Site::clone(&site) })
    };
    let new = beside.iter().filter_map(|read| apart(read, &grounds, looked).ok()).map(with_settings);
    sites.neighbours = sites.chosen.iter().cloned().chain(new).collect();
    sites
}

/// PHP's own settings for a site, as the host says them.
fn php_settings(site: &Site, looked: &HostView) -> Option<ambrik_core::host::PhpSettings> {
    let folder = site.served_folder().unwrap_or_else(|| site.root.clone());
    looked.services().php_settings(&looked.host, &folder).cloned()
}

/// Where the sites of other files are.
fn without(grounds: &[Ground], file: &Path) -> Vec<Ground> {
    grounds.iter().filter(|ground| ground.file() != file).cloned().collect()
}

fn apart(read: &Read, grounds: &[Ground], looked: &HostView) -> Result<Arc<Site>, String> {
    let site = read.site.as_ref().map_err(Clone::clone)?;
    let ground = read.ground.clone().unwrap_or_else(|| Ground::of(&looked.host, Arc::clone(site)));
    let clashes = |clashes: Vec<Clash>| {
        clashes.iter().map(|clash| format!("site {}: {clash}", site.name)).collect::<Vec<_>>().join("\n")
    };
    ground.apart(grounds).map(|apart| apart.unwrap_or_else(|| Arc::clone(site))).map_err(clashes)
}

fn all_wrong(wrong: &[Wrong]) -> Failure {
    let says: Vec<&str> = wrong.iter().map(|wrong| wrong.says.as_str()).collect();
    Failure::usage(says.join("\n"))
}

/// Why nothing may be changed by the file of a site.
fn exposed(site: &Site) -> Option<String> {
    let Exposed { path, why, mend } = site.exposed.as_ref()?;
    let what = "what stands there decides what is changed, so nothing was. Put it right";
    Some(format!("site {}: {}: {why}; {what}: {mend}", site.name, Shown(path)))
}

/// Why it is not known whether a site beside the chosen ones lies in one of them.
fn unknown_inside(chosen: &[Arc<Site>], other: &Read, looked: &HostView) -> Option<String> {
    let file = Shown(&other.file);
    let Some(root) = &other.root else {
        let cause = other.site.as_ref().err()?;
        return Some(format!(
            "{cause}\n{file}: where its site is cannot be read, so it may lie in what would be changed; nothing was: mend that file"
        ));
    };
    let Exposed { path, why, mend } = other.exposed.as_ref()?;
    let ground = Ground::of_root(&looked.host, &other.file, root.clone());
    let inside = |site: &&Arc<Site>| {
        std::iter::once(site.root.clone())
            .chain(site.outside_starts())
            .any(|folder| ground.inside(&looked.host, &folder).is_some())
    };
    let around = chosen.iter().find(inside)?;
    Some(format!(
        "site {}: {file} says that its site {} lies in it, and others could have written that: {}: {why}; nothing was changed. \
         Put it right: {mend}",
        around.name,
        Shown(root),
        Shown(path)
    ))
}
