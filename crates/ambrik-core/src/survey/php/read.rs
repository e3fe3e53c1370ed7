//! Reads one PHP file: what it defines, keeps, calls and touches.

use std::cell::RefCell;
use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

use super::facts::{self, Facts, Piece, ROOT, Sink, Touch, Value, Values};
use super::tree::{Around, Bit, Call, Callee, Expr, Statement, source};
use super::values::{ALTERNATIVES, class_name, plain_string};

/// The functions that touch a path, the place of the path among their arguments, and what they do.
const SINKS: &[(&str, usize, Sink)] = &[
    ("is_writable", 0, Sink::Check),
    ("is_writeable", 0, Sink::Check),
    ("file_put_contents", 0, Sink::Write),
    ("fopen", 0, Sink::Write),
    ("gzopen", 0, Sink::Write),
    ("bzopen", 0, Sink::Write),
    ("touch", 0, Sink::Write),
    ("tempnam", 0, Sink::MoveTo),
    ("imagepng", 1, Sink::Write),
    ("imagejpeg", 1, Sink::Write),
    ("imagegif", 1, Sink::Write),
    ("imagewebp", 1, Sink::Write),
    ("sqlite_open", 0, Sink::Write),
    ("symlink", 1, Sink::Write),
    ("rename", 1, Sink::MoveTo),
    ("copy", 1, Sink::MoveTo),
    ("move_uploaded_file", 1, Sink::MoveTo),
    ("mkdir", 0, Sink::MakeDirectory),
    ("chmod", 0, Sink::Open),
    ("session_save_path", 0, Sink::Session),
    ("parse_ini_file", 0, Sink::Load),
    ("file_exists", 0, Sink::Look),
    ("is_file", 0, Sink::Look),
    ("is_readable", 0, Sink::Look),
];

/// Functions of PHP's own that are called everywhere and touch no path: no code of the tree is behind them.
const PHPS_OWN: &[&str] = &[
    "abs",
    "addslashes",
    "array_key_exists",
    "array_keys",
    "array_map",
    "array_merge",
    "array_pop",
    "array_push",
    "array_shift",
    "array_slice",
    "array_unique",
    "array_values",
    "call_user_func",
    "ceil",
    "checkdate",
    "chr",
    "count",
    "ctype_digit",
    "date",
    "defined",
    "die",
    "doubleval",
    "empty",
    "ereg",
    "explode",
    "fclose",
    "feof",
    "fgets",
    "floatval",
    "floor",
    "flock",
    "fread",
    "function_exists",
    "fwrite",
    "gettype",
    "gmdate",
    "header",
    "html_entity_decode",
    "htmlentities",
    "htmlspecialchars",
    "http_build_query",
    "implode",
    "in_array",
    "intval",
    "is_array",
    "is_bool",
    "is_callable",
    "is_int",
    "is_null",
    "is_numeric",
    "is_object",
    "is_string",
    "isset",
    "join",
    "json_decode",
    "json_encode",
    "ksort",
    "lcfirst",
    "list",
    "max",
    "mb_strlen",
    "mb_strtolower",
    "mb_substr",
    "md5",
    "method_exists",
    "microtime",
    "min",
    "mktime",
    "mt_rand",
    "nl2br",
    "number_format",
    "ord",
    "preg_match",
    "preg_match_all",
    "preg_quote",
    "preg_replace",
    "preg_split",
    "printf",
    "print_r",
    "rand",
    "rawurlencode",
    "round",
    "serialize",
    "setcookie",
    "sha1",
    "sizeof",
    "sort",
    "sprintf",
    "str_pad",
    "str_repeat",
    "str_replace",
    "strcmp",
    "stripos",
    "stripslashes",
    "strip_tags",
    "stristr",
    "strlen",
    "strpos",
    "strrpos",
    "strstr",
    "strtolower",
    "strtotime",
    "strtoupper",
    "strtr",
    "strval",
    "substr",
    "substr_count",
    "time",
    "trim",
    "trigger_error",
    "ucfirst",
    "unserialize",
    "unset",
    "urldecode",
    "urlencode",
    "usleep",
    "usort",
    "utf8_decode",
    "utf8_encode",
    "var_dump",
    "var_export",
];

/// Methods that do, whatever the class.
const METHODS: &[(&str, usize, Sink)] = &[
    ("extractto", 0, Sink::MoveTo),
    ("setcompiledir", 0, Sink::Setting),
    ("setcachedir", 0, Sink::Setting),
    ("setcachepath", 0, Sink::Setting),
    ("settempdir", 0, Sink::Setting),
    ("setlogdir", 0, Sink::Setting),
];

impl Facts {
    /// The facts of a file's source.
    pub(super) fn of(file: &Path, text: &str) -> Self {
        let dir = file.parent().unwrap_or(Path::new(""));
        // What lies outside the tree is called as it is.
        let whole = |path: &Path| match (path.is_absolute(), path.as_os_str().is_empty()) {
            (true, _) => path.display().to_string(),
            (false, true) => ROOT.to_string(),
            (false, false) => format!("{ROOT}/{}", path.display()),
        };
        let source = source(text);
        let scopes: Vec<Scope> = source.around.iter().map(Scope::of).collect();
        let mut reader = Reader {
            file: whole(file),
            dir: whole(dir),
            assigned: HashMap::new(),
            followed: RefCell::default(),
            facts: Self {
                file: file.to_owned(),
                command_line: is_command_line(text),
                shape: source.shape,
                ..Self::default()
            },
        };
        let statements = || {
            source
                .statements
                .iter()
                .filter_map(|(statement, around, line)| Some((statement, scopes.get(*around)?, *line)))
        };
        // What a variable was given may stand below where it is used.
        for (statement, scope, _) in statements() {
            reader.note_assignments(statement, scope);
        }
        for (statement, scope, line) in statements() {
            reader.statement(statement, scope, line);
            for expression in statement.expressions() {
                expression.each(&mut |expression| reader.visit(expression, scope));
            }
        }
        reader.facts
    }
}

/// A script that only a shell starts.
fn is_command_line(text: &str) -> bool {
    if text.starts_with("#!") {
        return true;
    }
    let head = text.get(..text.floor_char_boundary(4096)).unwrap_or_default();
    let asks = ["php_sapi_name()", "PHP_SAPI"].iter().any(|name| head.contains(name));
    asks && head.contains("cli") && ["exit", "die"].iter().any(|word| head.contains(word))
}

/// Where an expression stands.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Scope {
    /// The class around it, in lower case.
    pub(super) class: String,
    /// The function around it, in lower case: `name`, or `class::name`; empty outside of all.
    pub(super) function: String,
    /// Its parameters.
    pub(super) parameters: Vec<String>,
}

impl Scope {
    fn of(around: &Around<'_>) -> Self {
        let class = around.class.to_ascii_lowercase();
        let name = around.function.to_ascii_lowercase();
        let function = if class.is_empty() || name.is_empty() { name } else { format!("{class}::{name}") };
        let parameters = around.parameters.iter().map(|name| (*name).to_owned()).collect();
        Self { class, function, parameters }
    }

    /// A parameter's place.
    pub(super) fn place(&self, name: &str) -> Option<usize> {
        self.parameters.iter().position(|parameter| parameter == name)
    }
}

pub(super) struct Reader<'s> {
    /// `__FILE__` and `__DIR__`.
    pub(super) file: String,
    pub(super) dir: String,
    /// What variables are given, by function and name.
    pub(super) assigned: HashMap<(&'s str, &'s str), Vec<Given<'s>>>,
    /// What variables may be, by function, name and depth: each is followed once.
    pub(super) followed: RefCell<HashMap<(&'s str, &'s str, usize), Values>>,
    facts: Facts,
}

/// What a variable is given.
#[derive(Clone, Copy)]
pub(super) enum Given<'s> {
    /// This expression.
    All(&'s Expr<'s>),
    /// Each element of this array, or its keys.
    Elements(&'s Expr<'s>),
    Keys(&'s Expr<'s>),
}

impl<'s> Reader<'s> {
    /// Notes what variables are given.
    fn note_assignments(&mut self, statement: &'s Statement<'s>, scope: &'s Scope) {
        if let Statement::Foreach(list, key, value) = statement {
            if let Some(Expr::Variable(key)) = key.as_ref().map(Expr::bare) {
                self.give(key, scope, Given::Keys(list));
            }
            if let Expr::Variable(value) = value.bare() {
                self.give(value, scope, Given::Elements(list));
            }
        }
        for expression in statement.expressions() {
            expression.each(&mut |expression| {
                let Expr::Assign(both, _) = expression else { return };
                match &both.0 {
                    Expr::Variable(name) => self.give(name, scope, Given::All(&both.1)),
                    // `$list[] = …`, `$list['name'] = …`
                    Expr::Index(list, _) if is_plain(&both.1) => {
                        if let Expr::Variable(name) = **list {
                            self.give(name, scope, Given::All(&both.1));
                        }
                    }
                    _ => {}
                }
            });
        }
    }

    fn give(&mut self, variable: &'s str, scope: &'s Scope, given: Given<'s>) {
        let known = self.assigned.entry((&scope.function, variable)).or_default();
        if known.len() < ALTERNATIVES * 2 {
            known.push(given);
        }
    }

    /// Takes what a statement says beyond its expressions.
    fn statement(&mut self, statement: &'s Statement<'s>, scope: &'s Scope, line: usize) {
        match statement {
            Statement::Expression(_) | Statement::Foreach(..) => {}
            Statement::Constant(name, value) => {
                let values = self.values(value, scope, 0);
                let name = (*name).to_owned();
                if scope.class.is_empty() {
                    self.facts.constants.push((name, values));
                } else {
                    self.facts.class_constants.push(((scope.class.clone(), name), values));
                }
            }
            Statement::Property(name, value) => {
                let values = self.values(value, scope, 0);
                self.setting(name, &values, line);
                self.facts.properties.push(((scope.class.clone(), (*name).to_owned()), values));
            }
            Statement::Promoted(name) => {
                if let Some(place) = scope.place(name) {
                    let values = vec![vec![Piece::Parameter(scope.function.clone(), place)]];
                    self.facts.properties.push(((scope.class.clone(), (*name).to_owned()), values));
                }
            }
            Statement::Return(value) => {
                if scope.function.is_empty() {
                    return;
                }
                let values = self.values(value, scope, 0);
                if values.iter().any(|value| value.iter().any(|piece| *piece != Piece::Hole)) {
                    self.facts.returns.push((scope.function.clone(), values));
                }
            }
            Statement::Function => self.facts.functions.push(scope.function.clone()),
        }
    }

    /// Takes what an expression says.
    fn visit(&mut self, expression: &'s Expr<'s>, scope: &'s Scope) {
        match expression {
            Expr::Call(call) => self.call(call, scope),
            Expr::Text(bits, line) => {
                for bit in bits {
                    let Bit::Plain(text) = bit else { continue };
                    let kept = ["/etc/", "/var/", "/srv/", "/opt/", "/home/", "/data/", "/mnt/", "/usr/local/"];
                    let is_path = kept.iter().any(|top| text.starts_with(top)) && text.len() < 200;
                    if is_path && self.facts.literals.len() < 500 {
                        self.facts.literals.push(((*text).to_owned(), *line));
                    }
                }
            }
            Expr::Assign(both, line) => self.assignment(&both.0, &both.1, scope, *line),
            Expr::Array(elements) => {
                for element in elements {
                    if let Some(key) = element.key.as_ref().and_then(plain_string)
                        && is_plain(&element.value)
                    {
                        let values = self.values(&element.value, scope, 0);
                        self.setting(&key, &values, element.line);
                        self.entry(&key, values, element.line);
                    }
                }
            }
            Expr::Load(how, path, line) => {
                let paths = self.values(path, scope, 0);
                let how = how.split('_').next().unwrap_or_default().to_ascii_lowercase();
                self.touch(Sink::Load, paths, *line, &how);
            }
            _ => {}
        }
    }

    fn assignment(&mut self, left: &'s Expr<'s>, right: &'s Expr<'s>, scope: &'s Scope, line: usize) {
        if !is_plain(right) {
            return;
        }
        let name = match left {
            Expr::Variable(name) if scope.function.is_empty() => (*name).to_owned(),
            // A function's own variable is nothing that others read.
            Expr::Variable(name) => {
                let values = self.values(right, scope, 0);
                return self.setting(name, &values, line);
            }
            Expr::Index(_, key) => match key.as_deref().and_then(plain_string) {
                Some(key) => key,
                None => return,
            },
            Expr::Member(object, name) => {
                let name = name.unwrap_or_default().to_owned();
                if matches!(**object, Expr::Variable("this")) {
                    let values = self.values(right, scope, 0);
                    self.setting(&name, &values, line);
                    return self.facts.properties.push(((scope.class.clone(), name), values));
                }
                name
            }
            Expr::StaticMember(class, name) => {
                let values = self.values(right, scope, 0);
                self.setting(name, &values, line);
                let class = class_name(class, scope);
                return self.facts.properties.push(((class, (*name).to_owned()), values));
            }
            _ => return,
        };
        let values = self.values(right, scope, 0);
        self.setting(&name, &values, line);
        self.entry(&name, values, line);
    }

    fn entry(&mut self, name: &str, values: Values, line: usize) {
        let known = values.iter().any(|value| !value.is_empty() && value.iter().any(|piece| *piece != Piece::Hole));
        if known {
            self.facts.entries.push((name.to_ascii_lowercase(), values, line));
        }
    }

    /// A path that is kept under a name which says that PHP writes there.
    fn setting(&mut self, name: &str, values: &Values, line: usize) {
        let ends_so = |value: &Value| matches!(value.as_slice(), [_, .., Piece::Text(end)] if is_written_folder(end));
        if says_written(name) || values.iter().any(ends_so) {
            self.touch(Sink::Setting, values.clone(), line, name);
        }
    }

    fn touch(&mut self, sink: Sink, paths: Values, line: usize, call: &str) {
        if !paths.is_empty() {
            self.facts.touches.push(Touch { sink, paths, line, call: call.to_owned() });
        }
    }

    fn call(&mut self, call: &'s Call<'s>, scope: &'s Scope) {
        let (Some(name), line) = (call.name(), call.line) else { return };
        let arguments = &call.arguments;
        let plain = name.to_ascii_lowercase();
        let is_function = matches!(call.callee, Callee::Function(_));
        let is_new = matches!(call.callee, Callee::New(_));
        let known = if is_function { SINKS } else { METHODS };
        if let Some((_, place, sink)) = known.iter().find(|(sink, _, _)| *sink == plain) {
            if let Some(path) = arguments.get(*place)
                && really_writes(&plain, arguments)
            {
                let paths = self.values(path, scope, 0);
                self.touch(*sink, paths, line, &plain);
            }
            return;
        }
        match plain.as_str() {
            "define" if is_function => {
                let (Some(name), Some(value)) = (arguments.first(), arguments.get(1)) else { return };
                let (Some(name), values) = (plain_string(name), self.values(value, scope, 0)) else { return };
                self.setting(&name, &values, line);
                return self.facts.constants.push((name, values));
            }
            "ini_set" if is_function => {
                let (Some(name), Some(value)) = (arguments.first(), arguments.get(1)) else { return };
                let sink = match plain_string(name).as_deref() {
                    Some("session.save_path") => Sink::Session,
                    Some("error_log" | "upload_tmp_dir" | "soap.wsdl_cache_dir" | "sys_temp_dir") => Sink::Setting,
                    _ => return,
                };
                let paths = self.values(value, scope, 0);
                return self.touch(sink, paths, line, "ini_set");
            }
            "error_log" if is_function => {
                if let Some(path) = arguments.get(2) {
                    let paths = self.values(path, scope, 0);
                    self.touch(Sink::Write, paths, line, "error_log");
                }
                return;
            }
            "sqlite3" | "pdo" | "splfileobject" if is_new => {
                if let Some(path) = arguments.first()
                    && (plain != "splfileobject" || really_writes("fopen", arguments))
                {
                    let paths = self.values(path, scope, 0).into_iter().filter_map(without_scheme).collect();
                    self.touch(Sink::Write, paths, line, &format!("new {plain}"));
                }
                return;
            }
            _ => {}
        }
        if is_function && PHPS_OWN.contains(&&*plain) {
            return;
        }
        let arguments: Vec<Values> = arguments.iter().take(4).map(|argument| self.values(argument, scope, 0)).collect();
        let telling = |values: &Values| values.iter().any(|value| value.iter().any(|piece| *piece != Piece::Hole));
        if arguments.iter().any(telling) {
            let name = if is_new { format!("{plain}::__construct") } else { plain };
            self.facts.calls.push(facts::Call { name, arguments: Arc::new(arguments), line });
        }
    }
}

/// Whether an opening mode writes, a new mode lets more in, and so on.
fn really_writes(name: &str, arguments: &[Expr<'_>]) -> bool {
    match name {
        "fopen" | "gzopen" | "bzopen" => arguments.get(1).is_some_and(|mode| {
            let mode = plain_string(mode).unwrap_or_default();
            mode.contains(['w', 'a', 'x', 'c', '+'])
        }),
        "chmod" => arguments.get(1).is_some_and(|mode| {
            let Expr::Number(digits) = mode else { return false };
            let octal = u32::from_str_radix(digits.trim_start_matches(['0', 'o']), 8).unwrap_or(0);
            octal & 0o022 != 0
        }),
        _ => true,
    }
}

/// The file of `sqlite:/path`; a plain path is itself; other data sources are no files.
fn without_scheme(mut value: Value) -> Option<Value> {
    if let Some(Piece::Text(text)) = value.first_mut() {
        if let Some(path) = text.strip_prefix("sqlite:") {
            *text = path.to_owned();
        } else if text.contains(':') {
            return None;
        }
    }
    Some(value)
}

/// Whether a path ends in a folder that nothing but writing is for.
fn is_written_folder(end: &str) -> bool {
    let name = end.trim_end_matches('/').rsplit('/').next().unwrap_or_default();
    end.contains('/')
        && matches!(name, "uploads" | "upload" | "cache" | "tmp" | "temp" | "logs" | "log" | "sessions" | "templates_c")
}

/// Whether a name says that what it holds is a folder that PHP writes to: `cache_dir`, `uploadPath`, `LOG_DIRECTORY`.
fn says_written(name: &str) -> bool {
    let name: String = name.chars().filter(char::is_ascii_alphanumeric).map(|c| c.to_ascii_lowercase()).collect();
    let kinds = [
        "cache", "compile", "compiled", "temp", "tmp", "upload", "uploads", "log", "logs", "session", "sessions",
        "lock", "storage",
    ];
    let ends = ["dir", "directory", "path", "folder", "savepath", "root"];
    let Some(end) = ends.iter().find(|end| name.ends_with(**end)) else { return false };
    let head = name.strip_suffix(end).unwrap_or(&name);
    kinds.iter().any(|kind| head.ends_with(kind))
}

/// Whether an expression may be a path, and is not a whole array or function.
const fn is_plain(expression: &Expr<'_>) -> bool {
    match expression {
        Expr::Array(_) | Expr::Function(_) => false,
        Expr::Call(call) => !matches!(call.callee, Callee::New(_)),
        _ => true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("cache_dir", true)]
    #[case("uploadPath", true)]
    #[case("LOG_DIRECTORY", true)]
    #[case("TempDir", true)]
    #[case("template_dir", false)]
    #[case("path", false)]
    #[case("cache", false)]
    fn names_that_say_written(#[case] name: &str, #[case] want: bool) {
        assert_eq!(says_written(name), want);
    }
}
