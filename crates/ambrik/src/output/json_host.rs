//! What is known of the host's services, for programs: `accounts/1`.

use std::io::{self, Write};

use ambrik_core::host::{AccountAnswer, PhpSettings, PhpThrough, Runs, Service, Services};
use serde::Serialize;

use super::json::{PathText, print};

#[derive(Serialize)]
struct AccountsDocument<'s> {
    ambrik: &'static str,
    host: &'s str,
    services: Vec<ServiceDocument<'s>>,
    served: Vec<ServedDocument<'s>>,
    settings: Vec<SettingsDocument<'s>>,
    disagreements: Vec<SaysDocument<'s>>,
    not_understood: Vec<PlaceDocument<'s>>,
}

/// PHP's own settings for a served folder.
#[derive(Serialize)]
struct SettingsDocument<'s> {
    #[serde(flatten)]
    path: PathText<'s>,
    runs: &'s str,
    settings: Vec<SettingDocument<'s>>,
}

#[derive(Serialize)]
struct SettingDocument<'s> {
    name: &'s str,
    value: &'s str,
    /// Nothing where PHP has it so by itself.
    r#where: Option<String>,
}

#[derive(Serialize)]
struct ServiceDocument<'s> {
    program: &'s str,
    role: &'static str,
    user: &'s str,
    group: &'s str,
    groups: &'s [String],
    pool: Option<&'s str>,
    runs: bool,
    evidence: Vec<EvidenceDocument<'s>>,
}

#[derive(Serialize)]
struct EvidenceDocument<'s> {
    from: &'static str,
    r#where: &'s str,
    says: &'s str,
}

#[derive(Serialize)]
struct ServedDocument<'s> {
    #[serde(flatten)]
    path: PathText<'s>,
    names: &'s [String],
    listens: &'s [String],
    program: &'s str,
    through: &'static str,
    address: Option<String>,
    pool: Option<&'s str>,
    may_connect: Option<bool>,
    php: Vec<AnswerDocument<'s>>,
    web: Vec<AnswerDocument<'s>>,
    denied: Vec<PathText<'s>>,
    r#where: String,
}

#[derive(Serialize)]
struct AnswerDocument<'s> {
    user: &'s str,
    group: &'s str,
    because: &'s str,
}

#[derive(Serialize)]
struct SaysDocument<'s> {
    says: &'s str,
}

#[derive(Serialize)]
struct PlaceDocument<'s> {
    r#where: String,
    says: &'s str,
}

/// Writes `accounts/1`.
pub(crate) fn accounts(host: &str, services: &Services, out: &mut dyn Write) -> io::Result<()> {
    let document = AccountsDocument {
        ambrik: "accounts/1",
        host,
        services: services.services.iter().map(service).collect(),
        served: services.served.iter().map(served).collect(),
        settings: services.settings.iter().map(settings).collect(),
        disagreements: services.disagreements.iter().map(|d| SaysDocument { says: &d.says }).collect(),
        not_understood: services
            .unclear
            .iter()
            .map(|unclear| PlaceDocument { r#where: unclear.at.to_string(), says: &unclear.says })
            .collect(),
    };
    print(&document, out)
}

fn settings(found: &PhpSettings) -> SettingsDocument<'_> {
    let settings = found.list.iter().map(|setting| SettingDocument {
        name: setting.name,
        value: &setting.value,
        r#where: setting.at.as_ref().map(ToString::to_string),
    });
    SettingsDocument { path: PathText::of(&found.folder), runs: &found.runs, settings: settings.collect() }
}

fn service(service: &Service) -> ServiceDocument<'_> {
    let evidence = service.evidence.iter().map(|evidence| EvidenceDocument {
        from: evidence.from.word(),
        r#where: &evidence.place,
        says: &evidence.says,
    });
    ServiceDocument {
        program: &service.program,
        role: service.role.word(),
        user: &service.account.user,
        group: &service.account.group,
        groups: &service.groups,
        pool: service.pool.as_deref(),
        runs: service.runs(),
        evidence: evidence.collect(),
    }
}

fn served(runs: &Runs) -> ServedDocument<'_> {
    let folder = &runs.folder;
    let (through, address) = match &folder.through {
        PhpThrough::Nothing => ("nothing", None),
        PhpThrough::Inside(_) => ("inside", None),
        PhpThrough::Socket(address, _) => ("socket", Some(address.to_string())),
        PhpThrough::Server(to, _) => ("server", Some(to.clone())),
        PhpThrough::Unclear(..) => ("not-understood", None),
    };
    ServedDocument {
        path: PathText::of(&folder.path),
        names: &folder.names,
        listens: &folder.listens,
        program: &folder.program,
        through,
        address,
        pool: runs.pool.as_deref(),
        may_connect: runs.may_connect,
        php: runs.php.iter().map(answer).collect(),
        web: runs.web.iter().map(answer).collect(),
        denied: folder.denied.iter().map(|path| PathText::of(path)).collect(),
        r#where: folder.at.to_string(),
    }
}

fn answer(answer: &AccountAnswer) -> AnswerDocument<'_> {
    AnswerDocument { user: &answer.account.user, group: &answer.account.group, because: &answer.because }
}
