//! The demo host: `quay-1` of the made-up Saltmarsh Harbour Trust, with three small PHP applications.

use std::fs;
use std::io::{self, Write as _};
use std::os::unix::fs::{self as unix, PermissionsExt as _};
use std::path::{Path, PathBuf};

use include_dir::{Dir, include_dir};

static APPLICATIONS: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/demo");

/// The accounts of the demo host: name, uid, gid, what for.
const ACCOUNTS: &[(&str, u32, &str)] = &[
    ("root", 0, "/bin/sh"),
    ("www-data", 33, "/usr/sbin/nologin"),
    ("backup", 34, "/usr/sbin/nologin"),
    ("deploy", 4100, "/bin/sh"),
    ("berths", 4101, "/usr/sbin/nologin"),
    ("tidewatch", 4102, "/usr/sbin/nologin"),
    ("notices", 4103, "/usr/sbin/nologin"),
    ("piers", 4104, "/usr/sbin/nologin"),
    ("wharfinger", 4110, "/bin/sh"),
];

/// The sites, and the folders that the web server serves.
const SERVED: &[(&str, &str)] = &[
    ("berths", "/srv/www/berths"),
    ("tidewatch", "/srv/www/tidewatch/public"),
    ("notices", "/usr/share/notices/htdocs"),
];

/// So many piers have a board of their own, all of one outline.
const PIERS: usize = 12;

/// The disk of another host, below the demo host's own.
pub(crate) const OTHER_HOST: &str = "srv/images/quay-2";
/// What its kernel answers, and its file-context rules.
const INTERFACE: &str = include_str!("../selinux/interface.txt");
const FILE_CONTEXTS: &str = include_str!("../selinux/file_contexts");

/// Builds the demo host in `root`, which must be empty or missing. The answer is the number of files.
pub(crate) fn build(root: &Path) -> io::Result<usize> {
    fs::create_dir_all(root)?;
    let mut host = Builder { root: root.to_owned(), files: 0, owners: rustix::process::geteuid().is_root() };
    host.mode("", 0o755)?;
    host.accounts()?;
    host.services()?;
    host.berths()?;
    host.tidewatch()?;
    host.notices()?;
    host.piers()?;
    host.labelled()?;
    Ok(host.files)
}

struct Builder {
    root: PathBuf,
    files: usize,
    /// Whether owners can be given: as an ordinary user everything is that user's.
    owners: bool,
}

impl Builder {
    fn at(&self, path: &str) -> PathBuf {
        self.root.join(path)
    }

    fn write(&mut self, path: &str, content: impl AsRef<[u8]>) -> io::Result<()> {
        let whole = self.at(path);
        if let Some(above) = whole.parent() {
            fs::create_dir_all(above)?;
        }
        fs::write(whole, content)?;
        self.files += 1;
        Ok(())
    }

    /// Copies one of the applications.
    fn unpack(&mut self, name: &str, to: &str) -> io::Result<()> {
        let mut folders = vec![APPLICATIONS.get_dir(name).ok_or(io::ErrorKind::NotFound)?];
        while let Some(folder) = folders.pop() {
            for file in folder.files() {
                let below = file.path().strip_prefix(name).unwrap_or(file.path());
                self.write(&format!("{to}/{}", below.display()), file.contents())?;
            }
            folders.extend(folder.dirs());
        }
        Ok(())
    }

    #[expect(clippy::disallowed_methods, reason = "the demo builds a tree of its own")]
    fn mode(&self, path: &str, mode: u32) -> io::Result<()> {
        fs::set_permissions(self.at(path), fs::Permissions::from_mode(mode))
    }

    #[expect(clippy::disallowed_methods, reason = "the demo builds a tree of its own")]
    fn own(&self, path: &str, uid: u32, gid: u32) -> io::Result<()> {
        if self.owners { unix::lchown(self.at(path), Some(uid), Some(gid)) } else { Ok(()) }
    }

    /// Gives everything below `path` an owner and modes.
    fn all(&self, path: &str, owner: (u32, u32), dir_mode: u32, file_mode: u32) -> io::Result<()> {
        let mut folders = vec![path.to_owned()];
        while let Some(folder) = folders.pop() {
            for entry in fs::read_dir(self.at(&folder))? {
                let entry = entry?;
                let name = format!("{folder}/{}", entry.file_name().to_string_lossy());
                let kind = entry.file_type()?;
                if kind.is_dir() {
                    folders.push(name.clone());
                } else if !kind.is_symlink() {
                    self.mode(&name, file_mode)?;
                }
                self.own(&name, owner.0, owner.1)?;
            }
            self.own(&folder, owner.0, owner.1)?;
            self.mode(&folder, dir_mode)?;
        }
        Ok(())
    }

    fn accounts(&mut self) -> io::Result<()> {
        let mut passwd: String =
            ACCOUNTS.iter().map(|(name, id, shell)| format!("{name}:x:{id}:{id}::/nonexistent:{shell}\n")).collect();
        let mut group: String = ACCOUNTS.iter().map(|(name, id, _)| format!("{name}:x:{id}:\n")).collect();
        let (uid, gid) = (rustix::process::geteuid().as_raw(), rustix::process::getegid().as_raw());
        if !self.owners {
            passwd = format!("{passwd}you:x:{uid}:{gid}::/nonexistent:/bin/sh\n");
            group = format!("{group}you:x:{gid}:\n");
        }
        self.write("etc/passwd", passwd)?;
        self.write("etc/group", group)?;
        self.write("etc/hostname", "quay-1\n")?;
        for site in ["berths", "tidewatch", "notices"] {
            let file = APPLICATIONS.get_file(format!("sites/{site}.toml")).ok_or(io::ErrorKind::NotFound)?;
            let text = file.contents_utf8().unwrap_or_default();
            self.write(&format!("etc/ambrik/sites/{site}.toml"), self.kept_by_caller(text))?;
        }
        Ok(())
    }

    /// nginx and three pools of php-fpm: as configured, and as they run. A fourth pool was renamed and nobody reloaded.
    fn services(&mut self) -> io::Result<()> {
        let mut servers = String::new();
        let mut pools: Vec<(&str, usize, usize)> = vec![("spare", 33, 54)];
        for (n, (site, folder)) in SERVED.iter().enumerate() {
            let server = format!(
                "server {{\n    listen 80;\n    server_name {site}.quay-1.example;\n    root {folder};\n    \
                 location ~ \\.php$ {{\n        fastcgi_pass unix:/run/php/{site}.sock;\n    }}\n}}\n"
            );
            servers.push_str(&server);
            let pool = format!(
                "[{site}]\nuser = {site}\ngroup = {site}\nlisten = /run/php/$pool.sock\nlisten.owner = www-data\npm = dynamic\n"
            );
            self.write(&format!("etc/php/8.2/fpm/pool.d/{site}.conf"), pool)?;
            pools.push((site, 4101 + n, 51 + n));
        }
        for n in 1..=PIERS {
            let server = format!(
                "server {{\n    listen 80;\n    server_name pier-{n:02}.quay-1.example;\n    root /srv/www/pier-{n:02}/public;\n    \
                 location ~ \\.php$ {{\n        fastcgi_pass unix:/run/php/piers.sock;\n    }}\n}}\n"
            );
            servers.push_str(&server);
        }
        self.write(
            "etc/php/8.2/fpm/pool.d/piers.conf",
            "[piers]\nuser = piers\ngroup = piers\nlisten = /run/php/$pool.sock\nlisten.owner = www-data\npm = dynamic\n",
        )?;
        pools.push(("piers", 4104, 55));
        self.write("etc/nginx/sites-enabled/harbour.conf", servers)?;
        self.write(
            "etc/nginx/nginx.conf",
            "user www-data;\nevents {}\nhttp {\n    include /etc/nginx/sites-enabled/*;\n}\n",
        )?;
        self.write("etc/php/8.2/fpm/php-fpm.conf", "[global]\ninclude=/etc/php/8.2/fpm/pool.d/*.conf\n")?;
        self.process(41, 1, "nginx", "nginx: master process /usr/sbin/nginx", 0)?;
        self.process(42, 41, "nginx", "nginx: worker process", 33)?;
        self.process(50, 1, "php-fpm8.2", "php-fpm: master process (/etc/php/8.2/fpm/php-fpm.conf)", 0)?;
        for (pool, account, number) in pools {
            self.process(number, 50, "php-fpm8.2", &format!("php-fpm: pool {pool}"), account)?;
        }
        Ok(())
    }

    /// A process as proc(5) shows it.
    fn process(&mut self, number: usize, parent: usize, name: &str, title: &str, account: usize) -> io::Result<()> {
        let ids = format!("{account}\t{account}\t{account}\t{account}");
        let status = format!("Name:\t{name}\nPPid:\t{parent}\nUid:\t{ids}\nGid:\t{ids}\nGroups:\t{account} \n");
        self.write(&format!("proc/{number}/status"), status)?;
        self.write(&format!("proc/{number}/cmdline"), format!("{title}\0"))
    }

    /// A site file as it is for whoever runs the demo: an ordinary user keeps the sites itself.
    fn kept_by_caller(&self, text: &str) -> String {
        if self.owners {
            return text.to_owned();
        }
        text.replace("keeper = \"deploy\"\n", "").replace("[accounts]\n", "[accounts]\nkeeper = \"you\"\n")
    }

    /// Just unpacked as root, then "made to work": everything is everybody's.
    fn berths(&mut self) -> io::Result<()> {
        let root = "srv/www/berths";
        self.unpack("berths", root)?;
        for n in 1..=24 {
            for view in 0..20 {
                let picture = format!(
                    "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 40 20\"><path d=\"M0 {view}h40v20H0z\" fill=\"#8bc\"/></svg>\n"
                );
                self.write(&format!("{root}/assets/charts/q{n:02}/{view:02}.svg"), picture)?;
            }
        }
        for n in 1..=40 {
            self.write(&format!("{root}/uploads/q{n:02}.svg"), "<svg xmlns=\"http://www.w3.org/2000/svg\"/>\n")?;
            self.write(&format!("{root}/var/cache/{n:02}.php"), "<?php // compiled\n")?;
        }
        self.write(&format!("{root}/var/log/berths.log"), "2026-11-01T06:00:00+00:00 started\n")?;
        self.write(
            &format!("{root}/config/settings.php"),
            "<?php return ['language' => 'en', 'secret_key' => 'made-up'];\n",
        )?;
        let archive = zipped("berths-1.4/index.php", b"<?php require __DIR__ . '/lib/start.php';\n");
        self.write(&format!("{root}/berths-1.4.zip"), archive)?;
        self.write(&format!("{root}/info.php"), "<?php phpinfo();\n")?;
        self.all(root, (4101, 4101), 0o777, 0o666)?;
        self.write(&format!("{root}/lib/import.sh"), "#!/bin/sh\nexec php import.php\n")?;
        self.mode(&format!("{root}/lib/import.sh"), 0o777)
    }

    /// Sealed long ago, and drifted since.
    fn tidewatch(&mut self) -> io::Result<()> {
        let root = "srv/www/tidewatch";
        self.unpack("tidewatch", root)?;
        for gauge in ["north", "south", "lock"] {
            for day in 1..=220 {
                self.write(
                    &format!("{root}/data/{gauge}/{day:03}.csv"),
                    format!("06:00;{}.{:02}\n", day % 4, day % 100),
                )?;
            }
        }
        for n in 1..=150 {
            self.write(
                &format!("{root}/public/assets/tiles/{n:03}.svg"),
                "<svg xmlns=\"http://www.w3.org/2000/svg\"/>\n",
            )?;
        }
        self.write(&format!("{root}/var/cache/latest.json"), "{\"north\":1.2}\n")?;
        self.write(&format!("{root}/notes/handover.txt"), "who to call when the feed stops\n")?;
        let rows = "-- SQL dump\nCREATE TABLE readings (day date, level real);\nINSERT INTO readings VALUES ('2026-10-01', 1.25),\n('2026-10-02', 1.31);\n";
        self.write(&format!("{root}/public/readings-20261001.sql.gz"), gzipped(rows.as_bytes())?)?;
        self.write(&format!("{root}/src/Readings.php.orig"), "<?php // as it was before the hot fix\n")?;
        self.all(root, (4100, 4100), 0o755, 0o644)?;
        self.all(&format!("{root}/data"), (4102, 4100), 0o2770, 0o660)?;
        self.all(&format!("{root}/var/cache"), (4102, 4100), 0o2770, 0o660)?;
        // A hot fix by way of the web server's account, and a night of "why can it not write".
        self.own(&format!("{root}/src/Readings.php"), 4102, 4102)?;
        self.mode(&format!("{root}/public/assets"), 0o777)?;
        self.own(&format!("{root}/config/gauges.ini"), 4100, 34)?;
        self.all(&format!("{root}/data/lock"), (0, 0), 0o755, 0o644)?;
        unix::symlink("../../../../var/backups", self.at(&format!("{root}/public/backups")))
    }

    /// In four places of the file system hierarchy, and nearly right.
    fn notices(&mut self) -> io::Result<()> {
        self.unpack("notices", "usr/share/notices")?;
        fs::rename(self.at("usr/share/notices/settings.php"), self.at("usr/share/notices/lib/settings.default.php"))?;
        let settings = APPLICATIONS.get_file("notices/settings.php").ok_or(io::ErrorKind::NotFound)?;
        self.write("etc/notices/settings.php", settings.contents())?;
        for n in 1..=120 {
            self.write(
                &format!("var/lib/notices/2026{n:04}-090000.txt"),
                format!("Notice {n}: the sea lock opens at six.\n"),
            )?;
        }
        fs::create_dir_all(self.at("var/log"))?;
        self.all("usr/share/notices", (0, 0), 0o755, 0o644)?;
        self.all("etc/notices", (0, 4103), 0o755, 0o644)?;
        self.all("var/lib/notices", (4103, 4103), 0o755, 0o644)
    }

    /// Twelve small boards of one outline, which the backup may read; three were made to work in a hurry.
    fn piers(&mut self) -> io::Result<()> {
        let outline = "# The boards of the piers: each site file has its root, and what is its own.\n[defaults]\nkeeper = \"deploy\"\nphp    = \"piers\"\n\
                       web    = \"www-data\"\nserved = \"public\"\n\n[[part]]\npath = \"settings.php\"\nuse  = \"secret\"\n\n[[part]]\npath = \"public/uploads\"\n\
                       use  = \"store\"\n\n[[access]]\nuser = \"backup\"\npath = \".\"\nmay  = \"read\"\n";
        let outline = if self.owners { outline.to_owned() } else { outline.replace("\"deploy\"", "\"you\"") };
        self.write("etc/ambrik/outlines/piers.toml", outline)?;
        self.write("etc/ambrik/host.toml", "[keep]\nkeepsakes = \"90d\"\nhistory   = \"400d\"\n")?;
        for n in 1..=PIERS {
            let (name, root) = (format!("pier-{n:02}"), format!("srv/www/pier-{n:02}"));
            let site = format!("[site]\nroot    = \"/{root}\"\noutline = \"piers\"\n");
            self.write(&format!("etc/ambrik/sites/{name}.toml"), site)?;
            self.write(&format!("{root}/public/index.php"), "<?php require __DIR__ . '/../lib/Board.php';\n")?;
            self.write(&format!("{root}/lib/Board.php"), format!("<?php // the board of pier {n}\n"))?;
            self.write(&format!("{root}/settings.php"), "<?php return ['secret_key' => 'made-up'];\n")?;
            self.write(&format!("{root}/public/uploads/plan.svg"), "<svg xmlns=\"http://www.w3.org/2000/svg\"/>\n")?;
            self.all(&root, (4100, 4100), 0o755, 0o644)?;
            self.own(&format!("{root}/settings.php"), 4100, 4104)?;
            self.mode(&format!("{root}/settings.php"), 0o640)?;
            self.all(&format!("{root}/public/uploads"), (4104, 33), 0o2750, 0o640)?;
            if n % 4 == 3 {
                self.mode(&format!("{root}/lib"), 0o777)?;
                self.mode(&format!("{root}/lib/Board.php"), 0o666)?;
            }
        }
        Ok(())
    }

    /// The disk of quay-2, where SELinux enforces: the bookings were unpacked there as if it did not.
    fn labelled(&mut self) -> io::Result<()> {
        let at = |path: &str| format!("{OTHER_HOST}/{path}");
        let files = self.files;
        for path in ["etc/passwd", "etc/group"] {
            let text = fs::read(self.at(path))?;
            self.write(&at(path), text)?;
        }
        self.write(&at("etc/hostname"), "quay-2\n")?;
        self.write(&at("etc/selinux/config"), "SELINUX=enforcing\nSELINUXTYPE=targeted\n")?;
        self.write(&at("etc/selinux/targeted/contexts/files/file_contexts"), FILE_CONTEXTS)?;
        self.write(&at("etc/selinux/targeted/contexts/customizable_types"), "")?;
        self.kernel(&at("sys/fs/selinux"))?;
        let site = "[site]\nroot = \"/srv/www/berths\"\nserved = \".\"\n\n[accounts]\nphp = \"berths\"\nweb = \"www-data\"\n\n\
                    [[part]]\npath = \"config/settings.php\"\nuse = \"secret\"\n\n[[part]]\npath = \"uploads\"\nuse = \"store\"\n\n\
                    [[part]]\npath = \"var/cache\"\nuse = \"scratch\"\n\n[[part]]\npath = \"/var/log/berths\"\nuse = \"log\"\n";
        let site = self.kept_by_caller(site);
        self.write(&at("etc/ambrik/sites/berths.toml"), site)?;
        let root = at("srv/www/berths");
        self.unpack("berths", &root)?;
        fs::remove_file(self.at(&format!("{root}/install/index.php")))?;
        fs::remove_dir(self.at(&format!("{root}/install")))?;
        self.write(&format!("{root}/config/settings.php"), "<?php return ['secret_key' => 'made-up'];\n")?;
        self.write(&format!("{root}/uploads/q01.svg"), "<svg xmlns=\"http://www.w3.org/2000/svg\"/>\n")?;
        self.write(&format!("{root}/var/cache/01.php"), "<?php // compiled\n")?;
        self.write(&at("var/log/berths/berths.log"), "2026-11-01T06:00:00+00:00 started\n")?;
        self.all(&root, (0, 0), 0o755, 0o644)?;
        self.own(&format!("{root}/config/settings.php"), 0, 4101)?;
        self.mode(&format!("{root}/config/settings.php"), 0o640)?;
        for part in [format!("{root}/uploads"), format!("{root}/var/cache")] {
            self.all(&part, (4101, 33), 0o2750, 0o640)?;
        }
        self.all(&at("var/log/berths"), (4101, 4101), 0o700, 0o600)?;
        self.label(&root, "var_t")?;
        self.label(&at("var/log/berths"), "var_log_t")?;
        fs::create_dir_all(self.at(&at("var/lib")))?;
        self.label(&format!("{root}/lib"), "httpd_sys_rw_content_t")?;
        self.files = files;
        Ok(())
    }

    /// The kernel's interface, as the files of a folder.
    fn kernel(&mut self, folder: &str) -> io::Result<()> {
        let (mut answers, mut valid) = (String::new(), String::new());
        for line in INTERFACE.lines() {
            match line.split_once(' ') {
                Some(("class", class)) => {
                    let mut words = class.split(' ');
                    let (name, index) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
                    self.write(&format!("{folder}/class/{name}/index"), index)?;
                    for (perm, number) in words.filter_map(|word| word.split_once('=')) {
                        self.write(&format!("{folder}/class/{name}/perms/{perm}"), number)?;
                    }
                }
                Some(("access", line)) => answers.extend([line, "\n"]),
                Some(("context", line)) => valid.extend([line, "\n"]),
                _ => {}
            }
        }
        self.write(&format!("{folder}/access"), answers)?;
        self.write(&format!("{folder}/context"), valid)?;
        self.write(&format!("{folder}/enforce"), "1")?;
        self.write(&format!("{folder}/mls"), "1")
    }

    /// Labels everything at and below `path`, where the caller may.
    fn label(&self, path: &str, type_name: &str) -> io::Result<()> {
        let label = format!("system_u:object_r:{type_name}:s0\0");
        let mut paths = vec![self.at(path)];
        while let Some(path) = paths.pop() {
            // Only root may; whoever else runs the demo sees files without labels.
            let flags = rustix::fs::XattrFlags::empty();
            let _ = rustix::fs::lsetxattr(&path, "security.selinux", label.as_bytes(), flags);
            if path.symlink_metadata()?.is_dir() {
                for entry in fs::read_dir(&path)? {
                    paths.push(entry?.path());
                }
            }
        }
        Ok(())
    }
}

/// A zip file with one stored entry (APPNOTE 4.3).
fn zipped(name: &str, content: &[u8]) -> Vec<u8> {
    let mut sum = flate2::Crc::new();
    sum.update(content);
    let size = u32::try_from(content.len()).unwrap_or_default().to_le_bytes();
    let length = u16::try_from(name.len()).unwrap_or_default().to_le_bytes();
    // Version 2.0, no flags, stored, the 1st of October 2026.
    let common =
        [&[20, 0, 0, 0, 0, 0, 0, 0, 0x41, 0x5d][..], &sum.sum().to_le_bytes(), &size, &size, &length, &[0, 0]].concat();
    let entry = [b"PK\x03\x04", &common[..], name.as_bytes(), content].concat();
    let listed = [b"PK\x01\x02\x14\x00", &common[..], &[0; 14], name.as_bytes()].concat();
    let of = |length: usize| u32::try_from(length).unwrap_or_default().to_le_bytes();
    let end = [&b"PK\x05\x06\0\0\0\0\x01\0\x01\0"[..], &of(listed.len()), &of(entry.len()), &[0, 0]].concat();
    [entry, listed, end].concat()
}

fn gzipped(content: &[u8]) -> io::Result<Vec<u8>> {
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    packed.write_all(content)?;
    packed.finish()
}
