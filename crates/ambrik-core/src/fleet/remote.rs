//! What is run on a host, and what goes with it.

use std::ffi::{OsStr, OsString};
use std::fmt::Write as _;
use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use super::ask::Input;

/// A file that is sent along.
#[derive(Clone, Debug)]
pub struct Lent {
    /// It.
    pub file: Arc<File>,
    /// How many bytes it has.
    pub bytes: u64,
    /// Its SHA-256 sum in hexadecimal digits.
    pub sum: String,
    /// What it is called there, in a folder of its own: letters, digits, dots and the like.
    pub name: String,
}

/// What a host is asked.
#[derive(Clone, Debug, Default)]
pub struct Question {
    /// The words of the command line behind `ambrik`.
    pub words: Vec<String>,
    /// Whether sudo(8) runs it.
    pub sudo: bool,
    /// This program, where it is lent.
    pub program: Option<Lent>,
    /// Site files that are used instead of the host's own.
    pub sites: Vec<Lent>,
    /// How often, in seconds, a connection over which nothing comes is asked for a sign of life; else the configuration says.
    pub alive: Option<u32>,
    /// What it reads from its standard input.
    pub input: Option<Arc<File>>,
}

impl Question {
    /// The command on this side, and what it is given. Its configuration, keys, known hosts and connections that it shares count;
    /// nobody is asked for a password, no host key is taken on trust, and neither agent nor ports are lent to the host (ssh(1),
    /// `ssh_config`(5)). `client` is the program.
    #[must_use]
    pub fn command(&self, client: &OsStr, host: &str) -> (Command, Input) {
        let mut command = Command::new(client);
        command.args(["-a", "-x", "-T", "-o", "BatchMode=yes", "-o", "ClearAllForwardings=yes"]);
        if let Some(seconds) = self.alive {
            command.args(["-o", &format!("ServerAliveInterval={seconds}")]);
        }
        command.args(["--", host]).arg(self.line());
        let sent = self.program.iter().chain(&self.sites).map(|lent| Arc::clone(&lent.file));
        (command, sent.chain(self.input.clone()).collect())
    }

    /// The line for the shell on the other side.
    #[must_use]
    pub fn line(&self) -> String {
        let sudo = if self.sudo { "sudo -n " } else { "" };
        if self.program.is_none() && self.sites.is_empty() {
            return format!("{sudo}ambrik {}", joined(&self.words));
        }
        // A folder that nobody else enters; it goes when the shell ends, however that is.
        let mut script = String::from(
            "umask 077; d=$(mktemp -d \"${TMPDIR:-/tmp}/ambrik.XXXXXXXXXX\") || exit 126; trap 'rm -rf -- \"$d\"' EXIT; \
             trap 'exit 129' HUP INT TERM PIPE; mkdir \"$d/sites\"; \
             take() { head -c \"$2\" > \"$d/$1\" && s=$(sha256sum < \"$d/$1\") && [ \"${s%% *}\" = \"$3\" ] || \
             { echo \"ambrik: $1 did not arrive as it was sent\" >&2; exit 126; }; }; ",
        );
        let mut take = |folder: &str, lent: &Lent| {
            // Writing to a text cannot fail.
            let _ = write!(script, "take {}{} {} {}; ", folder, lent.name, lent.bytes, lent.sum);
        };
        self.program.iter().for_each(|lent| take("", lent));
        self.sites.iter().for_each(|lent| take("sites/", lent));
        let (program, words) = (self.program.as_ref(), joined(&self.words));
        let run = match program {
            Some(lent) => format!("chmod 700 \"$d/{0}\"; \"$d/{0}\"", lent.name),
            None => "ambrik".to_owned(),
        };
        let sites = if self.sites.is_empty() { "" } else { " --sites \"$d/sites\"" };
        let _ = write!(script, "{run}{sites} {words}");
        if self.sudo { format!("sudo -n sh -c {}", joined(&[script])) } else { script }
    }
}

/// Words as a shell takes them apart again.
fn joined(words: &[String]) -> String {
    // A word that no shell can have (a NUL in it) cannot have come from one.
    shlex::try_join(words.iter().map(String::as_str)).unwrap_or_default()
}

/// Options that this side follows itself, with whether they have a value.
const OWN: [(&str, bool); 14] = [
    ("--on", true),
    ("--sudo", false),
    ("--within", true),
    ("--at-once", true),
    ("--batch", true),
    ("--go-on", false),
    ("--lend", false),
    ("--send-sites", true),
    ("--to", true),
    ("--run", true),
    ("--format", true),
    ("--color", true),
    ("--plain", false),
    ("--fleet", true),
];
/// Those that are said anew for each step.
const OF_STEPS: [&str; 4] = ["--yes", "--preview", "--quiet", "--verbose"];
/// The same in one letter.
const LETTERS: &str = "ynqv";

/// The words of a command line (without the program's name) that go to the hosts.
///
/// # Errors
/// The word that is no text, and so cannot be sent.
pub fn for_hosts(words: &[OsString]) -> Result<Vec<String>, OsString> {
    let mut found = Vec::new();
    let mut words = words.iter();
    while let Some(word) = words.next() {
        let text = word.to_str().ok_or_else(|| word.clone())?;
        if text == "--" {
            found.push(text.to_owned());
            for word in words.by_ref() {
                found.push(word.to_str().ok_or_else(|| word.clone())?.to_owned());
            }
            break;
        }
        let (name, is_joined) = text.split_once('=').map_or((text, false), |(name, _)| (name, true));
        if let Some((_, has_value)) = OWN.iter().find(|(own, _)| *own == name) {
            if *has_value && !is_joined {
                words.next();
            }
            continue;
        }
        if OF_STEPS.contains(&text) {
            continue;
        }
        match text.strip_prefix('-').filter(|letters| !letters.is_empty() && !letters.starts_with('-')) {
            Some(letters) if letters.chars().all(|letter| LETTERS.contains(letter)) => {}
            _ => found.push(text.to_owned()),
        }
    }
    Ok(found)
}

/// The site files for a host: those in the folder of its name, else those in `all`; none where neither is there.
///
/// # Errors
/// Where the folder cannot be listed.
pub fn sites_for(dir: &Path, host: &str) -> std::io::Result<Option<Vec<PathBuf>>> {
    let bare = host.rsplit('@').next().unwrap_or(host);
    for name in [host, bare, "all"] {
        let mut files = Vec::new();
        match std::fs::read_dir(dir.join(name)) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => continue,
            listed => {
                for entry in listed? {
                    files.push(entry?.path());
                }
            }
        }
        files.retain(|file| file.extension().is_some_and(|ending| ending == "toml"));
        files.sort();
        return Ok(Some(files));
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn texts(words: &[&str]) -> Vec<String> {
        words.iter().map(|word| (*word).to_owned()).collect()
    }

    #[rstest]
    #[case("audit --on a,b --format html --to x.html berths", "audit berths")]
    #[case("--on=@hosts set --yes berths -q", "set berths")]
    #[case("set -yq --within 2m --at-once 3 --sudo --go-on", "set")]
    #[case("watch berths --run page --on a", "watch berths")]
    #[case("accept a b c --because why --on a", "accept a b c --because why")]
    #[case("why /a -n --as www-data -- --on", "why /a --as www-data -- --on")]
    fn what_is_for_this_side_stays_here(#[case] line: &str, #[case] want: &str) {
        let words: Vec<OsString> = line.split(' ').map(OsString::from).collect();
        assert_eq!(for_hosts(&words).unwrap(), texts(&want.split(' ').collect::<Vec<_>>()));
    }

    /// Whatever a word is, the shell on the other side has that word again.
    #[rstest]
    fn words_arrive_as_they_are(
        #[values("a b", "$(id)", "'", "\"", "a\nb", "*", "", "~", "\\", "`x`", ";", "-n")] word: &str,
        #[values(false, true)] sends: bool,
    ) {
        let lent = || Lent {
            file: Arc::new(tempfile::tempfile().unwrap()),
            bytes: 0,
            sum: EMPTY.into(),
            name: "ambrik".into(),
        };
        let question = Question { words: texts(&[word, "end"]), program: sends.then(lent), ..Question::default() };
        let dir = tempfile::tempdir().unwrap();
        // It stands for the program, and prints what it was called with.
        let line = question.line().replace("\"$d/ambrik\" ", "printf '%s|' ").replace("ambrik '", "printf '%s|' '");
        let line = if let Some(rest) = line.strip_prefix("ambrik ") { format!("printf '%s|' {rest}") } else { line };
        let out = Command::new("sh").args(["-c", &line]).env("TMPDIR", dir.path()).output().unwrap();
        assert_eq!(String::from_utf8_lossy(&out.stdout), format!("{word}|end|"), "{line}\n{out:?}");
        assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 0, "nothing is left behind");
    }

    /// The sum of nothing.
    const EMPTY: &str = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";

    #[rstest]
    #[case::whole(EMPTY, 0, true)]
    #[case::another("00", 0, false)]
    #[case::cut_off(EMPTY, 5, false)]
    fn what_is_lent_runs_only_whole(#[case] sum: &str, #[case] bytes: u64, #[case] runs: bool) {
        let lent =
            Lent { file: Arc::new(tempfile::tempfile().unwrap()), bytes, sum: sum.into(), name: "ambrik".into() };
        // Sent: five bytes where none is expected to be missing, none else.
        let question = Question { words: texts(&["x"]), program: Some(lent), ..Question::default() };
        let dir = tempfile::tempdir().unwrap();
        let line = question.line().replace("\"$d/ambrik\" x", "echo ran");
        let out = Command::new("sh")
            .args(["-c", &line])
            .env("TMPDIR", dir.path())
            .stdin(std::process::Stdio::null())
            .output()
            .unwrap();
        let whole = runs || bytes == 5 && sum == EMPTY;
        assert_eq!(out.stdout == b"ran\n", whole, "{out:?}");
        assert_eq!(out.status.code(), Some(if whole { 0 } else { 126 }));
        assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 0);
    }

    #[test]
    fn site_files_of_a_host_or_of_all() {
        let dir = tempfile::tempdir().unwrap();
        let of = |host: &str| {
            let found = sites_for(dir.path(), host).unwrap();
            found.map(|files| {
                files.iter().map(|file| file.file_name().unwrap().to_str().unwrap().to_owned()).collect::<Vec<_>>()
            })
        };
        assert_eq!(of("berth-1"), None);
        std::fs::create_dir(dir.path().join("all")).unwrap();
        std::fs::write(dir.path().join("all/tidewatch.toml"), "").unwrap();
        std::fs::create_dir(dir.path().join("berth-1")).unwrap();
        std::fs::write(dir.path().join("berth-1/b.toml"), "").unwrap();
        std::fs::write(dir.path().join("berth-1/a.toml~"), "").unwrap();
        assert_eq!(of("berth-1"), Some(vec!["b.toml".to_owned()]));
        assert_eq!(of("root@berth-1"), Some(vec!["b.toml".to_owned()]));
        assert_eq!(of("berth-2"), Some(vec!["tidewatch.toml".to_owned()]));
    }
}
