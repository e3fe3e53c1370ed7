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

/// The lines for a web server, for a path below the served folder `root`; nothing for one that is not known.
pub(super) fn lines(program: &str, keep: Keep, root: &Path, path: &Path) -> Option<String> {
    let (root, path) = (root.display(), path.display());
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
            format!("<LocationMatch \"^/{path}\">\n    Require all denied\n</LocationMatch>")
        }
        ("apache2" | "httpd", Keep::FromListing) => {
            format!("<Directory \"{root}/{path}\">\n    Options -Indexes\n</Directory>")
        }
        _ => return None,
    };
    Some(text)
}
