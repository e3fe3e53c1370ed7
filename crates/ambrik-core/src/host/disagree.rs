//! Where evidence disagrees with itself, or with what is wise.

use std::collections::{BTreeMap, BTreeSet};

use super::php_programs::FPM;
use super::process::Running;
use super::program::Family;
use super::sighting::{HostSeen, Sighting, is_of_pool};
use super::{Address, Origin, PhpThrough, Pool, Role, Runs};
use crate::account::Uid;
use crate::shown::Shown;

/// Something about the services that somebody should look at.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Disagreement {
    /// What disagrees, where, and what to do.
    pub says: String,
}

/// Every disagreement, the contradictions first.
pub(super) fn all(seen: &HostSeen<'_>, sightings: &[Sighting], served: &[Runs]) -> Vec<Disagreement> {
    let found = [
        strangers(seen),
        not_reloaded(sightings),
        pools_by_name(seen, sightings),
        shared_sockets(seen.pools),
        sockets_without_pool(seen, served),
        refused(served),
        unknown_accounts(sightings),
        unwise_accounts(seen, sightings),
        one_for_many(served),
    ];
    let mut known = BTreeSet::new();
    let all = found.into_iter().flatten().filter(|says| known.insert(says.clone()));
    all.map(|says| Disagreement { says }).collect()
}

/// Programs that call themselves what they need not be.
fn strangers(seen: &HostSeen<'_>) -> Vec<String> {
    let strange = seen.running.workers.iter().filter(|process| !seen.is_believed(process));
    let says = strange.map(|process| {
        let user = seen.accounts.user_shown(process.ids.uid);
        let why = match &process.foreign_program {
            Some((program, owner)) => {
                format!("its program {} belongs to {}", Shown(program), seen.accounts.user_shown(*owner))
            }
            None => "neither did root start it nor does a unit of root's".to_owned(),
        };
        let (pid, program, role) = (process.pid, &process.program, process.role.word());
        format!(
            "process {pid} calls itself {program} and runs as {user}, but {why}: it decides nothing; if it is right, say \
             {role} = \"{user}\" in the site file"
        )
    });
    says.collect()
}

/// What a web server, or a pool, runs as is not what its configuration says.
fn not_reloaded(sightings: &[Sighting]) -> Vec<String> {
    let of = |from: Origin| sightings.iter().filter(move |s| s.evidence.from == from && !s.weak);
    let mut says = Vec::new();
    for running in of(Origin::Process) {
        let alike = |s: &&Sighting| {
            (s.family, s.role, &s.pool) == (running.family, running.role, &running.pool)
                && (s.main.is_none() || running.main.is_none() || s.main == running.main)
        };
        let configured: Vec<&Sighting> = of(Origin::Config).filter(alike).collect();
        let Ok(now) = &running.account else { continue };
        let differ = |s: &&Sighting| {
            s.account.as_ref().is_ok_and(|then| (then.ids.uid, then.ids.gid) != (now.ids.uid, now.ids.gid))
        };
        if !configured.is_empty()
            && configured.iter().all(differ)
            && let Some((config, Ok(then))) = configured.first().map(|s| (s, &s.account))
        {
            let what = running.pool.as_ref().map_or_else(|| running.program.clone(), |pool| format!("pool {pool}"));
            says.push(format!(
                "{what} runs as {now} and is configured as {then} ({}): changed and not restarted; restart it, or put \
                 the configuration back",
                config.evidence.place
            ));
        } else if let Some(Ok(then)) = configured.first().map(|s| &s.account)
            && then.ids.groups() != now.ids.groups()
            && !configured.iter().all(differ)
        {
            let what = running.pool.as_ref().map_or_else(|| running.program.clone(), |pool| format!("pool {pool}"));
            says.push(format!(
                "{what} runs as {now} with other groups than that account has now: it was started before they were \
                 changed; restart it"
            ));
        }
    }
    says
}

/// Pools that run and are not configured, or are configured and do not run.
fn pools_by_name(seen: &HostSeen<'_>, sightings: &[Sighting]) -> Vec<String> {
    let mut says = Vec::new();
    let running =
        || sightings.iter().filter(|s| s.family == Family::of(&FPM) && s.evidence.from == Origin::Process && !s.weak);
    let mains: BTreeSet<_> = seen.pools.iter().map(|pool| &pool.main).collect();
    for sighting in running() {
        let known_main = sighting.main.as_ref().is_none_or(|main| mains.contains(main));
        let configured = seen.pools.iter().any(|pool| is_of_pool(sighting, pool));
        if let (Some(name), Ok(account)) = (&sighting.pool, &sighting.account)
            && known_main
            && !configured
            && !seen.pools.is_empty()
        {
            says.push(format!(
                "pool {name} runs as {account} and no configuration names it any more: reload php-fpm to end it"
            ));
        }
    }
    for pool in seen.pools.iter().filter(|pool| !pool.on_demand) {
        let masters = seen.running.masters.iter().filter(|master| master.family == Family::of(&FPM));
        let started = masters.filter_map(Running::fpm_file).any(|main| main == pool.main);
        if started && !running().any(|s| is_of_pool(s, pool)) {
            says.push(format!(
                "pool {} is configured ({}) and does not run, though its php-fpm does: reload it, or see its log",
                pool.name, pool.at
            ));
        }
    }
    says
}

fn shared_sockets(pools: &[Pool]) -> Vec<String> {
    let mut by_address: BTreeMap<&Address, Vec<&Pool>> = BTreeMap::new();
    for pool in pools {
        if let Some((address, _)) = &pool.listen {
            by_address.entry(address).or_default().push(pool);
        }
    }
    let shared = by_address.into_iter().filter(|(_, pools)| pools.len() > 1);
    let says = shared.map(|(address, pools)| {
        let named: Vec<String> = pools.iter().map(|pool| format!("{} ({})", pool.name, pool.at)).collect();
        format!(
            "pools {} listen on one socket, {address}: only one of them answers; give each its own",
            named.join(" and ")
        )
    });
    says.collect()
}

fn sockets_without_pool(seen: &HostSeen<'_>, served: &[Runs]) -> Vec<String> {
    let lost = served.iter().filter_map(|runs| match &runs.folder.through {
        PhpThrough::Socket(address, at) if runs.pool.is_none() => Some(format!(
            "PHP of {} is sent to {address} ({at}), where no configured pool listens{}",
            Shown(&runs.folder.path),
            if seen.pools.is_empty() { "; no php-fpm configuration was found" } else { "" }
        )),
        _ => None,
    });
    lost.collect()
}

fn refused(served: &[Runs]) -> Vec<String> {
    let refused = served.iter().filter(|runs| runs.may_connect == Some(false));
    let says = refused.filter_map(|runs| {
        let PhpThrough::Socket(address, _) = &runs.folder.through else { return None };
        let web = &runs.web.first()?.account;
        Some(format!(
            "{} ({}) may not connect to {address}: PHP of {} cannot answer; set listen.owner or listen.group of pool {}",
            runs.folder.program,
            web.user,
            Shown(&runs.folder.path),
            runs.pool.as_deref().unwrap_or("that listens there")
        ))
    });
    says.collect()
}

fn unknown_accounts(sightings: &[Sighting]) -> Vec<String> {
    let unknown = sightings.iter().filter_map(|sighting| {
        let text = sighting.account.as_ref().err()?;
        let what = sighting.pool.as_ref().map_or_else(|| sighting.program.clone(), |pool| format!("pool {pool}"));
        Some(format!("{what} is to run as {text}, which this host does not have ({})", sighting.evidence.place))
    });
    unknown.collect()
}

/// PHP as root, or as somebody who can log in.
fn unwise_accounts(seen: &HostSeen<'_>, sightings: &[Sighting]) -> Vec<String> {
    /// From here on accounts are people's (useradd(8), `UID_MIN`).
    const PEOPLE: u32 = 1000;
    let mut says = Vec::new();
    for sighting in sightings.iter().filter(|sighting| sighting.role == Role::Php) {
        let Ok(account) = &sighting.account else { continue };
        let what = sighting.pool.as_ref().map_or_else(|| sighting.program.clone(), |pool| format!("pool {pool}"));
        let place = &sighting.evidence.place;
        if account.ids.uid == Uid::ROOT {
            says.push(format!(
                "{what} runs PHP as root ({place}): owner and mode do not bind root; give it an account of its own"
            ));
        } else if let Some(shell) = seen.accounts.login_shell(account.ids.uid) {
            let who = if account.ids.uid.0 >= PEOPLE { "which looks like a person's account: it" } else { "which" };
            says.push(format!(
                "{what} runs PHP as {} ({place}), {who} can log in ({shell}); give PHP an account that cannot",
                account.user
            ));
        }
    }
    let mut known = BTreeSet::new();
    says.retain(|line| known.insert(line.split(" (").next().unwrap_or_default().to_owned()));
    says
}

/// Of so many served folders that have one account in common the names are said.
const MOST_NAMED: usize = 4;

fn one_for_many(served: &[Runs]) -> Vec<String> {
    let mut folders: BTreeMap<(Uid, &str), BTreeSet<String>> = BTreeMap::new();
    for runs in served {
        if let [php] = runs.php.as_slice() {
            let folder = Shown(&runs.folder.path).to_string();
            folders.entry((php.account.ids.uid, &php.account.user)).or_default().insert(folder);
        }
    }
    let many = folders.into_iter().filter(|(_, folders)| folders.len() > 1);
    let says = many.map(|((_, user), folders)| {
        let mut folders: Vec<String> = folders.into_iter().collect();
        if folders.len() > MOST_NAMED + 1 {
            let more = folders.split_off(MOST_NAMED).len();
            folders.push(format!("{more} more"));
        }
        format!(
            "PHP of {} runs as one account, {user}: each can read and change what the others' PHP can",
            folders.join(" and ")
        )
    });
    says.collect()
}
