//! The configuration that running programs, and those of service units, were started with: by their options, whatever became of
//! them in the process's title, else by what the process holds open.

use std::path::{Path, PathBuf};

use super::process::{Process, Running};
use super::program::{Family, Launches, Options};
use super::units::Unit;
use crate::tree::Host;

/// What a program was told of its configuration.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Started {
    /// The main file; relative to the prefix, or to where the program was started.
    pub(super) main: Option<PathBuf>,
    /// The folder that names are relative to: nginx's prefix, Apache's `ServerRoot`.
    pub(super) prefix: Option<PathBuf>,
}

/// As many folders above an open file are looked into.
const LEVELS: usize = 4;

impl Started {
    /// What the words of a command line say.
    fn of(words: &[String], options: &Options) -> Self {
        let value = |names: &[&str]| {
            words.iter().enumerate().find_map(|(at, word)| {
                let rest = names.iter().find_map(|name| word.strip_prefix(name))?;
                let value = match rest {
                    "" => words.get(at + 1).cloned(),
                    rest => Some(rest.trim_start_matches('=').to_owned()),
                };
                value.filter(|value| !value.is_empty()).map(PathBuf::from)
            })
        };
        Self { main: value(options.main), prefix: value(options.prefix) }
    }

    /// The files that may be meant, the likeliest first: those below `bases` where the main file is relative.
    fn mains(&self, options: &Options, bases: &[PathBuf]) -> Vec<PathBuf> {
        let bases = || self.prefix.iter().chain(bases);
        match &self.main {
            Some(main) if main.is_absolute() => vec![main.clone()],
            Some(main) => bases().map(|base| base.join(main)).collect(),
            None => {
                let prefix = self.prefix.iter();
                prefix.flat_map(|prefix| options.names.iter().map(move |name| prefix.join(name))).collect()
            }
        }
    }
}

/// What running programs of a family, and those of units, were started with. A program that was told no main file reads the usual
/// one where that is there; else what it holds open tells.
pub(super) fn launches(host: &Host, running: &Running, units: &[Unit], family: Family) -> Launches {
    let options = &family.options;
    let mut found: Vec<(PathBuf, Option<PathBuf>)> = Vec::new();
    let mut add = |main: PathBuf, prefix: Option<PathBuf>| {
        let there = host.resolve(&main).is_ok_and(|resolved| resolved.facts.kind == crate::entry::Kind::File);
        if there && found.iter().all(|(known, _)| *known != main) {
            found.push((main, prefix));
        }
        there
    };
    let defaults = || options.bases.iter().map(PathBuf::from);
    for unit in units.iter().filter(|unit| Family::of_name(&unit.program) == Some(family)) {
        let started = Started::of(&unit.arguments, options);
        let bases: Vec<PathBuf> = unit.works_in.iter().map(PathBuf::from).chain(defaults()).collect();
        for main in started.mains(options, &bases) {
            if add(main, started.prefix.clone()) {
                break;
            }
        }
    }
    let masters = || running.masters.iter().filter(move |master| master.family == family);
    for master in masters().filter(|master| master.is_roots()) {
        // A title is one text; its words are those of the command line as far as they hold no space.
        let title: Vec<String> = master.title().split_whitespace().map(Into::into).collect();
        let by_words = Started::of(&master.words, options);
        let mut started = if by_words == Started::default() { Started::of(&title, options) } else { by_words };
        started.main = started.main.or_else(|| Running::fpm_file(master));
        let works_in = host.resolve(&proc(master, "cwd")).ok().map(|resolved| resolved.path);
        let bases: Vec<PathBuf> = defaults().chain(works_in).collect();
        let told = started.mains(options, &bases).into_iter().any(|main| add(main, started.prefix.clone()));
        // A sample that an application brings along may lie beside its logs.
        if !told && !options.usual.iter().any(|main| host.resolve(Path::new(main)).is_ok()) {
            for main in by_open_files(host, master, options) {
                add(main, None);
            }
        }
    }
    Launches { mains: found, words: masters().flat_map(|master| master.words.iter().cloned()).collect() }
}

fn proc(process: &Process, name: &str) -> PathBuf {
    PathBuf::from(format!("/proc/{}/{name}", process.pid))
}

/// Main files in the folders around what a process holds open: logs lie in the tree of a program that has one of its own.
fn by_open_files(host: &Host, process: &Process, options: &Options) -> Vec<PathBuf> {
    let open = host.names_in(&proc(process, "fd")).unwrap_or_default();
    let open = open.into_iter().filter_map(|name| host.resolve(&proc(process, "fd").join(name)).ok());
    let mut folders: Vec<PathBuf> = Vec::new();
    for file in open.filter(|found| found.facts.kind == crate::entry::Kind::File) {
        let above = file.path.ancestors().skip(1).take(LEVELS).filter(|dir| *dir != Path::new("/"));
        folders.extend(above.map(Path::to_owned));
    }
    folders.sort();
    folders.dedup();
    folders.iter().flat_map(|folder| options.names.iter().map(move |name| folder.join(name))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::host::apache::APACHE;
    use crate::host::nginx::NGINX;
    use crate::host::php_programs::FPM;
    use crate::host::program::Program;
    use rstest::rstest;

    #[rstest]
    #[case::of_nginx(
        &NGINX,
        "nginx: master process /usr/sbin/nginx -c /opt/quay/nginx.conf",
        "/opt/quay/nginx.conf"
    )]
    #[case::without_a_space(&NGINX, "nginx -c/opt/quay/nginx.conf -g daemon", "/opt/quay/nginx.conf")]
    #[case::relative(&NGINX, "nginx -p /opt/quay -c quay.conf", "/opt/quay/quay.conf /base/quay.conf")]
    #[case::a_prefix(
        &NGINX,
        "nginx -p /opt/quay",
        "/opt/quay/nginx.conf /opt/quay/conf/nginx.conf /opt/quay/etc/nginx.conf"
    )]
    #[case::of_apache(
        &APACHE,
        "apache2 -d /etc/quay -f quay.conf -k start",
        "/etc/quay/quay.conf /base/quay.conf"
    )]
    #[case::of_fpm(&FPM, "php-fpm8.2 --nodaemonize --fpm-config /opt/fpm.conf", "/opt/fpm.conf")]
    #[case::with_a_sign(&FPM, "php-fpm8.2 --fpm-config=/opt/fpm.conf", "/opt/fpm.conf")]
    #[case::nothing(&APACHE, "apache2 -k start", "")]
    fn options_are_followed(#[case] program: &'static Program, #[case] line: &str, #[case] want: &str) {
        let words: Vec<String> = line.split(' ').map(Into::into).collect();
        let options = &program.options;
        let mains = Started::of(&words, options).mains(options, &["/base".into()]);
        let mains: Vec<String> = mains.iter().map(|main| main.display().to_string()).collect();
        assert_eq!(mains.join(" "), want);
    }
}
