//! A site's policy module: installed, replaced and removed in the host's policy store, on record.

use std::ffi::CString;
use std::path::PathBuf;

use rustix::io::Errno;

use super::ledger::{ChangeCommand, Ledger, ModuleChange, Recorder};
use super::state::{StateDir, StateError};
use super::{ChangeContext, ChangeError, Outcome};
use crate::audit::Audit;
use crate::label::{Module, Rules, State, boolean, module_name};
use crate::site::Phase;
use crate::tree::{Failure, Op, sys};

/// How the module in the store must change so that the site's labels last; nothing where they do.
#[must_use]
pub fn plan_module(wanted: Option<&Module>, installed: Option<String>) -> Option<ModuleChange> {
    let wanted = wanted?;
    let (name, after) = (wanted.name.clone(), Some(wanted.text.clone()));
    let due = wanted.needed || installed.is_some();
    // A run that was stopped, or a command that failed, may have left it on record and not in the store.
    (due && (installed != after || !wanted.holds)).then_some(ModuleChange { name, before: installed, after })
}

/// Takes a site's module away, as a change set of its own. Nothing where it has none.
pub fn forget(site: &str, ledger: &mut Ledger, means: &ChangeContext<'_>) -> Result<Option<Outcome>, ChangeError> {
    let Some(before) = ledger.module(site)? else { return Ok(None) };
    let phase: Phase = ledger.phase(site)?.phase;
    let mut entry = ledger.begin(site, ChangeCommand::Forget, (phase, phase), None)?;
    let mut outcome = Outcome { id: entry.id, ..Outcome::default() };
    let change = ModuleChange { name: module_name(site), before: Some(before), after: None };
    make(&change, &mut entry, means, &mut outcome)?;
    entry.end(0, outcome.failures.len() as u64, None)?;
    Ok(Some(outcome))
}

/// Changes the module, and looks whether the host's rules then give what they should.
pub(super) fn change(
    change: &ModuleChange,
    audit: &Audit,
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    make(change, entry, means, outcome)?;
    let folder = State::of(means.host).rules_folder();
    let rules = folder.and_then(|folder| Rules::read(means.host, &folder).ok().flatten());
    if !outcome.module {
        return Ok(());
    }
    for probe in audit.pending.module.iter().flat_map(|module| &module.probes) {
        if rules.as_ref().is_none_or(|rules| !probe.holds(rules)) {
            let wanted = probe.type_name.as_deref().unwrap_or("no label");
            let why = format!(
                "the module is installed, and the host's rules still do not give {wanted}: a rule in file_contexts.local \
                 beats it (semanage fcontext -l -C)"
            );
            outcome.fail(probe.path.clone(), Failure::Says(why));
        }
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
        if boolean::is_on(means.host, &name) == Some(on) {
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

/// Puts the module back as it was before a change.
pub(super) fn take_back(
    change: &ModuleChange,
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
    let (before, after) = (change.after.clone(), change.before.clone());
    make(&ModuleChange { name: change.name.clone(), before, after }, entry, means, outcome)
}

fn make(
    change: &ModuleChange,
    entry: &mut Recorder<'_>,
    means: &ChangeContext<'_>,
    outcome: &mut Outcome,
) -> Result<(), ChangeError> {
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
    let Some(store) = means.store else {
        let why = "there is no policy store here that could be changed (semodule)";
        outcome.fail(path, Failure::Says(why.into()));
        return Ok(());
    };
    entry.module(change)?;
    let made = match &change.after {
        Some(_) => store.install(&path),
        None => store.remove(&change.name),
    };
    match made {
        Ok(()) => outcome.module = true,
        Err(said) => {
            // What is in the store is what was there before.
            entry.module(&ModuleChange {
                name: change.name.clone(),
                before: change.before.clone(),
                after: change.before.clone(),
            })?;
            outcome.fail(path, Failure::Says(said));
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
    #[case::first(true, false, None, true)]
    #[case::installed(false, true, Some("text"), false)]
    #[case::installed_and_with_wildcards(true, true, Some("text"), false)]
    #[case::on_record_and_not_in_the_store(true, false, Some("text"), true)]
    #[case::another(false, true, Some("older"), true)]
    #[case::never_needed(false, true, None, false)]
    fn when_a_module_is_due(
        #[case] needed: bool,
        #[case] holds: bool,
        #[case] installed: Option<&str>,
        #[case] due: bool,
    ) {
        let (name, text) = (module_name("berths"), "text".to_owned());
        let wanted = Module { name, text, probes: Vec::new(), needed, holds };
        assert_eq!(plan_module(Some(&wanted), installed.map(str::to_owned)).is_some(), due);
    }
}
