//! The ids that a process carries, and the capabilities that bear on files.

use std::collections::BTreeSet;
use std::fmt;

/// A user id.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Uid(pub u32);

/// A group id.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Gid(pub u32);

impl Uid {
    /// The superuser, whom permission bits do not bind (capabilities(7)).
    pub const ROOT: Self = Self(0);
}

impl fmt::Display for Uid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

impl fmt::Display for Gid {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// Capabilities by which a process passes over what modes and lists say (capabilities(7)).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct Powers(u8);

impl Powers {
    /// None of them.
    pub const NONE: Self = Self(0);
    /// `CAP_DAC_OVERRIDE`: reads, writes and searches everything, executes what anybody may.
    pub const DAC_OVERRIDE: Self = Self(1 << 1);
    /// `CAP_DAC_READ_SEARCH`: reads everything, searches every directory.
    pub const DAC_READ_SEARCH: Self = Self(1 << 2);
    /// `CAP_FOWNER`: does what else only a file's owner may.
    pub const FOWNER: Self = Self(1 << 3);
    /// What root has where nobody took it away.
    pub const ALL: Self = Self(0b1110);

    /// What a hexadecimal mask of a process's status says (`CapEff` in `proc_pid_status(5)`); nothing where it is none.
    #[must_use]
    pub fn of_status(mask: &str) -> Option<Self> {
        let mask = u64::from_str_radix(mask.trim(), 16).ok()?;
        u8::try_from(mask & u64::from(Self::ALL.0)).ok().map(Self)
    }

    /// Whether all of `other` are among them.
    #[must_use]
    pub const fn has(self, other: Self) -> bool {
        self.0 & other.0 == other.0
    }

    /// Their names, as the kernel's documentation has them.
    #[must_use]
    pub fn names(self) -> String {
        let all = [
            (Self::DAC_OVERRIDE, "CAP_DAC_OVERRIDE"),
            (Self::DAC_READ_SEARCH, "CAP_DAC_READ_SEARCH"),
            (Self::FOWNER, "CAP_FOWNER"),
        ];
        all.iter().filter(|(power, _)| self.has(*power)).map(|(_, name)| *name).collect::<Vec<_>>().join(", ")
    }
}

/// The ids that a process carries (credentials(7)): what the kernel compares with a file's.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Ids {
    /// The effective (file-system) user id.
    pub uid: Uid,
    /// The effective (file-system) group id.
    pub gid: Gid,
    /// The supplementary groups, sorted, `gid` included.
    groups: Vec<Gid>,
    /// The effective capabilities that bear on files.
    pub powers: Powers,
}

impl Ids {
    /// Ids with these supplementary groups; `gid` counts among them in any case. Root gets its capabilities, others
    /// get none.
    #[must_use]
    pub fn new(uid: Uid, gid: Gid, groups: impl IntoIterator<Item = Gid>) -> Self {
        let groups: BTreeSet<Gid> = groups.into_iter().chain([gid]).collect();
        let powers = if uid == Uid::ROOT { Powers::ALL } else { Powers::NONE };
        Self { uid, gid, groups: groups.into_iter().collect(), powers }
    }

    /// The same ids with these capabilities.
    #[must_use]
    pub fn with_powers(self, powers: Powers) -> Self {
        Self { powers, ..self }
    }

    /// Whether the process is in `group`.
    #[must_use]
    pub fn is_in(&self, group: Gid) -> bool {
        self.groups.binary_search(&group).is_ok()
    }

    /// All groups, sorted, the effective one included.
    #[must_use]
    pub fn groups(&self) -> &[Gid] {
        &self.groups
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::none("0000000000000000", Some(Powers::NONE))]
    #[case::everything("000001ffffffffff", Some(Powers::ALL))]
    #[case::others_only("0000000000000c00", Some(Powers::NONE))]
    #[case::one("0000000000000004", Some(Powers::DAC_READ_SEARCH))]
    #[case::nonsense("x", None)]
    fn capabilities_are_read_from_a_status(#[case] mask: &str, #[case] want: Option<Powers>) {
        assert_eq!(Powers::of_status(mask), want);
    }

    #[test]
    fn root_has_its_capabilities_until_they_are_taken() {
        let root = Ids::new(Uid::ROOT, Gid(0), []);
        assert_eq!(root.powers.names(), "CAP_DAC_OVERRIDE, CAP_DAC_READ_SEARCH, CAP_FOWNER");
        assert_eq!(root.with_powers(Powers::FOWNER).powers.names(), "CAP_FOWNER");
        assert_eq!(Ids::new(Uid(33), Gid(0), []).powers.names(), "");
    }
}
