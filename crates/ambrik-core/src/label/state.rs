//! Whether SELinux protects a host, as the kernel has it and as the configuration says.

use std::path::{Path, PathBuf};

use super::ByHand;
use crate::tree::Host;

/// Where the kernel's interface is.
pub(super) const INTERFACE: &str = "/sys/fs/selinux";
const CONFIGURATION: &str = "/etc/selinux/config";

/// What SELinux does with what its policy does not allow.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Protection {
    /// Nothing: it does not run.
    Off,
    /// It is logged.
    Permissive,
    /// It is refused.
    Enforcing,
}

impl Protection {
    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Off => "off",
            Self::Permissive => "permissive",
            Self::Enforcing => "enforcing",
        }
    }
}

/// The state of SELinux on a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct State {
    /// What the kernel does now.
    pub now: Protection,
    /// What the configuration says for the next start, where there is one.
    pub configured: Option<Protection>,
    /// The policy's name, such as `targeted`.
    pub policy: Option<String>,
    /// Whether contexts have a level.
    pub multi_level: bool,
    /// Whether the policy's files are there.
    pub installed: bool,
    /// Whether it is the state of a disk that is looked at from elsewhere: that no kernel runs there means nothing.
    pub of_disk: bool,
}

impl State {
    /// The state of `host`: of the running kernel, or of the interface files in the folder that stands for it.
    #[must_use]
    pub fn of(host: &Host) -> Self {
        let read = |path: &Path| {
            let bytes = host.read(path, 1 << 16).ok()?;
            Some(String::from_utf8_lossy(&bytes).into_owned())
        };
        let interface = |name: &str| read(&Path::new(INTERFACE).join(name)).map(|text| text.trim().to_owned());
        let now = match interface("enforce").as_deref() {
            Some("1") => Protection::Enforcing,
            Some(_) => Protection::Permissive,
            None => Protection::Off,
        };
        let configuration = read(Path::new(CONFIGURATION)).unwrap_or_default();
        let configured = value(&configuration, "SELINUX").map(|word| match &*word.to_ascii_lowercase() {
            "enforcing" => Protection::Enforcing,
            "permissive" => Protection::Permissive,
            _ => Protection::Off,
        });
        let policy = value(&configuration, "SELINUXTYPE");
        let mut state = Self { now, configured, policy, multi_level: true, installed: false, of_disk: !host.is_this() };
        state.installed = state.rules_folder().is_some_and(|folder| host.resolve(&folder).is_ok());
        state.multi_level = interface("mls").is_none_or(|mls| mls == "1");
        state
    }

    /// Whether labels are of any use: it runs, or, on a disk of another host, it will there.
    #[must_use]
    pub fn is_used(&self) -> bool {
        let will = self.of_disk && self.installed && self.configured.is_some_and(|c| c > Protection::Off);
        self.now > Protection::Off || will
    }

    /// Where the policy's file-context rules are.
    #[must_use]
    pub fn rules_folder(&self) -> Option<PathBuf> {
        let policy = self.policy.as_deref().filter(|name| !name.contains('/') && !name.starts_with('.'))?;
        Some(Path::new("/etc/selinux").join(policy).join("contexts/files"))
    }

    /// What is wrong with it, and what puts it right; nothing where it protects, or was never installed.
    #[must_use]
    pub(crate) fn weakness(&self) -> Option<ByHand> {
        const CONFIGURED: &str = "SELINUX=enforcing in /etc/selinux/config";
        const LOOK: &str =
            "set the labels (ambrik set), look for denials while it is permissive (ambrik why --from-log)";
        if !self.installed && self.now == Protection::Off {
            return None;
        }
        let says = match (self.now, self.configured) {
            (Protection::Enforcing, None | Some(Protection::Enforcing)) => return None,
            (now, Some(next)) if next != now => {
                format!("{} now, and {} from the next start on", now.word(), next.word())
            }
            (now, _) => now.word().into(),
        };
        let cure = match (self.now, self.configured) {
            (Protection::Enforcing, _) => CONFIGURED.to_owned(),
            (Protection::Permissive, Some(Protection::Enforcing)) => format!("{LOOK}, then setenforce 1"),
            (Protection::Permissive, _) => format!("{LOOK}, then setenforce 1 and {CONFIGURED}"),
            (Protection::Off, _) => format!(
                "SELINUX=permissive in /etc/selinux/config, no selinux=0 on the kernel's command line (on Debian selinux-activate \
                 adds what is needed), touch /.autorelabel and start anew: everything is labelled then, which takes a while; \
                 {LOOK}, then setenforce 1 and {CONFIGURED}"
            ),
        };
        Some(ByHand { says, cure })
    }
}

/// The value of a key in lines `KEY=value`; the last one counts.
fn value(text: &str, key: &str) -> Option<String> {
    let lines = text.lines().filter_map(|line| line.trim().split_once('='));
    let mut values = lines.filter(|(name, _)| name.trim() == key).map(|(_, value)| value.trim().to_owned());
    values.next_back().filter(|value| !value.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn state(files: &[(&str, &str)]) -> State {
        let dir = tempfile::tempdir().unwrap();
        for (path, text) in files {
            let path = dir.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        }
        State::of(&Host::at(dir.path()).unwrap())
    }

    const CONFIG: &str = "# SELINUX=enforcing\nSELINUX=Enforcing \nSELINUXTYPE=targeted\n";
    const RULES: (&str, &str) = ("etc/selinux/targeted/contexts/files/file_contexts", "");

    #[rstest]
    #[case::never_there(&[], false, None)]
    #[case::as_it_should_be(&[("etc/selinux/config", CONFIG), RULES, ("sys/fs/selinux/enforce", "1")], true, None)]
    #[case::switched_off_for_now(&[("etc/selinux/config", CONFIG), RULES, ("sys/fs/selinux/enforce", "0")], true, Some("permissive now, and enforcing from the next start on"))]
    #[case::not_for_long(&[("etc/selinux/config", "SELINUX=disabled\nSELINUXTYPE=targeted"), RULES, ("sys/fs/selinux/enforce", "1\n")], true, Some("enforcing now, and off from the next start on"))]
    #[case::off_for_good(&[("etc/selinux/config", "SELINUX=disabled\nSELINUXTYPE=targeted"), RULES], false, Some("off"))]
    #[case::permissive(&[("etc/selinux/config", "SELINUX=permissive\nSELINUXTYPE=targeted"), RULES, ("sys/fs/selinux/enforce", "0")], true, Some("permissive"))]
    #[case::only_a_configuration(&[("etc/selinux/config", CONFIG)], false, None)]
    #[case::a_policy_elsewhere(&[("etc/selinux/config", "SELINUX=enforcing\nSELINUXTYPE=../../x"), RULES], false, None)]
    fn kernel_and_configuration(#[case] files: &[(&str, &str)], #[case] used: bool, #[case] weakness: Option<&str>) {
        let state = state(files);
        let found = state.weakness().map(|found| found.says);
        assert_eq!((state.is_used(), found.as_deref()), (used, weakness), "{state:?}");
    }

    #[test]
    fn levels_are_there_unless_the_kernel_says_otherwise() {
        assert!(state(&[]).multi_level);
        assert!(!state(&[("sys/fs/selinux/mls", "0")]).multi_level);
    }
}
