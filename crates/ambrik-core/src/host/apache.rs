//! The configuration of Apache httpd, in the layouts of both families of distributions: its workers' account, the
//! folders that it serves, and how it runs PHP.

mod configuration;

mod applies;

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::files::Files;
use super::ini;
use super::program::{Keep, Launches, Options, Program};
use super::{Place, Role, Server};
use configuration::Configuration;

/// A main file, the program that reads it, the file with its environment, and its `ServerRoot` where it says none.
#[derive(Clone)]
struct Layout<'l> {
    main: &'l Path,
    program: &'static str,
    environment: PathBuf,
    root: &'l Path,
}

/// The usual ones: main file, program, environment, `ServerRoot`.
const LAYOUTS: &[[&str; 4]] = &[
    ["/etc/apache2/apache2.conf", "apache2", "/etc/apache2/envvars", "/etc/apache2"],
    ["/etc/httpd/conf/httpd.conf", "httpd", "/etc/sysconfig/httpd", "/etc/httpd"],
    ["/etc/apache2/httpd.conf", "httpd", "/etc/sysconfig/apache2", "/etc/apache2"],
    ["/usr/local/apache2/conf/httpd.conf", "httpd", "/usr/local/apache2/bin/envvars", "/usr/local/apache2"],
];

/// httpd(8).
pub(super) static APACHE: Program = Program {
    in_units: &["apache", "httpd"],
    has_workers: true,
    loads_php: true,
    options: Options {
        main: &["-f"],
        prefix: &["-d"],
        names: &["apache2.conf", "conf/httpd.conf", "httpd.conf", "etc/httpd.conf"],
        usual: &[LAYOUTS[0][0], LAYOUTS[1][0], LAYOUTS[2][0], LAYOUTS[3][0]],
        bases: &["/etc/apache2", "/etc/httpd", "/usr/local/apache2"],
    },
    read: Some(read),
    lines: Some(lines),
    read_again: "apachectl configtest && apachectl graceful",
    ..Program::named("apache2", Role::Web, |name| {
        matches!(name, "apache2" | "httpd") || name.starts_with("httpd-") || name.starts_with("httpd.")
    })
};

/// Includes are followed so deep.
const DEEPEST: usize = 16;
/// Modules that are part of the program, so that no line loads them.
const BUILT_IN: &[&str] = &["core", "so", "http", "log_config", "logio", "unixd", "version", "watchdog"];

/// The configuration of every Apache found.
fn read(files: &mut Files<'_>, launches: &Launches) -> Vec<Server> {
    let usual = LAYOUTS.iter().map(|[main, program, environment, root]| {
        let (main, root) = (Path::new(*main), Path::new(*root));
        Layout { main, program, environment: PathBuf::from(environment), root }
    });
    let mut layouts: Vec<Layout<'_>> = usual.collect();
    for (main, root) in &launches.mains {
        if layouts.iter().any(|layout| layout.main == main) {
            continue;
        }
        // It is the program whose usual folder is there, with that one's environment.
        let usual = layouts.iter().find(|layout| files.text(layout.main).is_some()).unwrap_or(&layouts[0]).clone();
        let own = root.as_ref().map(|root| root.join("envvars"));
        let environment = own.filter(|own| files.text(own).is_some()).unwrap_or(usual.environment);
        layouts.push(Layout { main, root: root.as_deref().unwrap_or(usual.root), environment, ..usual });
    }
    layouts.iter().filter_map(|layout| server(files, layout, &launches.words)).collect()
}

fn server(files: &mut Files<'_>, layout: &Layout<'_>, words: &[String]) -> Option<Server> {
    let main = layout.main;
    let text = files.text(main)?;
    let shell = files.text(&layout.environment).unwrap_or_default();
    let variables = environment(&shell);
    let umask = umask(&shell, &layout.environment);
    let mut reader = ApacheReader {
        files,
        root: layout.root.to_owned(),
        variables,
        modules: BTreeSet::new(),
        defined: defined(words),
        deep: DEEPEST,
        lines: Vec::new(),
        sections: Vec::new(),
    };
    reader.read(&text, main);
    let lines = std::mem::take(&mut reader.lines);
    let php_inside = reader.modules.iter().any(|module| is_php_module(module));
    Some(Configuration { files, layout, umask, lines, php_inside }.server())
}

/// What keeps something from visitors.
fn lines(keep: Keep, served: &str, path: &str) -> String {
    let pattern = path.replace('.', "\\.");
    match keep {
        Keep::PhpFromRunning => format!(
            "<Directory \"{served}/{path}\">\n    AllowOverride None\n    \
             <FilesMatch \"(?i)\\.(php\\d?|phtml|phar|inc)$\">\n        Require all denied\n    </FilesMatch>\n</Directory>"
        ),
        Keep::FromServing => format!("<LocationMatch \"^/{pattern}\">\n    Require all denied\n</LocationMatch>"),
        Keep::FromListing => format!("<Directory \"{served}/{path}\">\n    Options -Indexes\n</Directory>"),
    }
}

/// What running ones were told to define (`-D NAME`).
fn defined(words: &[String]) -> BTreeSet<String> {
    let mut defined: BTreeSet<String> =
        words.windows(2).filter(|pair| pair[0] == "-D").map(|pair| pair[1].clone()).collect();
    defined.extend(words.iter().filter_map(|word| word.strip_prefix("-D")).filter(|n| !n.is_empty()).map(Into::into));
    defined
}

/// The umask that a shell file sets.
fn umask(text: &str, file: &Path) -> Option<(u16, Place)> {
    let lines = text.lines().enumerate().filter_map(|(number, line)| {
        let bits = ini::octal(line.trim().strip_prefix("umask ")?)?;
        Some((bits, Place::new(file, number + 1)))
    });
    lines.last()
}

/// The variables that a shell file sets: `NAME=value`, `export NAME=value`.
fn environment(text: &str) -> BTreeMap<String, String> {
    let mut variables: BTreeMap<String, String> = BTreeMap::new();
    for line in text.lines() {
        let line = line.trim();
        let line = line.strip_prefix("export ").unwrap_or(line);
        let Some((name, value)) = line.split_once('=') else { continue };
        if name.is_empty() || !name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_') {
            continue;
        }
        let value = value.trim().trim_matches(['"', '\'']);
        // The suffix is for several copies of the server side by side; the first has none.
        let value = shell_value(value, &variables);
        variables.entry(name.to_owned()).or_insert(value);
    }
    variables
}

fn shell_value(value: &str, variables: &BTreeMap<String, String>) -> String {
    let default = value.strip_prefix("${").and_then(|v| v.strip_suffix('}')).and_then(|v| v.split_once(":-"));
    if let Some((name, default)) = default {
        return variables.get(name).cloned().unwrap_or_else(|| default.to_owned());
    }
    let mut whole = value.replace("$SUFFIX", "").replace("${SUFFIX}", "");
    for (name, value) in variables {
        whole = whole.replace(&format!("${{{name}}}"), value);
    }
    whole
}

fn is_php_module(module: &str) -> bool {
    let version = module.strip_prefix("php").and_then(|rest| rest.strip_suffix("_module"));
    version.is_some_and(|version| version.chars().all(|c| c.is_ascii_digit()))
}

/// A section that a line is in, such as `<Directory /srv/www>`.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Section {
    name: String,
    argument: String,
    at: Place,
}

/// One directive, with the sections around it.
#[derive(Clone, Debug, PartialEq, Eq)]
struct ApacheLine {
    sections: Vec<Section>,
    name: String,
    arguments: Vec<String>,
    at: Place,
}

struct ApacheReader<'f, 'h> {
    files: &'f mut Files<'h>,
    /// `ServerRoot`.
    root: PathBuf,
    variables: BTreeMap<String, String>,
    modules: BTreeSet<String>,
    defined: BTreeSet<String>,
    deep: usize,
    lines: Vec<ApacheLine>,
    /// The sections that are open.
    sections: Vec<Section>,
}

impl ApacheReader<'_, '_> {
    fn read(&mut self, text: &str, file: &Path) {
        // Conditions that do not hold, counted so that their ends are found.
        let mut left_out = 0_usize;
        let outer = self.sections.len();
        for (number, line) in joined(text) {
            let at = Place::new(file, number);
            if let Some(section) = line.strip_prefix("</") {
                let name = section.trim_end_matches('>').trim().to_ascii_lowercase();
                if left_out > 0 {
                    left_out -= 1;
                } else if !is_condition(&name) {
                    if self.sections.len() > outer {
                        self.sections.pop();
                    } else {
                        self.files.note(&at, format!("</{name}> ends a section that was not begun here"));
                    }
                }
                continue;
            }
            if let Some(section) = line.strip_prefix('<') {
                let section = section.trim_end().trim_end_matches('>').trim();
                let (name, argument) = section.split_once(char::is_whitespace).unwrap_or((section, ""));
                let name = name.to_ascii_lowercase();
                if left_out > 0 {
                    left_out += 1;
                } else if is_condition(&name) {
                    left_out = usize::from(!self.holds(&name, argument.trim()));
                } else {
                    let argument = self.filled_in(argument.trim(), &at).trim_matches(['"', '\'']).to_owned();
                    self.sections.push(Section { name, argument, at });
                }
                continue;
            }
            if left_out == 0 {
                self.line(&line, at);
            }
        }
        if self.sections.len() > outer {
            let names: Vec<String> =
                self.sections.drain(outer..).map(|section| format!("<{}>", section.name)).collect();
            self.files.note(&Place::new(file, 0), format!("{} is not ended", names.join(" ")));
        }
    }

    /// `<IfModule>`, `<IfDefine>`, `<IfVersion>`, `<IfFile>`: whether what they hold counts.
    fn holds(&mut self, name: &str, argument: &str) -> bool {
        let (negated, what) = match argument.strip_prefix('!') {
            Some(what) => (true, what),
            None => (false, argument),
        };
        let holds = match name {
            "ifmodule" => self.has_module(what),
            "ifdefine" => self.defined.contains(what),
            "iffile" => self.files.text(Path::new(what.trim_matches('"'))).is_some(),
            // 2.2 ended long ago.
            _ => !what.contains('<') && !what.contains("2.2"),
        };
        holds != negated
    }

    /// By identifier (`php_module`) or by source file (`mod_php.c`).
    fn has_module(&self, what: &str) -> bool {
        let source = what.strip_prefix("mod_").and_then(|name| name.strip_suffix(".c"));
        let name = source.or_else(|| what.strip_suffix("_module")).or_else(|| what.strip_suffix(".c")).unwrap_or(what);
        let is_php = is_php_module(&format!("{name}_module"));
        BUILT_IN.contains(&name)
            || self.modules.contains(&format!("{name}_module"))
            || (is_php && self.modules.iter().any(|module| is_php_module(module)))
    }

    fn line(&mut self, line: &str, at: Place) {
        let filled = self.filled_in(line, &at);
        let mut words = words(&filled).into_iter();
        let Some(name) = words.next() else { return };
        let name = name.to_ascii_lowercase();
        let arguments: Vec<String> = words.collect();
        let first = arguments.first().cloned().unwrap_or_default();
        match name.as_str() {
            "serverroot" => self.root = PathBuf::from(first),
            "loadmodule" => {
                self.modules.insert(first);
            }
            "define" => {
                let value = arguments.get(1).cloned().unwrap_or_default();
                self.defined.insert(first.clone());
                self.variables.insert(first, value);
            }
            "include" | "includeoptional" => self.include(&first, &at, name == "include"),
            _ => self.lines.push(ApacheLine { sections: self.sections.clone(), name, arguments, at }),
        }
    }

    fn include(&mut self, pattern: &str, at: &Place, must_exist: bool) {
        if self.deep == 0 {
            return self.files.note(at, "an include too deep; not followed");
        }
        let pattern = self.root.join(pattern);
        let mut paths = self.files.matching(&pattern);
        if paths.len() == 1 && self.files.text(&paths[0]).is_none() {
            paths = self.files.in_folder(&paths[0]);
        }
        if paths.is_empty() && must_exist && !pattern.to_string_lossy().contains(['*', '?', '[']) {
            self.files.note(at, format!("it includes {}, which is not there", pattern.display()));
        }
        self.deep -= 1;
        for path in paths {
            if let Some(text) = self.files.text(&path) {
                self.read(&text, &path);
            }
        }
        self.deep += 1;
    }

    /// A text with its `${NAME}`s.
    fn filled_in(&mut self, text: &str, at: &Place) -> String {
        let mut filled = text.to_owned();
        for (name, value) in &self.variables {
            filled = filled.replace(&format!("${{{name}}}"), value);
        }
        if let Some((_, rest)) = filled.split_once("${")
            && let Some((name, _)) = rest.split_once('}')
        {
            self.files.note(at, format!("${{{name}}} is not set in any file; it is taken as it stands"));
        }
        filled
    }
}

fn is_condition(section: &str) -> bool {
    matches!(section, "ifmodule" | "ifdefine" | "ifversion" | "iffile")
}

/// Lines with their numbers: comments left out, those that end in a backslash joined.
fn joined(text: &str) -> Vec<(usize, String)> {
    let mut lines = Vec::new();
    let mut rest = text.lines().enumerate();
    while let Some((number, line)) = rest.next() {
        let mut line = line.trim().to_owned();
        while line.ends_with('\\') {
            line.pop();
            let Some((_, next)) = rest.next() else { break };
            line.push_str(next.trim());
        }
        if !line.is_empty() && !line.starts_with('#') {
            lines.push((number + 1, line));
        }
    }
    lines
}

/// The words of a line; quotes hold several together.
fn words(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut chars = line.chars().peekable();
    while let Some(&c) = chars.peek() {
        if c.is_whitespace() {
            chars.next();
            continue;
        }
        let quote = matches!(c, '"' | '\'').then_some(c);
        if quote.is_some() {
            chars.next();
        }
        let mut word = String::new();
        while let Some(c) = chars.next() {
            match (c, quote) {
                ('\\', Some(quote)) if chars.peek() == Some(&quote) => word.extend(chars.next()),
                (c, Some(quote)) if c == quote => break,
                (c, None) if c.is_whitespace() => break,
                (c, _) => word.push(c),
            }
        }
        words.push(word);
    }
    words
}

#[cfg(test)]
mod tests {
    use super::applies::covers;
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("DocumentRoot /srv/a", &["DocumentRoot", "/srv/a"])]
    #[case("DocumentRoot \"/srv/with space\"", &["DocumentRoot", "/srv/with space"])]
    #[case("A 'b c' \"d\\\"e\" f", &["A", "b c", "d\"e", "f"])]
    #[case("A \"\"", &["A", ""])]
    #[case("   ", &[])]
    fn words_are_split(#[case] line: &str, #[case] want: &[&str]) {
        assert_eq!(words(line), want);
    }

    #[test]
    fn lines_are_joined_and_comments_left_out() {
        let lines = joined("A b \\\n  c\n# d\n\n  E\n");
        assert_eq!(lines, [(1, "A b c".to_owned()), (5, "E".to_owned())]);
    }

    #[rstest]
    #[case("export A=b", "A", Some("b"))]
    #[case("A=\"b c\"", "A", Some("b c"))]
    #[case("A=b\nB=${A}/c", "B", Some("b/c"))]
    #[case("A=${NONE:-d}", "A", Some("d"))]
    #[case("A=/run/x$SUFFIX", "A", Some("/run/x"))]
    #[case("if [ x = y ]; then", "if [ x ", None)]
    fn environments(#[case] text: &str, #[case] name: &str, #[case] want: Option<&str>) {
        assert_eq!(environment(text).get(name).map(String::as_str), want);
    }

    #[rstest]
    #[case("/", "/srv/a", true)]
    #[case("/srv", "/srv/a", true)]
    #[case("/srv/*", "/srv/a", true)]
    #[case("/srv/*/x", "/srv/a", false)]
    #[case("/srv/ab", "/srv/a", false)]
    #[case("/srv/[ab]", "/srv/a", true)]
    fn directories_cover(#[case] directory: &str, #[case] folder: &str, #[case] want: bool) {
        assert_eq!(covers(Path::new(directory), Path::new(folder)), want);
    }

    #[rstest]
    #[case("php_module", true)]
    #[case("php7_module", true)]
    #[case("proxy_module", false)]
    #[case("phpx_module", false)]
    fn modules_that_are_php(#[case] module: &str, #[case] want: bool) {
        assert_eq!(is_php_module(module), want);
    }
}
