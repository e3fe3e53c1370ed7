//! A survey for programs: `survey/1`.

use std::io::{self, Write};

use ambrik_core::survey::{DraftPart, DraftReason, FoundAccount, Survey};
use serde::Serialize;

use super::json::{PathText, print};

#[derive(Serialize)]
struct SurveyDocument<'s> {
    ambrik: &'static str,
    root: String,
    served: String,
    served_confidence: &'static str,
    served_because: Vec<ReasonDocument<'s>>,
    url: Option<&'s str>,
    pages: &'s [String],
    accounts: AccountsDocument<'s>,
    parts: Vec<PartDocument<'s>>,
    other_sites: Vec<OtherSiteDocument<'s>>,
    questions: Vec<QuestionDocument<'s>>,
    paths: usize,
    php_files: usize,
    unseen: Vec<PathText<'s>>,
}

#[derive(Serialize)]
struct OtherSiteDocument<'s> {
    site: &'s str,
    #[serde(flatten)]
    path: PathText<'s>,
}

#[derive(Serialize)]
struct AccountsDocument<'s> {
    keeper: Option<&'s str>,
    grant: Option<String>,
    access: Vec<ReadersDocument<'s>>,
    php: Option<AccountDocument<'s>>,
    web: Option<AccountDocument<'s>>,
}

/// Who reads logs besides.
#[derive(Serialize)]
struct ReadersDocument<'s> {
    group: &'s str,
    #[serde(flatten)]
    path: PathText<'s>,
}

#[derive(Serialize)]
struct AccountDocument<'s> {
    user: &'s str,
    group: &'s str,
    because: &'s str,
}

#[derive(Serialize)]
struct PartDocument<'s> {
    #[serde(flatten)]
    path: PathText<'s>,
    r#use: &'static str,
    write: &'static str,
    from: Option<String>,
    create: bool,
    confidence: &'static str,
    because: Vec<ReasonDocument<'s>>,
}

#[derive(Serialize)]
struct QuestionDocument<'s> {
    asks: &'s str,
    #[serde(flatten)]
    part: PartDocument<'s>,
}

#[derive(Serialize)]
struct ReasonDocument<'s> {
    says: &'s str,
    r#where: String,
}

/// Writes `survey/1`.
pub(crate) fn survey(found: &Survey, out: &mut dyn Write) -> io::Result<()> {
    let served = found.served.to_string_lossy();
    let document = SurveyDocument {
        ambrik: "survey/1",
        root: found.root.to_string_lossy().into_owned(),
        served: if served.is_empty() { ".".into() } else { served.into_owned() },
        served_confidence: found.served_confidence.word(),
        served_because: reasons(&found.served_because),
        url: found.address.as_ref().map(|address| address.url.as_str()),
        pages: found.address.as_ref().map_or(&[], |address| &address.pages),
        accounts: AccountsDocument {
            keeper: found.keeper.as_deref(),
            access: found
                .readers
                .iter()
                .map(|readers| ReadersDocument { group: &readers.group, path: PathText::of(&readers.path) })
                .collect(),
            grant: found.grant.as_ref().map(|(grant, _)| grant.to_string()),
            php: account(&found.php),
            web: account(&found.web),
        },
        parts: found.parts.iter().map(part).collect(),
        other_sites: found
            .others
            .iter()
            .map(|(path, site)| OtherSiteDocument { site, path: PathText::of(path) })
            .collect(),
        questions: found
            .questions
            .iter()
            .map(|question| QuestionDocument { asks: &question.asks, part: part(&question.part) })
            .collect(),
        paths: found.paths,
        php_files: found.php_files,
        unseen: found.unseen.iter().map(|path| PathText::of(path)).collect(),
    };
    print(&document, out)
}

fn part(part: &DraftPart) -> PartDocument<'_> {
    PartDocument {
        path: PathText::of(&part.path),
        r#use: part.used_as.word(),
        write: part.write.word(),
        from: part.from.as_ref().map(|from| from.to_string_lossy().into_owned()),
        create: part.create,
        confidence: part.confidence.word(),
        because: reasons(&part.because),
    }
}

fn reasons(because: &[DraftReason]) -> Vec<ReasonDocument<'_>> {
    because.iter().map(|reason| ReasonDocument { says: &reason.says, r#where: reason.seen.to_string() }).collect()
}

fn account(found: &FoundAccount) -> Option<AccountDocument<'_>> {
    let answer = found.as_ref().ok()?;
    let account = &answer.account;
    Some(AccountDocument { user: &account.user, group: &account.group, because: &answer.because })
}
