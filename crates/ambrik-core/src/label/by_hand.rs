//! What Ambrik cannot put right about labels, and the commands that do: labels that a mount gives, and those of the directories that
//! lead to a site.

use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use super::module::escaped_bytes;
use super::{ByHand, RuleAnswer, SiteLabels, boolean};
use crate::entry::{Facts, Kind};
use crate::security_context::SecurityContext;
use crate::shown::{Shown, shell_path, shell_word};
use crate::tree::{Host, Mount};

/// What the label of a directory on the way to a site does to PHP.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum OnTheWay {
    /// It stops it.
    Blocks(ByHand),
    /// It lets it through, and a relabelling would give it one that does not.
    NotKept(ByHand),
}

/// The type that a directory that leads to a site gets where its own keeps PHP out.
const PASSED: &str = "httpd_sys_content_t";

impl SiteLabels<'_> {
    /// Why a label that a mount gives is not as it should be, and what puts it right: the boolean for that file system, and
    /// the mount's option.
    pub(crate) fn given_by_mount(&self, host: &Host, mount: &Mount, label: &SecurityContext, wanted: &str) -> ByHand {
        let (now, point) = (label.type_name(), Shown(&mount.point));
        let says = format!("{now} from the mount of {point} instead of {wanted}");
        let boolean = boolean::governing(host, "write", "file", now).filter(|boolean| boolean.on == Some(false));
        let option = self.mount_option(mount, wanted);
        let cure = match boolean {
            Some(boolean) => format!("{}; or {option}", boolean::command(&boolean.name, true)),
            None => option,
        };
        ByHand { says, cure }
    }

    fn mount_option(&self, mount: &Mount, wanted: &str) -> String {
        let wanted = SecurityContext::of_file(wanted, self.labels.state.multi_level);
        format!(
            "mount {} with the option context=\"{wanted}\" (/etc/fstab; a remount does not change it)",
            shell_path(&mount.point)
        )
    }

    /// What the label of a directory that leads to a site does to PHP's domain; nothing where it lets it through and will.
    pub(crate) fn on_the_way(&self, host: &Host, path: &Path, facts: &Facts) -> Option<OnTheWay> {
        let label = facts.rights.label.as_ref()?;
        let kernel = self.labels.kernel()?;
        let passes = |label: &SecurityContext| {
            let allowed = self.allows(&self.domain, label, Kind::Directory);
            allowed.is_some_and(|allowed| allowed.all(&["search"])) && kernel.is_valid(label)
        };
        let rules = self.labels.rules();
        let relabelled = rules.map(|rules| rules.answer(path.as_os_str().as_bytes(), Kind::Directory));
        let will_pass = match relabelled {
            Some(RuleAnswer::Context(context)) => passes(context),
            // What no rule names keeps its label.
            Some(RuleAnswer::Left | RuleAnswer::NoRule) | None => passes(label),
        };
        let (domain, at) = (self.domain.type_name(), Shown(path));
        let name = |type_name: &str| {
            let expression = escaped_bytes(path.as_os_str().as_bytes());
            let rule = shell_word(expression.as_ref());
            format!("semanage fcontext -a -t {type_name} {rule} && restorecon {}", shell_path(path))
        };
        if !passes(label) {
            let says = format!("{} of {at}, which {domain} may not pass through", label.type_name());
            let governs = boolean::governing(host, "search", "dir", label.type_name());
            let cure = match (facts.label_given, governs.filter(|governs| governs.on == Some(false)), host.mount(facts))
            {
                (_, Some(governs), _) => boolean::command(&governs.name, true),
                (true, None, Some(mount)) => self.mount_option(mount, PASSED),
                _ if will_pass => format!("restorecon {}", shell_path(path)),
                _ => name(PASSED),
            };
            return Some(OnTheWay::Blocks(ByHand { says, cure }));
        }
        let made = relabelled.and_then(RuleAnswer::type_name).filter(|_| !will_pass && !facts.label_given)?;
        let customizable = rules.is_some_and(|rules| rules.is_customizable(label.type_name()));
        let says = format!("{} of {at} would become {made}, which {domain} may not pass through", label.type_name());
        (!customizable).then(|| OnTheWay::NotKept(ByHand { says, cure: name(label.type_name()) }))
    }
}
