//! Sites of one host in one another's folders: each is left to its own site file.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::account::Uid;
use crate::entry::Identity;
use crate::policy::Policy;
use crate::shown::Shown;
use crate::site::{Access, MOST_ACCESS, OtherSite, Overrides, Part, Pattern, Phase, Site, Use, Who, Write};
use crate::tree::Host;

/// Where a site is, whatever else its site file says.
#[derive(Clone, Debug)]
pub struct Ground {
    name: String,
    file: PathBuf,
    /// The site, where its file can be read whole.
    site: Option<Arc<Site>>,
    /// The root, then the parts outside it.
    places: Vec<NestedPlace>,
}

/// A folder of a site.
#[derive(Clone, Debug)]
struct NestedPlace {
    /// As the site file names it.
    named: PathBuf,
    /// Without links.
    real: PathBuf,
    /// Which inode it is, where it is there.
    id: Option<Identity>,
}

impl NestedPlace {
    fn of(host: &Host, named: PathBuf) -> Self {
        match host.resolve(&named) {
            Ok(found) => Self { named, real: found.path, id: Some(found.facts.id) },
            Err(_) => Self { real: named.clone(), named, id: None },
        }
    }
}

/// Two site files that cannot both be right.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Clash {
    /// They have one root.
    #[error(
        "the site files {} and {} have one root, {}: remove one of them, or correct its root",
        Shown(.file), Shown(.other_file), Shown(.root)
    )]
    OneRoot {
        /// The one site file.
        file: PathBuf,
        /// The other.
        other_file: PathBuf,
        /// The root.
        root: PathBuf,
    },
    /// The root of one lies where PHP of the other may write.
    #[error(
        "the root {} of {} lies in {part} of {}, where PHP of that site may write: whoever gets into it can replace the \
         other site; move one of them, or correct the site file that is wrong",
        Shown(.root), Shown(.file), Shown(.outer_file)
    )]
    InWritable {
        /// The inner site's root.
        root: PathBuf,
        /// Its site file.
        file: PathBuf,
        /// The outer site's file.
        outer_file: PathBuf,
        /// The part of the outer site.
        part: String,
    },
}

impl Ground {
    /// Where a site is.
    #[must_use]
    pub fn of(host: &Host, site: Arc<Site>) -> Self {
        let named = std::iter::once(site.root.clone()).chain(site.outside_starts());
        let places = named.map(|path| NestedPlace::of(host, path)).collect();
        Self { name: site.name.clone(), file: site.file.clone(), site: Some(site), places }
    }

    /// Where a site is of whose file no more than the root can be read.
    #[must_use]
    pub fn of_root(host: &Host, file: &Path, root: PathBuf) -> Self {
        let name = file.file_stem().unwrap_or_default().to_string_lossy().into_owned();
        Self { name, file: file.to_owned(), site: None, places: vec![NestedPlace::of(host, root)] }
    }

    /// The site's name; its file's, where that cannot be read.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The site file.
    #[must_use]
    pub fn file(&self) -> &Path {
        &self.file
    }

    /// Whether its root is `folder`, links followed.
    #[must_use]
    pub fn is_at(&self, host: &Host, folder: &Path) -> bool {
        self.places[0].real == host.destination(Path::new("/"), folder)
    }

    /// Whether its root is `folder`, or around it; `folder` is without links.
    #[must_use]
    pub fn holds(&self, folder: &Path) -> bool {
        folder.starts_with(&self.places[0].real)
    }

    /// Where the root is inside `folder`, by that one's name.
    #[must_use]
    pub fn inside(&self, host: &Host, folder: &Path) -> Option<PathBuf> {
        below(&NestedPlace::of(host, folder.to_owned()), &self.places[0])
    }

    /// The site with the folders of others that are inside it as foreign parts: neither judged nor changed with it.
    /// Nothing where its file cannot be read whole.
    ///
    /// Errors: every site file that cannot be right beside this one.
    pub fn apart(&self, others: &[Self]) -> Result<Option<Arc<Site>>, Vec<Clash>> {
        let Some(site) = &self.site else { return Ok(None) };
        let others = || others.iter().filter(|other| other.file != self.file);
        let clashes: Vec<Clash> = others().filter_map(|other| self.clash(other)).collect();
        if !clashes.is_empty() {
            return Err(clashes);
        }
        let mut whole = Site::clone(site);
        for other in others() {
            let mut parts = self.parts_of(site, other);
            for part in &mut parts {
                pass(&mut whole, other, part);
            }
            whole.parts.append(&mut parts);
        }
        Ok(Some(if whole.parts.len() == site.parts.len() { Arc::clone(site) } else { Arc::new(whole) }))
    }

    /// Why two sites cannot both be what their files say.
    fn clash(&self, other: &Self) -> Option<Clash> {
        let [root, other_root] = [self, other].map(|ground| &ground.places[0]);
        if root.real == other_root.real || root.id.is_some_and(|id| other_root.id == Some(id)) {
            let (file, other_file) = (self.file.clone(), other.file.clone());
            return Some(Clash::OneRoot { file, other_file, root: root.real.clone() });
        }
        self.writable_below(other).or_else(|| other.writable_below(self))
    }

    /// Whether the root of `inner` is where PHP of this site always may write.
    fn writable_below(&self, inner: &Self) -> Option<Clash> {
        let site = self.site.as_ref()?;
        let root = &inner.places[0];
        let at = self.places.iter().find_map(|outer| below(outer, root))?;
        let policy = Policy::new(Arc::clone(site), Phase::Sealed);
        let context = policy.at(&at).context;
        (context.is_managed() && context.php_always_writes()).then(|| Clash::InWritable {
            root: root.named.clone(),
            file: inner.file.clone(),
            outer_file: self.file.clone(),
            part: policy.part_shown(context.part).to_owned(),
        })
    }

    fn parts_of(&self, site: &Site, other: &Self) -> Vec<Part> {
        let mut parts = Vec::new();
        for (number, place) in other.places.iter().enumerate() {
            for path in self.places.iter().filter_map(|outer| below(outer, place)) {
                let pattern = Pattern::literal(&path);
                // A part that two site files name is both's; a root is its site's alone.
                let is_both = number > 0 && site.parts.iter().any(|part| part.pattern.text() == pattern.text());
                if !is_both {
                    parts.push(part_of(site, &other.name, &path, pattern));
                }
            }
        }
        parts
    }
}

/// Where `place` is inside another, by that one's name.
fn below(outer: &NestedPlace, place: &NestedPlace) -> Option<PathBuf> {
    let rest = place.real.strip_prefix(&outer.real).ok().filter(|rest| !rest.as_os_str().is_empty())?;
    Some(outer.named.join(rest))
}

/// Lets the accounts of another site pass to its folder, on the directories of this one: each by itself, or all accounts of the
/// host where they cannot be read, or are too many.
fn pass(whole: &mut Site, other: &Ground, part: &mut Part) {
    let Some(site) = &other.site else {
        part.other = part.other.take().map(|other| OtherSite { passed_by_others: true, ..other });
        return;
    };
    let besides = site.access.iter().map(|access| access.who.clone());
    let roles = [&site.keeper, &site.php, &site.web].into_iter().filter(|account| account.ids.uid != Uid::ROOT);
    for who in roles.map(|account| Who::User(account.clone())).chain(besides) {
        let passes = |access: &&mut Access| access.may.is_none() && access.who == who;
        if let Some(known) = whole.access.iter_mut().find(passes) {
            known.patterns.push(part.pattern.clone());
        } else if whole.access.len() < MOST_ACCESS {
            whole.access.push(Access { who, may: None, patterns: vec![part.pattern.clone()], whole: false });
        } else if let Some(other) = &mut part.other {
            other.passed_by_others = true;
        }
    }
}

/// What a folder of another site is to this one.
fn part_of(site: &Site, other: &str, path: &Path, pattern: Pattern) -> Part {
    Part {
        shown: site.relative(path).display().to_string(),
        pattern,
        used_as: Use::Foreign,
        write: Write::Never,
        from: None,
        create: false,
        deep: true,
        served: false,
        overrides: Overrides::default(),
        file: site.file.clone(),
        line: 0,
        other: Some(OtherSite { name: other.to_owned(), passed_by_others: false }),
    }
}
