//! A site's policy module: installed, replaced and removed in the host's policy store, on record.

use std::ffi::CString;
use std::path::PathBuf;

use rustix::io::Errno;

use super::ledger::{ChangeCommand, Ledger, ModuleChange, Recorder};
use super::state::{StateDir, StateError};
use super::{ChangeContext, ChangeError, Outcome};
use crate::audit::Audit;
use crate::label::{Labels, Lasting, LocalRule, Module, Rules, State, boolean};
use crate::site::Phase;
use crate::tree::{Failure, Host, Op, sys};

/// The name under which local rules are on record.
const LOCAL_RULES: &str = "local rules";

/// How the host's policy must change so that a site's labels last; nothing where they do, or where only a person can.
///
/// What is in the store is asked, and not remembered: a state directory that was lost, or a module of somebody else's, changes
/// nothing. Errors: what the store's command said.
pub fn plan_module(host: &Host, wanted: &Module, site: &str, labels: &Labels) -> Result<Option<ModuleChange>, String> {
    let (Some(store), lasting) = (labels.store(), labels.lasting(wanted)) else { return Ok(None) };
    match lasting {
        Lasting::ByHand(_) => Ok(None),
        Lasting::LocalRules => Ok((!wanted.holds).then(|| local_rules(wanted, labels.rules()))),
        Lasting::Module => {
            let (name, before) = store.of_site(host, site)?;
            let due = !wanted.holds || before.is_some();
            let after = Some(wanted.text.clone());
            if !wanted.holds && before == after && store.local_rules {
                // It is installed, and does not win.
                return Ok(Some(local_rules(wanted, labels.rules())));
            }
            Ok((due && before != after).then_some(ModuleChange { name, before, after }))
        }
    }
}

/// The local rules that a site needs, and those with the same expressions that are there.
fn local_rules(wanted: &Module, rules: Option<&Rules>) -> ModuleChange {
    let known = |rule: &LocalRule| {
        let type_name = rules?.local_type(&rule.expression)?;
        Some(LocalRule { type_name, ..rule.clone() })
    };
    let before: Vec<LocalRule> = wanted.local.iter().filter_map(known).collect();
    let before = (!before.is_empty()).then(|| LocalRule::text(&before));
    ModuleChange { name: LOCAL_RULES.to_owned(), before, after: Some(LocalRule::text(&wanted.local)) }
}

impl ModuleChange {
    /// Whether it is one of local rules, and not of a module.
    #[must_use]
    pub fn is_local(&self) -> bool {
        self.name == LOCAL_RULES
    }
}

/// Takes away what makes a site's labels last, as a change set of its own. Nothing where there is nothing.
pub fn forget(
    site: &str,
    wanted: Option<&Module>,
    labels: &Labels,
    ledger: &mut Ledger,
    means: &ChangeContext<'_>,
) -> Result<Option<Outcome>, ChangeError> {
    let store = labels.store().filter(|store| store.modules);
    let module = store.map(|store| store.of_site(means.host, site)).transpose().map_err(ChangeError::Store)?;
    let module = module.and_then(|(name, text)| Some(ModuleChange { name, before: Some(text?), after: None }));
    let local = wanted.map(|wanted| local_rules(wanted, labels.rules()));
    let local = local.filter(|local| local.before.is_some()).map(|local| ModuleChange { after: None, ..local });
    let changes: Vec<ModuleChange> = module.into_iter().chain(local).collect();
    if changes.is_empty() {
        return Ok(None);
    }
    let phase: Phase = ledger.phase(site)?.phase;
    let mut entry = ledger.begin(site, ChangeCommand::Forget, (phase, phase), None)?;
    let mut outcome = Outcome { id: entry.id, ..Outcome::default() };
    for change in &changes {
        make(change, &mut entry, means, &mut outcome)?;
    }
    entry.end(0, outcome.failures.len() as u64, None)?;
    Ok(Some(outcome))
}

/// Changes the policy, and looks whether the host's rules then give what they should. Where a module does not win, local rules are
/// written.
pub(super) fn change(
    change: &ModuleChange,
    audit: &Audit,
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    make(change, entry, means, outcome)?;
    let Some(wanted) = audit.pending.module.as_ref().filter(|_| outcome.module) else { return Ok(()) };
    let folder = State::of(means.host).rules_folder();
    let rules = || folder.as_ref().and_then(|folder| Rules::read(means.host, folder).ok().flatten());
    let mut now = rules();
    let lost = |rules: &Option<Rules>| {
        let lost = wanted.probes.iter().filter(|probe| rules.as_ref().is_none_or(|rules| !probe.holds(rules)));
        lost.cloned().collect::<Vec<_>>()
    };
    if !lost(&now).is_empty() && !change.is_local() && means.store.is_some_and(|store| store.local_rules) {
        make(&local_rules(wanted, now.as_ref()), entry, means, outcome)?;
        now = rules();
    }
    let lost = lost(&now);
    outcome.labels_last = lost.is_empty();
    for probe in lost {
        let wanted = probe.type_name.as_deref().unwrap_or("no label");
        let against = now.as_ref().and_then(|rules| probe.against(rules));
        let by = against.map_or_else(
            || "another rule is more exact to the policy's store".to_owned(),
            |against| format!("the rule {} gives {}", against.rule, against.gives.as_deref().unwrap_or("none")),
        );
        let why = format!("a relabelling does not give {wanted}: {by}; write a local rule (semanage fcontext -a)");
        outcome.fail(probe.path.clone(), Failure::Says(why));
    }
    Ok(())
}

/// Switches SELinux booleans, on record.
pub(super) fn switch(
    names: impl Iterator<Item = (String, bool)>,
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    for (name, on) in names {
        let policy = State::of(means.host).policy;
        let lasts = || !(on && boolean::will_be_off(means.host, policy.as_deref(), &name));
        if boolean::is_on(means.host, &name) == Some(on) && lasts() {
            continue;
        }
        entry.switch(&name, on)?;
        match boolean::set(&name, on) {
            Ok(()) => outcome.switched.push((name, on)),
            Err(said) => outcome.fail(PathBuf::from(name), Failure::Says(said)),
        }
    }
    Ok(())
}

/// Puts the policy back as it was before changes of it, the first of each name; a change that came to nothing is none.
pub(super) fn to_take_back(changes: Vec<ModuleChange>) -> Vec<ModuleChange> {
    let mut found: Vec<ModuleChange> = Vec::new();
    for change in changes {
        match found.iter_mut().find(|known| known.name == change.name) {
            Some(known) => known.after = change.after,
            None => found.push(change),
        }
    }
    found.retain(|change| change.before != change.after);
    found
}

/// Puts the module back as it was before a change, where it is still what the change left.
pub(super) fn take_back(
    change: &ModuleChange,
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    let (before, after) = (change.after.clone(), change.before.clone());
    if let Some(store) = means.store.filter(|_| !change.is_local()) {
        match store.installed(means.host, &change.name) {
            Ok(now) if now == before => {}
            Ok(now) if now == after => return Ok(()),
            Ok(_) => {
                let why = "the module is not what was installed: somebody has put another in its place, which stays";
                outcome.fail(PathBuf::from(&change.name), Failure::Says(why.into()));
                return Ok(());
            }
            Err(said) => {
                outcome.fail(PathBuf::from(&change.name), Failure::Says(said));
                return Ok(());
            }
        }
    }
    make(&ModuleChange { name: change.name.clone(), before, after }, entry, means, outcome)
}

fn make(
    change: &ModuleChange,
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    let made = if change.is_local() {
        let rules = |text: &Option<String>| text.as_deref().map(LocalRule::read).unwrap_or_default();
        let (gone, made) = (rules(&change.before), rules(&change.after));
        let Some(store) = means.store.filter(|store| store.local_rules) else {
            let why = "there is no command here that writes local rules (semanage)";
            outcome.fail(PathBuf::from(LOCAL_RULES), Failure::Says(why.into()));
            return Ok(());
        };
        entry.module(change)?;
        store.change_local_rules(&gone, &made)
    } else {
        let name = format!("{}.cil", change.name);
        let path = means.state.path().join("modules").join(&name);
        let kept = match &change.after {
            Some(text) => keep(means.state, &name, text)?,
            None => Ok(()),
        };
        if let Err(errno) = kept {
            outcome.fail(path, Failure::Os(Op::Create, errno));
            return Ok(());
        }
        let Some(store) = means.store.filter(|store| store.modules) else {
            let why = "there is no policy store here that could be changed (semodule)";
            outcome.fail(path, Failure::Says(why.into()));
            return Ok(());
        };
        entry.module(change)?;
        match &change.after {
            Some(_) => store.install(&path),
            None => store.remove(means.host, &change.name),
        }
    };
    match made {
        Ok(()) => outcome.module = true,
        Err(said) => {
            // What is in the store is what was there before.
            let (before, after) = (change.before.clone(), change.before.clone());
            entry.module(&ModuleChange { name: change.name.clone(), before, after })?;
            outcome.fail(PathBuf::from(&change.name), Failure::Says(said));
        }
    }
    Ok(())
}

/// Keeps a module's text in the state directory, for a host whose policy store cannot be changed from here. The answer
/// is where.
pub fn keep_module(module: &Module, state: &StateDir) -> Result<PathBuf, ChangeError> {
    let name = format!("{}.cil", module.name);
    let path = state.path().join("modules").join(&name);
    match keep(state, &name, &module.text)? {
        Ok(()) => Ok(path),
        Err(errno) => Err(StateError::Failed { op: "keep a policy module in", path, errno }.into()),
    }
}

/// Keeps a module's text in the state directory: the store's command reads it there.
fn keep(state: &StateDir, name: &str, text: &str) -> Result<Result<(), Errno>, StateError> {
    let folder = state.folder("modules")?;
    let name = CString::new(name).unwrap_or_default();
    let written = (|| {
        match sys::unlink(&folder, &name, false) {
            Ok(()) | Err(Errno::NOENT) => {}
            Err(errno) => return Err(errno),
        }
        sys::write_all(sys::create_file(&folder, &name)?, text.as_bytes())
    })();
    Ok(written)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::installed(&[(None, Some("a"))], &[(None, Some("a"))])]
    #[case::failed(&[(None, Some("a")), (None, None)], &[])]
    #[case::twice(&[(Some("a"), Some("b")), (Some("b"), Some("c"))], &[(Some("a"), Some("c"))])]
    fn what_came_to_nothing_is_not_taken_back(
        #[case] changes: &[(Option<&str>, Option<&str>)],
        #[case] want: &[(Option<&str>, Option<&str>)],
    ) {
        let of = |changes: &[(Option<&str>, Option<&str>)]| -> Vec<ModuleChange> {
            let text = |text: Option<&str>| text.map(str::to_owned);
            let change = |&(before, after): &(Option<&str>, Option<&str>)| ModuleChange {
                name: "m".into(),
                before: text(before),
                after: text(after),
            };
            changes.iter().map(change).collect()
        };
        assert_eq!(to_take_back(of(changes)), of(want));
    }
}
