//! Which hosts are asked.

use std::collections::HashSet;
use std::io::Read;
use std::path::{Path, PathBuf};

use crate::shown::Shown;

/// Why the hosts cannot be told.
#[derive(Debug, thiserror::Error)]
pub enum TargetError {
    /// The list cannot be read.
    #[error("cannot read the hosts from {}: {cause}", Shown(.path))]
    Unreadable {
        /// The file; `-` is standard input.
        path: PathBuf,
        /// Why.
        cause: std::io::Error,
    },
    /// It is longer than any list of hosts.
    #[error("{} is longer than 1 MiB: that is no list of hosts", Shown(.0))]
    Long(PathBuf),
    /// A name that no host has.
    #[error("\"{0}\" is no host's name: letters, digits and . _ - : @ % [ ] are, and it does not begin with a -")]
    Name(String),
    /// There is none.
    #[error("no host is named: --on HOST[,HOST…], --on @FILE or --on @- (a name a line)")]
    None,
}

/// No list of hosts is longer, in bytes.
const LONGEST: u64 = 1 << 20;

/// The hosts that `--on` names, each once, in their order: names with commas between them, or `@FILE`, a name a line, where lines that
/// begin with `#` are left out. `@-` is standard input.
///
/// A name is handed to ssh(1) as its destination: what could be taken for an option, or for something by a shell that the client's
/// configuration runs with it, is refused.
pub fn targets(text: &str) -> Result<Vec<String>, TargetError> {
    let read;
    let names: Vec<&str> = match text.strip_prefix('@') {
        Some(file) => {
            read = listed(Path::new(file))?;
            read.lines().map(str::trim).filter(|line| !line.starts_with('#')).collect()
        }
        None => text.split(',').map(str::trim).collect(),
    };
    let mut known = HashSet::new();
    let mut found = Vec::new();
    for name in names.into_iter().filter(|name| !name.is_empty()) {
        if !is_name(name) {
            return Err(TargetError::Name(name.escape_debug().to_string()));
        }
        if known.insert(name) {
            found.push(name.to_owned());
        }
    }
    if found.is_empty() { Err(TargetError::None) } else { Ok(found) }
}

fn listed(path: &Path) -> Result<String, TargetError> {
    let unreadable = |cause| TargetError::Unreadable { path: path.to_owned(), cause };
    let mut text = String::new();
    let read = if path == Path::new("-") {
        std::io::stdin().lock().take(LONGEST + 1).read_to_string(&mut text)
    } else {
        let file = std::fs::File::open(path).map_err(unreadable)?;
        file.take(LONGEST + 1).read_to_string(&mut text)
    };
    let length = read.map_err(unreadable)?;
    if length as u64 > LONGEST { Err(TargetError::Long(path.to_owned())) } else { Ok(text) }
}

fn is_name(name: &str) -> bool {
    let is_sign = |sign: char| sign.is_ascii_alphanumeric() || "._-:@%[]".contains(sign);
    name.len() <= 255 && !name.starts_with('-') && name.chars().all(is_sign)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("berth-1,berth-2, berth-1 ,", &["berth-1", "berth-2"])]
    #[case("root@berth-1.example,[2001:db8::1]", &["root@berth-1.example", "[2001:db8::1]"])]
    fn hosts_are_named_once_each(#[case] text: &str, #[case] want: &[&str]) {
        assert_eq!(targets(text).unwrap(), want);
    }

    #[rstest]
    fn what_is_no_host_is_refused(
        #[values("-oProxyCommand=x", "a b", "a;b", "$(id)", "a\nb", "`id`", "a'b", "", " , ", "@/nonexistent")]
        text: &str,
    ) {
        assert!(targets(text).is_err());
    }

    #[test]
    fn a_file_has_a_name_a_line() {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("hosts");
        std::fs::write(&file, "# the quay\nberth-1\n\n  berth-2\r\nberth-1\n").unwrap();
        assert_eq!(targets(&format!("@{}", file.display())).unwrap(), ["berth-1", "berth-2"]);
        std::fs::write(&file, "x\n".repeat(1 << 20)).unwrap();
        assert!(matches!(targets(&format!("@{}", file.display())), Err(TargetError::Long(_))));
    }
}
