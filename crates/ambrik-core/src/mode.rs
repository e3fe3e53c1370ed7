//! Permission bits: one class's (`Perm`), a file's (`Mode`), and what a site file says of them (`ModeSpec`).

use std::fmt;
use std::str::FromStr;

/// Read, write and execute (of a directory: search) of one class: the values 4, 2 and 1 of POSIX.1 `<sys/stat.h>`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Perm(u8);

impl Perm {
    /// No right at all.
    pub const NONE: Self = Self(0);
    /// Execute a file, search a directory.
    pub const X: Self = Self(1);
    /// Write.
    pub const W: Self = Self(2);
    /// Write and search: what making and removing names in a directory takes.
    pub const WX: Self = Self(3);
    /// Read.
    pub const R: Self = Self(4);
    /// Read and search.
    pub const RX: Self = Self(5);
    /// Read and write.
    pub const RW: Self = Self(6);
    /// Everything.
    pub const RWX: Self = Self(7);

    /// The lowest three bits of `bits`.
    #[must_use]
    pub const fn from_low_bits(bits: u16) -> Self {
        Self((bits & 7) as u8)
    }

    /// The three bits as a number from 0 to 7.
    #[must_use]
    pub const fn bits(self) -> u16 {
        self.0 as u16
    }

    /// Whether every right in `other` is in this one.
    #[must_use]
    pub const fn covers(self, other: Self) -> bool {
        self.0 & other.0 == other.0
    }

    /// The rights in either.
    #[must_use]
    pub const fn or(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// The rights in both.
    #[must_use]
    pub const fn and(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    /// The rights here that are not in `other`.
    #[must_use]
    pub const fn without(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    /// Whether there is no right at all.
    #[must_use]
    pub const fn is_none(self) -> bool {
        self.0 == 0
    }
}

impl fmt::Display for Perm {
    /// Writes `rwx`, with `-` for what is missing.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (bit, letter) in [(4, 'r'), (2, 'w'), (1, 'x')] {
            let shown = if self.0 & bit == 0 { '-' } else { letter };
            fmt::Write::write_char(f, shown)?;
        }
        Ok(())
    }
}

/// Permission bits, set-id and sticky bits included, never the file type.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Mode(u16);

impl Mode {
    /// The set-user-id bit.
    pub const SET_UID: u16 = 0o4000;
    /// The set-group-id bit; on a directory, new files take its group (inode(7)).
    pub const SET_GID: u16 = 0o2000;
    /// The sticky bit; in a directory, only owners remove names (POSIX.1 `unlink`).
    pub const STICKY: u16 = 0o1000;

    /// The mode with these bits, or nothing where there are bits over `0o7777`.
    #[must_use]
    pub const fn new(bits: u16) -> Option<Self> {
        if bits <= 0o7777 { Some(Self(bits)) } else { None }
    }

    /// The permission bits of a `st_mode`, its file type left out.
    #[must_use]
    pub const fn of_st_mode(st_mode: u16) -> Self {
        Self(st_mode & 0o7777)
    }

    /// A mode of three classes, without set-id or sticky bits.
    #[must_use]
    pub const fn of_classes(user: Perm, group: Perm, other: Perm) -> Self {
        Self((user.bits() << 6) | (group.bits() << 3) | other.bits())
    }

    /// The bits as a number.
    #[must_use]
    pub const fn bits(self) -> u16 {
        self.0
    }

    /// The owner's class.
    #[must_use]
    pub const fn user(self) -> Perm {
        Perm::from_low_bits(self.0 >> 6)
    }

    /// The group's class; where there is an access list, its mask.
    #[must_use]
    pub const fn group(self) -> Perm {
        Perm::from_low_bits(self.0 >> 3)
    }

    /// The class of all others.
    #[must_use]
    pub const fn other(self) -> Perm {
        Perm::from_low_bits(self.0)
    }

    /// Whether one of `bits` is set.
    #[must_use]
    pub const fn has(self, bits: u16) -> bool {
        self.0 & bits != 0
    }

    /// This mode with `bits` set besides; what is no permission bit is dropped.
    #[must_use]
    pub const fn with(self, bits: u16) -> Self {
        Self((self.0 | bits) & 0o7777)
    }

    /// This mode without `bits`.
    #[must_use]
    pub const fn without(self, bits: u16) -> Self {
        Self(self.0 & !bits)
    }
}

impl fmt::Display for Mode {
    /// Writes four octal digits, as chmod(1) reads them.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:04o}", self.0)
    }
}

/// A text that is no mode.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("\"{text}\" is no mode: {why}")]
pub struct ModeError {
    text: String,
    why: &'static str,
}

const OCTAL: &str = "three or four octal digits are expected, such as \"0640\"";
const SYMBOLIC: &str =
    "clauses such as \"u=rw,g=r,o=\" are expected: who (u, g, o, a), then =, + or -, then rights (r, w, x, X, s, t)";

impl FromStr for Mode {
    type Err = ModeError;

    /// Reads three or four octal digits.
    fn from_str(text: &str) -> Result<Self, ModeError> {
        let digits = matches!(text.len(), 3 | 4) && text.bytes().all(|b| matches!(b, b'0'..=b'7'));
        let bits = if digits { u16::from_str_radix(text, 8).ok() } else { None };
        bits.and_then(Self::new).ok_or_else(|| ModeError { text: text.into(), why: OCTAL })
    }
}

/// What happens to the bits that a clause names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum ModeOp {
    Set,
    Add,
    Remove,
}

/// One clause of a symbolic mode, such as `g=rX`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Clause {
    /// The bits of the classes that it speaks of, set-id and sticky included.
    who: u16,
    op: ModeOp,
    /// The rights, repeated in every class.
    rights: u16,
    /// Whether a capital X stood there: search on directories, execute only where there is one already.
    if_executable: bool,
}

/// A mode as a site file gives it: all bits, or clauses applied to the mode that the solver found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ModeSpec {
    /// Octal: exactly these bits.
    Exactly(Mode),
    /// Symbolic (POSIX.1 chmod, "symbolic mode").
    Symbolic(SymbolicMode),
}

/// The clauses of a symbolic mode, in order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SymbolicMode(Vec<Clause>);

impl ModeSpec {
    /// The mode that this one makes of `base`.
    ///
    /// `x_counts` says whether a capital X gives the right: the file is a directory or a program.
    #[must_use]
    pub fn apply(&self, base: Mode, x_counts: bool) -> Mode {
        match self {
            Self::Exactly(mode) => *mode,
            Self::Symbolic(clauses) => clauses.0.iter().fold(base, |mode, clause| clause.apply(mode, x_counts)),
        }
    }
}

impl Clause {
    fn apply(self, mode: Mode, x_counts: bool) -> Mode {
        let x = if self.if_executable && x_counts { 0o111 } else { 0 };
        let bits = (self.rights | x) & self.who;
        match self.op {
            ModeOp::Set => mode.without(self.who).with(bits),
            ModeOp::Add => mode.with(bits),
            ModeOp::Remove => mode.without(bits),
        }
    }

    fn parse(text: &str) -> Option<Self> {
        let at = text.find(['=', '+', '-'])?;
        let (who, rest) = text.split_at(at);
        let mut chars = rest.chars();
        let op = match chars.next()? {
            '=' => ModeOp::Set,
            '+' => ModeOp::Add,
            _ => ModeOp::Remove,
        };
        let mut clause = Self { who: Self::classes(who)?, op, rights: 0, if_executable: false };
        for right in chars {
            match right {
                'r' => clause.rights |= 0o444,
                'w' => clause.rights |= 0o222,
                'x' => clause.rights |= 0o111,
                's' => clause.rights |= Mode::SET_UID | Mode::SET_GID,
                't' => clause.rights |= Mode::STICKY,
                'X' => clause.if_executable = true,
                _ => return None,
            }
        }
        Some(clause)
    }

    fn classes(who: &str) -> Option<u16> {
        if who.is_empty() {
            return Some(0o7777);
        }
        who.chars().try_fold(0, |bits, class| {
            let class = match class {
                'u' => 0o700 | Mode::SET_UID,
                'g' => 0o070 | Mode::SET_GID,
                'o' => 0o007 | Mode::STICKY,
                'a' => 0o7777,
                _ => return None,
            };
            Some(bits | class)
        })
    }
}

impl FromStr for ModeSpec {
    type Err = ModeError;

    /// Reads octal digits, or symbolic clauses separated by commas.
    fn from_str(text: &str) -> Result<Self, ModeError> {
        if text.is_empty() || text.starts_with(|c: char| c.is_ascii_digit()) {
            return text.parse().map(Self::Exactly);
        }
        let clauses: Option<Vec<_>> = text.split(',').map(Clause::parse).collect();
        match clauses {
            Some(clauses) => Ok(Self::Symbolic(SymbolicMode(clauses))),
            None => Err(ModeError { text: text.into(), why: SYMBOLIC }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain("644", 0o644)]
    #[case::leading_zero("0644", 0o644)]
    #[case::set_gid("2775", 0o2775)]
    #[case::sticky("1777", 0o1777)]
    fn reads(#[case] text: &str, #[case] want: u16) {
        assert_eq!(text.parse().map(Mode::bits), Ok(want));
    }

    #[rstest]
    fn refuses(#[values("", "8", "64", "10000", "+1", "0o644", "644 ", "00644", "0688")] text: &str) {
        assert!(text.parse::<Mode>().is_err());
        assert!(text.parse::<ModeSpec>().is_err());
    }

    #[rstest]
    #[case::all_set("u=rw,g=r,o=", 0o777, false, 0o640)]
    #[case::capital_x_on_a_folder("u=rwX,g=rX,o=", 0o000, true, 0o750)]
    #[case::capital_x_on_a_text("u=rwX,g=rX,o=", 0o000, false, 0o640)]
    #[case::add("g+w", 0o640, false, 0o660)]
    #[case::remove("go-rwx", 0o755, false, 0o700)]
    #[case::everyone("a=r", 0o777, false, 0o444)]
    #[case::set_gid("g+s", 0o750, true, 0o2750)]
    #[case::set_id_goes_with_its_class("g=rx", 0o2750, true, 0o750)]
    #[case::sticky("o+t", 0o770, true, 0o1770)]
    #[case::in_order("u=,u+r", 0o700, false, 0o400)]
    fn applies(#[case] text: &str, #[case] base: u16, #[case] x_counts: bool, #[case] want: u16) {
        let spec: ModeSpec = text.parse().unwrap();
        assert_eq!(spec.apply(Mode::of_st_mode(base), x_counts).bits(), want);
    }

    #[rstest]
    fn refuses_symbolic(#[values("u", "u=q", "z=r", "u=r,,g=r", "u=r,", "=rw,q")] text: &str) {
        assert!(text.parse::<ModeSpec>().is_err());
    }

    proptest! {
        #[test]
        fn text_and_back(bits in 0u16..=0o7777) {
            let mode = Mode::of_st_mode(bits);
            prop_assert_eq!(mode.to_string().parse::<Mode>(), Ok(mode));
        }

        #[test]
        fn any_text_is_read_or_refused(text in ".{0,12}") {
            let _ = text.parse::<ModeSpec>();
        }
    }
}
