//! What many hosts answered, as one: for people, and `fleet/1`.

use std::collections::BTreeMap;
use std::io::{self, Read as _, Write};

use ambrik_core::check::CATALOGUE;
use ambrik_core::fleet::{AuditAnswer, Cause, FleetAudit, FleetSite, causes};
use ambrik_core::shown::Shown;
use jiff::Timestamp;
use serde::{Serialize, Serializer};

use super::answers::{HostAnswer, Kept};
use super::fleet_formats;
use super::json::{Each, print};
use super::report::Report;
use super::table::{BAD, FAINT, GOOD, HEAD, ODD, cut, styled, table, wrapped, write};
use super::told::wrong;
use super::{count, counted, number};
use crate::options::AuditFormat;

/// The answers of many hosts.
pub(crate) struct FleetReport<'r> {
    /// The words of the command line that went to them.
    pub(crate) words: &'r [String],
    pub(crate) kept: &'r Kept,
    /// The number of the run on this side, where something was changed.
    pub(crate) run: Option<u64>,
    /// The audits of these hosts that are on record, the oldest first.
    pub(crate) course: &'r [FleetAudit],
    /// Whether audits are told, which are put together.
    pub(crate) is_audit: bool,
}

impl Report for FleetReport<'_> {
    fn text(&self, out: &mut dyn Write) -> io::Result<()> {
        let audits = self.kept.audits();
        if self.is_audit {
            return render_audits(self.kept, &audits, out);
        }
        if texts(self.kept, out)? {
            writeln!(out)?;
        }
        unanswered(self.kept, out)
    }

    fn json(&self, out: &mut dyn Write) -> io::Result<()> {
        let hosts = Each(|| self.kept.hosts.iter().map(|host| host_document(self.kept, host)));
        let audits = self.kept.audits();
        let taken = Timestamp::now().strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
        let causes = causes(&audits);
        print(&FleetDocument { ambrik: "fleet/1", taken, command: self.words, run: self.run, causes, hosts }, out)
    }

    fn of_audit(&self, format: AuditFormat, out: &mut dyn Write) -> io::Result<()> {
        fleet_formats::write(self.kept, self.course, format, out)
    }
}

#[derive(Serialize)]
struct FleetDocument<'d, H> {
    ambrik: &'static str,
    taken: String,
    command: &'d [String],
    #[serde(skip_serializing_if = "Option::is_none")]
    run: Option<u64>,
    causes: Vec<Cause>,
    hosts: H,
}

#[derive(Serialize)]
struct HostDocument<'d, A> {
    host: &'d str,
    seconds: f64,
    exit: Option<u8>,
    trouble: Option<TroubleDocument<'d>>,
    answer: A,
}

#[derive(Serialize)]
struct TroubleDocument<'d> {
    reason: &'static str,
    says: &'static str,
    words: &'d str,
    todo: &'static str,
}

fn host_document<'d>(kept: &'d Kept, host: &'d HostAnswer) -> impl Serialize + use<'d> {
    let trouble = host.answer.as_ref().err().map(|no| TroubleDocument {
        reason: no.trouble.word(),
        says: no.trouble.says(),
        words: &no.words,
        todo: no.trouble.todo(),
    });
    let exit = host.answer.as_ref().ok().map(|answer| answer.exit);
    let seconds = (host.took.as_secs_f64() * 1000.0).round() / 1000.0;
    HostDocument { host: &host.host, seconds, exit, trouble, answer: Document { kept, host } }
}

/// A host's document as it came, taken apart and put together again; null where there is none.
struct Document<'d> {
    kept: &'d Kept,
    host: &'d HostAnswer,
}

impl Serialize for Document<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        if self.host.answer.as_ref().map_or(true, |answer| answer.kind == "text") {
            return serializer.serialize_none();
        }
        let read = self.kept.read(self.host);
        serde_transcode::transcode(&mut serde_json::Deserializer::from_reader(read), serializer)
    }
}

/// So many sites that are not as they should be are told of.
const MOST_SITES: usize = 20;
/// So many hosts are named that have something in common.
const MOST_NAMED: usize = 12;
/// And so many kinds of findings.
const MOST_CAUSES: usize = 20;

fn render_audits(kept: &Kept, audits: &[(&str, &AuditAnswer)], out: &mut dyn Write) -> io::Result<()> {
    let sites: Vec<(&str, &FleetSite)> =
        audits.iter().flat_map(|(host, audit)| audit.sites.iter().map(|site| (*host, site))).collect();
    let not_judged: usize = audits.iter().map(|(_, audit)| audit.not_judged.len()).sum();
    let is_bad = |site: &FleetSite| site.worst().is_some();
    let (mut bad, good): (Vec<_>, Vec<_>) = sites.iter().copied().partition(|(_, site)| is_bad(site));
    wrapped(&styled(HEAD, &headline(kept, sites.len(), bad.len(), not_judged)), "", "  ", out)?;
    if kept.unanswered().next().is_some() {
        writeln!(out)?;
    }
    unanswered(kept, out)?;
    bad.sort_by_key(|(_, site)| std::cmp::Reverse(site.severities()));
    let mut rows = table(&["host", "site", "high", "medium", "low", "what matters most"]);
    for (host, audit) in audits {
        for wrong in audit.not_judged.iter().take(MOST_SITES) {
            let says = cut(&format!("not judged: {}", wrong.says), 58);
            rows.add_row([
                cut(host, 20),
                cut(&wrong.name, 20),
                String::new(),
                String::new(),
                String::new(),
                styled(BAD, &says),
            ]);
        }
    }
    for (host, site) in bad.iter().take(MOST_SITES) {
        let [high, medium, low] = site.severities().map(|n| if n == 0 { String::new() } else { number(count(n)) });
        let worst = site.worst().map_or((2, ""), |finding| (finding.rank(), finding.check.as_str()));
        let says = styled([BAD, ODD, FAINT][worst.0], &cut(worst.1, 24));
        rows.add_row([cut(host, 20), cut(&site.name, 20), styled(BAD, &high), styled(ODD, &medium), low, says]);
    }
    if !bad.is_empty() || not_judged > 0 {
        writeln!(out)?;
        write(&mut rows, &[2, 3, 4], "  ", out)?;
    }
    if bad.len() > MOST_SITES {
        writeln!(out, "  and {} more, none worse", number(count(bad.len() - MOST_SITES)))?;
    }
    if !good.is_empty() && !bad.is_empty() {
        writeln!(out, "  {} more are as they should be", number(count(good.len())))?;
    }
    let all = audits.len();
    let causes = causes(audits);
    if !causes.is_empty() {
        writeln!(out)?;
    }
    causes.iter().take(MOST_CAUSES).try_for_each(|cause| cause_text(cause, all, out))?;
    if bad.is_empty() {
        return Ok(());
    }
    writeln!(out, "\n{}", styled(FAINT, "one host whole: ambrik --on HOST audit --format html --to audit.html"))
}

fn cause_text(cause: &Cause, all: usize, out: &mut dyn Write) -> io::Result<()> {
    let look = match cause.severity.as_str() {
        "high" => BAD,
        "medium" => ODD,
        _ => FAINT,
    };
    let on = format!("on {} of {}", number(count(cause.hosts)), counted(count(all), "host", "hosts"));
    let sites = counted(count(cause.sites), "site", "sites");
    // Which accounts and paths is another on each.
    let known = CATALOGUE.iter().find(|check| check.name == cause.check).map(|check| wrong(check));
    let says = known.unwrap_or_else(|| cause.says.split(" (").next().unwrap_or_default().to_owned());
    let head = format!("{} ({}) {on}, {sites}: {says}", styled(look, &cause.check), cause.severity);
    wrapped(&head, "", "    ", out)?;
    if cause.hosts == all {
        return Ok(());
    }
    let named = cause.on.iter().take(MOST_NAMED);
    let more = cause.hosts.saturating_sub(named.len());
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    wrapped(&format!("{}{more}", named.cloned().collect::<Vec<_>>().join(", ")), "    ", "    ", out)
}

fn headline(kept: &Kept, sites: usize, bad: usize, not_judged: usize) -> String {
    let (hosts, silent) = (kept.hosts.len(), kept.unanswered().count());
    let answered = match silent {
        0 => format!("{}, all answered", counted(count(hosts), "host", "hosts")),
        n => format!("{}, {} gave no result", counted(count(hosts), "host", "hosts"), number(count(n))),
    };
    let unjudged = if not_judged > 0 { format!(", {not_judged} not judged") } else { String::new() };
    if hosts == silent {
        return format!("{answered}: nothing is known");
    }
    format!(
        "{answered}; {}: {} as they should be, {} with findings{unjudged}",
        counted(count(sites), "site", "sites"),
        number(count(sites - bad)),
        number(count(bad))
    )
}

/// So much of each host's text is shown, in bytes.
const MOST_TEXT: u64 = 1 << 20;

/// What hosts said, each text once, with those that said it; whether there are hosts without a result besides.
fn texts(kept: &Kept, out: &mut dyn Write) -> io::Result<bool> {
    let mut by_text: BTreeMap<usize, (String, Vec<&str>)> = BTreeMap::new();
    for (number, host) in kept.hosts.iter().enumerate().filter(|(_, host)| host.answer.is_ok()) {
        let mut text = Vec::new();
        kept.read(host).take(MOST_TEXT).read_to_end(&mut text)?;
        let text = String::from_utf8_lossy(&text).into_owned();
        match by_text.values_mut().find(|(known, _)| *known == text) {
            Some((_, hosts)) => hosts.push(&host.host),
            None => drop(by_text.insert(number, (text, vec![&host.host]))),
        }
    }
    for (n, (text, hosts)) in by_text.values().enumerate() {
        if n > 0 {
            writeln!(out)?;
        }
        wrapped(&styled(HEAD, &hosts.join(", ")), "", "  ", out)?;
        for line in text.lines() {
            // What a host says reaches the terminal escaped.
            writeln!(out, "{}", Shown(line.as_ref()))?;
        }
        if text.trim().is_empty() {
            writeln!(out, "{}", styled(GOOD, "nothing to be said"))?;
        }
    }
    Ok(!by_text.is_empty() && kept.unanswered().next().is_some())
}

/// Hosts that gave no answer, why, and what to do.
pub(crate) fn unanswered(kept: &Kept, out: &mut dyn Write) -> io::Result<()> {
    for (host, no) in kept.unanswered() {
        let words = if no.words.is_empty() { String::new() } else { format!(" ({})", no.words) };
        let todo = no.trouble.todo().replace("HOST", &host.host);
        let name = styled(BAD, &host.host);
        wrapped(&format!("{name}: {}{words}; {todo}", no.trouble.says()), "", "    ", out)?;
    }
    Ok(())
}
