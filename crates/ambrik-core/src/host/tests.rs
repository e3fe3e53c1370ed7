use super::program::Launches;
use super::*;
use rstest::rstest;
use std::fs;

const PASSWD: &str = "root:x:0:0::/root:/bin/sh\nwww-data:x:33:33::/:/usr/sbin/nologin\napache:x:48:48::/:/sbin/nologin\n\
                      berths:x:4101:4101::/:/usr/sbin/nologin\ntidewatch:x:4102:4102::/:/usr/sbin/nologin\n\
                      wharfinger:x:4110:4110::/home/wharfinger:/bin/sh\n";
const GROUP: &str =
    "root:x:0:\nwww-data:x:33:\napache:x:48:\nberths:x:4101:www-data\ntidewatch:x:4102:\nwharfinger:x:4110:\n";

/// A made-up host with these files.
struct Quay {
    dir: tempfile::TempDir,
}

impl Quay {
    fn new(files: &[(&str, &str)]) -> Self {
        let quay = Self { dir: tempfile::tempdir().unwrap() };
        for (path, text) in files {
            quay.write(path, text);
        }
        quay
    }

    fn write(&self, path: &str, text: &str) {
        let path = self.dir.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    /// A process, as proc(5) shows it.
    fn process(&self, pid: u32, parent: u32, name: &str, line: &str, ids: (u32, u32)) {
        let (uid, gid) = ids;
        self.write(
            &format!("proc/{pid}/status"),
            &format!("Name:\t{name}\nPPid:\t{parent}\nUid:\t{uid}\t{uid}\t{uid}\t{uid}\nGid:\t{gid}\t{gid}\t{gid}\t{gid}\nGroups:\t{gid} \n"),
        );
        self.write(&format!("proc/{pid}/cmdline"), &line.replace('|', "\0"));
    }

    fn look(&self) -> Services {
        look(&Host::at(self.dir.path()).unwrap(), &Accounts::from_texts(PASSWD, GROUP))
    }

    /// The served folders: `folder server php/web pool`.
    fn served(&self) -> Vec<String> {
        let names = |answers: &[AccountAnswer]| -> String {
            let names: Vec<&str> = answers.iter().map(|a| a.account.user.as_str()).collect();
            if names.is_empty() { "-".into() } else { names.join("+") }
        };
        let services = self.look();
        let lines = services.served.iter().map(|runs| {
            let pool = runs.pool.as_deref().unwrap_or("-");
            format!(
                "{} {} {}/{} {pool}",
                runs.folder.path.display(),
                runs.folder.program,
                names(&runs.php),
                names(&runs.web)
            )
        });
        lines.collect()
    }

    fn says(&self) -> String {
        let services = self.look();
        let said = services.disagreements.iter().map(|d| d.says.clone());
        said.chain(services.unclear.iter().map(|u| format!("{}: {}", u.at, u.says))).collect::<Vec<_>>().join("\n")
    }
}

const POOLS: &[(&str, &str)] = &[
    ("etc/php/8.2/fpm/php-fpm.conf", "[global]\npid = /run/fpm.pid ; where\ninclude=/etc/php/8.2/fpm/pool.d/*.conf\n"),
    (
        "etc/php/8.2/fpm/pool.d/berths.conf",
        "; a comment\n[berths]\nuser = berths\ngroup = $pool\nlisten = /var/run/php/$pool.sock\nlisten.owner = \"www-data\"\n",
    ),
    (
        "etc/php/8.2/fpm/pool.d/tidewatch.conf",
        "[tidewatch]\nuser = tidewatch\nlisten = 127.0.0.1:9002\npm = ondemand\n",
    ),
];

fn with_pools(more: &[(&'static str, &'static str)]) -> Quay {
    Quay::new(&[POOLS, more].concat())
}

#[rstest]
#[case::one_server(
    "http { server { listen 80; root /srv/www/berths; location ~ \\.php$ { fastcgi_pass unix:/run/php/berths.sock; } } }",
    &["/srv/www/berths nginx berths/www-data berths"]
)]
#[case::included_quoted_and_commented(
    "# http {\nhttp { include sites/*.conf; # } \n }",
    &["/srv/www/with space nginx berths/www-data berths", "/srv/www/tidewatch/public nginx tidewatch/www-data tidewatch"]
)]
#[case::upstream_and_variable(
    "http { upstream quay { server unix:/run/php/berths.sock; } server { set $base /srv/www; root $base/berths/; \
     location ~ \\.php$ { fastcgi_pass quay; } } }",
    &["/srv/www/berths/ nginx berths/www-data berths"]
)]
#[case::locations_of_their_own(
    "http { server { root /srv/www/html; location /tide { alias /srv/tide/public; location ~ \\.php$ { fastcgi_pass 127.0.0.1:9002; } } \
     location ^~ /b/ { root /srv/www; location ~ \\.php { fastcgi_pass unix:/run/php/berths.sock; } } } }",
    &[
        "/srv/www/html nginx -/www-data -",
        "/srv/tide/public nginx tidewatch/www-data tidewatch",
        "/srv/www/b nginx berths/www-data berths",
    ]
)]
#[case::root_of_http("http { root /srv/www/all; server { location / { proxy_pass http://127.0.0.1:8080; } } }", &["/srv/www/all nginx -/www-data -"])]
fn nginx_is_read(#[case] http: &'static str, #[case] served: &[&str]) {
    let quay = with_pools(&[
        (
            "etc/nginx/sites/a.conf",
            "server { root \"/srv/www/with space\"; location ~ [^/]\\.php(/|$) { fastcgi_pass 'unix:/run/php/berths.sock'; } }",
        ),
        (
            "etc/nginx/sites/b.conf",
            "server { server_name tide; root /srv/www/tidewatch/public; location / { try_files $uri /index.php; }\n\
             location ~ \\.php$ { include fastcgi.conf; fastcgi_pass localhost:9002; } }",
        ),
        ("etc/nginx/fastcgi.conf", "fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;"),
    ]);
    quay.write("etc/nginx/nginx.conf", &format!("user www-data;\n{http}"));
    assert_eq!(quay.served(), served);
}

#[rstest]
#[case("http { server { root $host; } }", "/etc/nginx/nginx.conf:2: root $host: made of variables")]
#[case(
    "http { server { root /a; location ~ \\.php$ { fastcgi_pass $quay; } } }",
    "/etc/nginx/nginx.conf:2: fastcgi_pass $quay: made of variables"
)]
#[case("http { include none.conf; }", "it includes /etc/nginx/none.conf, which is not there")]
#[case("http { server { root /a; } ", "http { is not ended by a }")]
#[case("http { } }", "a } too many")]
#[case("http { server { root /a }", "is not ended by a \";\"")]
fn what_is_not_understood_is_said(#[case] http: &str, #[case] want: &str) {
    let quay = Quay::new(&[]);
    quay.write("etc/nginx/nginx.conf", &format!("user www-data;\n{http}"));
    let says = quay.says();
    assert!(says.contains(want), "{says}");
}

/// The family that has `apache2.conf`, variables in a shell file, and links to what is switched on.
const SWITCHED: &[(&str, &str)] = &[
    (
        "etc/apache2/apache2.conf",
        "User ${APACHE_RUN_USER}\nGroup ${APACHE_RUN_GROUP}\nIncludeOptional mods-enabled/*.load\nIncludeOptional mods-enabled/*.conf\n\
         <Directory />\n  Require all denied\n</Directory>\nIncludeOptional conf-enabled/*.conf\nIncludeOptional sites-enabled/*.conf\n",
    ),
    ("etc/apache2/envvars", "# vars\nSUFFIX=\nexport APACHE_RUN_USER=www-data\nexport APACHE_RUN_GROUP=\"www-data\"\n"),
    (
        "etc/apache2/conf-enabled/fpm.conf",
        "<IfModule !mod_php8.c>\n<IfModule proxy_fcgi_module>\n<FilesMatch \".+\\.ph(?:ar|p|tml)$\">\n\
         SetHandler \"proxy:unix:/run/php/berths.sock|fcgi://localhost\"\n</FilesMatch>\n</IfModule>\n</IfModule>\n",
    ),
];
const PROXY: (&str, &str) =
    ("etc/apache2/mods-enabled/proxy_fcgi.load", "LoadModule proxy_fcgi_module /usr/lib/mod_proxy_fcgi.so\n");
const PHP: [(&str, &str); 2] = [
    ("etc/apache2/mods-enabled/php8.2.load", "LoadModule php_module /usr/lib/libphp8.2.so\n"),
    (
        "etc/apache2/mods-enabled/php8.2.conf",
        "<FilesMatch \".+\\.ph(?:ar|p|tml)$\">\n  SetHandler application/x-httpd-php\n</FilesMatch>\n\
         <FilesMatch \".+\\.phps$\">\n SetHandler application/x-httpd-php-source\n</FilesMatch>\n",
    ),
];

#[rstest]
#[case::pool_for_all(&[PROXY], "<VirtualHost *:80>\n DocumentRoot /srv/www/berths/\n</VirtualHost>", &["/srv/www/berths apache2 berths/www-data berths"])]
#[case::inside(&PHP, "<VirtualHost *:80>\n DocumentRoot \"/srv/www/berths\"\n</VirtualHost>", &["/srv/www/berths apache2 www-data/www-data -"])]
#[case::neither(&[], "<VirtualHost *:80>\n DocumentRoot /srv/www/berths\n</VirtualHost>", &["/srv/www/berths apache2 -/www-data -"])]
#[case::each_host_its_own(
    &[PROXY],
    "<VirtualHost *:80>\nServerName a\nDocumentRoot /srv/a\n</VirtualHost>\n<VirtualHost *:80>\nDocumentRoot /srv/b\n\
     <FilesMatch \\.php$>\nSetHandler proxy:fcgi://127.0.0.1:9002\n</FilesMatch>\n</VirtualHost>",
    &["/srv/a apache2 berths/www-data berths", "/srv/b apache2 tidewatch/www-data tidewatch"]
)]
#[case::directories_from_short_to_long(
    &[],
    "<VirtualHost *:80>\nDocumentRoot /srv/www/b\n<Directory /srv/www/b>\n<FilesMatch \\.php$>\nSetHandler \"proxy:unix:/run/php/berths.sock|\\\nfcgi://x\"\n\
     </FilesMatch>\n</Directory>\n<Directory /srv/*>\nAddHandler proxy:fcgi://127.0.0.1:9002 .php\n</Directory>\n</VirtualHost>",
    &["/srv/www/b apache2 berths/www-data berths"]
)]
#[case::passed_by_expression(
    &[],
    "<VirtualHost *:80>\nDocumentRoot /srv/t\nProxyPassMatch ^/(.*\\.php)$ fcgi://127.0.0.1:9002/srv/t/$1\nAlias /b /srv/b\n</VirtualHost>",
    &["/srv/t apache2 tidewatch/www-data tidewatch", "/srv/b apache2 tidewatch/www-data tidewatch"]
)]
#[case::an_account_for_a_host(
    &PHP,
    "<VirtualHost *:80>\nDocumentRoot /srv/t\nAssignUserID tidewatch tidewatch\n</VirtualHost>",
    &["/srv/t apache2 tidewatch/tidewatch -"]
)]
#[case::switched_off(
    &PHP,
    "<VirtualHost *:80>\nDocumentRoot /srv/t\n<Location />\nphp_admin_flag engine off\n</Location>\n</VirtualHost>",
    &["/srv/t apache2 -/www-data -"]
)]
fn apache_is_read(#[case] modules: &[(&'static str, &'static str)], #[case] site: &str, #[case] served: &[&str]) {
    let quay = with_pools(&[SWITCHED, modules].concat());
    quay.write("etc/apache2/sites-enabled/quay.conf", site);
    assert_eq!(quay.served(), served);
}

#[test]
fn the_other_family_is_read() {
    let quay = Quay::new(&[
        (
            "etc/httpd/conf/httpd.conf",
            "ServerRoot \"/etc/httpd\"\nListen 80\nInclude conf.modules.d/*.conf\nUser apache\nGroup apache\n\
             DocumentRoot \"/var/www/html\"\n<Directory \"/var/www/html/data\">\n Require all denied\n</Directory>\nIncludeOptional conf.d/*.conf\n",
        ),
        ("etc/httpd/conf.modules.d/00-proxy.conf", "LoadModule proxy_fcgi_module modules/mod_proxy_fcgi.so\n"),
        (
            "etc/httpd/conf.d/php.conf",
            "<IfModule !mod_php.c>\n<FilesMatch \\.(php|phar)$>\nSetHandler \"proxy:unix:/run/php-fpm/www.sock|fcgi://localhost\"\n</FilesMatch>\n</IfModule>\n",
        ),
        ("etc/php-fpm.conf", "include=/etc/php-fpm.d/*.conf\n[global]\ndaemonize = yes\n"),
        (
            "etc/php-fpm.d/www.conf",
            "[www]\nuser = apache\ngroup = apache\nlisten = /run/php-fpm/www.sock\nlisten.acl_users = apache\n",
        ),
    ]);
    assert_eq!(quay.served(), ["/var/www/html httpd apache/apache www"]);
    let services = quay.look();
    assert_eq!(services.served[0].folder.denied, [Path::new("/var/www/html/data")]);
    assert_eq!(services.served[0].may_connect, None, "its access list decides, which is not made yet");
}

const OWN_NGINX: &str =
    "user tidewatch; http { server { root /srv/own; location / { proxy_pass http://127.0.0.1:1; } } }";
const OWN_APACHE: &str = "User tidewatch\nGroup tidewatch\nListen 80\nDocumentRoot /srv/own\n";

/// What runs with a configuration of its own is read, however its process tells.
#[rstest]
#[case::in_the_title(&[("opt/quay/own.conf", OWN_NGINX)], "nginx", "nginx: master process nginx -c /opt/quay/own.conf -g daemon on;", &[])]
#[case::below_a_prefix(&[("opt/quay/own.conf", OWN_NGINX)], "nginx", "nginx: master process nginx -p /opt/quay/ -c own.conf", &[])]
#[case::by_the_prefix(&[("opt/quay/conf/nginx.conf", OWN_NGINX)], "nginx", "nginx: master process nginx -p /opt/quay", &[])]
#[case::from_where_it_was_started(&[("opt/quay/own.conf", OWN_NGINX)], "nginx", "nginx|-c|own.conf|", &[("cwd", "/opt/quay")])]
#[case::by_its_log(&[("opt/quay/conf/nginx.conf", OWN_NGINX), ("opt/quay/logs/error.log", "")], "nginx", "quay: front door", &[("fd/2", "/opt/quay/logs/error.log")])]
#[case::without_any_title(&[("opt/quay/conf/nginx.conf", OWN_NGINX), ("opt/quay/logs/error.log", ""), ("opt/quay/sbin/nginx", "")], "door", "", &[("exe", "/opt/quay/sbin/nginx"), ("fd/2", "/opt/quay/logs/error.log")])]
#[case::of_apache(&[("opt/quay/own.conf", OWN_APACHE)], "apache2", "/usr/sbin/apache2|-f|/opt/quay/own.conf|-k|start|", &[])]
#[case::apaches_root(&[("opt/quay/apache2.conf", OWN_APACHE), ("opt/quay/envvars", "")], "apache2", "/usr/sbin/apache2|-d|/opt/quay|-k|start|", &[])]
fn what_a_program_was_started_with_is_read(
    #[case] files: &[(&str, &str)],
    #[case] name: &str,
    #[case] title: &str,
    #[case] links: &[(&str, &str)],
) {
    let quay = Quay::new(files);
    let workers = |pid: u32| {
        quay.process(pid, 10, name, title, (4102, 4102));
        for (link, goal) in links {
            let link = quay.dir.path().join(format!("proc/{pid}/{link}"));
            fs::create_dir_all(link.parent().unwrap()).unwrap();
            std::os::unix::fs::symlink(goal, link).unwrap();
        }
    };
    workers(11);
    quay.process(10, 1, name, title, (0, 0));
    for (link, goal) in links {
        let link = quay.dir.path().join(format!("proc/10/{link}"));
        fs::create_dir_all(link.parent().unwrap()).unwrap();
        std::os::unix::fs::symlink(goal, link).unwrap();
    }
    let program = if title.contains("apache2") { "apache2" } else { "nginx" };
    assert_eq!(quay.served(), [format!("/srv/own {program} -/tidewatch -")], "{}", quay.says());
}

/// A sample configuration beside a site's logs is nobody's, where the usual one is there.
#[test]
fn a_sample_beside_logs_is_not_read() {
    let quay = Quay::new(&[
        ("etc/nginx/nginx.conf", "user www-data; http { server { root /srv/usual; } }"),
        ("srv/usual/nginx.conf", OWN_NGINX),
        ("srv/usual/logs/access.log", ""),
    ]);
    quay.process(10, 1, "nginx", "nginx: master process /usr/sbin/nginx -g daemon on;", (0, 0));
    quay.process(11, 10, "nginx", "nginx: worker process", (33, 33));
    let log = quay.dir.path().join("proc/10/fd/5");
    fs::create_dir_all(log.parent().unwrap()).unwrap();
    std::os::unix::fs::symlink("/srv/usual/logs/access.log", log).unwrap();
    assert_eq!(quay.served(), ["/srv/usual nginx -/www-data -"], "{}", quay.says());
}

#[rstest]
#[case::in_the_title("php-fpm: master process (/opt/quay/fpm.conf)")]
#[case::by_its_option("/usr/sbin/php-fpm8.2|-y|/opt/quay/fpm.conf|")]
#[case::by_its_long_option("/usr/sbin/php-fpm8.2|--fpm-config|/opt/quay/fpm.conf|")]
fn the_pools_that_run_are_read(#[case] title: &str) {
    let http =
        "user www-data;\nhttp { server { root /srv/own; location ~ \\.php$ { fastcgi_pass unix:/run/own.sock; } } }";
    let pool = "[own]\nuser = tidewatch\nlisten = /run/own.sock\n";
    let quay = Quay::new(&[("etc/nginx/nginx.conf", http), ("opt/quay/fpm.conf", pool)]);
    quay.process(20, 1, "php-fpm8.2", title, (0, 0));
    quay.process(21, 20, "php-fpm8.2", "php-fpm: pool own", (4102, 4102));
    assert_eq!(quay.served(), ["/srv/own nginx tidewatch/www-data own"], "{}", quay.says());
    // Somebody's own program decides nothing.
    let quay = Quay::new(&[("etc/nginx/nginx.conf", http), ("opt/quay/fpm.conf", pool)]);
    quay.process(20, 1, "php-fpm8.2", title, (4110, 4110));
    assert_eq!(quay.served(), ["/srv/own nginx -/www-data -"]);
}

#[test]
fn workers_are_the_answer_and_not_who_started_them_or_looks_for_them() {
    let quay = Quay::new(&[]);
    quay.process(10, 1, "nginx", "nginx: master process /usr/sbin/nginx", (0, 0));
    quay.process(11, 10, "nginx", "nginx: worker process", (33, 33));
    quay.process(12, 10, "nginx", "nginx: cache manager process", (33, 33));
    quay.process(13, 10, "nginx", "nginx: worker process is shutting down", (48, 48));
    quay.process(20, 1, "php-fpm8.2", "php-fpm: master process (/etc/php/8.2/fpm/php-fpm.conf)", (0, 0));
    quay.process(21, 20, "php-fpm8.2", "php-fpm: pool berths", (4101, 4101));
    quay.process(22, 20, "php-fpm8.2", "php-fpm: pool tidewatch", (4102, 4102));
    quay.process(30, 1, "apache2", "/usr/sbin/apache2|-k|start|", (0, 0));
    quay.process(31, 30, "apache2", "/usr/sbin/apache2|-k|start|", (33, 33));
    quay.write("proc/31/maps", "7f 7f r-xp 0 0 0 /usr/lib/apache2/modules/libphp8.2.so\n");
    quay.process(40, 1, "grep", "grep|php-fpm|", (4110, 4110));
    quay.process(41, 1, "sh", "sh|-c|ps aux | grep nginx|", (4110, 4110));
    quay.process(42, 1, "php", "php|import.php|", (4110, 4110));
    quay.process(43, 1, "php8.2", "php8.2|-S|127.0.0.1:8000|-t|/srv/tide|", (4102, 4102));
    quay.write(
        "etc/systemd/system/php-tide.service",
        "[Service]\nUser=tidewatch\nExecStart=/usr/bin/php8.2 -S 127.0.0.1:8000 -t /srv/tide\n",
    );
    quay.process(44, 1, "nginx", "nginx|-t|", (0, 0));
    let seen = quay
        .look()
        .services
        .iter()
        .map(|s| format!("{} {} {} {}", s.role.word(), s.program, s.pool.as_deref().unwrap_or("-"), s.account.user))
        .collect::<Vec<_>>();
    assert_eq!(
        seen,
        [
            "web apache2 - www-data",
            "web nginx - www-data",
            "php apache2 - www-data",
            "php php-fpm8.2 berths berths",
            "php php-fpm8.2 tidewatch tidewatch",
            "php php8.2 - tidewatch",
        ]
    );
    assert_eq!(quay.served(), ["/srv/tide php8.2 tidewatch/tidewatch -"]);
}

const ONE: (&str, &str) = (
    "etc/nginx/nginx.conf",
    "user www-data;\nhttp { server { root /srv/berths; location ~ \\.php$ { fastcgi_pass unix:/run/php/berths.sock; } } }",
);

#[rstest]
#[case::changed_and_not_restarted("php-fpm: pool berths", (33, 33), "pool berths runs as www-data:www-data and is configured as berths:berths (/etc/php/8.2/fpm/pool.d/berths.conf:3)")]
#[case::renamed_and_not_reloaded("php-fpm: pool old", (4101, 4101), "pool old runs as berths:berths and no configuration names it any more")]
#[case::renamed_the_new_one_does_not_run("php-fpm: pool old", (4101, 4101), "pool berths is configured (/etc/php/8.2/fpm/pool.d/berths.conf:3) and does not run")]
#[case::root("php-fpm: pool berths", (0, 0), "pool berths runs PHP as root (process 21)")]
#[case::a_person("php-fpm: pool berths", (4110, 4110), "pool berths runs PHP as wharfinger (process 21), which looks like a person's account: it can log in (/bin/sh)")]
fn disagreements_are_found(#[case] title: &str, #[case] ids: (u32, u32), #[case] want: &str) {
    let quay = with_pools(&[ONE]);
    quay.process(20, 1, "php-fpm8.2", "php-fpm: master process (/etc/php/8.2/fpm/php-fpm.conf)", (0, 0));
    quay.process(21, 20, "php-fpm8.2", title, ids);
    let says = quay.says();
    assert!(says.contains(want), "{says}");
    assert!(!says.contains("pool tidewatch is configured"), "one that starts on demand has no workers: {says}");
}

#[rstest]
#[case::one_socket(("etc/php/8.2/fpm/pool.d/c.conf", "[c]\nuser = tidewatch\nlisten = /run/php/berths.sock\n"), "pools berths (")]
#[case::no_such_account(("etc/php/8.2/fpm/pool.d/c.conf", "[c]\nuser = harbour\nlisten = 9003\n"), "pool c is to run as harbour, which this host does not have (/etc/php/8.2/fpm/pool.d/c.conf:2)")]
#[case::nobody_listens(("etc/nginx/nginx.conf", "user www-data; http { server { root /a; location ~ \\.php$ { fastcgi_pass unix:/run/none.sock; } } }"), "PHP of /a is sent to /run/none.sock (/etc/nginx/nginx.conf:1), where no configured pool listens")]
#[case::many_sites(("etc/nginx/nginx.conf", "user www-data; http { server { root /b; location ~ \\.php$ { fastcgi_pass 127.0.0.1:9002; } } server { root /a; location ~ \\.php$ { fastcgi_pass 127.0.0.1:9002; } } }"), "PHP of /a and /b runs as one account, tidewatch")]
#[case::may_not_connect(("etc/php/8.2/fpm/pool.d/berths.conf", "[berths]\nuser = berths\nlisten = /run/php/berths.sock\n"), "nginx (www-data) may not connect to /run/php/berths.sock: PHP of /srv/berths cannot answer")]
#[case::a_strange_line(("etc/php/8.2/fpm/pool.d/berths.conf", "[berths]\nuser berths\n"), "/etc/php/8.2/fpm/pool.d/berths.conf:2: not a line of php-fpm's configuration")]
fn configuration_that_is_wrong(#[case] file: (&'static str, &'static str), #[case] want: &str) {
    let files = if file.0.contains("nginx") { vec![file] } else { vec![ONE, file] };
    let says = with_pools(&files).says();
    assert!(says.contains(want), "{says}");
}

#[test]
fn a_unit_beats_the_configuration_and_a_drop_in_beats_the_unit() {
    let quay = with_pools(&[
        ONE,
        (
            "lib/systemd/system/nginx.service",
            "[Service]\nUser=apache\nExecStart=/usr/sbin/nginx \\\n  -g 'daemon on;'\n",
        ),
        ("etc/systemd/system/nginx.service.d/user.conf", "[Service]\nUser=\nUser=tidewatch\n"),
        ("etc/systemd/system/caddy.service", "[Service]\n# who\nUser=berths\nExecStart=/usr/bin/caddy run\n"),
    ]);
    assert_eq!(quay.served(), ["/srv/berths nginx berths/tidewatch berths"]);
    assert!(quay.look().services.iter().any(|s| s.program == "caddy" && s.account.user == "berths"));
}

#[test]
fn a_title_that_anybody_could_have_given_itself_decides_nothing() {
    let quay = with_pools(&[ONE]);
    quay.process(20, 1, "php-fpm8.2", "php-fpm: master process (/home/wharfinger/fpm.conf)", (4110, 4110));
    quay.process(21, 20, "php-fpm8.2", "php-fpm: pool berths", (4110, 4110));
    quay.write("home/wharfinger/fpm.conf", "[evil]\nuser = wharfinger\nlisten = /run/php/berths.sock\n");
    assert_eq!(quay.served(), ["/srv/berths nginx berths/www-data berths"]);
}

/// A local user who calls a program like php-fpm, or a web server, where root runs and configured nothing.
#[rstest]
#[case::php_fpm(Role::Php, "php-fpm8.2", "php-fpm: pool evil")]
#[case::php_itself(Role::Php, "php8.2", "php8.2|-S|127.0.0.1:8000|-t|/srv/berths|")]
#[case::web_server(Role::Web, "nginx", "nginx: worker process")]
fn a_local_user_does_not_become_php(#[case] role: Role, #[case] name: &str, #[case] line: &str) {
    let quay = Quay::new(&[]);
    quay.process(21, 1, name, line, (4110, 4110));
    let host = Host::at(quay.dir.path()).unwrap();
    let services = quay.look();
    assert!(services.services.is_empty());
    let undecided = services.account(&host, role, Path::new("/srv/berths")).unwrap_err().to_string();
    assert!(undecided.starts_with("nothing that root started or configured tells; process 21: "), "{undecided}");
    let says = format!("{} = \"wharfinger\" in the site file", role.word());
    assert!(quay.says().contains(&says), "{}", quay.says());
}

/// Configuration that somebody else could have written is told of and decides nothing.
#[test]
#[expect(clippy::disallowed_methods, reason = "the test makes a file unsafe")]
fn configuration_that_others_can_write_decides_nothing() {
    let quay = with_pools(&[ONE]);
    let file = quay.dir.path().join("etc/php/8.2/fpm/pool.d/berths.conf");
    fs::set_permissions(&file, std::os::unix::fs::PermissionsExt::from_mode(0o666)).unwrap();
    assert_eq!(quay.served(), ["/srv/berths nginx -/www-data -"]);
    assert!(
        quay.says().contains("berths.conf: not believed: its mode 0666 lets others write to it"),
        "{}",
        quay.says()
    );
}

/// Files that include their own folder twice double with each level: reading them has an end all the same.
#[rstest]
#[case::nginx("etc/nginx/nginx.conf", "http { include /etc/nginx/*; include /etc/nginx/*; }")]
#[case::nginx_folder("etc/nginx/nginx.conf", "include *;\ninclude *;\ninclude *;\n")]
#[case::apache("etc/apache2/apache2.conf", "Include /etc/apache2/*\nInclude /etc/apache2/*\nInclude /etc/apache2\n")]
#[case::fpm("etc/php-fpm.conf", "include=/etc/php*\ninclude=/etc/php*\ninclude=/etc/*.conf\n")]
fn what_includes_itself_has_an_end(#[case] file: &str, #[case] text: &str) {
    let quay = Quay::new(&[(file, text)]);
    let folder = Path::new(file).parent().unwrap();
    for n in 0..4 {
        quay.write(folder.join(format!("more{n}.conf")).to_str().unwrap(), text);
    }
    assert!(quay.says().contains("more configuration than any host has"), "{}", quay.says());
}

#[rstest]
#[case::the_served_folder("/srv/berths", Ok("berths"))]
#[case::inside_it("/srv/berths/sub", Ok("berths"))]
#[case::around_it("/srv", Ok("berths"))]
#[case::elsewhere(
    "/opt/x",
    Err("several could be meant: berths (the only php-fpm here: /etc/php/8.2/fpm/pool.d/berths.conf:3); tidewatch")
)]
fn a_site_is_told_its_account(#[case] folder: &str, #[case] want: Result<&str, &str>) {
    let quay = with_pools(&[ONE]);
    let host = Host::at(quay.dir.path()).unwrap();
    let answer = quay.look().account(&host, Role::Php, Path::new(folder));
    match (answer, want) {
        (Ok(answer), Ok(user)) => assert_eq!(answer.account.user, user),
        (Err(error), Err(start)) => assert!(error.to_string().starts_with(start), "{error}"),
        (got, want) => panic!("{got:?} instead of {want:?}"),
    }
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig::with_cases(200))]
    /// Whatever stands in a configuration, reading it ends.
    #[test]
    fn any_text_is_read(pieces in proptest::collection::vec(proptest::sample::select(vec![
        "http", "server", "{", "}", ";", "\"", "'", "#", "\\", "\n", " ", "root", "include", "*", "[", "]", "$x", "${", "<", "</", ">",
        "VirtualHost", "IfModule", "Include", "DocumentRoot", "/srv/a", "=", "listen", "user", "SetHandler", "proxy:", "|", "é",
    ]), 0..60)) {
        let text = pieces.concat();
        let quay = Quay::new(&[]);
        for file in ["etc/nginx/nginx.conf", "etc/apache2/apache2.conf", "etc/php-fpm.conf", "etc/systemd/system/nginx.service"] {
            quay.write(file, &text);
        }
        quay.look();
    }
}

#[rstest]
#[case("unix:/run/php.sock", Some("/run/php.sock"))]
#[case("/var/run/php/x.sock", Some("/run/php/x.sock"))]
#[case("127.0.0.1:9000", Some("localhost:9000"))]
#[case("[::1]:9000", Some("localhost:9000"))]
#[case("*:9000", Some("localhost:9000"))]
#[case("9000", Some("localhost:9000"))]
#[case("10.0.0.2:9000", Some("10.0.0.2:9000"))]
#[case("quay", None)]
#[case("quay:http", None)]
#[case("", None)]
fn addresses(#[case] text: &str, #[case] want: Option<&str>) {
    assert_eq!(Address::read(text).map(|address| address.to_string()).as_deref(), want);
}

/// What is on disk decides whether the web server may connect, and not what the pool would make.
#[rstest]
#[case::its_own(33, 0o600, 0o755, true)]
#[case::its_group(0, 0o660, 0o755, true)]
#[case::readable_only(0, 0o644, 0o755, false)]
#[case::behind_a_closed_folder(33, 0o600, 0o700, false)]
fn a_socket_on_disk_decides(#[case] owner: u32, #[case] mode: u32, #[case] folder: u32, #[case] want: bool) {
    if !test_support::is_root() {
        return;
    }
    let quay = with_pools(&[ONE]);
    let dir = quay.dir.path().join("run/php");
    fs::create_dir_all(&dir).unwrap();
    let socket = std::os::unix::net::UnixListener::bind(dir.join("berths.sock")).unwrap();
    give(&dir.join("berths.sock"), owner, 33, mode);
    give(&dir, 0, 0, folder);
    let served = quay.look().served;
    assert_eq!(served[0].may_connect, Some(want));
    assert_eq!(quay.says().contains("may not connect"), !want);
    drop(socket);
}

#[expect(clippy::disallowed_methods, reason = "a test's own file")]
fn give(path: &Path, owner: u32, group: u32, mode: u32) {
    std::os::unix::fs::chown(path, Some(owner), Some(group)).unwrap();
    fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(mode)).unwrap();
}

#[test]
fn real_and_effective_ids_and_groups_are_told() {
    let quay = with_pools(&[ONE]);
    quay.process(20, 1, "php-fpm8.2", "php-fpm: master process (/etc/php/8.2/fpm/php-fpm.conf)", (0, 0));
    quay.process(21, 20, "php-fpm8.2", "php-fpm: pool berths", (4101, 4101));
    quay.write(
        "proc/21/status",
        "Name:\tphp-fpm8.2\nPPid:\t20\nUid:\t0\t4101\t0\t4101\nGid:\t4101\t4101\t4101\t4101\nGroups:\t33 4101\n",
    );
    let services = quay.look();
    let pool = services.services.iter().find(|service| service.pool.as_deref() == Some("berths")).unwrap();
    assert_eq!(pool.groups, ["www-data", "berths"]);
    assert!(pool.evidence.iter().any(|evidence| evidence.says.contains("(real uid root)")), "{pool:?}");
    assert!(services.disagreements.iter().any(|d| d.says.contains("with other groups than that account has now")));
}

#[test]
fn a_server_in_front_of_another_is_told() {
    let quay = Quay::new(&[(
        "etc/nginx/nginx.conf",
        "user www-data; http { server { root /srv/a; location / { proxy_pass http://127.0.0.1:8080; } } }",
    )]);
    let served = quay.look().served;
    assert!(matches!(&served[0].folder.through, PhpThrough::Server(to, _) if to == "http://127.0.0.1:8080"));
}

#[test]
fn what_is_refused_is_told() {
    let quay = Quay::new(&[(
        "etc/nginx/nginx.conf",
        "user www-data; http { server { root /srv/a; location /data { deny all; } location ^~ /lib/ { return 403; } location /x { } } }",
    )]);
    assert_eq!(quay.look().served[0].folder.denied, [Path::new("/srv/a/data"), Path::new("/srv/a/lib")]);
}

const PHP_LOCATION: &str = r"location ~ \.php$ { fastcgi_pass unix:/run/php/a.sock; }";

#[rstest]
#[case::prefix("location ^~ /up/ { expires 1d; }", "", true)]
#[case::prefix_that_runs_php("location ^~ /up/ { fastcgi_pass unix:/run/php/a.sock; }", "", false)]
#[case::plain_prefix("location /up/ { expires 1d; }", "", false)]
#[case::inside_a_prefix(r"location /up { location ~ \.php$ { deny all; } }", "", true)]
#[case::expression_before(r"location ~ ^/up/.*\.php$ { return 404; }", "", true)]
#[case::expression_after("", r"location ~ ^/up/.*\.php$ { return 404; }", false)]
#[case::prefix_after("", "location ^~ /up/ { }", true)]
fn folders_without_php_in_nginx(#[case] before: &str, #[case] after: &str, #[case] without: bool) {
    let quay = Quay::new(&[]);
    quay.write(
        "etc/nginx/nginx.conf",
        &format!("user www-data; http {{ server {{ root /srv/a; {before} {PHP_LOCATION} {after} }} }}"),
    );
    let folder = &quay.look().served[0].folder;
    assert!(folder.runs_php_at(Path::new("/srv/a/lib")));
    assert_eq!(!folder.runs_php_at(Path::new("/srv/a/up/q01")), without, "{:?}", folder.without_php);
}

#[rstest]
#[case::handler("<Directory /srv/a/up>\nSetHandler None\n</Directory>", false)]
#[case::handler_of_files(
    "<Directory /srv/a/up>\n<FilesMatch \"\\.php$\">\nSetHandler none\n</FilesMatch>\n</Directory>",
    true
)]
#[case::denied("<Directory /srv/a/up>\nRequire all denied\n</Directory>", true)]
#[case::nothing("<Directory /srv/a/up>\nOptions None\n</Directory>", false)]
fn folders_without_php_in_apache(#[case] section: &str, #[case] without: bool) {
    let quay = Quay::new(SWITCHED);
    quay.write("etc/apache2/mods-enabled/proxy_fcgi.load", "LoadModule proxy_fcgi_module /usr/lib/mod_proxy_fcgi.so\n");
    quay.write(
        "etc/apache2/sites-enabled/a.conf",
        &format!("<VirtualHost *:80>\nDocumentRoot /srv/a\n{section}\n</VirtualHost>\n"),
    );
    let folder = &quay.look().served[0].folder;
    assert!(folder.runs_php_at(Path::new("/srv/a/lib")), "{folder:?}");
    assert_eq!(!folder.runs_php_at(Path::new("/srv/a/up/q01")), without, "{folder:?}");
}

/// Two site files may be told apart by what is served though one tree lies in the other.
#[test]
fn the_nearest_folder_tells() {
    let quay = with_pools(&[(
        "etc/nginx/nginx.conf",
        "user www-data; http { server { root /srv; location ~ \\.php$ { fastcgi_pass 127.0.0.1:9002; }\n\
         location /berths { root /srv; location ~ \\.php$ { fastcgi_pass unix:/run/php/berths.sock; } } } }",
    )]);
    let host = Host::at(quay.dir.path()).unwrap();
    let php = |folder: &str| quay.look().account(&host, Role::Php, Path::new(folder)).unwrap().account.user;
    assert_eq!((php("/srv/berths/lib"), php("/srv/tide")), ("berths".to_owned(), "tidewatch".to_owned()));
}

#[test]
fn nothing_is_found_where_nothing_is() {
    let quay = Quay::new(&[]);
    let host = Host::at(quay.dir.path()).unwrap();
    let services = quay.look();
    assert!(services.services.is_empty() && services.served.is_empty() && services.unclear.is_empty());
    assert_eq!(services.account(&host, Role::Php, Path::new("/srv/a")), Err(Undecided::Unknown));
    assert!(!services.processes_seen);
}

/// Pools as configured: `name account address`.
fn pools(files: &[(&str, &str)]) -> (Vec<String>, Vec<String>) {
    let quay = Quay::new(files);
    let host = Host::at(quay.dir.path()).unwrap();
    let mut files = files::Files::new(&host);
    let pools = fpm::read(&mut files, &Launches::default());
    let shown = pools.iter().map(|pool| {
        let account = pool.account.as_ref().map_or("-", |(account, _)| account);
        let address = pool.listen.as_ref().map_or_else(|| "-".to_owned(), |(address, _)| address.to_string());
        format!("{} {account} {address}", pool.name)
    });
    (shown.collect(), files.unclear().into_iter().map(|unclear| format!("{}: {}", unclear.at, unclear.says)).collect())
}

#[rstest]
#[case::group_before_user("[a]\ngroup = g\nuser = u\nlisten = 9000", "a u:g localhost:9000")]
#[case::user_before_group("[a]\nuser = u\ngroup = g\nlisten = 9000", "a u:g localhost:9000")]
#[case::a_later_line_wins("[a]\nuser = u\nuser = v\nlisten = 9000\nlisten = 9001", "a v localhost:9001")]
#[case::no_account("[a]\nlisten = /run/$pool.sock", "a - /run/a.sock")]
#[case::no_address("[a]\nuser = u", "a u -")]
#[case::two_sections_of_one_pool("[a]\nuser = u\n[global]\nuser = x\n[a]\nlisten = 9000", "a u localhost:9000")]
fn pools_are_read(#[case] text: &str, #[case] want: &str) {
    assert_eq!(pools(&[("etc/php-fpm.conf", text)]), (vec![want.to_owned()], vec![]));
}

#[test]
fn includes_of_php_fpm_are_relative_and_keep_their_section() {
    let (found, unclear) = pools(&[
        ("etc/php/8.2/fpm/php-fpm.conf", "[global]\ninclude = pool.d/*.conf\n"),
        ("etc/php/8.2/fpm/pool.d/b.conf", "[b]\nuser = u\ninclude = more.inc\n"),
        ("etc/php/8.2/fpm/pool.d/a.conf", "[a]\nuser = v\nlisten = here\nchroot = /srv\n"),
        ("etc/php/8.2/fpm/more.inc", "listen = 9000\n"),
        ("etc/php/8.2/fpm/loop.conf", "include = loop.conf\n"),
    ]);
    assert_eq!(found, ["a v -", "b u localhost:9000"]);
    let place = "/etc/php/8.2/fpm/pool.d/a.conf";
    assert_eq!(
        unclear,
        [
            format!("{place}:3: listen = here: not an address that is understood"),
            format!("{place}:4: pool a sees /srv as /: paths in its code and settings begin there"),
        ]
    );
}

#[test]
fn an_include_of_itself_ends() {
    let (found, unclear) = pools(&[("etc/php-fpm.conf", "[a]\nuser = u\ninclude = php-fpm.conf\n")]);
    assert_eq!(found, ["a u -"]);
    assert!(unclear[0].contains("an include too deep"), "{unclear:?}");
}

/// Units as read: `program arguments account`.
#[rstest]
#[case::plain("[Service]\nExecStart=/usr/sbin/nginx -c /etc/x.conf\nUser=u", Some("nginx -c /etc/x.conf u"))]
#[case::with_a_group("[Service]\nExecStart=/usr/sbin/nginx\nUser=u\nGroup=g", Some("nginx  u:g"))]
#[case::with_signs("[Service]\nExecStart=-@/usr/sbin/nginx\n", Some("nginx  -"))]
#[case::the_last_command_counts("[Service]\nExecStart=/bin/a\nExecStart=\nExecStart=/usr/sbin/nginx", Some("nginx  -"))]
#[case::of_another_section("[Unit]\nUser=u\n[Service]\nExecStart=/usr/sbin/nginx", Some("nginx  -"))]
#[case::without_a_command("[Service]\nUser=u", None)]
fn units_are_read(#[case] text: &str, #[case] want: Option<&str>) {
    let quay = Quay::new(&[("etc/systemd/system/nginx.service", text)]);
    let host = Host::at(quay.dir.path()).unwrap();
    let found = units::read(&mut files::Files::new(&host)).into_iter().next().map(|unit| {
        let account = unit.account.map_or_else(|| "-".to_owned(), |(account, _)| account);
        format!("{} {} {account}", unit.program, unit.arguments.join(" "))
    });
    assert_eq!(found.as_deref(), want);
}

#[test]
fn a_masked_unit_is_none() {
    let quay =
        Quay::new(&[("lib/systemd/system/caddy.service", "[Service]\nUser=berths\nExecStart=/usr/bin/caddy run\n")]);
    fs::create_dir_all(quay.dir.path().join("etc/systemd/system")).unwrap();
    fs::create_dir_all(quay.dir.path().join("dev")).unwrap();
    assert_eq!(quay.look().services.len(), 1);
    std::os::unix::fs::symlink("/dev/null", quay.dir.path().join("etc/systemd/system/caddy.service")).unwrap();
    assert_eq!(quay.look().services.len(), 0);
}

/// What a site file that leaves accounts out gets: `php web` and what was found, or what is wrong.
fn site(quay: &Quay, accounts_table: &str) -> Result<(String, Vec<&'static str>), String> {
    let host = Host::at(quay.dir.path()).unwrap();
    let accounts = Accounts::from_texts(PASSWD, GROUP);
    let text = format!("[site]\nroot = \"/srv/berths\"\n[accounts]\n{accounts_table}");
    let services = look(&host, &accounts);
    let detector = Detector::new(&host, &services);
    let (none, host_file) = (|_: &str| unreachable!("no outline is named"), crate::site::HostFile::default());
    let (accounts, detector, host_file) = (&accounts, &detector, &host_file);
    let reading = crate::site::Reading { accounts, checks: &[], detector, host_file, outline: &none };
    let site = crate::site::read_within(&text, Path::new("berths.toml"), &reading);
    let site = site.map_err(|problems| problems.to_string())?;
    let found = site.detected.iter().map(|detected| detected.key).collect();
    Ok((format!("{} {}", site.php.user, site.web.user), found))
}

#[test]
fn what_a_site_file_leaves_out_is_detected() {
    let quay = with_pools(&[ONE]);
    assert_eq!(site(&quay, ""), Ok(("berths www-data".into(), vec!["php", "web"])));
    assert_eq!(site(&quay, "php = \"tidewatch\"\n"), Ok(("tidewatch www-data".into(), vec!["web"])));
    assert_eq!(site(&quay, "web = \"apache\"\n"), Ok(("berths apache".into(), vec!["php"])));
}

#[test]
fn what_is_ambiguous_or_unknown_is_a_mistake_of_the_site_file() {
    let two = ("etc/php/8.2/fpm/pool.d/c.conf", "[c]\nuser = tidewatch\nlisten = /run/php/berths.sock\n");
    let said = site(&with_pools(&[ONE, two]), "").unwrap_err();
    assert!(said.starts_with("berths.toml:3:1: [accounts] does not name php, and several could be meant: "), "{said}");
    let said = site(&Quay::new(&[]), "").unwrap_err();
    assert!(said.contains("does not name php, and nothing here tells"), "{said}");
    // Without a web server PHP's account stands for it.
    assert_eq!(site(&Quay::new(&[]), "php = \"berths\"\n"), Ok(("berths berths".into(), vec![])));
}

#[rstest]
#[case("nginx", ".git/HEAD", Some("location ^~ /.git/HEAD { return 404; }\n# then: nginx -t && nginx -s reload"))]
#[case(
    "apache2",
    "a.sql",
    Some(
        "<LocationMatch \"^/a\\.sql\">\n    Require all denied\n</LocationMatch>\n# then: apachectl configtest && apachectl graceful"
    )
)]
#[case("nginx", "x { } location / { proxy_pass http://192.0.2.7;", None)]
#[case("apache2", "x\">\nRequire all granted", None)]
#[case("another", "a.sql", None)]
fn nothing_is_printed_that_a_name_could_have_smuggled_in(
    #[case] program: &str,
    #[case] path: &str,
    #[case] want: Option<&str>,
) {
    let lines = configuration_lines(program, Keep::FromServing, Path::new("/srv/www"), Path::new(path));
    assert_eq!(lines.as_deref(), want);
}

#[rstest]
#[case::all_came_up(&[(100, 1, 0), (101, 100, 33), (102, 100, 33)], false)]
#[case::one_is_coming(&[(100, 1, 0), (101, 100, 33), (102, 100, 0)], true)]
#[case::all_are_coming_or_stay_so(&[(100, 1, 0), (101, 100, 0), (102, 100, 0)], false)]
#[case::of_another_master(&[(100, 1, 0), (101, 100, 33), (200, 1, 0), (201, 200, 0)], false)]
fn a_worker_that_is_being_started_is_known(#[case] processes: &[(u32, u32, u32)], #[case] want: bool) {
    let quay = Quay::new(&[]);
    for (pid, parent, uid) in processes {
        quay.process(*pid, *parent, "apache2", "/usr/sbin/apache2|-k|start", (*uid, *uid));
    }
    let (seen, listed) = process::listed(&Host::at(quay.dir.path()).unwrap());
    assert!(seen && listed.len() == processes.len());
    assert_eq!(process::one_is_being_started(&listed), want);
}
