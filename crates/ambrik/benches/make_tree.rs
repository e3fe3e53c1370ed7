//! Makes a tree of N entries for the benchmarks, like a deployed application: ten files a folder, folders in folders,
//! with a site file and accounts beside it.
//!
//! `cargo bench --bench make_tree -- HOST N` makes it below HOST/srv/www/site; benches/run.sh calls it.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

const FILES_IN_A_FOLDER: usize = 10;
const FOLDERS_IN_A_FOLDER: usize = 12;

const SITE: &str = r#"[site]
root = "/srv/www/site"
served = "public"
[accounts]
php = "php"
web = "web"
[[part]]
path = "var/cache"
use = "scratch"
[[part]]
path = "config/settings.php"
use = "secret"
[[part]]
path = "public/uploads"
use = "store"
"#;

fn main() -> io::Result<()> {
    let words: Vec<String> = std::env::args().skip(1).filter(|word| word != "--bench").collect();
    let [host, entries] = &words[..] else { return Ok(()) };
    let entries: usize = entries.parse().map_err(|_| io::ErrorKind::InvalidInput)?;
    let host = Path::new(host);
    fs::create_dir_all(host.join("etc/ambrik/sites"))?;
    fs::write(host.join("etc/passwd"), "root:x:0:0::/:/\nphp:x:61001:61001::/:/\nweb:x:61002:61002::/:/\n")?;
    fs::write(host.join("etc/group"), "root:x:0:\nphp:x:61001:\nweb:x:61002:\n")?;
    fs::write(host.join("etc/ambrik/sites/site.toml"), SITE)?;
    let root = host.join("srv/www/site");
    for folder in ["lib", "public/assets", "var/cache", "public/uploads", "config"] {
        fs::create_dir_all(root.join(folder))?;
    }
    fs::write(root.join("config/settings.php"), "<?php return [];\n")?;
    let tops = ["lib", "public/assets", "var/cache", "public/uploads"].map(|top| root.join(top));
    fill(&tops, entries)
}

/// Fills the folders breadth first until there are as many entries as asked for.
fn fill(tops: &[PathBuf], entries: usize) -> io::Result<()> {
    let mut queue: std::collections::VecDeque<PathBuf> = tops.iter().cloned().collect();
    let mut made = 10;
    while let Some(folder) = queue.pop_front() {
        for n in 0..FILES_IN_A_FOLDER {
            if made >= entries {
                return Ok(());
            }
            let name = if n % 2 == 0 { format!("part-{n}.php") } else { format!("part-{n}.html") };
            fs::write(folder.join(name), b"<?php // a part of the application that does something of its own\n")?;
            made += 1;
        }
        if queue.len() < entries / FILES_IN_A_FOLDER {
            for n in 0..FOLDERS_IN_A_FOLDER {
                if made >= entries {
                    return Ok(());
                }
                let below = folder.join(format!("folder-{n}"));
                fs::create_dir(&below)?;
                made += 1;
                queue.push_back(below);
            }
        }
    }
    Ok(())
}
