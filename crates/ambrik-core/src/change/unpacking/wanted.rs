//! What paths of an archive get, as the site file wants it: those of one folder are decided together.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use foldhash::fast::RandomState;

use super::super::folder::split;
use super::super::plan::Creation;
use crate::audit::missing_above;
use crate::entry::{Kind, Rights};
use crate::label::SiteLabels;
use crate::policy::{Context, Cursor, Policy};
use crate::site::Site;
use crate::tree::Host;
use crate::want::{Shape, Solver};

/// What paths of a site get.
pub(super) struct Wanted<'w> {
    pub(super) policy: Policy,
    solver: Solver,
    labels: Option<SiteLabels<'w>>,
    /// What was asked for before, by the context's number.
    known: HashMap<(u32, Shape, Kind), Arc<Rights>, RandomState>,
    /// The folder that was asked for last.
    folder: Option<(PathBuf, Arc<Cursor>)>,
}

impl<'w> Wanted<'w> {
    pub(super) fn new(policy: Policy, solver: Solver, labels: Option<SiteLabels<'w>>) -> Self {
        Self { policy, solver, labels, known: HashMap::default(), folder: None }
    }

    pub(super) fn rights(&mut self, context: &Context, shape: Shape, kind: Kind) -> Arc<Rights> {
        let Self { policy, solver, labels, known, .. } = self;
        let anew = || {
            let label = labels.as_ref().and_then(|labels| labels.wanted(policy, context, None, kind));
            Arc::new(Rights { label, ..solver.solve(policy, context, shape) })
        };
        Arc::clone(known.entry((context.id, shape, kind)).or_insert_with(anew))
    }

    /// What a path below the root is for the site; those of one folder follow each other.
    pub(super) fn context(&mut self, root: &Path, path: &Path) -> Context {
        let Some((above, name)) = split(path) else { return self.policy.at(&root.join(path)).context };
        let folder = match &self.folder {
            Some((known, folder)) if known.as_os_str() == above.as_os_str() => folder,
            _ => &self.folder.insert((above.to_owned(), self.policy.at(&root.join(above)))).1,
        };
        self.policy.step(folder, name).context
    }

    /// The root, and the missing directories above it.
    pub(super) fn creations(&mut self, host: &Host, site: &Site) -> Vec<Creation> {
        let inside = site.root.join("x");
        let made = missing_above(host, &self.policy, &self.solver, &inside).into_iter().map(|made| {
            let (path, kind, part) = (made.path, made.kind, made.part);
            let context = self.policy.at(&path).context;
            let rights = if context.ours { self.rights(&context, Shape::Directory, kind) } else { made.rights };
            Creation { path, kind, part, rights, from: None, content: Vec::new() }
        });
        made.collect()
    }
}
