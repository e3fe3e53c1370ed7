//! What is to be done about a denial of SELinux that neither rights nor labels of a known file put right: the smallest change first.

use super::denials::{By, Other, What};
use crate::label::UNCONFINED;
use crate::label::boolean::{Boolean, command};
use crate::shown::Shown;

/// What was tried, and what is to be done about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Advice {
    /// Who could not do what: `PHP could not connect to port 3306 (mysqld_port_t)`.
    pub tried: String,
    /// What to do, in words; the smallest change first.
    pub says: String,
    /// The commands that are in these words.
    pub commands: Vec<String>,
    /// Whether it may still be denied.
    pub open: bool,
}

/// Types of ports that nobody has named yet.
const UNNAMED_PORTS: &[&str] =
    &["unreserved_port_t", "port_t", "reserved_port_t", "hi_reserved_port_t", "ephemeral_port_t"];
/// Labels of what a service did not make by itself.
const GENERAL: &[&str] = &["var_run_t", "var_t", "tmp_t", "default_t", "user_tmp_t", "var_lib_t", "unlabeled_t"];

/// What to do about a denial, which `boolean` governs.
pub(super) fn advice(other: &Other, boolean: Option<&Boolean>) -> Advice {
    let What { class, permission, type_name, port, .. } = &other.what;
    let tried = tried(other);
    let by_class = match (&**class, &**permission) {
        ("tcp_socket" | "udp_socket", "name_connect") => connects(other, boolean),
        ("tcp_socket" | "udp_socket", "name_bind") => {
            let command = port.map(|port| format!("semanage port -a -t http_port_t -p {} {port}", protocol(class)));
            Some(match command.filter(|_| other.by == By::Web) {
                Some(command) => (format!("if it is to listen there: {command}"), vec![command]),
                None => ("find out what asked for it: PHP listens on no port by itself".to_owned(), Vec::new()),
            })
        }
        ("process", "execmem" | "execstack" | "execheap") => {
            let first = "the just-in-time compilers of PHP ask for it: without them (pcre.jit = 0, opcache.jit = off) nothing is given";
            let (says, commands) = by_boolean(boolean).unwrap_or_default();
            Some((format!("{first}; else {says}"), commands))
        }
        ("capability" | "capability2" | "cap_userns", _) => {
            let says = "it runs as root, and uses root's right to override owner and mode of something: give that to its account instead";
            Some((says.to_owned(), Vec::new()))
        }
        ("fd", "use") => {
            let says = "it does no harm: it was started from somebody's login; its service starts it without";
            Some((says.to_owned(), Vec::new()))
        }
        ("unix_stream_socket", "connectto") if UNCONFINED.contains(&&**type_name) || type_name == "init_t" => {
            let says =
                format!("what listens runs in {type_name}: start it by its service, so that it has its own domain");
            Some((says, Vec::new()))
        }
        ("sock_file", _) if GENERAL.contains(&&**type_name) => {
            let says = "the socket has no label of its service: have the service make it (start it by its unit), or restorecon it";
            Some((says.to_owned(), Vec::new()))
        }
        _ => None,
    };
    let found = by_class.or_else(|| by_boolean(boolean));
    let (says, commands) = found.unwrap_or_else(|| (unknown(class), Vec::new()));
    let open = boolean.is_none_or(|boolean| boolean.on != Some(true));
    let says = if open { says } else { on_by_now(boolean) };
    Advice { tried, says, commands: if open { commands } else { Vec::new() }, open }
}

fn on_by_now(boolean: Option<&Boolean>) -> String {
    format!("the SELinux boolean {} governs it, and is on by now", boolean.map_or("", |boolean| &boolean.name))
}

/// What a boolean gives; nothing where none governs it.
fn by_boolean(boolean: Option<&Boolean>) -> Option<(String, Vec<String>)> {
    let boolean = boolean?;
    let command = command(&boolean.name, true);
    let seen = if boolean.on.is_none() { " (whether it is on cannot be seen here)" } else { "" };
    Some((format!("if the application needs it: {command}{seen}"), vec![command]))
}

/// The ways to let PHP connect to a port, the narrowest first.
fn connects(other: &Other, boolean: Option<&Boolean>) -> Option<(String, Vec<String>)> {
    let What { class, type_name, port, domain, .. } = &other.what;
    let opens_all = boolean.is_none_or(|boolean| boolean.name == "httpd_can_network_connect");
    if !opens_all {
        return by_boolean(boolean);
    }
    let all = command("httpd_can_network_connect", true);
    if let (true, Some(port)) = (UNNAMED_PORTS.contains(&&**type_name), port) {
        let name = |of: &str| format!("semanage port -a -t {of} -p {} {port}", protocol(class));
        let (web, database) = (name("http_port_t"), name("mysqld_port_t"));
        let (relay, db) = (command("httpd_can_network_relay", true), command("httpd_can_network_connect_db", true));
        let says = format!(
            "name the port by what listens there: a web service: {web} && {relay}; a database: {database} && {db}; \
             {all} would open every port"
        );
        return Some((says, vec![format!("{web} && {relay}"), format!("{database} && {db}"), all]));
    }
    // No boolean is for this type alone.
    let rule = format!("(allow {domain} {type_name} ({class} (name_connect)))");
    let module = type_name.trim_end_matches("_t").replace(|c: char| !c.is_ascii_alphanumeric(), "_");
    let narrow = format!("echo '{rule}' > local_{module}.cil && semodule -i local_{module}.cil");
    let says = format!("no boolean is for this port alone; a rule is: {narrow}; {all} would open every port");
    Some((says, vec![narrow, all]))
}

fn protocol(class: &str) -> &str {
    class.trim_end_matches("_socket")
}

fn unknown(class: &str) -> String {
    match class {
        "file" | "dir" | "lnk_file" | "fifo_file" | "sock_file" => {
            "nothing of this name and inode is there any more, or it cannot be looked at from here; with a rule for \
             paths the log names it (auditctl -w /etc/shadow -p w)"
        }
        _ => "no SELinux boolean is known for it: look into it before anything is allowed",
    }
    .to_owned()
}

/// Who could not do what.
fn tried(other: &Other) -> String {
    let What { permission, class, type_name, port, name, child, .. } = &other.what;
    let who = match (other.by, child) {
        (By::Php, Some(child)) => format!("PHP's child {}", Shown(child.as_ref())),
        (By::Php, None) => "PHP".to_owned(),
        (By::Web, _) => "the web server".to_owned(),
    };
    let port = port.map_or_else(|| type_name.clone(), |port| format!("port {port} ({type_name})"));
    let named =
        name.as_ref().map_or_else(|| type_name.clone(), |name| format!("{} ({type_name})", Shown(name.as_ref())));
    let act = match (&**class, &**permission) {
        ("tcp_socket" | "udp_socket", "name_connect") => format!("connect to {port}"),
        ("tcp_socket" | "udp_socket", "name_bind") => format!("listen on {port}"),
        ("unix_stream_socket", "connectto") => format!("connect to what listens in {type_name}"),
        ("sock_file", _) => format!("connect through the socket {named}"),
        ("process", "execmem" | "execstack" | "execheap") => "make memory that can be written and executed".to_owned(),
        ("process", "setrlimit") => "change its limits".to_owned(),
        ("process", "transition") => format!("start a program in {type_name}"),
        ("capability" | "capability2" | "cap_userns", power) => format!("use the capability {power}"),
        ("fd", "use") => format!("use what {type_name} had open when it started it"),
        ("dbus", _) => format!("speak to {type_name} over D-Bus"),
        // So the kernel names the uppermost folder of any mount.
        ("dir", permission) if name.as_ref().is_some_and(|name| name == "/") => {
            format!("{} in the uppermost folder of a file system ({type_name})", verb(permission))
        }
        ("dir", permission) => format!("{} in the folder {named}", verb(permission)),
        ("file" | "lnk_file" | "fifo_file" | "chr_file", permission) => format!("{} {named}", verb(permission)),
        (class, permission) => format!("{permission} on {class} {type_name}"),
    };
    format!("{who} could not {act}")
}

/// A permission as one would say it.
fn verb(permission: &str) -> &str {
    match permission {
        "getattr" => "look at",
        "add_name" | "create" => "make something",
        "remove_name" | "unlink" | "rmdir" => "remove something",
        "execute_no_trans" => "execute",
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::why::Refusals;
    use rstest::rstest;

    /// Records as a kernel wrote them, but for their length, and what is answered.
    #[rstest]
    #[case::database(
        "{ name_connect } for comm=\"php-fpm8.2\" dest=3306",
        "mysqld_port_t",
        "tcp_socket",
        "PHP could not connect to port 3306 (mysqld_port_t)",
        "if the application needs it: setsebool -P httpd_can_network_connect_db on"
    )]
    #[case::another_database(
        "{ name_connect } for comm=\"php-fpm8.2\" dest=5432",
        "postgresql_port_t",
        "tcp_socket",
        "PHP could not connect to port 5432 (postgresql_port_t)",
        "if the application needs it: setsebool -P httpd_can_network_connect_db on"
    )]
    #[case::mail(
        "{ name_connect } for comm=\"php-fpm8.2\" dest=25",
        "smtp_port_t",
        "tcp_socket",
        "PHP could not connect to port 25 (smtp_port_t)",
        "if the application needs it: setsebool -P httpd_can_sendmail on"
    )]
    #[case::mail_program(
        "{ execute } for comm=\"sh\" name=\"sendmail\" ino=9",
        "sendmail_exec_t",
        "file",
        "PHP's child sh could not execute sendmail (sendmail_exec_t)",
        "if the application needs it: setsebool -P httpd_can_sendmail on"
    )]
    #[case::cache(
        "{ name_connect } for comm=\"php-fpm8.2\" dest=11211",
        "memcache_port_t",
        "tcp_socket",
        "PHP could not connect to port 11211 (memcache_port_t)",
        "if the application needs it: setsebool -P httpd_can_network_memcache on"
    )]
    #[case::directory(
        "{ name_connect } for comm=\"php-fpm8.2\" dest=389",
        "ldap_port_t",
        "tcp_socket",
        "PHP could not connect to port 389 (ldap_port_t)",
        "if the application needs it: setsebool -P httpd_can_connect_ldap on"
    )]
    #[case::web(
        "{ name_connect } for comm=\"php-fpm8.2\" dest=443",
        "http_port_t",
        "tcp_socket",
        "PHP could not connect to port 443 (http_port_t)",
        "if the application needs it: setsebool -P httpd_can_network_relay on"
    )]
    #[case::no_boolean_of_its_own(
        "{ name_connect } for comm=\"php-fpm8.2\" dest=6379",
        "redis_port_t",
        "tcp_socket",
        "PHP could not connect to port 6379 (redis_port_t)",
        "no boolean is for this port alone; a rule is: echo '(allow httpd_t redis_port_t (tcp_socket (name_connect)))' > local_redis_port.cil"
    )]
    #[case::unnamed_port(
        "{ name_connect } for comm=\"php-fpm8.2\" dest=8983",
        "unreserved_port_t",
        "tcp_socket",
        "PHP could not connect to port 8983 (unreserved_port_t)",
        "name the port by what listens there: a web service: semanage port -a -t http_port_t -p tcp 8983"
    )]
    #[case::listens(
        "{ name_bind } for comm=\"php-fpm8.2\" src=8099",
        "unreserved_port_t",
        "tcp_socket",
        "PHP could not listen on port 8099 (unreserved_port_t)",
        "find out what asked for it"
    )]
    #[case::web_listens(
        "{ name_bind } for comm=\"nginx\" src=8099",
        "unreserved_port_t",
        "tcp_socket",
        "the web server could not listen on port 8099 (unreserved_port_t)",
        "if it is to listen there: semanage port -a -t http_port_t -p tcp 8099"
    )]
    #[case::memory(
        "{ execmem } for comm=\"php-fpm8.2\"",
        "httpd_t",
        "process",
        "PHP could not make memory that can be written and executed",
        "the just-in-time compilers of PHP ask for it"
    )]
    #[case::limits(
        "{ setrlimit } for comm=\"apache2\"",
        "httpd_t",
        "process",
        "the web server could not change its limits",
        "if the application needs it: setsebool -P httpd_setrlimit on"
    )]
    #[case::socket(
        "{ write } for comm=\"php-fpm8.2\" name=\"mysqld.sock\" ino=10",
        "var_run_t",
        "sock_file",
        "PHP could not connect through the socket mysqld.sock (var_run_t)",
        "the socket has no label of its service"
    )]
    #[case::socket_of_a_service(
        "{ write } for comm=\"php-fpm8.2\" name=\"mysqld.sock\" ino=10",
        "mysqld_runtime_t",
        "sock_file",
        "PHP could not connect through the socket mysqld.sock (mysqld_runtime_t)",
        "if the application needs it: setsebool -P httpd_can_network_connect_db on"
    )]
    #[case::listener_by_hand(
        "{ connectto } for comm=\"php-fpm8.2\"",
        "unconfined_t",
        "unix_stream_socket",
        "PHP could not connect to what listens in unconfined_t",
        "what listens runs in unconfined_t: start it by its service"
    )]
    #[case::home(
        "{ search } for comm=\"php-fpm8.2\" name=\"dev\" ino=11",
        "user_home_dir_t",
        "dir",
        "PHP could not search in the folder dev (user_home_dir_t)",
        "if the application needs it: setsebool -P httpd_enable_homedirs on"
    )]
    #[case::home_file(
        "{ read } for comm=\"php-fpm8.2\" name=\"secret\" ino=11",
        "user_home_t",
        "file",
        "PHP could not read secret (user_home_t)",
        "if the application needs it: setsebool -P httpd_read_user_content on"
    )]
    #[case::network_disk(
        "{ write } for comm=\"php-fpm8.2\" name=\"up\" ino=11",
        "nfs_t",
        "dir",
        "PHP could not write in the folder up (nfs_t)",
        "if the application needs it: setsebool -P httpd_use_nfs on"
    )]
    #[case::uppermost(
        "{ search } for comm=\"php-fpm8.2\" name=\"/\" ino=1",
        "nfs_t",
        "dir",
        "PHP could not search in the uppermost folder of a file system (nfs_t)",
        "if the application needs it: setsebool -P httpd_use_nfs on"
    )]
    #[case::windows_disk(
        "{ open } for comm=\"nginx\" name=\"a\" ino=11",
        "cifs_t",
        "file",
        "the web server could not open a (cifs_t)",
        "if the application needs it: setsebool -P httpd_use_cifs on"
    )]
    #[case::gone(
        "{ read } for comm=\"php-fpm8.2\" name=\"x.tmp\" ino=11",
        "var_t",
        "file",
        "PHP could not read x.tmp (var_t)",
        "nothing of this name and inode is there any more"
    )]
    #[case::uploaded_program(
        "{ execute } for comm=\"sh\" name=\"a\" ino=11",
        "httpd_tmp_t",
        "file",
        "PHP's child sh could not execute a (httpd_tmp_t)",
        "if the application needs it: setsebool -P httpd_tmp_exec on"
    )]
    #[case::script(
        "{ execute } for comm=\"nginx\" name=\"a\" ino=11",
        "httpd_sys_script_exec_t",
        "file",
        "the web server could not execute a (httpd_sys_script_exec_t)",
        "if the application needs it: setsebool -P httpd_enable_cgi on"
    )]
    #[case::root(
        "{ dac_override } for comm=\"php-fpm8.2\"",
        "httpd_t",
        "capability",
        "PHP could not use the capability dac_override",
        "it runs as root, and uses root's right to override owner and mode"
    )]
    #[case::from_a_login(
        "{ use } for comm=\"nginx\" path=\"/dev/null\" ino=4",
        "unconfined_t",
        "fd",
        "the web server could not use what unconfined_t had open when it started it",
        "it does no harm"
    )]
    #[case::terminal(
        "{ read write } for comm=\"php-fpm8.2\" name=\"0\" ino=4",
        "user_devpts_t",
        "chr_file",
        "PHP could not write 0 (user_devpts_t)",
        "if the application needs it: setsebool -P httpd_tty_comm on"
    )]
    #[case::names_on_the_bus(
        "{ send_msg } for comm=\"php-fpm8.2\"",
        "avahi_t",
        "dbus",
        "PHP could not speak to avahi_t over D-Bus",
        "if the application needs it: setsebool -P httpd_dbus_avahi on"
    )]
    #[case::nothing_known(
        "{ nlmsg_read } for comm=\"php-fpm8.2\"",
        "httpd_t",
        "netlink_audit_socket",
        "PHP could not nlmsg_read on netlink_audit_socket httpd_t",
        "no SELinux boolean is known for it"
    )]
    fn what_is_answered(
        #[case] record: &str,
        #[case] type_name: &str,
        #[case] class: &str,
        #[case] tried: &str,
        #[case] says: &str,
    ) {
        let line = format!(
            "type=AVC msg=audit(1795853583.119:14): avc:  denied  {record} scontext=system_u:system_r:httpd_t:s0 \
             tcontext=system_u:object_r:{type_name}:s0 tclass={class} permissive=0\n"
        );
        let dir = tempfile::tempdir().unwrap();
        let host = crate::tree::Host::at(dir.path()).unwrap();
        let mut refusals = Refusals::new(jiff::civil::date(2026, 11, 28));
        refusals.read(line.as_bytes()).unwrap();
        refusals.find_inodes(&host, &[], &crate::tree::Progress::default());
        let found = crate::why::no_files(&host, &refusals);
        assert_eq!(found.len(), 1, "{line}");
        let Advice { tried: got, says: said, commands, .. } = &found[0].advice;
        assert_eq!(got, tried);
        assert!(commands.iter().all(|command| said.contains(command)), "{commands:?}");
        assert!(said.starts_with(says), "{said}");
    }

    /// Whoever can write to a log must not write the commands that are advised.
    #[rstest]
    #[case("x';touch${IFS}/srv/www/x;'_t", "tcp_socket")]
    #[case("$(id)", "tcp_socket")]
    #[case("redis_port_t", "tcp_socket\u{1b}[2J")]
    fn what_no_kernel_wrote_is_not_advised(#[case] type_name: &str, #[case] class: &str) {
        let mut refusals = Refusals::new(jiff::civil::date(2026, 11, 28));
        let line = format!(
            "type=AVC msg=audit(1.5:4): avc:  denied  {{ name_connect }} for  comm=\"php\" dest=25 scontext=u:r:httpd_t:s0 tcontext=u:object_r:{type_name}:s0 tclass={class}"
        );
        refusals.read(line.as_bytes()).unwrap();
        assert_eq!(refusals.others, []);
        assert_eq!(refusals.without_path, 1, "it is not said that nothing was refused");
    }

    /// Of two files with one number and name it is not told which was meant.
    #[rstest]
    #[case(false, 0)]
    #[case(true, 1)]
    fn what_may_be_either_is_neither(#[case] twice: bool, #[case] unnamed: usize) {
        use std::os::unix::fs::MetadataExt as _;
        let dir = tempfile::tempdir().unwrap();
        let first = dir.path().join("a/lock");
        for name in ["a", "b"] {
            std::fs::create_dir(dir.path().join(name)).unwrap();
        }
        std::fs::write(&first, "").unwrap();
        if twice {
            std::fs::hard_link(&first, dir.path().join("b/lock")).unwrap();
        }
        let inode = first.metadata().unwrap().ino();
        let line = format!(
            "type=AVC msg=audit(1.5:4): avc:  denied  {{ write }} for  comm=\"php\" name=\"lock\" ino={inode} scontext=u:r:httpd_t:s0 tcontext=u:object_r:var_t:s0 tclass=file\n"
        );
        let mut refusals = Refusals::new(jiff::civil::date(2026, 11, 28));
        refusals.read(line.repeat(3).as_bytes()).unwrap();
        refusals.find_inodes(&crate::tree::Host::at(dir.path()).unwrap(), &[], &crate::tree::Progress::default());
        assert_eq!((refusals.others.len(), refusals.list().len()), (unnamed, 1 - unnamed));
        let (named, others) = (refusals.list(), &refusals.others);
        let counts = named.iter().map(|found| found.count).chain(others.iter().map(|found| found.count));
        assert_eq!(counts.sum::<u64>(), 3, "each counts once");
    }

    #[test]
    fn what_was_opened_meanwhile_is_said_to_be() {
        let on = Boolean { name: "httpd_can_sendmail".into(), on: Some(true) };
        let mut refusals = Refusals::new(jiff::civil::date(2026, 11, 28));
        let line = b"type=AVC msg=audit(1.5:4): avc: denied { name_connect } for comm=\"php\" dest=25 scontext=u:r:httpd_t:s0 tcontext=u:object_r:smtp_port_t:s0 tclass=tcp_socket";
        refusals.read(&line[..]).unwrap();
        let found = advice(&refusals.others[0], Some(&on));
        assert!(!found.open && found.commands.is_empty() && found.says.ends_with("is on by now"), "{found:?}");
    }
}
