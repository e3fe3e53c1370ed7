//! A harmless PHP file in a folder that PHP may write to, for as long as it takes to ask for it once.

use std::collections::hash_map::RandomState;
use std::ffi::{CString, OsStr};
use std::hash::{BuildHasher as _, Hasher as _};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use crate::audit::Audit;
use crate::signals::{self, Held};
use crate::tree::{Failure, Host, Op, sys};

/// How a probe's name begins: one that a killed run left is known by it.
const BEGINS: &str = "ambrik-probe-";
/// And how it ends.
const ENDS: &str = ".php";

/// Letters and digits that nobody can guess.
pub(super) fn token() -> String {
    let random = || RandomState::new().build_hasher().finish();
    format!("{:016x}{:016x}", random(), random())
}

/// A file that says something backwards if it is run; it goes when this is dropped.
#[derive(Debug)]
pub(super) struct Probe {
    folder: OwnedFd,
    name: CString,
    token: String,
    /// Signals wait until it is gone.
    _held: Held,
}

impl Probe {
    /// Puts one into a folder of the site, with the rights that PHP's own files have there.
    pub(super) fn put(host: &Host, audit: &Audit, folder: &Path) -> Result<Self, Failure> {
        let keeper = audit.site.keeper.ids.uid;
        let found = host.resolve_safely(folder, keeper).map_err(|_| Failure::ForeignLink)?;
        let folder = sys::reopen_directory(&found.handle).map_err(|errno| Failure::Os(Op::Open, errno))?;
        remove_left(&folder);
        let held = signals::hold();
        let token = token();
        let name = CString::new(format!("{BEGINS}{}{ENDS}", &token[..16])).unwrap_or_default();
        let file = sys::create_file(&folder, &name);
        let probe = Self { folder, name, token, _held: held };
        let file = file.map_err(|errno| Failure::Os(Op::Create, errno))?;
        let text = format!("<?php echo strrev('{}');\n", probe.token);
        sys::write_all(&file, text.as_bytes()).map_err(|errno| Failure::Os(Op::Create, errno))?;
        let rights = audit.rights_of_new_file(&found.path.join(probe.name()));
        sys::set_owner(&file, rights.uid, rights.gid).map_err(|errno| Failure::Os(Op::SetOwner, errno))?;
        sys::set_mode(&file, rights.mode).map_err(|errno| Failure::Os(Op::SetMode, errno))?;
        if let Some(acl) = &rights.acl {
            let value = acl.to_attribute();
            sys::set_attribute(&file, crate::acl::ACCESS_ATTRIBUTE, Some(&value))
                .map_err(|errno| Failure::Os(Op::SetAcl, errno))?;
        }
        Ok(probe)
    }

    pub(super) fn name(&self) -> &OsStr {
        OsStr::from_bytes(self.name.to_bytes())
    }

    /// Whether an answer is what the file says when it is run.
    pub(super) fn was_run(&self, body: &[u8]) -> bool {
        let backwards: Vec<u8> = self.token.bytes().rev().collect();
        body.windows(backwards.len()).any(|window| window == backwards)
    }

    /// Whether an answer is the file as it is.
    pub(super) fn came(&self, body: &[u8]) -> bool {
        body.windows(self.token.len()).any(|window| window == self.token.as_bytes())
    }
}

impl Drop for Probe {
    fn drop(&mut self) {
        // Somebody else removed it: it is gone either way.
        let _ = sys::unlink(&self.folder, &self.name, false);
        if signals::came().is_some() {
            // What the signal would have done: this does not come back.
            let _ = signal_hook::low_level::emulate_default_handler(signal_hook::consts::SIGTERM);
        }
    }
}

/// Removes what a run that was killed left behind.
fn remove_left(folder: &OwnedFd) {
    for name in sys::names(folder).unwrap_or_default() {
        let bytes = name.to_bytes();
        if bytes.starts_with(BEGINS.as_bytes()) && bytes.ends_with(ENDS.as_bytes()) {
            let _ = sys::unlink(folder, &name, false);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tokens_differ_and_are_not_their_own_reverse() {
        let (one, two) = (token(), token());
        assert_ne!(one, two);
        assert_eq!(one.len(), 32);
        assert_ne!(one, one.chars().rev().collect::<String>());
    }
}
