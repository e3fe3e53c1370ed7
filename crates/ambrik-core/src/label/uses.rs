//! Which type a part's files are to have: for each use, types of the trade's common web policy in the order of preference,
//! of which the first is taken that the host's policy has and that gives PHP's domain exactly what it needs.

use super::kernel::{Allowed, Permissions};
use crate::entry::Kind;
use crate::policy::{Context, Right};
use crate::site::Use;

/// What PHP's domain must be able to do with a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Need {
    /// Nothing.
    Nothing,
    /// Read.
    Read,
    /// Make files and add to them: logs.
    Append,
    /// Read, make, change, remove.
    Write,
}

impl Need {
    /// What a context's row asks for.
    pub(super) const fn of(context: &Context) -> Self {
        match (context.row.php, context.used_as) {
            // What goes is served until then.
            (Right::None, Use::Remove) if matches!(context.row.web, Right::Read) => Self::Read,
            (Right::None, _) => Self::Nothing,
            (Right::Read, _) => Self::Read,
            (Right::Write, Use::Log) => Self::Append,
            (Right::Write, _) => Self::Write,
        }
    }

    const fn permissions(self, kind: Kind) -> Permissions {
        match (self, kind) {
            (Self::Nothing, _) => &[],
            (_, Kind::Symlink) => &["read", "getattr"],
            (Self::Read, Kind::Directory) => &["search", "read", "open", "getattr"],
            (Self::Read, _) => &["read", "open", "getattr"],
            (Self::Append, Kind::Directory) => &["search", "open", "getattr", "write", "add_name"],
            (Self::Append, _) => &["open", "getattr", "append", "create"],
            (Self::Write, Kind::Directory) => {
                &["search", "read", "open", "getattr", "write", "add_name", "remove_name", "create", "rmdir"]
            }
            (Self::Write, _) => &["read", "open", "getattr", "write", "create", "unlink", "rename"],
        }
    }
}

/// What changes something of this kind.
const fn changing(kind: Kind) -> Permissions {
    match kind {
        Kind::Directory => &["add_name", "remove_name", "rmdir"],
        _ => &["write", "append", "unlink", "rename", "create"],
    }
}

/// What does more than add to something of this kind.
const fn rewriting(kind: Kind) -> Permissions {
    match kind {
        Kind::Directory => &["remove_name", "rmdir"],
        _ => &["write", "unlink", "rename"],
    }
}

/// What a label lets PHP do, compared with what it needs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Fit {
    /// Exactly that.
    Exact,
    /// Less: PHP cannot do what the site needs.
    Blocks,
    /// More: PHP could change what it must not, or read what nobody shall.
    TooWide,
}

impl Fit {
    /// How what is allowed compares with what is needed.
    pub(super) fn of(allowed: &Allowed, need: Need, kind: Kind) -> Self {
        if !allowed.all(need.permissions(kind)) {
            return Self::Blocks;
        }
        let too_much = match need {
            Need::Nothing => kind != Kind::Directory && allowed.all(Need::Read.permissions(kind)),
            Need::Read => allowed.any(changing(kind)) && kind != Kind::Symlink,
            Need::Append | Need::Write => false,
        };
        if too_much { Self::TooWide } else { Self::Exact }
    }
}

/// Whether a type is also not wider than what is needed where several would do.
pub(super) fn is_narrowest(allowed: &Allowed, need: Need, kind: Kind) -> bool {
    Fit::of(allowed, need, kind) == Fit::Exact && !(need == Need::Append && allowed.any(rewriting(kind)))
}

/// Whose files a site's are, by the types that policies have for them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum Family {
    /// The host's own.
    System,
    /// A user's pages, in a home directory.
    Home,
    /// A volume of a container.
    Container,
}

/// The types for a use, the best first.
pub(super) const fn candidates(family: Family, used_as: Use, need: Need) -> &'static [&'static str] {
    match (used_as, need) {
        (_, Need::Read | Need::Append | Need::Write) if matches!(family, Family::Container) => {
            &["container_file_t", "svirt_sandbox_file_t"]
        }
        (_, Need::Read) if matches!(family, Family::Home) => &["httpd_user_content_t", "httpd_sys_content_t"],
        (_, Need::Append) if matches!(family, Family::Home) => {
            &["httpd_user_ra_content_t", "httpd_user_rw_content_t", "httpd_sys_ra_content_t", "httpd_sys_rw_content_t"]
        }
        (_, Need::Write) if matches!(family, Family::Home) => {
            &["httpd_user_rw_content_t", "httpd_sys_rw_content_t", "httpd_var_lib_t"]
        }
        (_, Need::Nothing) => &["backup_store_t", "var_t", "default_t"],
        (_, Need::Read) => &["httpd_sys_content_t", "httpd_config_t", "usr_t"],
        (_, Need::Append) => &["httpd_sys_ra_content_t", "httpd_log_t", "httpd_sys_rw_content_t"],
        (Use::Scratch, Need::Write) => &["httpd_cache_t", "httpd_sys_rw_content_t", "httpd_var_lib_t"],
        (_, Need::Write) => &["httpd_sys_rw_content_t", "httpd_var_lib_t"],
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// What a kernel answered about the usual types, as the demo has it recorded.
    fn allowed(type_name: &str, kind: Kind) -> Allowed {
        let recorded = include_str!("../../../ambrik/selinux/interface.txt");
        let class = super::super::kernel::class_of(kind);
        let words = |line: &str| line.split(' ').map(str::to_owned).collect::<Vec<_>>();
        let lines = || recorded.lines().map(words);
        let of_class = lines().find(|line| line[0] == "class" && line[1] == class).unwrap();
        let numbers = of_class[3..].iter().map(|word| {
            let (name, number) = word.split_once('=').unwrap();
            (name.to_owned(), number.parse().unwrap())
        });
        let label = format!("system_u:object_r:{type_name}:s0");
        let answer = lines().find(|line| line[0] == "access" && line[2] == label && line[3] == of_class[2]).unwrap();
        Allowed::of(u32::from_str_radix(&answer[4], 16).unwrap(), numbers.collect())
    }

    #[rstest]
    #[case("httpd_sys_content_t", Need::Read, Fit::Exact)]
    #[case("httpd_sys_content_t", Need::Write, Fit::Blocks)]
    #[case("httpd_sys_content_t", Need::Append, Fit::Blocks)]
    #[case("httpd_sys_content_t", Need::Nothing, Fit::TooWide)]
    #[case("httpd_sys_rw_content_t", Need::Write, Fit::Exact)]
    #[case("httpd_sys_rw_content_t", Need::Read, Fit::TooWide)]
    #[case("httpd_sys_rw_content_t", Need::Append, Fit::Exact)]
    #[case("httpd_sys_ra_content_t", Need::Append, Fit::Exact)]
    #[case("httpd_sys_ra_content_t", Need::Write, Fit::Blocks)]
    #[case("httpd_sys_ra_content_t", Need::Read, Fit::TooWide)]
    #[case("httpd_cache_t", Need::Write, Fit::Exact)]
    #[case("usr_t", Need::Read, Fit::Exact)]
    #[case("var_t", Need::Read, Fit::Blocks)]
    #[case("backup_store_t", Need::Nothing, Fit::Exact)]
    fn what_a_type_lets_php_do_with_files(#[case] type_name: &str, #[case] need: Need, #[case] want: Fit) {
        assert_eq!(Fit::of(&allowed(type_name, Kind::File), need, Kind::File), want);
    }

    #[rstest]
    #[case(Family::Home, Need::Write, "httpd_user_rw_content_t")]
    #[case(Family::Home, Need::Nothing, "backup_store_t")]
    #[case(Family::Container, Need::Read, "container_file_t")]
    fn other_families_have_types_of_their_own(#[case] family: Family, #[case] need: Need, #[case] want: &str) {
        assert_eq!(candidates(family, Use::Store, need).first(), Some(&want));
    }

    #[rstest]
    #[case(Use::Log, Need::Append, "httpd_sys_ra_content_t")]
    #[case(Use::Store, Need::Write, "httpd_sys_rw_content_t")]
    #[case(Use::Scratch, Need::Write, "httpd_cache_t")]
    #[case(Use::Code, Need::Read, "httpd_sys_content_t")]
    #[case(Use::Hidden, Need::Nothing, "backup_store_t")]
    fn the_first_that_gives_no_more_than_is_needed(#[case] used_as: Use, #[case] need: Need, #[case] want: &str) {
        let narrow = |name: &&&str| is_narrowest(&allowed(name, Kind::File), need, Kind::File);
        assert_eq!(candidates(Family::System, used_as, need).iter().find(narrow), Some(&want));
    }
}
