//! A site's pages, asked before and after a change, and the change taken back where it broke one.

use std::time::Duration;

use ambrik_core::change::StateDir;
use ambrik_core::over_http::{LONGEST, Page, ask_pages, broken};
use ambrik_core::site::Site;

use super::undo::take_back_now;
use crate::failure::{Exit, Failure};
use crate::session::{HostView, Session};

/// PHP looks only every two seconds whether a file of its opcode cache is still what it was
/// (`opcache.revalidate_freq`): a page can answer so long from what it could read before.
const PHP_REMEMBERS: Duration = Duration::from_millis(2_500);

/// A site's pages as they were before a change.
pub(crate) struct Watch<'s> {
    site: &'s Site,
    before: Vec<Page>,
}

impl<'s> Watch<'s> {
    /// Asks them.
    pub(crate) fn begin(site: &'s Site, session: &mut Session<'_>) -> Self {
        let before = ask_pages(site, LONGEST);
        for page in before.iter().filter(|page| !page.works()) {
            session.terminal.detail(&format!(
                "{}: {} does not work before the change: {}",
                site.name,
                page.address,
                page.says()
            ));
        }
        Self { site, before }
    }

    /// Asks them again after the change. The answer are those that worked and do not any more, before and after; each was
    /// told of.
    pub(crate) fn end(&self, session: &mut Session<'_>) -> Vec<(Page, Page)> {
        if !self.before.iter().any(Page::works) {
            return Vec::new();
        }
        let mut found = broken(&self.before, &ask_pages(self.site, LONGEST));
        if found.is_empty() {
            std::thread::sleep(PHP_REMEMBERS);
            found = broken(&self.before, &ask_pages(self.site, LONGEST));
        }
        for (was, is) in &found {
            session.terminal.warn(&format!(
                "{}: {} answered before the change ({}), and does not any more: {}",
                self.site.name,
                was.address,
                was.says(),
                is.says()
            ));
        }
        found
    }
}

/// After a change that broke a page: takes it back where that is asked for, else says how to. Whether it did.
pub(crate) fn settle(
    site: &Site,
    id: i64,
    or_undo: bool,
    looked: &HostView,
    state: &StateDir,
    session: &mut Session<'_>,
) -> Result<bool, Failure> {
    if !or_undo {
        session.terminal.warn(&format!("{}: take the change back with: ambrik undo {id}", site.name));
        return Ok(false);
    }
    let exit = take_back_now(id, looked, state, session)?;
    let how = if exit == Exit::Clean { "was taken back" } else { "was taken back in part, see above" };
    session.terminal.warn(&format!("{}: the change {how}", site.name));
    Ok(true)
}
