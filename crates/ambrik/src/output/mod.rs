//! One file an output form: what is shown of a result, in which words and columns. What a result is the core says.

mod accept_text;
pub(crate) mod accounts_text;
pub(crate) mod answers;
mod audit_overview;
pub(crate) mod audit_text;
pub(crate) mod changes_text;
pub(crate) mod checks_text;
mod csv;
mod drift_text;
pub(crate) mod fleet;
mod fleet_formats;
mod found;
pub(crate) mod history_text;
mod html;
mod html_history;
pub(crate) mod json;
pub(crate) mod json_audit;
pub(crate) mod json_changes;
pub(crate) mod json_host;
pub(crate) mod json_records;
pub(crate) mod json_survey;
pub(crate) mod json_unpack;
pub(crate) mod json_why;
mod junit;
pub(crate) mod labels_text;
pub(crate) mod move_text;
mod news_text;
mod openmetrics;
mod proofread_text;
mod purge_text;
pub(crate) mod report;
mod rights_table;
mod sarif;
pub(crate) mod script;
pub(crate) mod survey_text;
mod table;
mod told;
pub(crate) mod undo_text;
pub(crate) mod unpack_text;
pub(crate) mod watch_text;
pub(crate) mod why_text;

use std::path::Path;

use ambrik_core::account::{Accounts, Gid, Uid};
use ambrik_core::acl::{Acl, Tag};
use ambrik_core::change::Unfinished;
use ambrik_core::shown::Shown;

/// Until when a window is open, and how long that is.
pub(crate) fn open_until(until: jiff::Timestamp) -> String {
    let clock = until.to_zoned(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string();
    let now = jiff::Timestamp::now();
    if until <= now {
        return format!("open, and its window ended at {clock}: `ambrik seal` or `ambrik set` closes it");
    }
    let minutes = u64::try_from((until.as_second() - now.as_second() + 59) / 60).unwrap_or(0);
    format!("open until {clock} ({} left)", counted(minutes, "minute", "minutes"))
}

/// A number with a comma before every third digit.
pub(crate) fn number(n: u64) -> String {
    let digits = n.to_string();
    let mut shown = String::new();
    for (place, digit) in digits.chars().enumerate() {
        if place > 0 && (digits.len() - place).is_multiple_of(3) {
            shown.push(',');
        }
        shown.push(digit);
    }
    shown
}

/// `1 path`, `1,204 paths`.
pub(crate) fn paths(n: u64) -> String {
    counted(n, "path", "paths")
}

pub(crate) use table::width;

/// A number with the word for one or for several.
pub(crate) fn counted(n: u64, one: &str, several: &str) -> String {
    format!("{} {}", number(n), if n == 1 { one } else { several })
}

/// A size as people say it.
pub(crate) fn bytes(n: u64) -> String {
    indicatif::HumanBytes(n).to_string()
}

/// A count as a number that never fails.
pub(crate) fn count(n: usize) -> u64 {
    u64::try_from(n).unwrap_or(u64::MAX)
}

/// An access list in its short text form (acl(5)), each entry after `prefix`, named by the host's accounts.
pub(crate) fn acl_text(accounts: &Accounts, acl: &Acl, prefix: &str) -> String {
    acl_text_named(acl, prefix, &|uid| accounts.user_shown(uid), &|gid| accounts.group_shown(gid))
}

/// As [`acl_text`], users and groups named in these ways.
fn acl_text_named(acl: &Acl, prefix: &str, user: &dyn Fn(Uid) -> String, group: &dyn Fn(Gid) -> String) -> String {
    let entries = acl.entries().iter().map(|entry| {
        let whom = match entry.tag {
            Tag::Owner => "user:".to_owned(),
            Tag::User(uid) => format!("user:{}", user(uid)),
            Tag::OwningGroup => "group:".to_owned(),
            Tag::Group(gid) => format!("group:{}", group(gid)),
            Tag::Mask => "mask:".to_owned(),
            Tag::Other => "other:".to_owned(),
        };
        format!("{prefix}{whom}:{}", entry.perm)
    });
    entries.collect::<Vec<_>>().join(",")
}

/// A text as XML can hold it: what XML 1.0 has no way to write is told by a mark.
fn shown_xml(text: &str) -> String {
    let allowed =
        |c: char| matches!(c, '\t' | '\n' | '\r' | ' '..='\u{d7ff}' | '\u{e000}'..='\u{fffd}' | '\u{10000}'..);
    text.chars().map(|c| if allowed(c) { c } else { char::REPLACEMENT_CHARACTER }).collect()
}

/// Why settings look as if no installer had run.
pub(crate) fn unfinished(settings: &[Unfinished]) -> String {
    let each = settings.iter().map(|Unfinished { part, why }| format!("{} {why}", Shown(Path::new(part))));
    each.collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests {
    use ambrik_core::account::Uid;
    use ambrik_core::mode::Perm;
    use rstest::rstest;

    #[test]
    fn access_lists_are_written_as_their_manual_does() {
        let accounts = ambrik_core::account::Accounts::from_texts("web:x:101:101::/:/\n", "web:x:101:\n");
        let users = [(Uid(101), Perm::R), (Uid(7), Perm::RW)];
        let acl = ambrik_core::acl::Acl::with_users(Perm::RW, Perm::NONE, Perm::NONE, &users);
        let text = super::acl_text(&accounts, &acl, "");
        assert_eq!(text, "user::rw-,user:7:rw-,user:web:r--,group::---,mask::rw-,other::---");
    }

    #[rstest]
    #[case("short", 10, "short")]
    #[case("exactly ten", 11, "exactly ten")]
    #[case("a/rather/long/path.php", 11, "a/rat…h.php")]
    #[case("naïve/ünïcode/pfad", 9, "naïv…pfad")]
    fn cuts_in_the_middle(#[case] text: &str, #[case] width: usize, #[case] want: &str) {
        let cut = super::table::cut(text, width);
        assert_eq!(cut, want);
        assert!(cut.chars().count() <= width);
    }

    #[rstest]
    #[case(0, "0")]
    #[case(999, "999")]
    #[case(1000, "1,000")]
    #[case(1_234_567, "1,234,567")]
    fn numbers(#[case] n: u64, #[case] want: &str) {
        assert_eq!(super::number(n), want);
    }
}
