//! What the PHP of one site can do in another.

use std::collections::BTreeMap;

use super::{Case, Check, Concern, Judge, Reason, Remedy, Severity, is_symlink};
use crate::access::{Class, decide};
use crate::account::Ids;
use crate::mode::Perm;
use crate::policy::Right;
use crate::site::{Site, Use};

pub(crate) static REACHES_OTHER_SITE: Check = Check {
    name: "reaches-other-site",
    severity: Severity::High,
    wrong: "the PHP of another site can get at what is closed to it here",
    lets: "whoever gets into that site's PHP gets into this site as well",
    remedy: Remedy::Set,
    judge: Judge::Rights(reached),
};

pub(crate) static PHP_SHARED: Check = Check {
    name: "php-shared",
    severity: Severity::Medium,
    wrong: "the PHP of several sites runs as one account",
    lets: "each can read the others' secrets, and change what the others' PHP may write",
    remedy: Remedy::Hand(
        "give each site's pool an account of its own (user = … in the pool's configuration), then name it in the site file",
    ),
    judge: Judge::Host(|site, people| {
        let secrets = |of: &Site| {
            let secrets = of.parts.iter().filter(|part| part.used_as == Use::Secret);
            let secrets: Vec<&str> = secrets.map(|part| part.shown.as_str()).collect();
            let secrets = if secrets.is_empty() { "no secrets".to_owned() } else { secrets.join(", ") };
            (of.name.clone(), format!("with {secrets}"))
        };
        let sharing = people.sharing();
        let sites = sharing.iter().map(|other| secrets(other)).chain([secrets(site)]).collect();
        (!sharing.is_empty()).then(|| Concern { cause: format!("all run as {}", site.php.user), sites, cure: None })
    }),
};

/// Which other sites' PHP can read or write here though it should not, and the way in.
fn reached(case: &Case<'_>) -> Option<Reason> {
    let people = case.people;
    let neighbours = people.neighbours();
    if neighbours.is_empty() {
        return None;
    }
    let (reads, writes) = (people.allowed(case.context, Right::Read), people.allowed(case.context, Right::Write));
    let link = is_symlink(case.facts);
    let mut ways: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for neighbour in neighbours {
        let place = neighbour.place;
        let ids = &people.list()[place].ids;
        let way = if !writes.has(place) && !link && case.can.change(place) {
            format!("can write, {}", through(case, ids, Perm::W))
        } else if !writes.has(place) && case.can.replace.has(place) {
            "can replace it, through a writable directory".to_owned()
        } else if !reads.has(place) && !link && case.can.read.has(place) {
            format!("can read, {}", through(case, ids, Perm::R))
        } else {
            continue;
        };
        ways.entry(way).or_default().push(&neighbour.site);
    }
    let says: Vec<String> = ways.iter().map(|(way, sites)| format!("{} {way}", few(sites))).collect();
    (!says.is_empty()).then(|| Reason::Says(says.join("; ")))
}

/// The class or entry by which an account gets in.
fn through(case: &Case<'_>, ids: &Ids, want: Perm) -> String {
    match decide(ids, case.facts.kind, &case.facts.rights, want).class {
        Class::Owner => "as the owner".into(),
        Class::NamedUser | Class::NamedGroup => "through an access list".into(),
        Class::Group => format!("through group {}", case.accounts.group_shown(case.facts.rights.gid)),
        Class::Other => "open to every account".into(),
    }
}

/// So many are named; of more, how many more there are.
const MOST_NAMED: usize = 4;

fn few(sites: &[&str]) -> String {
    let more = sites.len().saturating_sub(MOST_NAMED);
    if more < 2 { sites.join(" and ") } else { format!("{} and {more} more", sites[..MOST_NAMED].join(" and ")) }
}
