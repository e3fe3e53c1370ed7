//! The host's services for people: who PHP runs as, a line for each served folder, then what disagrees.

use std::collections::BTreeSet;
use std::io::{self, Write};

use ambrik_core::host::{AccountAnswer, Origin, PhpThrough, Role, Runs, Service, Services};
use ambrik_core::shown::Shown;

use super::table::{BAD, FAINT, GOOD, HEAD, ODD, cut, styled, table, wrapped, write};
use super::{count, counted};

pub(crate) fn render(host: &str, services: &Services, out: &mut dyn Write) -> io::Result<()> {
    verdict(host, services, out)?;
    let mut lines = table(&["served folder", "server", "PHP through", "PHP runs as", "files read as", "seen"]);
    for runs in &services.served {
        lines.add_row(row(runs));
    }
    for service in services.services.iter().filter(|service| !is_tied(services, service)) {
        lines.add_row(row_of_service(service));
    }
    if !lines.is_empty() {
        writeln!(out)?;
        write(&mut lines, &[], "  ", out)?;
    }
    list(out, "Disagreements", services.disagreements.iter().map(|d| d.says.clone()))?;
    list(out, "Not understood", services.unclear.iter().map(|u| format!("{}: {}", u.at, u.says)))
}

/// PHP's own settings, folder by folder: what is as PHP has it by itself stands in the last line.
pub(crate) fn settings(services: &Services, out: &mut dyn Write) -> io::Result<()> {
    if services.settings.is_empty() {
        return writeln!(out, "\nPHP's settings: there is no served folder whose PHP is known here");
    }
    for folder in &services.settings {
        let heading = format!("PHP's settings for {} ({})", Shown(&folder.folder), folder.runs);
        writeln!(out, "\n{}", styled(HEAD, &heading))?;
        let mut lines = table(&["setting", "value", "where"]);
        let (mut said, mut own) = (false, Vec::new());
        for setting in &folder.list {
            match &setting.at {
                Some(at) => {
                    said = true;
                    let value = if setting.value.is_empty() { "(empty)" } else { &setting.value };
                    lines.add_row([setting.name.to_owned(), cut(value, 40), at.to_string()]);
                }
                None => own.push(setting.name),
            }
        }
        if said {
            write(&mut lines, &[], "  ", out)?;
        }
        if !own.is_empty() {
            wrapped(&format!("as PHP has them by itself: {}", own.join(", ")), "  ", "    ", out)?;
        }
    }
    Ok(())
}

fn list(out: &mut dyn Write, heading: &str, items: impl Iterator<Item = String>) -> io::Result<()> {
    for (n, item) in items.enumerate() {
        if n == 0 {
            writeln!(out, "\n{}", styled(HEAD, heading))?;
        }
        wrapped(&item, "  - ", "    ", out)?;
    }
    Ok(())
}

/// The first line: the answer itself.
fn verdict(host: &str, services: &Services, out: &mut dyn Write) -> io::Result<()> {
    let of = |role: Role| -> BTreeSet<&str> {
        services.services.iter().filter(|s| s.role == role).map(|s| s.account.user.as_str()).collect()
    };
    let (php, web) = (of(Role::Php), of(Role::Web));
    let mut says = match (php.is_empty(), web.is_empty()) {
        (true, true) => "no web server and no PHP service was found, neither running nor configured".to_owned(),
        (true, false) => format!("no PHP service was found; static files are read as {}", listed(&web)),
        (false, true) => format!("PHP runs as {}; no web server was found", listed(&php)),
        (false, false) => format!("PHP runs as {}; static files: {}", listed(&php), listed(&web)),
    };
    if !services.services.is_empty() && !services.services.iter().any(Service::runs) {
        says = format!("{says} (configured; nothing of it runs)");
    }
    let look = if php.is_empty() { ODD } else { GOOD };
    let bad = services.disagreements.len();
    let trouble = if bad > 0 {
        format!("; {}", styled(BAD, &counted(count(bad), "disagreement", "disagreements")))
    } else {
        String::new()
    };
    let line = format!("{}: {}{trouble}", styled(HEAD, host), styled(look, &says));
    wrapped(&line, "", "  ", out)?;
    if !services.processes_seen {
        writeln!(out, "{}", styled(FAINT, "  no processes could be looked at: this is what the configuration says"))?;
    }
    Ok(())
}

fn listed(names: &BTreeSet<&str>) -> String {
    let names: Vec<&str> = names.iter().copied().collect();
    match names.as_slice() {
        [] => String::new(),
        [one] => (*one).to_owned(),
        [most @ .., last] => format!("{} and {last}", most.join(", ")),
    }
}

fn row(runs: &Runs) -> Vec<String> {
    let folder = &runs.folder;
    let through = match &folder.through {
        PhpThrough::Nothing => "-".to_owned(),
        PhpThrough::Inside(_) => "itself".to_owned(),
        PhpThrough::Socket(address, _) => match &runs.pool {
            Some(pool) => format!("pool {pool}"),
            None => address.to_string(),
        },
        PhpThrough::Server(to, _) => to.clone(),
        PhpThrough::Unclear(..) => "not understood".to_owned(),
    };
    vec![
        cut(&Shown(&folder.path).to_string(), 30),
        folder.program.clone(),
        cut(&through, 19),
        accounts(&runs.php, matches!(folder.through, PhpThrough::Nothing)),
        accounts(&runs.web, false),
        seen(runs.php.iter().chain(&runs.web).flat_map(|answer| &answer.from)),
    ]
}

fn row_of_service(service: &Service) -> Vec<String> {
    let name = service.account.user.clone();
    let (php, web) = match service.role {
        Role::Php => (name, String::new()),
        Role::Web => (String::new(), name),
    };
    let through = service.pool.as_ref().map(|pool| format!("pool {pool}")).unwrap_or_default();
    let from: Vec<Origin> = service.evidence.iter().map(|evidence| evidence.from).collect();
    vec![styled(FAINT, "(none known)"), service.program.clone(), through, php, web, seen(from.iter())]
}

/// Whether a line for a served folder shows the service already.
fn is_tied(services: &Services, service: &Service) -> bool {
    let answers = |runs: &Runs| match service.role {
        Role::Php => runs.php.clone(),
        Role::Web => runs.web.clone(),
    };
    services.served.iter().any(|runs| {
        let pools = runs.pool.as_deref().unwrap_or_default();
        let same_pool = service.pool.as_deref().is_none_or(|pool| pools.split(" or ").any(|name| name == pool));
        same_pool && answers(runs).iter().any(|answer| answer.account.ids.uid == service.account.ids.uid)
    })
}

/// The one account, or all that are named.
fn accounts(answers: &[AccountAnswer], nothing: bool) -> String {
    match answers {
        [] if nothing => "-".to_owned(),
        [] => styled(ODD, "not known"),
        [one] => one.account.user.clone(),
        several => {
            let names: Vec<&str> = several.iter().map(|answer| answer.account.user.as_str()).collect();
            styled(BAD, &names.join(" or "))
        }
    }
}

/// Whether it was seen running, in configuration, or both.
fn seen<'f>(from: impl Iterator<Item = &'f Origin>) -> String {
    let found: BTreeSet<&Origin> = from.collect();
    let word = match (found.contains(&Origin::Process), found.contains(&Origin::Config)) {
        (true, true) => "both",
        (true, false) => "running",
        (false, true) => "config",
        (false, false) => "-",
    };
    word.to_owned()
}
