//! Mounts, and what their options forbid (`proc_pid_mountinfo(5)`).

use std::collections::HashMap;
use std::ffi::OsString;
use std::os::unix::ffi::OsStringExt as _;
use std::path::PathBuf;

/// A mounted file system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mount {
    /// Where it is mounted.
    pub point: PathBuf,
    /// Whether nothing on it can be changed: the mount or the file system itself is read-only.
    pub read_only: bool,
    /// Whether no file on it can be executed.
    pub no_exec: bool,
    /// Whether set-user-id bits and file capabilities on it count for nothing.
    pub no_suid: bool,
    /// Whether each file on it has an SELinux label of its own, which can be set; where SELinux runs, all other files have one
    /// that the mount or the policy gives them (`seclabel`, `context=`: mount(8)).
    pub own_labels: bool,
    /// The kind of file system, such as `ext4`.
    pub kind: String,
}

/// The mounts, by the numbers that statx(2) names too.
#[derive(Clone, Debug, Default)]
pub struct Mounts(HashMap<u64, Mount>);

impl Mounts {
    /// The mounts of the calling thread; none where the system does not tell.
    #[must_use]
    pub fn of_this_thread() -> Self {
        std::fs::read("/proc/thread-self/mountinfo").map_or_else(|_| Self::default(), |text| Self::read(&text))
    }

    /// The mounts that a mountinfo file lists; lines that are none are left out.
    #[must_use]
    pub fn read(text: &[u8]) -> Self {
        Self(text.split(|&b| b == b'\n').filter_map(line).collect())
    }

    /// Where file systems of these kinds are mounted.
    pub(crate) fn points(&self, kinds: &[&str]) -> Vec<PathBuf> {
        let of_kind = self.0.values().filter(|mount| kinds.contains(&&*mount.kind));
        of_kind.map(|mount| mount.point.clone()).collect()
    }

    /// The mount with this number.
    #[must_use]
    pub fn get(&self, number: u64) -> Option<&Mount> {
        self.0.get(&number)
    }
}

/// `36 35 98:0 / /mnt rw,noatime shared:1 - ext3 /dev/root rw,errors=continue`.
fn line(line: &[u8]) -> Option<(u64, Mount)> {
    let fields: Vec<&[u8]> = line.split(|&b| b == b' ').collect();
    let number = std::str::from_utf8(fields.first()?).ok()?.parse().ok()?;
    let end = fields.iter().position(|field| *field == b"-")?;
    let options = |at: usize| fields.get(at).copied().unwrap_or_default().split(|&b| b == b',');
    let has = |option: &[u8]| options(5).any(|o| o == option);
    let mount = Mount {
        point: PathBuf::from(OsString::from_vec(unescaped(fields.get(4)?))),
        read_only: has(b"ro") || options(end + 3).any(|option| option == b"ro"),
        no_exec: has(b"noexec"),
        no_suid: has(b"nosuid"),
        own_labels: options(end + 3).any(|option| option == b"seclabel"),
        kind: fields.get(end + 1).map(|kind| String::from_utf8_lossy(kind).into_owned()).unwrap_or_default(),
    };
    Some((number, mount))
}

/// A path in which blanks and the like stand as `\040`.
fn unescaped(text: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len());
    let mut rest = text;
    while let [first, after @ ..] = rest {
        let octal = after.get(..3).and_then(|digits| std::str::from_utf8(digits).ok());
        let byte = octal.filter(|_| *first == b'\\').and_then(|digits| u8::from_str_radix(digits, 8).ok());
        out.push(byte.unwrap_or(*first));
        rest = if byte.is_some() { &after[3..] } else { after };
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::path::Path;

    #[rstest]
    #[case::plain("36 35 98:0 / /srv rw,noatime shared:1 - ext3 /dev/root rw,errors=continue", "/srv", [false; 3])]
    #[case::options("36 35 0:4 / /srv ro,nosuid,nodev,noexec - tmpfs none rw", "/srv", [true, true, true])]
    #[case::file_system("36 35 0:4 / /srv rw,relatime master:2 propagate_from:1 - iso9660 /dev/sr0 ro", "/srv", [true, false, false])]
    #[case::odd_names(r"36 35 0:4 / /srv/a\040b\134c rw - tmpfs none rw", r"/srv/a b\c", [false; 3])]
    fn lines_are_read(#[case] text: &str, #[case] point: &str, #[case] want: [bool; 3]) {
        let mounts = Mounts::read(text.as_bytes());
        let mount = mounts.get(36).unwrap();
        assert_eq!(mount.point, Path::new(point));
        assert_eq!([mount.read_only, mount.no_exec, mount.no_suid], want);
    }

    #[rstest]
    #[case("36 35 8:1 / /srv rw - ext4 /dev/sda1 rw,seclabel", "ext4", true)]
    #[case("36 35 8:1 / /srv rw - tmpfs none rw,context=system_u:object_r:httpd_sys_content_t:s0", "tmpfs", false)]
    #[case("36 35 0:4 / /srv rw - nfs4 quay:/srv rw,vers=4.2", "nfs4", false)]
    fn whose_labels_are_known(#[case] text: &str, #[case] kind: &str, #[case] own: bool) {
        let mounts = Mounts::read(text.as_bytes());
        let mount = mounts.get(36).unwrap();
        assert_eq!((&*mount.kind, mount.own_labels), (kind, own));
    }

    #[test]
    fn what_is_no_line_is_left_out() {
        assert!(Mounts::read(b"\n36\nx y z\n36 35 0:4 / /srv rw\n").0.is_empty());
    }

    #[test]
    fn this_thread_has_mounts() {
        assert!(Mounts::of_this_thread().0.values().any(|mount| mount.point == Path::new("/")));
    }
}
