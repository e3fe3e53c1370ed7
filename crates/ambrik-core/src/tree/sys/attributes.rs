//! Access lists, capabilities and labels, as extended attributes (xattr(7)).

use std::cell::RefCell;
use std::collections::VecDeque;
use std::ffi::CStr;
use std::os::fd::{AsFd, BorrowedFd};
use std::sync::{Arc, LazyLock};

use rustix::io::Errno;

use super::super::Mounts;
use super::{CAPABILITIES, LABEL, again, by_handle};
use crate::acl::{ACCESS_ATTRIBUTE, Acl, DEFAULT_ATTRIBUTE};
use crate::entry::Facts;
use crate::security_context::SecurityContext as Label;

/// Adds what the extended attributes tell, the label only where `labels` says so: `list` and `get` ask in a way that
/// reaches the file.
pub(crate) fn read_attributes(
    facts: &mut Facts,
    labels: bool,
    list: impl Fn(&mut [u8]) -> Result<usize, Errno>,
    get: impl Fn(&CStr, &mut [u8]) -> Result<usize, Errno>,
) -> Result<(), Errno> {
    let mut few = [0_u8; 256];
    let mut many = Vec::new();
    // What the mount gives stands in no list, or stands beside what is on the disk and does not count.
    let given = labels && is_given(facts.mount);
    if given {
        facts.rights.label = get_label(&get)?;
        facts.label_given = facts.rights.label.is_some();
    }
    let names = match again(|| list(&mut few)) {
        Ok(0) => return Ok(()),
        Ok(length) => &few[..length],
        Err(Errno::RANGE) => {
            many.resize(1 << 16, 0);
            let length = again(|| list(&mut many))?;
            &many[..length]
        }
        Err(error) => return Err(error),
    };
    for name in names.split(|&b| b == 0) {
        if name == ACCESS_ATTRIBUTE.as_bytes() {
            facts.rights.acl = get_acl(c"system.posix_acl_access", &get)?;
        } else if name == DEFAULT_ATTRIBUTE.as_bytes() {
            facts.rights.default_acl = get_acl(c"system.posix_acl_default", &get)?;
        } else if name == CAPABILITIES.as_bytes() {
            let mut value = [0; 64];
            let length = again(|| get(c"security.capability", &mut value))?;
            facts.rights.capabilities = Some(value[..length].into());
        } else if labels && !given && name == LABEL.as_bytes() {
            facts.rights.label = get_label(&get)?;
        }
    }
    Ok(())
}

/// The label of what a handle holds; none where it has none.
pub(crate) fn label_at(handle: impl AsFd) -> Result<Option<Label>, Errno> {
    get_label(&|name: &CStr, buffer: &mut [u8]| get_at(handle.as_fd(), name, buffer))
}

/// Whether the file system of what a handle holds has access lists (`acl(5)`).
pub(crate) fn holds_acls(handle: impl AsFd) -> bool {
    let mut nothing = [0_u8; 0];
    get_at(handle.as_fd(), c"system.posix_acl_access", &mut nothing) != Err(Errno::OPNOTSUPP)
}

/// The names of the extended attributes of what a handle holds.
pub(super) fn list_at(handle: BorrowedFd<'_>, buffer: &mut [u8]) -> Result<usize, Errno> {
    match again(|| rustix::fs::flistxattr(handle, &mut *buffer)) {
        Err(Errno::BADF) => by_handle(handle, |path| rustix::fs::listxattr(path, &mut *buffer)),
        answer => answer,
    }
}

/// The value of an extended attribute of what a handle holds.
pub(super) fn get_at(handle: BorrowedFd<'_>, name: &CStr, buffer: &mut [u8]) -> Result<usize, Errno> {
    match again(|| rustix::fs::fgetxattr(handle, name, &mut *buffer)) {
        Err(Errno::BADF) => by_handle(handle, |path| rustix::fs::getxattr(path, name, &mut *buffer)),
        answer => answer,
    }
}

pub(super) fn get_label(get: &impl Fn(&CStr, &mut [u8]) -> Result<usize, Errno>) -> Result<Option<Label>, Errno> {
    let mut value = [0; 256];
    match again(|| get(c"security.selinux", &mut value)) {
        Ok(length) => Ok(label_of(&value[..length])),
        Err(Errno::RANGE | Errno::NODATA | Errno::OPNOTSUPP) => Ok(None),
        Err(errno) => Err(errno),
    }
}

/// Whether SELinux runs here: then every file has a label, set or given.
static RUNS: LazyLock<bool> = LazyLock::new(|| std::fs::exists("/sys/fs/selinux/enforce").unwrap_or(false));

/// As many mounts are remembered by each thread: a way from `/` crosses a few, and to and fro.
const MOUNTS: usize = 16;

thread_local! {
    /// The mounts that this thread looked at, and whether they give their files the labels.
    static KNOWN_MOUNTS: RefCell<Vec<(u64, bool)>> = const { RefCell::new(Vec::new()) };
}

/// Whether the mount with this number gives its files their labels.
fn is_given(mount: u64) -> bool {
    if !*RUNS {
        return false;
    }
    KNOWN_MOUNTS.with_borrow_mut(|known| {
        if let Some((_, given)) = known.iter().find(|(number, _)| *number == mount) {
            return *given;
        }
        let given = Mounts::of_this_thread().get(mount).is_some_and(|mount| !mount.own_labels);
        known.truncate(MOUNTS - 1);
        known.insert(0, (mount, given));
        given
    })
}

/// As many labels are remembered by each thread.
pub(super) const LABELS: usize = 8;

thread_local! {
    /// The labels that this thread read last: most files have one of a few.
    static KNOWN_LABELS: RefCell<VecDeque<Label>> = const { RefCell::new(VecDeque::new()) };
}

/// The label that an attribute's value says; what is no context is as no label.
pub(super) fn label_of(value: &[u8]) -> Option<Label> {
    let text = value.strip_suffix(&[0]).unwrap_or(value);
    KNOWN_LABELS.with_borrow_mut(|known| {
        if let Some(label) = known.iter().find(|label| label.text().as_bytes() == text) {
            return Some(label.clone());
        }
        let label = Label::from_attribute(value).ok()?;
        known.truncate(LABELS - 1);
        known.push_front(label.clone());
        Some(label)
    })
}

pub(super) fn get_acl(
    name: &CStr,
    get: &impl Fn(&CStr, &mut [u8]) -> Result<usize, Errno>,
) -> Result<Option<Arc<Acl>>, Errno> {
    let mut buffer = vec![0_u8; 1 << 12];
    let length = loop {
        match again(|| get(name, &mut buffer)) {
            Ok(length) => break length,
            Err(Errno::RANGE) if buffer.len() < 1 << 16 => buffer.resize(1 << 16, 0),
            Err(Errno::NODATA) => return Ok(None),
            Err(error) => return Err(error),
        }
    };
    // The kernel hands out valid lists only; another one is as if it could not be read.
    Acl::from_attribute(&buffer[..length]).map(|acl| Some(Arc::new(acl))).map_err(|_| Errno::INVAL)
}
