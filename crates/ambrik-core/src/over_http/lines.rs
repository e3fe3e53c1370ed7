//! The few lines of a web server's configuration that put a finding right.

use std::path::Path;

/// What is to be kept from visitors.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Keep {
    /// PHP in this folder from being run.
    PhpFromRunning,
    /// Everything there from being served.
    FromServing,
    /// The names in the folder from being listed.
    FromListing,
}

/// The lines for a web server, for a path below the served folder `root`.
///
/// Nothing for a server that is not known, and for a path with anything in it that could mean something in a
/// configuration: names on the disk may be an attacker's, and these lines are going to be pasted.
pub(super) fn lines(program: &str, keep: Keep, root: &Path, path: &Path) -> Option<String> {
    let plain = |path: &Path| {
        let text = path.to_str()?;
        text.chars().all(|c| c.is_ascii_alphanumeric() || "/._-".contains(c)).then(|| text.to_owned())
    };
    let (root, path) = (plain(root)?, plain(path)?);
    let pattern = path.replace('.', "\\.");
    let text = match (program, keep) {
        ("nginx", Keep::PhpFromRunning) => {
            format!("location ^~ /{path}/ {{\n    location ~* \\.(php\\d?|phtml|phar|inc)$ {{ return 403; }}\n}}")
        }
        ("nginx", Keep::FromServing) => format!("location ^~ /{path} {{ return 404; }}"),
        ("nginx", Keep::FromListing) => format!("location ^~ /{path}/ {{ autoindex off; }}"),
        ("apache2" | "httpd", Keep::PhpFromRunning) => format!(
            "<Directory \"{root}/{path}\">\n    AllowOverride None\n    \
             <FilesMatch \"(?i)\\.(php\\d?|phtml|phar|inc)$\">\n        Require all denied\n    </FilesMatch>\n</Directory>"
        ),
        ("apache2" | "httpd", Keep::FromServing) => {
            format!("<LocationMatch \"^/{pattern}\">\n    Require all denied\n</LocationMatch>")
        }
        ("apache2" | "httpd", Keep::FromListing) => {
            format!("<Directory \"{root}/{path}\">\n    Options -Indexes\n</Directory>")
        }
        _ => return None,
    };
    Some(text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("nginx", ".git/HEAD", Some("location ^~ /.git/HEAD { return 404; }"))]
    #[case("apache2", "a.sql", Some("<LocationMatch \"^/a\\.sql\">\n    Require all denied\n</LocationMatch>"))]
    #[case("nginx", "x { } location / { proxy_pass http://192.0.2.7;", None)]
    #[case("apache2", "x\">\nRequire all granted", None)]
    #[case("another", "a.sql", None)]
    fn nothing_is_printed_that_a_name_could_have_smuggled_in(
        #[case] program: &str,
        #[case] path: &str,
        #[case] want: Option<&str>,
    ) {
        let lines = lines(program, Keep::FromServing, Path::new("/srv/www"), Path::new(path));
        assert_eq!(lines.as_deref(), want);
    }
}
