//! `why/1`: answers for programs, described in docs/schemas.

use std::borrow::Cow;
use std::cell::RefCell;
use std::io::{self, Write};
use std::path::Path;

use ambrik_core::label::boolean::command;
use ambrik_core::why::{Act, Answer, AnswerWay, By, Cure, Everything, Match, Now, Step, Through, Wanted, What};
use serde::Serialize;
use serde::ser::{Error as _, SerializeSeq as _};
use serde_json::value::{RawValue, to_raw_value};

use super::json::{Each, PathText, print};
use ambrik_core::why::{NoFile, Review};

#[derive(Serialize)]
struct WhyDocument<A> {
    ambrik: &'static str,
    answers: A,
    #[serde(skip_serializing_if = "Option::is_none")]
    refused_without_path: Option<u64>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    no_files: Vec<NoFileDocument>,
}

#[derive(Serialize)]
struct AnswerDocument<'a> {
    #[serde(flatten)]
    path: PathText<'a>,
    account: &'a str,
    kind: Option<&'static str>,
    leads_to: Option<Cow<'a, str>>,
    read: Option<bool>,
    write: Option<bool>,
    search: Option<bool>,
    create: Option<bool>,
    delete: Option<bool>,
    link: Option<bool>,
    chmod: Option<bool>,
    steps: Steps<'a>,
    wanted: Option<WantedDocument<'a>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    refused: Option<RefusedDocument>,
}

/// The steps of an answer, each made while it is written.
struct Steps<'a>(Option<&'a Answer>);

thread_local! {
    /// The way of the last answer, ready to be written: the next path is mostly in the same directory.
    static LAST: RefCell<Option<(AnswerWay, Vec<Box<RawValue>>)>> = const { RefCell::new(None) };
}

impl Serialize for Steps<'_> {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut list = serializer.serialize_seq(None)?;
        let Some(answer) = self.0 else { return list.end() };
        LAST.with_borrow_mut(|last| {
            let way = answer.way();
            let raw = match last {
                Some((known, raw)) if known.is(&way) => raw,
                last => {
                    let steps = way.steps();
                    let raw: Result<_, _> = steps.iter().map(|step| to_raw_value(&StepDocument::of(step))).collect();
                    &mut last.insert((way, raw.map_err(S::Error::custom)?)).1
                }
            };
            raw.iter().try_for_each(|step| list.serialize_element(step))
        })?;
        for step in answer.own_steps() {
            list.serialize_element(&StepDocument::of(&step))?;
        }
        list.end()
    }
}

#[derive(Serialize)]
struct StepDocument<'a> {
    #[serde(flatten)]
    path: PathText<'a>,
    act: &'static str,
    says: &'a str,
    allows: Option<bool>,
}

impl<'a> StepDocument<'a> {
    fn of(step: &'a Step) -> Self {
        let path = PathText::of(&step.path);
        Self { path, act: step.act.word(), says: &step.says, allows: step.allows }
    }
}

#[derive(Serialize)]
struct WantedDocument<'a> {
    site: String,
    phase: &'static str,
    part: String,
    r#use: &'static str,
    right: &'static str,
    is: &'static str,
    acts: Vec<&'static str>,
    changes: Vec<ChangeDocument<'a>>,
}

#[derive(Serialize)]
struct ChangeDocument<'a> {
    #[serde(flatten)]
    path: PathText<'a>,
    from: &'a str,
    to: Option<&'a str>,
    remedy: String,
}

#[derive(Serialize)]
struct RefusedDocument {
    by: &'static str,
    act: Option<&'static str>,
    call: String,
    script: Option<String>,
    count: u64,
    first: Option<String>,
    last: Option<String>,
    now: &'static str,
    switch: Option<String>,
    switch_on: Option<bool>,
}

/// The answer for a path, ready to be written.
pub(crate) fn answer(account: &str, answer: &Answer) -> io::Result<Box<RawValue>> {
    Ok(to_raw_value(&document(account, answer, None))?)
}

/// What stands for an answer where it is not known whom to ask about.
pub(crate) fn unknown(account: &str, path: &Path) -> io::Result<Box<RawValue>> {
    Ok(to_raw_value(&nobody(path, account, None))?)
}

/// Writes the answers for paths.
pub(crate) fn answers(
    answers: &mut dyn Iterator<Item = io::Result<Box<RawValue>>>,
    out: &mut dyn Write,
) -> io::Result<()> {
    let mut failed = None;
    let mut answers = answers.map_while(|answer| answer.map_err(|error| failed = Some(error)).ok());
    let answers = Drained(RefCell::new(&mut answers));
    let no_files = Vec::new();
    print(&WhyDocument { ambrik: "why/1", answers, refused_without_path: None, no_files }, out)?;
    failed.map_or(Ok(()), Err)
}

/// A list that is written while it is made, once.
struct Drained<'i>(RefCell<&'i mut dyn Iterator<Item = Box<RawValue>>>);

impl Serialize for Drained<'_> {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_seq(&mut **self.0.borrow_mut())
    }
}

/// A denial of SELinux that is no matter of files.
#[derive(Serialize)]
struct NoFileDocument {
    by: &'static str,
    permission: String,
    class: String,
    r#type: String,
    port: Option<u32>,
    name: Option<String>,
    child: Option<String>,
    count: u64,
    switch: Option<String>,
    on: Option<bool>,
    command: Option<String>,
    says: String,
    commands: Vec<String>,
}

impl NoFileDocument {
    fn of(denied: &NoFile) -> Self {
        let What { permission, class, type_name, port, name, child, .. } = denied.other.what.clone();
        let (switch, advice) = (denied.switch.as_ref(), &denied.advice);
        let text = |name: std::ffi::OsString| name.to_string_lossy().into_owned();
        Self {
            by: if denied.other.by == By::Php { "php" } else { "web" },
            permission,
            class,
            r#type: type_name,
            port,
            name: name.map(text),
            child: child.map(text),
            count: denied.other.count,
            switch: switch.map(|switch| switch.name.clone()),
            on: switch.and_then(|switch| switch.on),
            command: switch.map(|switch| command(&switch.name, true)),
            says: format!("{}: {}", advice.tried, advice.says),
            commands: advice.commands.clone(),
        }
    }
}

/// Writes what is known of refusals. One about whom nothing can be asked has no answers, which are null.
pub(crate) fn reviews(reviews: &[Review], others: &[NoFile], without_path: u64, out: &mut dyn Write) -> io::Result<()> {
    let answers = Each(|| {
        reviews.iter().map(|review| {
            let refused = refused(review);
            match &review.told {
                Some(told) => document(&told.account, &told.answer, Some(refused)),
                None => nobody(&review.refusal.path, "", Some(refused)),
            }
        })
    });
    let no_files = others.iter().map(NoFileDocument::of).collect();
    print(&WhyDocument { ambrik: "why/1", answers, refused_without_path: Some(without_path), no_files }, out)
}

fn document<'a>(account: &'a str, answer: &'a Answer, refused: Option<RefusedDocument>) -> AnswerDocument<'a> {
    let can = answer.can;
    AnswerDocument {
        path: PathText::of(&answer.path),
        account,
        kind: answer.kind.map(ambrik_core::entry::Kind::word),
        leads_to: answer.leads_to.as_ref().map(|path| path.to_string_lossy()),
        read: can.read,
        write: can.write,
        search: can.search,
        create: can.create,
        delete: can.delete,
        link: can.link,
        chmod: can.chmod,
        steps: Steps(Some(answer)),
        wanted: answer.wanted.as_ref().map(wanted),
        refused,
    }
}

/// An answer of nobody, of whom nothing is known.
fn nobody<'a>(path: &'a Path, account: &'a str, refused: Option<RefusedDocument>) -> AnswerDocument<'a> {
    AnswerDocument {
        path: PathText::of(path),
        account,
        kind: None,
        leads_to: None,
        read: None,
        write: None,
        search: None,
        create: None,
        delete: None,
        link: None,
        chmod: None,
        steps: Steps(None),
        wanted: None,
        refused,
    }
}

fn wanted(wanted: &Wanted) -> WantedDocument<'_> {
    let (is, acts): (_, &[Act]) = match &wanted.is {
        Match::AsWanted => ("as-wanted", &[]),
        Match::TooLittle(acts) => ("too-little", acts),
        Match::TooMuch(acts) => ("too-much", acts),
        Match::Unknown => ("unknown", &[]),
    };
    let changes = wanted.mends.iter().map(|mend| ChangeDocument {
        path: PathText::of(&mend.path),
        from: &mend.from,
        to: mend.to.as_deref(),
        remedy: match &mend.remedy {
            Cure::Set => format!("ambrik set {}", wanted.site.name),
            Cure::Hand(words) => words.clone(),
        },
    });
    WantedDocument {
        site: wanted.site.name.clone(),
        phase: wanted.phase.word(),
        part: wanted.part_shown().to_owned(),
        r#use: wanted.used_as.word(),
        right: wanted.right.word(),
        is,
        acts: acts.iter().map(|act| act.word()).collect(),
        changes: changes.collect(),
    }
}

fn refused(review: &Review) -> RefusedDocument {
    let refusal = &review.refusal;
    RefusedDocument {
        by: if refusal.by == By::Php { "php" } else { "web" },
        act: refusal.act.map(Act::word),
        call: refusal.call.clone(),
        script: refusal.script.as_ref().map(|path| path.to_string_lossy().into_owned()),
        count: refusal.count,
        first: refusal.first.map(|time| time.to_string()),
        last: refusal.last.map(|time| time.to_string()),
        now: match review.now {
            Now::Wanted => "refused-and-wanted",
            Now::Opened => "works-and-unwanted",
            Now::Unwanted => "refused-and-unwanted",
            Now::NoSite => "refused-of-no-site",
            Now::ReadsOnly => "reads-only",
            Now::Works => "works",
            Now::Unknown => "unknown",
        },
        switch: review.switch.as_ref().map(|switch| switch.name.clone()),
        switch_on: review.switch.as_ref().and_then(|switch| switch.on),
    }
}

#[derive(Serialize)]
struct EverythingDocument<E> {
    ambrik: &'static str,
    answers: [(); 0],
    everything: E,
}

#[derive(Serialize)]
struct SiteDocument<'a, P> {
    site: String,
    account: String,
    act: &'static str,
    entries: u64,
    able: u64,
    unwanted: u64,
    complete: bool,
    runs_php: Option<RunsDocument<'a>>,
    parts: Vec<PartDocument>,
    directories: Vec<DirectoryDocument<'a>>,
    paths: P,
}

#[derive(Serialize)]
struct RunsDocument<'a> {
    server: Option<String>,
    directories: Vec<PathText<'a>>,
}

#[derive(Serialize)]
struct PartDocument {
    path: String,
    r#use: &'static str,
    right: &'static str,
    paths: u64,
    able: u64,
}

#[derive(Serialize)]
struct DirectoryDocument<'a> {
    #[serde(flatten)]
    path: PathText<'a>,
    whole: bool,
    paths: u64,
    able: u64,
}

#[derive(Serialize)]
struct AbleDocument<'a> {
    #[serde(flatten)]
    path: PathText<'a>,
    through: &'static str,
}

/// Writes everything that an account can do in a site.
pub(crate) fn everything(found: &Everything, account: &str, out: &mut dyn Write) -> io::Result<()> {
    let parts = found.parts.iter().map(|part| PartDocument {
        path: part.part.clone(),
        r#use: part.used_as.word(),
        right: part.right.word(),
        paths: part.paths,
        able: part.able,
    });
    let directories = found.folders.iter().map(|folder| DirectoryDocument {
        path: PathText::of(&folder.path),
        whole: folder.whole,
        paths: folder.paths,
        able: folder.able,
    });
    let runs_php = found.runs_php.as_ref().map(|runs| RunsDocument {
        server: runs.server.clone(),
        directories: runs.folders.iter().map(|path| PathText::of(path)).collect(),
    });
    let paths = Each(|| {
        found.paths().map(|(path, through)| AbleDocument {
            path: PathText::owned(&path),
            through: match through {
                Through::Itself => "itself",
                Through::Above => "directory",
            },
        })
    });
    let everything = SiteDocument {
        site: found.site.name.clone(),
        account: account.to_owned(),
        act: found.act.word(),
        entries: found.entries,
        able: found.able(),
        unwanted: found.too_many(),
        complete: found.is_complete(),
        runs_php,
        parts: parts.collect(),
        directories: directories.collect(),
        paths,
    };
    print(&EverythingDocument { ambrik: "why/1", answers: [], everything }, out)
}
