//! `why`: what an account can do with a path, step by step, and whether that is wanted.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs::File;
use std::io::{self, Read as _, Write as _};
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use ambrik_core::host::{Role, Services};
use ambrik_core::shown::Shown;
use ambrik_core::site::Site;
use ambrik_core::why::{
    self, Act, Answer, AskedPath, By, Now, PolicySite, Refusals, Review, Subject, Told, Whom, WhySetting,
};

use crate::failure::{Exit, Failure};
use crate::output::{
    self,
    report::{EverythingReport, ReviewsReport},
};
use crate::progress::watched;
use crate::session::{HostView, Session, threads};
use crate::sites::Sites;

/// Say what an account can do with a path, and what decides it, step by step from /
///
/// The answer is the kernel's: ids and groups of the running service, owners, modes, access lists, capabilities,
/// flags, mount options, every directory above. Where it is not what the site file wants, the smallest change that
/// makes it right is named. Exit code 1: something is not as the site file wants it. Changes nothing.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  ambrik why /srv/www/berths/uploads --as www-data\n  ambrik why --writable berths")]
#[command(group = clap::ArgGroup::new("question").required(true).multiple(false))]
pub(crate) struct WhyArgs {
    /// Paths; "-" reads them from standard input, one a line, or each ended by a NUL
    #[arg(value_name = "PATH", group = "question")]
    paths: Vec<PathBuf>,
    /// Account: php, web or keeper of the site that holds the path, a user's name, a uid, or uid:gid,gid,…
    #[arg(long = "as", value_name = "ACCOUNT")]
    account: Option<String>,
    /// One line for each path, without the steps
    #[arg(long)]
    brief: bool,
    /// Everything in a site that the account can write to, replace or remove
    #[arg(long, value_name = "SITE", group = "question")]
    writable: Option<PathBuf>,
    /// Everything in a site that the account can read
    #[arg(long, value_name = "SITE", group = "question")]
    readable: Option<PathBuf>,
    /// Logs of web servers and PHP ("-" for standard input), gzip-compressed ones too: asks about each path that was
    /// refused there
    #[arg(long, value_name = "FILE", num_args = 1.., group = "question")]
    from_log: Vec<PathBuf>,
}

pub(crate) fn run(args: &WhyArgs, session: &mut Session<'_>) -> Result<Exit, Failure> {
    let mut looked = session.look()?;
    // What a permissive host logs is what it will refuse: that it went through says nothing.
    looked.labels.as_enforcing = !args.from_log.is_empty();
    let asked = args.writable.as_ref().map(|site| (site, Act::Write));
    if let Some((site, act)) = asked.or(args.readable.as_ref().map(|site| (site, Act::Read))) {
        return everything(args, session, &looked, site, act);
    }
    let inquiry = Inquiry::new(session, &looked)?;
    if !args.from_log.is_empty() {
        return from_log(args, session, &inquiry);
    }
    let paths = all_paths(&args.paths, session)?;
    let account = args.account.as_deref().unwrap_or("php");
    let questions = inquiry.whom(account, paths)?;
    inquiry.warn_of_left_out(session);
    for subject in &questions.subjects {
        tell_about(subject, session);
    }
    if let Some(path) = questions.nobodys.values().next() {
        let paths = output::counted(output::count(questions.nobodys.len()), "path is", "paths are");
        session.terminal.warn(&format!(
            "{paths} in no site ({}, …), so it is not known who \"{account}\" is there; name a user: --as www-data",
            Shown(path)
        ));
    }
    Ok(inquiry.tell(&questions, account, args.brief, session)?)
}

/// Paths, and whom to ask about for each.
struct Questions {
    subjects: Vec<Subject>,
    asked: Vec<AskedPath>,
    /// Those of which that is not known, by their places among all.
    nobodys: BTreeMap<usize, PathBuf>,
}

/// Answers, with what stands for those that cannot be had in its places.
fn woven<'a, T>(
    answers: &'a mut dyn Iterator<Item = T>,
    gaps: &'a BTreeMap<usize, PathBuf>,
    fill: impl Fn(&Path) -> T + 'a,
) -> impl Iterator<Item = T> + 'a {
    let mut place = 0;
    std::iter::from_fn(move || {
        let item = gaps.get(&place).map(|path| fill(path)).or_else(|| answers.next());
        place += 1;
        item
    })
}

/// Everything that answers are made with.
struct Inquiry<'l> {
    looked: &'l HostView,
    holders: Vec<PolicySite>,
    services: &'l Services,
    /// What is wrong with site files that are left out.
    wrong: Vec<String>,
}

impl<'l> Inquiry<'l> {
    fn new(session: &mut Session<'_>, looked: &'l HostView) -> Result<Self, Failure> {
        let Sites { chosen: sites, wrong, .. } = session.known_sites(looked);
        let wrong = wrong.into_iter().map(|wrong| wrong.says).collect();
        let records = session.records()?;
        let mut holders = Vec::new();
        for site in &sites {
            let phase = records.phase(&site.name)?;
            holders.push(PolicySite::new(&phase.of(site), phase.phase, &looked.host, &looked.accounts));
        }
        let services = looked.services();
        Ok(Self { looked, holders, services, wrong })
    }

    fn setting(&self) -> WhySetting<'_> {
        {
            let HostView { host, accounts, labels, .. } = self.looked;
            WhySetting { host, accounts, holders: &self.holders, labels: Some(labels) }
        }
    }

    fn of_site(&self, whom: &Whom, holder: &PolicySite) -> Option<Subject> {
        let HostView { host, accounts, labels, .. } = self.looked;
        let subject = Subject::of_site(whom, holder.site(), host, accounts, self.services)?;
        Some(subject.in_domain(whom, labels))
    }

    /// The number of the site that holds a path.
    fn holder(&self, path: &Path) -> Option<usize> {
        let inside = |holder: &PolicySite| path.starts_with(&holder.site().root);
        let roots = (0..self.holders.len()).filter(|n| inside(&self.holders[*n]));
        let deepest = roots.max_by_key(|n| self.holders[*n].site().root.components().count());
        deepest.or_else(|| self.holders.iter().position(|holder| holder.holds(path)))
    }

    /// The one account that PHP, or the web server, runs as on this host, whatever the site.
    fn only(&self, whom: &Whom) -> Option<Subject> {
        let role = match whom {
            Whom::Php => Role::Php,
            Whom::Web => Role::Web,
            Whom::Keeper | Whom::Named(_) => return None,
        };
        let mut services = self.services.services.iter().filter(|service| service.role == role);
        let account = &services.next()?.account;
        let only = services.all(|service| service.account.ids.uid == account.ids.uid);
        let subject =
            only.then(|| Subject::named(&account.user, &self.looked.accounts, self.services).ok()).flatten()?;
        Some(subject.in_domain(whom, &self.looked.labels))
    }

    /// Whom to ask about, and who of them it is for each path.
    fn whom(&self, account: &str, paths: Vec<PathBuf>) -> Result<Questions, Failure> {
        let whom = Whom::of(account);
        if let Whom::Named(name) = &whom {
            let subject = Subject::named(name, &self.looked.accounts, self.services)
                .map_err(|error| Failure::usage(error.to_string()))?
                .in_domain(&whom, &self.looked.labels);
            let asked = paths.into_iter().map(|path| (0, path)).collect();
            return Ok(Questions { subjects: vec![subject], asked, nobodys: BTreeMap::new() });
        }
        let mut subjects: Vec<Subject> = Vec::new();
        let mut known: Vec<(Option<usize>, usize)> = Vec::new();
        let mut asked = Vec::with_capacity(paths.len());
        let mut nobodys = BTreeMap::new();
        let mut homes = Homes { inquiry: self, last: None };
        for (number, path) in paths.into_iter().enumerate() {
            let home = homes.of(&path);
            if let Some((_, place)) = known.iter().find(|(known, _)| *known == home) {
                asked.push((*place, path));
                continue;
            }
            let subject = match home {
                Some(n) => self.of_site(&whom, &self.holders[n]),
                None => self.only(&whom),
            };
            let Some(subject) = subject else {
                nobodys.insert(number, path);
                continue;
            };
            subjects.push(subject);
            known.push((home, subjects.len() - 1));
            asked.push((subjects.len() - 1, path));
        }
        match nobodys.values().next() {
            Some(path) if asked.is_empty() => Err(self.nobodys(path, account)),
            _ => Ok(Questions { subjects, asked, nobodys }),
        }
    }

    /// Asks, and writes the answers as they come.
    fn tell(&self, questions: &Questions, account: &str, brief: bool, session: &mut Session<'_>) -> io::Result<Exit> {
        let Questions { subjects, asked, nobodys } = questions;
        let (setting, mut worst) = (self.setting(), Exit::Clean);
        if !session.terminal.tells() {
            let each =
                |subject: &Subject, answer: Answer| (exit(&answer), output::json_why::answer(&subject.name, &answer));
            why::ask_each(setting, subjects, asked, threads(), each, |answers| {
                let unknown = |path: &Path| (Exit::Partial, output::json_why::unknown(account, path));
                let mut answers = woven(answers, nobodys, unknown).map(|(exit, answer)| {
                    worst = worst.max(exit);
                    answer
                });
                output::json_why::answers(&mut answers, session.terminal.raw_out())
            })?;
            return Ok(worst);
        }
        let colours = session.terminal.has_colours();
        let width = subjects.iter().map(|subject| subject.name.chars().count()).max().unwrap_or(0);
        let each = |subject: &Subject, answer: Answer| {
            let mut text = Vec::new();
            let written = if brief {
                output::why_text::line(&subject.name, width, &answer, &mut text)
            } else {
                output::why_text::block(&subject.name, &answer, colours, &mut text)
            };
            written.map(|()| (exit(&answer), text))
        };
        why::ask_each(setting, subjects, asked, threads(), each, |answers| -> io::Result<()> {
            if brief {
                output::why_text::heading(width, &mut session.terminal.out())?;
            }
            let mut out = io::BufWriter::with_capacity(1 << 16, session.terminal.out());
            let unknown = |path: &Path| {
                let mut text = Vec::new();
                output::why_text::unknown(account, brief.then_some(width), path, &mut text)?;
                Ok((Exit::Partial, text))
            };
            for (n, answer) in woven(answers, nobodys, unknown).enumerate() {
                let (exit, text) = answer?;
                worst = worst.max(exit);
                if n > 0 && !brief {
                    out.write_all(b"\n")?;
                }
                out.write_all(&text)?;
            }
            out.flush()
        })?;
        Ok(worst)
    }

    fn nobodys(&self, path: &Path, account: &str) -> Failure {
        let known: Vec<&str> = self.holders.iter().map(|holder| &*holder.site().name).collect();
        let known = if known.is_empty() { "there are none".to_owned() } else { format!("known: {}", known.join(", ")) };
        let wrong = if self.wrong.is_empty() { String::new() } else { format!("\n{}", self.wrong.join("\n")) };
        Failure::usage(format!(
            "no site file holds {} ({known}), so it is not known who \"{account}\" is; name a user: --as www-data{wrong}",
            Shown(path)
        ))
    }

    fn warn_of_left_out(&self, session: &mut Session<'_>) {
        if !self.holders.is_empty() {
            for wrong in &self.wrong {
                session.terminal.warn(&format!("left out: {wrong}"));
            }
        }
    }
}

/// Finds the sites that hold paths; the next path is often in the directory of the last.
struct Homes<'i, 'l> {
    inquiry: &'i Inquiry<'l>,
    last: Option<(PathBuf, Option<usize>)>,
}

impl Homes<'_, '_> {
    fn of(&mut self, path: &Path) -> Option<usize> {
        let Some(above) = path.parent() else { return self.inquiry.holder(path) };
        if let Some((last, home)) = &self.last
            && last.as_os_str() == above.as_os_str()
        {
            return *home;
        }
        let home = self.inquiry.holder(path);
        // What is in a directory of a root is the root's, unless another root begins there.
        let holders = &self.inquiry.holders;
        let inside = home.is_some_and(|n| above.starts_with(&holders[n].site().root));
        let begins = holders.iter().any(|holder| holder.site().root.parent() == Some(above));
        self.last = (inside && !begins).then(|| (above.to_owned(), home));
        home
    }
}

/// What is worth knowing about the account itself.
fn tell_about(subject: &Subject, session: &mut Session<'_>) {
    if let Some(stale) = &subject.stale {
        session.terminal.warn(stale);
    }
    if let Some(process) = &subject.process {
        session
            .terminal
            .detail(&format!("{}: ids and groups are those of a running process ({process})", subject.name));
    }
}

/// The paths of the command line and of standard input, from the host's `/` on.
fn all_paths(named: &[PathBuf], session: &Session<'_>) -> Result<Vec<PathBuf>, Failure> {
    let mut paths = Vec::new();
    for path in named {
        if path.as_os_str() != "-" {
            paths.push(session.on_host(path)?);
            continue;
        }
        let mut input = Vec::new();
        io::stdin()
            .lock()
            .read_to_end(&mut input)
            .map_err(|cause| Failure::io(&format!("cannot read paths from standard input: {cause}"), &cause))?;
        let separator = if input.contains(&0) { 0 } else { b'\n' };
        for path in input.split(|&b| b == separator).filter(|path| !path.is_empty()) {
            paths.push(session.on_host(Path::new(OsStr::from_bytes(path)))?);
        }
    }
    Ok(paths)
}

fn exit(answer: &Answer) -> Exit {
    match &answer.wanted {
        _ if !answer.is_complete() => Exit::Partial,
        Some(wanted) if wanted.differs() => Exit::Findings,
        _ => Exit::Clean,
    }
}

/// Everything that an account can read or write in a site.
fn everything(
    args: &WhyArgs,
    session: &mut Session<'_>,
    looked: &HostView,
    site: &Path,
    act: Act,
) -> Result<Exit, Failure> {
    let sites = session.sites(&[site.to_owned()], looked)?.chosen;
    let records = session.records()?;
    let services = looked.services();
    let whom = Whom::of(args.account.as_deref().unwrap_or("php"));
    let mut exit = Exit::Clean;
    for site in &sites {
        let phase = records.phase_told(&site.name, &mut session.terminal)?;
        let holders = [PolicySite::new(&phase.of(site), phase.phase, &looked.host, &looked.accounts)];
        let subject = match &whom {
            Whom::Named(name) => {
                Subject::named(name, &looked.accounts, services).map_err(|error| Failure::usage(error.to_string()))?
            }
            whom => Subject::of_site(whom, site, &looked.host, &looked.accounts, services)
                .ok_or_else(|| Failure::usage(format!("{}: there is no such account", site.name)))?,
        };
        tell_about(&subject, session);
        let HostView { host, accounts, labels, .. } = looked;
        let subject = subject.in_domain(&whom, labels);
        let setting = WhySetting { host, accounts, holders: &holders, labels: Some(labels) };
        let found = watched(session.terminal.quiet, "looking at", |progress| {
            why::everything(setting, &holders[0], &subject, act, services, (threads(), progress))
        })?;
        for path in &found.unseen {
            session.terminal.warn(&format!("cannot tell from here what is in {}; run it as root", Shown(path)));
        }
        let in_role = in_role(&whom, &subject);
        session.terminal.write(&EverythingReport { found: &found, account: &subject.name, in_role: &in_role })?;
        exit = exit.max(match (found.is_complete(), found.too_many()) {
            (false, _) => Exit::Partial,
            (true, 0) => Exit::Clean,
            (true, _) => Exit::Findings,
        });
    }
    Ok(exit)
}

/// An account with what it is in the site.
fn in_role(whom: &Whom, subject: &Subject) -> String {
    let name = &subject.name;
    match whom {
        Whom::Php => format!("PHP ({name})"),
        Whom::Web => format!("the web server ({name})"),
        Whom::Keeper => format!("the keeper ({name})"),
        Whom::Named(_) => name.clone(),
    }
}

/// Asks about each path that was refused in logs.
fn from_log(args: &WhyArgs, session: &mut Session<'_>, inquiry: &Inquiry<'_>) -> Result<Exit, Failure> {
    let php = inquiry.holders.iter().map(|holder| &holder.site().php);
    let php = php.map(|account| (account.user.clone(), account.ids.uid.0));
    let mut refusals = Refusals::new(jiff::Zoned::now().date()).for_php(php);
    for path in &args.from_log {
        let failed = |cause: io::Error| Failure::io(&format!("cannot read the log {}: {cause}", Shown(path)), &cause);
        if path.as_os_str() == "-" {
            refusals.read(io::stdin().lock()).map_err(failed)?;
        } else if let Some(log) =
            session.place(path)?.open_inside().map_err(|error| Failure::usage(error.to_string()))?
        {
            refusals.read(log).map_err(failed)?;
        } else {
            refusals.read(File::open(path).map_err(failed)?).map_err(failed)?;
        }
    }
    inquiry.warn_of_left_out(session);
    let sites: Vec<Arc<Site>> = inquiry.holders.iter().map(|holder| Arc::clone(holder.site())).collect();
    watched(session.terminal.quiet, "looking at", |progress| {
        refusals.find_inodes(&inquiry.looked.host, &sites, progress);
    });
    let mut reviews = Vec::new();
    for refusal in refusals.list() {
        let whom = match (&args.account, refusal.by) {
            (Some(account), _) => Whom::of(account),
            (None, By::Php) => Whom::Php,
            (None, By::Web) => Whom::Web,
        };
        // The site of the path, else that of the script that asked for it.
        let home = inquiry.holder(&refusal.path);
        let home = home.or_else(|| inquiry.holder(refusal.script.as_deref()?));
        let subject = match (&whom, home) {
            (Whom::Named(name), _) => Some(
                Subject::named(name, &inquiry.looked.accounts, inquiry.services)
                    .map_err(|error| Failure::usage(error.to_string()))?,
            ),
            (whom, Some(n)) => inquiry.of_site(whom, &inquiry.holders[n]),
            (whom, None) => inquiry.only(whom),
        };
        let told = subject.map(|subject| {
            let answer = why::Asker::new(inquiry.setting(), subject.clone()).ask(&refusal.path);
            Told { account: subject.name, answer }
        });
        let now = told.as_ref().map_or(Now::Unknown, |told| refusal.now(&told.answer));
        let switch = why::switch_of(&inquiry.looked.host, &refusals, &refusal);
        reviews.push(Review { refusal, told, now, switch });
    }
    why::worst_first(&mut reviews);
    if refusals.more > 0 {
        session
            .terminal
            .warn(&format!("{} refusals of further paths were only counted", output::number(refusals.more)));
    }
    let others = why::no_files(&inquiry.looked.host, &refusals);
    let (logs, without_path) = (output::count(args.from_log.len()), refusals.without_path);
    session.terminal.write(&ReviewsReport { reviews: &reviews, others: &others, logs, without_path })?;
    let denied = others.iter().any(|denied| denied.advice.open) || without_path > 0;
    let has = |now: Now| reviews.iter().any(|review| review.now == now);
    Ok(
        match (
            has(Now::Unknown),
            denied || has(Now::Wanted) || has(Now::Opened) || has(Now::Unwanted) || has(Now::NoSite),
        ) {
            (true, _) => Exit::Partial,
            (false, true) => Exit::Findings,
            (false, false) => Exit::Clean,
        },
    )
}
