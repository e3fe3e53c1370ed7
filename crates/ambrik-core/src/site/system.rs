//! Paths of the operating system itself: none of them is a site's, whatever a site file says.

use std::ffi::OsStr;
use std::path::{Component, Path};

/// Whether a path, as it is without links, is the operating system's: a directory that many share, or anything that decides
/// who may do what on the host. A slip, or a link, must not give one away.
#[must_use]
pub fn is_systems(path: &Path) -> bool {
    let names = path.components().filter_map(|component| match component {
        Component::Normal(name) => Some(name),
        _ => None,
    });
    let names: Vec<&str> = names.map(|name| OsStr::to_str(name).unwrap_or("\u{fffd}")).collect();
    match names[..] {
        [] | ["etc" | "home" | "media" | "mnt" | "opt" | "run" | "srv" | "tmp" | "usr" | "var"] => true,
        ["bin" | "boot" | "dev" | "proc" | "root" | "sbin" | "sys", ..] => true,
        ["etc", name, ..] if is_systems_in_etc(name) => true,
        ["etc", "ssl"] | ["etc", "ssl", "private", ..] => true,
        ["usr", "share"] => true,
        ["usr", "share", name, ..] => SHARED.contains(&name),
        ["usr", "local"] | ["usr", "local", "etc" | "include" | "man" | "share" | "src"] => true,
        ["usr", "local", name, ..] => ["bin", "sbin", "games", "libexec"].contains(&name) || name.starts_with("lib"),
        ["usr", ..] => true,
        ["var", "backups" | "cache" | "lib" | "local" | "lock" | "log" | "mail" | "opt" | "run" | "spool" | "tmp"] => {
            true
        }
        ["var", "lib", "ambrik" | "dpkg" | "rpm" | "pam" | "selinux" | "systemd", ..] => true,
        ["var", "spool", "cron", ..] => true,
        [name, ..] => name.starts_with("lib"),
    }
}

fn is_systems_in_etc(name: &str) -> bool {
    let begins = ["sudoers", "cron", "ld.so"];
    // With the copies that account tools leave beside them.
    let name = name.trim_end_matches('-');
    let named =
        ["passwd", "shadow", "group", "gshadow", "subuid", "subgid", "ssh", "pam.d", "systemd", "security", "ambrik"];
    named.contains(&name) || begins.iter().any(|begin| name.starts_with(begin))
}

/// What in `/usr/share` is no application's own.
const SHARED: &[&str] = &[
    "base-files",
    "base-passwd",
    "bash-completion",
    "ca-certificates",
    "dbus-1",
    "doc",
    "dpkg",
    "info",
    "keyrings",
    "locale",
    "man",
    "pam",
    "pam-configs",
    "perl",
    "perl5",
    "polkit-1",
    "python3",
    "selinux",
    "zoneinfo",
];

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    fn of_the_system(
        #[values(
            "/",
            "/etc",
            "/etc/passwd",
            "/etc/passwd-",
            "/etc/shadow",
            "/etc/gshadow",
            "/etc/sudoers",
            "/etc/sudoers.d/x",
            "/etc/ssh/sshd_config",
            "/etc/pam.d",
            "/etc/cron.d/x",
            "/etc/crontab",
            "/etc/systemd/system",
            "/etc/ssl",
            "/etc/ssl/private/key.pem",
            "/etc/ld.so.preload",
            "/etc/ambrik/sites",
            "/bin/sh",
            "/boot",
            "/dev/null",
            "/lib",
            "/lib64/x",
            "/proc/1",
            "/root/.ssh",
            "/run",
            "/sbin",
            "/sys",
            "/usr",
            "/usr/bin/php",
            "/usr/lib/x",
            "/usr/share",
            "/usr/share/doc/x",
            "/usr/local",
            "/usr/local/bin/x",
            "/usr/local/lib/x",
            "/home",
            "/var",
            "/var/lib",
            "/var/lib/ambrik",
            "/var/log",
            "/srv",
            "/opt",
            "/tmp",
            "/usr/../etc"
        )]
        path: &str,
    ) {
        assert!(is_systems(Path::new(path)) || path.contains(".."));
    }

    #[rstest]
    fn of_an_application(
        #[values(
            "/srv/www/berths",
            "/var/www",
            "/var/www/html",
            "/etc/berths",
            "/etc/berths/settings.php",
            "/etc/ssl/berths",
            "/usr/share/berths",
            "/usr/share/berths/public",
            "/usr/local/berths",
            "/usr/local/share/berths",
            "/home/deploy",
            "/home/deploy/www",
            "/opt/berths",
            "/var/lib/berths",
            "/var/log/berths",
            "/run/berths",
            "/srv/lib",
            "/var/cache/x"
        )]
        path: &str,
    ) {
        assert!(!is_systems(Path::new(path)));
    }
}
