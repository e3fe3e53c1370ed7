//! SELinux booleans: what they govern, their present value, and the system's own command that sets them
//! (`booleans(8)`, `setsebool(8)`).

use crate::security_context::is_boolean_name;
use std::path::Path;
use std::process::{Command, Stdio};

use super::state::INTERFACE;
use crate::tree::Host;

/// What denials are for, and the booleans that govern them: class, permission and a part of the type's name. Names differ between
/// policies, and the first that the host has counts; of several lines the first that fits, so the narrower stand first.
const GOVERN: &[(&str, &str, &str, &[&str])] = &[
    ("tcp_socket", "name_connect", "mysqld_port_t", DATABASE),
    ("tcp_socket", "name_connect", "postgresql_port_t", DATABASE),
    ("tcp_socket", "name_connect", "mssql_port_t", DATABASE),
    ("tcp_socket", "name_connect", "oracle", DATABASE),
    ("tcp_socket", "name_connect", "gds_db_port_t", DATABASE),
    ("tcp_socket", "name_connect", "smtp_port_t", &["httpd_can_sendmail"]),
    ("tcp_socket", "name_connect", "pop_port_t", &["httpd_can_sendmail"]),
    ("tcp_socket", "name_connect", "spamd_port_t", &["httpd_can_check_spam"]),
    (
        "tcp_socket",
        "name_connect",
        "memcache_port_t",
        &["httpd_can_network_memcache", "httpd_can_network_connect_memcache"],
    ),
    ("tcp_socket", "name_connect", "ldap_port_t", &["httpd_can_connect_ldap", "httpd_can_network_connect_ldap"]),
    ("tcp_socket", "name_connect", "zabbix_port_t", &["httpd_can_connect_zabbix", "httpd_can_network_connect_zabbix"]),
    ("tcp_socket", "name_connect", "cobbler_port_t", &["httpd_can_network_connect_cobbler"]),
    ("tcp_socket", "name_connect", "http_port_t", RELAY),
    ("tcp_socket", "name_connect", "http_cache_port_t", RELAY),
    ("tcp_socket", "name_connect", "ftp_port_t", RELAY),
    ("tcp_socket", "name_connect", "gopher_port_t", RELAY),
    ("tcp_socket", "name_connect", "squid_port_t", RELAY),
    ("tcp_socket", "name_connect", "", &["httpd_can_network_connect"]),
    ("sock_file", "", "mysqld", DATABASE),
    ("sock_file", "", "postgresql", DATABASE),
    ("unix_stream_socket", "connectto", "mysqld_t", DATABASE),
    ("unix_stream_socket", "connectto", "postgresql_t", DATABASE),
    ("file", "execute", "sendmail_exec_t", &["httpd_can_sendmail"]),
    ("file", "execute", "postfix", &["httpd_can_sendmail"]),
    ("file", "execute", "exim_exec_t", &["httpd_can_sendmail"]),
    ("file", "execute", "httpd_tmp_t", &["httpd_tmp_exec"]),
    ("file", "execute", "httpd_sys_script_exec_t", &["httpd_enable_cgi"]),
    ("file", "execute", "gpg_exec_t", &["httpd_use_gpg"]),
    ("process", "execmem", "", &["httpd_execmem"]),
    ("process", "execstack", "", &["httpd_execmem"]),
    ("process", "execheap", "", &["httpd_execmem"]),
    ("process", "setrlimit", "", &["httpd_setrlimit"]),
    ("file", "", "nfs_t", &["httpd_use_nfs"]),
    ("dir", "", "nfs_t", &["httpd_use_nfs"]),
    ("lnk_file", "", "nfs_t", &["httpd_use_nfs"]),
    ("file", "", "cifs_t", &["httpd_use_cifs"]),
    ("dir", "", "cifs_t", &["httpd_use_cifs"]),
    ("file", "", "fusefs_t", &["httpd_use_fusefs"]),
    ("dir", "", "fusefs_t", &["httpd_use_fusefs"]),
    ("dir", "search", "user_home_dir_t", &["httpd_enable_homedirs"]),
    ("dir", "search", "home_root_t", &["httpd_enable_homedirs"]),
    ("dir", "search", "user_home_t", &["httpd_enable_homedirs", "httpd_read_user_content"]),
    ("dir", "read", "user_home_t", &["httpd_read_user_content"]),
    ("dir", "getattr", "user_home", &["httpd_enable_homedirs"]),
    ("file", "read", "user_home_t", &["httpd_read_user_content"]),
    ("file", "open", "user_home_t", &["httpd_read_user_content"]),
    ("file", "getattr", "user_home_t", &["httpd_read_user_content"]),
    ("file", "write", "public_content_rw_t", ANONYMOUS),
    ("dir", "write", "public_content_rw_t", ANONYMOUS),
    ("file", "create", "public_content_rw_t", ANONYMOUS),
    ("chr_file", "", "devpts_t", &["httpd_tty_comm"]),
    ("chr_file", "", "tty_device_t", &["httpd_tty_comm"]),
    ("dbus", "send_msg", "avahi_t", &["httpd_dbus_avahi"]),
    ("dbus", "send_msg", "sssd_t", &["httpd_dbus_sssd"]),
];

const DATABASE: &[&str] = &["httpd_can_network_connect_db"];
const RELAY: &[&str] = &["httpd_can_network_relay", "httpd_can_network_connect"];
const ANONYMOUS: &[&str] = &["httpd_anon_write", "allow_httpd_anon_write"];

/// A boolean, and whether it is on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Boolean {
    /// Its name.
    pub name: String,
    /// Whether it is on; nothing where the host does not tell.
    pub on: Option<bool>,
}

/// The boolean of `host` that governs a denial with this permission, class and type; nothing where none is known.
#[must_use]
pub fn governing(host: &Host, permission: &str, class: &str, type_name: &str) -> Option<Boolean> {
    let fits = |(of_class, of_permission, part, _): &&(&str, &str, &str, &[&str])| {
        *of_class == class && (of_permission.is_empty() || *of_permission == permission) && type_name.contains(part)
    };
    let (.., names) = GOVERN.iter().find(fits)?;
    let known = names.iter().find(|name| is_on(host, name).is_some()).or(names.first())?;
    Some(Boolean { name: (*known).to_owned(), on: is_on(host, known) })
}

/// Whether what is of a type depends on a boolean.
pub(super) fn governs_type(type_name: &str) -> bool {
    let of_files = GOVERN.iter().filter(|(class, ..)| *class == "file");
    of_files.filter(|(.., part, _)| !part.is_empty()).any(|(.., part, _)| type_name.contains(part))
}

/// The names of the booleans that the loaded policy has; none where the host does not tell.
pub(super) fn names(host: &Host) -> Vec<String> {
    let names = host.names_in(&Path::new(INTERFACE).join("booleans")).unwrap_or_default();
    names.into_iter().filter_map(|name| name.into_string().ok()).collect()
}

/// Whether a boolean is on; nothing where the host's policy does not have it.
#[must_use]
pub fn is_on(host: &Host, name: &str) -> Option<bool> {
    if !is_boolean_name(name) {
        return None;
    }
    // The present value, and the one that waits to be made so.
    let bytes = host.read(&Path::new(INTERFACE).join("booleans").join(name), 64).ok()?;
    match bytes.first()? {
        b'1' => Some(true),
        b'0' => Some(false),
        _ => None,
    }
}

/// Whether a boolean is to be off from the next start on, as the policy store has it; it is not where that does not say.
#[must_use]
pub(crate) fn will_be_off(host: &Host, policy: Option<&str>, name: &str) -> bool {
    let stores = [Path::new("/var/lib/selinux"), Path::new("/etc/selinux")];
    let local =
        policy.into_iter().flat_map(|policy| stores.map(|store| store.join(policy).join("active/booleans.local")));
    let texts = local.filter_map(|path| host.read(&path, 1 << 20).ok());
    let off = |text: Vec<u8>| {
        let text = String::from_utf8_lossy(&text).into_owned();
        let value = text.lines().filter_map(|line| line.split_once('=')).rfind(|(of, _)| of.trim() == name);
        value.is_some_and(|(_, value)| matches!(value.trim(), "0" | "false" | "off"))
    };
    texts.map(off).next().unwrap_or(false)
}

/// The command that sets a boolean for good.
#[must_use]
pub fn command(name: &str, on: bool) -> String {
    format!("setsebool -P {name} {}", if on { "on" } else { "off" })
}

/// Sets a boolean of this host for good.
///
/// Errors: what the command said.
pub(crate) fn set(name: &str, on: bool) -> Result<(), String> {
    let mut run = Command::new("setsebool");
    run.env_clear().env("PATH", super::store::SEARCHED).env("LC_ALL", "C").stdin(Stdio::null());
    let output = run.args(["-P", name, if on { "on" } else { "off" }]).output();
    let output = output.map_err(|cause| format!("cannot run setsebool: {cause}"))?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr).trim().replace('\n', "; ");
    Err(format!("setsebool did not set {name}: {said}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn host() -> (tempfile::TempDir, Host) {
        let dir = tempfile::tempdir().unwrap();
        let folder = dir.path().join("sys/fs/selinux/booleans");
        std::fs::create_dir_all(&folder).unwrap();
        std::fs::write(folder.join("httpd_can_network_connect_db"), "0 0").unwrap();
        std::fs::write(folder.join("httpd_can_network_connect_memcache"), "1 1").unwrap();
        let host = Host::at(dir.path()).unwrap();
        (dir, host)
    }

    #[rstest]
    #[case("name_connect", "tcp_socket", "mysqld_port_t", Some(("httpd_can_network_connect_db", Some(false))))]
    #[case::as_this_policy_calls_it("name_connect", "tcp_socket", "memcache_port_t", Some(("httpd_can_network_connect_memcache", Some(true))))]
    #[case::any_other_port("name_connect", "tcp_socket", "redis_port_t", Some(("httpd_can_network_connect", None)))]
    #[case::what_suffices("name_connect", "tcp_socket", "http_port_t", Some(("httpd_can_network_relay", None)))]
    #[case::files_too("read", "file", "nfs_t", Some(("httpd_use_nfs", None)))]
    #[case("execmem", "process", "httpd_t", Some(("httpd_execmem", None)))]
    #[case::no_switch("bind", "udp_socket", "x_t", None)]
    fn what_governs_a_denial(
        #[case] permission: &str,
        #[case] class: &str,
        #[case] type_name: &str,
        #[case] want: Option<(&str, Option<bool>)>,
    ) {
        let (_dir, host) = host();
        let got = governing(&host, permission, class, type_name);
        assert_eq!(got.as_ref().map(|switch| (&*switch.name, switch.on)), want);
    }

    #[rstest]
    #[case("", false)]
    #[case("# This file is auto-generated\nhttpd_execmem=1\nhttpd_use_nfs=0\n", true)]
    #[case("httpd_use_nfs=0\nhttpd_use_nfs=1\n", false)]
    fn the_next_start(#[case] text: &str, #[case] off: bool) {
        let (dir, host) = host();
        let folder = dir.path().join("var/lib/selinux/quay/active");
        std::fs::create_dir_all(&folder).unwrap();
        std::fs::write(folder.join("booleans.local"), text).unwrap();
        assert_eq!(will_be_off(&host, Some("quay"), "httpd_use_nfs"), off);
        assert!(!will_be_off(&host, Some("another"), "httpd_use_nfs") && !will_be_off(&host, None, "httpd_use_nfs"));
    }

    #[test]
    fn a_name_does_not_lead_elsewhere() {
        let (dir, host) = host();
        std::fs::write(dir.path().join("sys/fs/selinux/enforce"), "1").unwrap();
        assert_eq!(is_on(&host, "../enforce"), None);
        assert_eq!(command("httpd_execmem", false), "setsebool -P httpd_execmem off");
    }
}
