//! Changes one path's owner, mode and lists through a handle that pins it, and reads back what came of it.

use std::ffi::CStr;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::sync::Arc;

use rustix::io::Errno;

use crate::acl::{ACCESS_ATTRIBUTE, Acl, DEFAULT_ATTRIBUTE};
use crate::entry::{Facts, Identity, Kind, Nanos, Rights};
use crate::mode::Mode;
use crate::security_context::SecurityContext as Label;
use crate::tree::{Failure, Op, sys};

/// What a path was when it was judged, and what it is to be.
#[derive(Clone, Debug)]
pub(crate) struct RightsChange {
    pub(crate) id: Identity,
    pub(crate) kind: Kind,
    pub(crate) links: u32,
    pub(crate) before: Arc<Rights>,
    pub(crate) after: Arc<Rights>,
    /// The change time that Ambrik left a file with that lent power before: see [`change`].
    pub(crate) left: Option<ChangeTime>,
    /// When it was changed last as it was judged, where it must not have been since: code that PHP may not write is given
    /// to the keeper as it was looked at, or not at all.
    pub(crate) changed: Option<Nanos>,
}

/// A change time, in seconds and nanoseconds since 1970.
pub(crate) type ChangeTime = (i64, u32);

/// Changes `name` in `dir`, if it is still what was judged.
///
/// For a file that lent power (set-id bits, capabilities) the answer is the change time that it was left with: only if
/// that has not moved has nobody written to it since, and only then may it get its power back.
pub(crate) fn change(dir: BorrowedFd<'_>, name: &CStr, turn: &RightsChange) -> Result<Option<ChangeTime>, Failure> {
    let handle = hold(dir, name, turn.kind)?;
    let failed = |errno| Failure::Os(Op::Look, errno);
    let mut facts = look(&handle, &turn.before, &turn.after).map_err(failed)?;
    if facts.id != turn.id || facts.kind != turn.kind || facts.links != turn.links && facts.kind != Kind::Directory {
        return Err(Failure::Replaced);
    }
    // Where more than the label changes, the rest tells whether it is as it was judged.
    facts.rights.label.clone_from(&turn.before.label);
    if differs_only_in_label(&turn.before, &turn.after) || !is(&facts.rights, &turn.before, turn.kind) {
        facts.rights.label = label(&handle, &turn.before, &turn.after).map_err(failed)?;
        if is(&facts.rights, &turn.after, turn.kind) {
            // Another name of the same file came first.
            return Ok(None);
        }
        if !is_still(&facts.rights, &turn.before, turn.kind) {
            return Err(Failure::Replaced);
        }
    }
    if turn.changed.is_some_and(|changed| changed != facts.changed) {
        return Err(Failure::Replaced);
    }
    if let Err(failure) = write(&handle, turn.kind, &facts.rights, &turn.after) {
        // What failed is to be as it was; where that fails as well, taking it back knows the state between. What was left
        // too narrow for want of its list stays so.
        if matches!(failure, Failure::Os(Op::SetAcl, _)) {
            return Err(failure);
        }
        let _ = look(&handle, &turn.before, &turn.after).and_then(|mut now| {
            now.rights.label = label(&handle, &turn.before, &turn.after)?;
            Ok(write(&handle, turn.kind, &now.rights, &turn.before))
        });
        return Err(failure);
    }
    let left = turn.before.lend_power(turn.kind).then(|| sys::change_time(&handle)).transpose();
    left.map_err(|errno| Failure::Os(Op::ReadBack, errno))
}

/// A handle on `name` in `dir`, which no rename and no swapped link redirects.
pub(crate) fn pin(dir: BorrowedFd<'_>, name: &CStr) -> Result<OwnedFd, Failure> {
    sys::pin(dir, name).map_err(|errno| Failure::Os(Op::Open, errno))
}

fn differs_only_in_label(before: &Rights, after: &Rights) -> bool {
    before.label != after.label && Rights { label: after.label.clone(), ..before.clone() } == *after
}

/// What a handle holds, as far as two rights speak of it, without its label: lists that neither has are not asked for.
fn look(handle: &OwnedFd, one: &Rights, other: &Rights) -> Result<Facts, Errno> {
    let lists = |rights: &Rights| rights.acl.is_some() || rights.default_acl.is_some() || rights.capabilities.is_some();
    if lists(one) || lists(other) {
        return sys::look_whole(handle);
    }
    sys::look_at(handle)
}

/// The label of what a handle holds; none where neither of two rights speaks of one.
fn label(handle: &OwnedFd, one: &Rights, other: &Rights) -> Result<Option<Label>, Errno> {
    if one.label.is_some() || other.label.is_some() { sys::label_at(handle) } else { Ok(None) }
}

/// As [`pin`], for what should be of this kind and is going to be changed.
pub(crate) fn hold(dir: BorrowedFd<'_>, name: &CStr, kind: Kind) -> Result<OwnedFd, Failure> {
    sys::hold(dir, name, kind).map_err(|errno| Failure::Os(Op::Open, errno))
}

/// Whether rights are the same, as far as a path of this kind has them.
pub(crate) fn is(has: &Rights, want: &Rights, kind: Kind) -> bool {
    if kind.has_mode() { has == want } else { (has.uid, has.gid, &has.label) == (want.uid, want.gid, &want.label) }
}

/// Whether rights are those of before, user, role and level of the label left aside: a relabelling gives the system's own.
pub(crate) fn is_still(has: &Rights, before: &Rights, kind: Kind) -> bool {
    let types = |rights: &Rights| rights.label.as_ref().map(|label| label.type_name().to_owned());
    let like = || Rights { label: before.label.clone(), ..has.clone() };
    is(has, before, kind) || (types(has) == types(before) && is(&like(), before, kind))
}

/// Makes what a handle holds have the rights `after`, and reads them back; only the calls that this takes are made.
///
/// Whoever owned it may have given it a list since it was looked at, and cannot any more: what reads back otherwise is
/// written once more, from what is there now.
pub(crate) fn write(handle: &OwnedFd, kind: Kind, before: &Rights, after: &Rights) -> Result<(), Failure> {
    write_once(handle, kind, before, after)?;
    let now = read_back(handle, before, after)?;
    if is(&now, after, kind) {
        return Ok(());
    }
    write_once(handle, kind, &now, after)?;
    let now = read_back(handle, before, after)?;
    if is(&now, after, kind) { Ok(()) } else { Err(not_done(&now, after)) }
}

/// One pass of the calls, in the order in which no moment between two of them gives anybody more than before or after:
///
/// 1. the mode without what the new one does not give, so that a new owner or group never has what the old mode gave to its class;
/// 2. the owner: only root gives files away, so what comes before it may fail without harm;
/// 3. the label, which asks for the modes' leave as well: it can come at any time after the owner's writing is over;
/// 4. the access list and the default list, which replace the group's bits by their mask;
/// 5. the mode, last of the bits: chown(2) takes the set-id bits away, a list changes the group's;
/// 6. capabilities, which chown(2) takes away, and which count for nothing before the mode lets anybody execute.
fn write_once(handle: &OwnedFd, kind: Kind, before: &Rights, after: &Rights) -> Result<(), Failure> {
    let failed = |op| move |errno| Failure::Os(op, errno);
    let new_owner = (before.uid, before.gid) != (after.uid, after.gid);
    if new_owner {
        if kind.has_mode()
            && let Some(narrow) = narrower(before, after)
        {
            sys::set_mode(handle, narrow).map_err(failed(Op::SetMode))?;
        }
        sys::set_owner(handle, after.uid, after.gid).map_err(failed(Op::SetOwner))?;
    }
    if before.label != after.label {
        write_label(handle, after.label.as_ref()).map_err(failed(Op::SetLabel))?;
    }
    if !kind.has_mode() {
        return Ok(());
    }
    let attribute =
        |name, value: Option<Vec<u8>>| sys::set_attribute(handle, name, value.as_deref()).map_err(failed(Op::SetAcl));
    let bytes = |acl: &Option<Arc<Acl>>| acl.as_ref().map(|acl| acl.to_attribute());
    if before.acl != after.acl
        && let Err(failure) = attribute(ACCESS_ATTRIBUTE, bytes(&after.acl))
    {
        // Too narrow is better than as wide as it was: without the list, the bits alone must not give more than it.
        sys::set_mode(handle, without_list(after)).map_err(failed(Op::SetMode))?;
        return Err(failure);
    }
    if before.default_acl != after.default_acl {
        attribute(DEFAULT_ATTRIBUTE, bytes(&after.default_acl))?;
    }
    // A new owner takes the set-id bits away, a list changes the group's bits: the mode comes after both.
    let bits_lost = new_owner && before.mode.has(Mode::SET_UID | Mode::SET_GID);
    let mode_now = if new_owner { narrower(before, after).unwrap_or(before.mode) } else { before.mode };
    if mode_now != after.mode || before.acl != after.acl || bits_lost {
        sys::set_mode(handle, after.mode).map_err(failed(Op::SetMode))?;
    }
    // A new owner takes capabilities away as well.
    if before.capabilities != after.capabilities || (new_owner && after.capabilities.is_some()) {
        attribute(sys::CAPABILITIES, after.capabilities.as_deref().map(<[u8]>::to_vec))?;
    }
    Ok(())
}

/// Sets a label, or takes it away where the kernel lets it: one that knows labels does not.
fn write_label(handle: &OwnedFd, label: Option<&Label>) -> Result<(), Errno> {
    sys::set_attribute(handle, sys::LABEL, label.map(Label::to_attribute).as_deref())
}

/// The mode of these rights where the access list cannot be had: its mask is then the group's own entry.
fn without_list(rights: &Rights) -> Mode {
    let group = rights.acl.as_ref().and_then(|acl| acl.perm(crate::acl::Tag::OwningGroup));
    let group = group.unwrap_or_else(|| rights.mode.group());
    Mode::of_classes(rights.mode.user(), group, rights.mode.other()).with(rights.mode.bits() & 0o7000)
}

/// The mode to set before the owner: without what the new mode does not give, so that no moment gives the new owner or
/// group more than before or after, and a run that is stopped in between leaves too little, not too much.
fn narrower(before: &Rights, after: &Rights) -> Option<Mode> {
    let (old, new) = (before.mode.bits() & 0o777, after.mode.bits() & 0o777);
    (old & !new != 0).then(|| Mode::of_st_mode(old & new))
}

/// What a handle holds now: lists that nobody spoke of too, labels only where somebody did.
fn read_back(handle: &OwnedFd, one: &Rights, other: &Rights) -> Result<Rights, Failure> {
    let failed = |errno| Failure::Os(Op::ReadBack, errno);
    let mut has = sys::look_whole(handle).map_err(failed)?.rights;
    has.label = label(handle, one, other).map_err(failed)?;
    Ok(has)
}

/// A file system that answered "done" and did not do it is an error.
fn not_done(has: &Rights, want: &Rights) -> Failure {
    let (what, value) = if (has.uid, has.gid) != (want.uid, want.gid) {
        ("its owner", format!("{}:{}", has.uid, has.gid))
    } else if has.mode != want.mode {
        ("its mode", has.mode.to_string())
    } else if has.label != want.label {
        ("its label", has.label.as_ref().map_or_else(|| "none".to_owned(), ToString::to_string))
    } else {
        ("its access list", "another".into())
    };
    Failure::NotDone(what, value)
}

/// Whether `now` is `before`, `after`, or what a run leaves that was stopped between two calls.
pub(crate) fn is_between(now: &Rights, before: &Rights, after: &Rights, kind: Kind) -> bool {
    let owner = (now.uid, now.gid);
    let owner_ok = owner == (before.uid, before.gid) || owner == (after.uid, after.gid);
    if !kind.has_mode() {
        return owner_ok && (now.label == before.label || now.label == after.label);
    }
    let low = |mode: Mode| mode.bits() & 0o777;
    let modes = [before.mode, after.mode, Mode::of_st_mode(low(before.mode) & low(after.mode))];
    let shown = after.acl.as_ref().map(|acl| acl.shown_mode(before.mode));
    // The set-id bits may have gone with the owner; removing a list leaves its mask in the group's bits.
    let mode_ok = modes.iter().chain(&shown).any(|mode| low(*mode) == low(now.mode));
    let acl_ok = now.acl == before.acl || now.acl == after.acl || now.acl.is_some() && before.acl.is_some();
    let label_ok = now.label == before.label || now.label == after.label;
    owner_ok
        && mode_ok
        && acl_ok
        && label_ok
        && (now.default_acl == before.default_acl || now.default_acl == after.default_acl)
}

/// What a handle holds now.
pub(crate) fn facts(handle: impl AsFd) -> Result<Facts, Failure> {
    sys::look_whole(handle).map_err(|errno| Failure::Os(Op::Look, errno))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::{Gid, Uid};
    use rstest::rstest;

    fn rights(uid: u32, gid: u32, mode: u16) -> Rights {
        let mode = Mode::of_st_mode(mode);
        Rights { uid: Uid(uid), gid: Gid(gid), mode, acl: None, default_acl: None, capabilities: None, label: None }
    }

    #[rstest]
    #[case::open_to_all_anyway(rights(33, 33, 0o777), rights(0, 0, 0o644), Some(0o644))]
    #[case::wider_afterwards(rights(5, 5, 0o600), rights(0, 33, 0o640), None)]
    #[case::group_would_get_write(rights(5, 5, 0o664), rights(0, 33, 0o640), Some(0o640))]
    #[case::with_set_id_bits(rights(5, 33, 0o6775), rights(0, 33, 0o2750), Some(0o750))]
    #[case::owner_would_get_execute(rights(5, 5, 0o700), rights(33, 5, 0o600), Some(0o600))]
    fn no_moment_gives_more_than_before_or_after(
        #[case] before: Rights,
        #[case] after: Rights,
        #[case] want: Option<u16>,
    ) {
        assert_eq!(narrower(&before, &after).map(Mode::bits), want);
    }

    #[rstest]
    #[case::untouched(rights(5, 5, 0o4755), true)]
    #[case::done(rights(0, 0, 0o644), true)]
    #[case::owner_only(rights(0, 0, 0o755), true)]
    #[case::somebody_elses_mode(rights(0, 0, 0o600), false)]
    #[case::somebody_elses_owner(rights(7, 0, 0o644), false)]
    fn a_stopped_run_is_recognised(#[case] now: Rights, #[case] want: bool) {
        assert_eq!(is_between(&now, &rights(5, 5, 0o4755), &rights(0, 0, 0o644), Kind::File), want);
    }
}
