//! PHP as a program of its own.

use super::Role;
use super::program::{Options, Program};

/// php-fpm(8).
pub(super) static FPM: Program = Program {
    in_units: &["php"],
    has_workers: true,
    options: Options {
        main: &["-y", "--fpm-config"],
        prefix: &["-p", "--prefix"],
        names: &["php-fpm.conf", "etc/php-fpm.conf"],
        usual: &[],
        bases: &[],
    },
    ..Program::named("php-fpm", Role::Php, is_fpm)
};

/// PHP as a CGI program that a web server keeps running.
pub(super) static CGI: Program = Program::named("php-cgi", Role::Php, |name| is_php(name, "-cgi"));

/// PHP's own server, `php -S`.
pub(super) static OWN_SERVER: Program = Program::named("php", Role::Php, |name| is_php(name, ""));

/// `php-fpm`, `php-fpm8.2`, `php8.2-fpm`, `php83-fpm`, `php-fpm83`.
fn is_fpm(name: &str) -> bool {
    name.strip_prefix("php-fpm").is_some_and(is_version) || is_php(name, "-fpm")
}

/// `php`, a version, and an ending.
fn is_php(name: &str, ending: &str) -> bool {
    let rest = name.strip_prefix("php").and_then(|rest| rest.strip_suffix(ending));
    rest.is_some_and(is_version)
}

pub(super) fn is_version(text: &str) -> bool {
    text.chars().all(|c| c.is_ascii_digit() || c == '.')
}
