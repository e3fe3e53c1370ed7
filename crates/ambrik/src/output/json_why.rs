//! `why/1`: answers for programs, described in docs/schemas.

use std::io::{self, Write};

use ambrik_core::why::{Act, By, Everything, Match, Now, Remedy, Through, Wanted};
use serde::Serialize;

use super::json::{Each, PathText, print};
use crate::commands::why::{Review, Told};

#[derive(Serialize)]
struct WhyDocument<A> {
    ambrik: &'static str,
    answers: A,
    #[serde(skip_serializing_if = "Option::is_none")]
    refused_without_path: Option<u64>,
}

#[derive(Serialize)]
struct AnswerDocument {
    #[serde(flatten)]
    path: PathText,
    account: String,
    kind: Option<&'static str>,
    leads_to: Option<String>,
    read: Option<bool>,
    write: Option<bool>,
    search: Option<bool>,
    create: Option<bool>,
    delete: Option<bool>,
    link: Option<bool>,
    chmod: Option<bool>,
    steps: Vec<StepDocument>,
    wanted: Option<WantedDocument>,
    #[serde(skip_serializing_if = "Option::is_none")]
    refused: Option<RefusedDocument>,
}

#[derive(Serialize)]
struct StepDocument {
    #[serde(flatten)]
    path: PathText,
    act: &'static str,
    says: String,
    allows: Option<bool>,
}

#[derive(Serialize)]
struct WantedDocument {
    site: String,
    phase: &'static str,
    part: String,
    r#use: &'static str,
    right: &'static str,
    is: &'static str,
    acts: Vec<&'static str>,
    changes: Vec<ChangeDocument>,
}

#[derive(Serialize)]
struct ChangeDocument {
    #[serde(flatten)]
    path: PathText,
    from: String,
    to: Option<String>,
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
}

/// Writes the answers for paths.
pub(crate) fn answers(told: &[Told], out: &mut dyn Write) -> io::Result<()> {
    let answers = Each(|| told.iter().map(|told| answer(told, None)));
    print(&WhyDocument { ambrik: "why/1", answers, refused_without_path: None }, out)
}

/// Writes what is known of refusals. One about whom nothing can be asked has no answers, which are null.
pub(crate) fn reviews(reviews: &[Review], without_path: u64, out: &mut dyn Write) -> io::Result<()> {
    let answers = Each(|| {
        reviews.iter().map(|review| {
            let refused = refused(review);
            match &review.told {
                Some(told) => answer(told, Some(refused)),
                None => nobody(review, refused),
            }
        })
    });
    print(&WhyDocument { ambrik: "why/1", answers, refused_without_path: Some(without_path) }, out)
}

fn answer(told: &Told, refused: Option<RefusedDocument>) -> AnswerDocument {
    let answer = &told.answer;
    let can = answer.can;
    let steps = answer.steps().into_iter().map(|step| StepDocument {
        path: PathText::of(&step.path),
        act: step.act.word(),
        says: step.says.to_string(),
        allows: step.allows,
    });
    AnswerDocument {
        path: PathText::of(&answer.path),
        account: told.account.clone(),
        kind: answer.kind.map(ambrik_core::entry::Kind::word),
        leads_to: answer.leads_to.as_ref().map(|path| path.to_string_lossy().into_owned()),
        read: can.read,
        write: can.write,
        search: can.search,
        create: can.create,
        delete: can.delete,
        link: can.link,
        chmod: can.chmod,
        steps: steps.collect(),
        wanted: answer.wanted.as_ref().map(wanted),
        refused,
    }
}

fn nobody(review: &Review, refused: RefusedDocument) -> AnswerDocument {
    AnswerDocument {
        path: PathText::of(&review.refusal.path),
        account: String::new(),
        kind: None,
        leads_to: None,
        read: None,
        write: None,
        search: None,
        create: None,
        delete: None,
        link: None,
        chmod: None,
        steps: Vec::new(),
        wanted: None,
        refused: Some(refused),
    }
}

fn wanted(wanted: &Wanted) -> WantedDocument {
    let (is, acts): (_, &[Act]) = match &wanted.is {
        Match::AsWanted => ("as-wanted", &[]),
        Match::TooLittle(acts) => ("too-little", acts),
        Match::TooMuch(acts) => ("too-much", acts),
        Match::Unknown => ("unknown", &[]),
    };
    let changes = wanted.mends.iter().map(|mend| ChangeDocument {
        path: PathText::of(&mend.path),
        from: mend.from.clone(),
        to: mend.to.clone(),
        remedy: match &mend.remedy {
            Remedy::Set => format!("ambrik set {}", wanted.site.name),
            Remedy::Hand(words) => words.clone(),
        },
    });
    WantedDocument {
        site: wanted.site.name.clone(),
        phase: wanted.phase.word(),
        part: wanted.part.clone(),
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
            Now::Unwanted => "refused-and-unwanted",
            Now::NoSite => "refused-of-no-site",
            Now::ReadsOnly => "reads-only",
            Now::Works => "works",
            Now::Unknown => "unknown",
        },
    }
}

#[derive(Serialize)]
struct EverythingDocument<E> {
    ambrik: &'static str,
    answers: [(); 0],
    everything: E,
}

#[derive(Serialize)]
struct SiteDocument<P> {
    site: String,
    account: String,
    act: &'static str,
    entries: u64,
    able: u64,
    unwanted: u64,
    complete: bool,
    runs_php: Option<RunsDocument>,
    parts: Vec<PartDocument>,
    directories: Vec<DirectoryDocument>,
    paths: P,
}

#[derive(Serialize)]
struct RunsDocument {
    server: Option<String>,
    directories: Vec<PathText>,
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
struct DirectoryDocument {
    #[serde(flatten)]
    path: PathText,
    whole: bool,
    paths: u64,
    able: u64,
}

#[derive(Serialize)]
struct AbleDocument {
    #[serde(flatten)]
    path: PathText,
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
            path: PathText::of(&path),
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
