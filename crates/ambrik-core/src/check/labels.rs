//! SELinux labels: what they let PHP's domain do, and whether they last.

use super::{Case, Check, Concern, Judge, Raised, Reason, Remedy, Severity};
use crate::label::{ByHand, LabelVerdict, OnTheWay};
use crate::security_context::SecurityContext;

pub(crate) static LABEL_BLOCKS: Check = Check {
    name: "label-blocks",
    severity: Severity::High,
    wrong: "the SELinux label keeps PHP from what the site needs, whatever the modes say",
    lets: "the site is broken there where SELinux enforces",
    remedy: Remedy::SetLabel,
    judge: Judge::Rights(|case| label(case, LabelVerdict::Blocks)),
};

pub(crate) static LABEL_TOO_WIDE: Check = Check {
    name: "label-too-wide",
    severity: Severity::Medium,
    wrong: "the SELinux label lets PHP do what the site file does not want",
    lets: "owner and mode alone keep PHP from it: SELinux would not",
    remedy: Remedy::SetLabel,
    judge: Judge::Rights(|case| label(case, LabelVerdict::TooWide)),
};

pub(crate) static LABEL_UNKNOWN: Check = Check {
    name: "label-unknown",
    severity: Severity::Medium,
    wrong: "files have no SELinux label, or one that the host's policy does not know",
    lets: "no confined service may touch them once SELinux enforces",
    remedy: Remedy::SetLabel,
    judge: Judge::Rights(|case| label(case, LabelVerdict::Unknown)),
};

pub(crate) static LABEL_NOT_KEPT: Check = Check {
    name: "label-not-kept",
    severity: Severity::Medium,
    wrong: "the SELinux label is right now, and the host's rules would make it another",
    lets: "the next relabelling of the system breaks the site",
    remedy: Remedy::SetLabel,
    judge: Judge::Audit,
};

/// A relabelling would make the type `made` of a label that is right.
pub(crate) fn label_not_kept(label: &SecurityContext, made: &str) -> Raised {
    (&LABEL_NOT_KEPT, Reason::Says(format!("{} would become {made}", label.type_name())))
}

/// The label of a directory that leads to the site stops PHP, or will.
pub(crate) fn label_on_the_way(found: OnTheWay) -> Raised {
    match found {
        OnTheWay::Blocks(found) => (&LABEL_BLOCKS, Reason::by_hand(found)),
        OnTheWay::NotKept(found) => (&LABEL_NOT_KEPT, Reason::by_hand(found)),
    }
}

pub(crate) static LABEL_PROTECTION_OFF: Check = Check {
    name: "label-protection-off",
    severity: Severity::Medium,
    wrong: "SELinux is installed here and does not protect",
    lets: "whoever gets into PHP is bound by the modes alone",
    remedy: Remedy::Hand(
        "set the labels (ambrik set), look for denials while it is permissive (ambrik why --from-log), then setenforce 1 and SELINUX=enforcing in /etc/selinux/config",
    ),
    judge: Judge::Audit,
};

/// Why SELinux does not protect and what puts that right, and the site that was looked at.
pub(crate) fn label_protection_off(found: ByHand, site: &str) -> (&'static Check, Concern) {
    let sites = [(site.to_owned(), String::new())].into();
    (&LABEL_PROTECTION_OFF, Concern { cause: found.says, sites, cure: Some(found.cure) })
}

pub(crate) static PHP_UNCONFINED: Check = Check {
    name: "php-unconfined",
    severity: Severity::High,
    wrong: "PHP runs outside of the confinement that SELinux has for it",
    lets: "whoever gets into PHP is bound by the modes alone, whatever labels say",
    remedy: Remedy::Hand("start PHP by its service, not by hand: it is in its own domain then"),
    judge: Judge::Audit,
};

/// PHP runs in this domain.
pub(crate) fn php_unconfined(domain: &SecurityContext) -> Raised {
    (&PHP_UNCONFINED, Reason::Says(format!("in {}", domain.type_name())))
}

pub(crate) static BOOLEAN_WIDENS: Check = Check {
    name: "boolean-widens",
    severity: Severity::Medium,
    wrong: "the host's policy lets PHP do more than the labels of the site are for",
    lets: "labels do not keep PHP from it: what the modes allow is done",
    remedy: Remedy::Hand("switch the boolean off, if nothing else on the host needs it"),
    judge: Judge::Audit,
};

/// What the policy allows besides, and what takes it away.
pub(crate) fn boolean_widens(found: ByHand) -> Raised {
    (&BOOLEAN_WIDENS, Reason::by_hand(found))
}

pub(crate) static SWITCH_DIFFERS: Check = Check {
    name: "switch-differs",
    severity: Severity::Medium,
    wrong: "an SELinux boolean that the site file names is off",
    lets: "what the application needs it for is denied where SELinux enforces",
    remedy: Remedy::Hand("turn it on: setsebool -P NAME on, or let `ambrik set` do it"),
    judge: Judge::Audit,
};

/// The boolean `name` is off.
pub(crate) fn switch_differs(name: &str) -> Raised {
    (&SWITCH_DIFFERS, Reason::Says(name.to_owned()))
}

fn label(case: &Case<'_>, verdict: LabelVerdict) -> Option<Reason> {
    let (found, reason) = case.label.as_ref()?;
    (*found == verdict).then(|| reason.clone())
}
