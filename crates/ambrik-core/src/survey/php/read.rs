//! Reads one PHP file: what it defines, keeps, calls and touches.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::path::Path;
use std::sync::Arc;

use super::code::CONSTRUCTOR;
use super::facts::{self, FileFacts, Piece, ROOT, Sink, Touch, Value, Values, hash_of};
use super::functions::{is_phps_own, sink};
use super::reader::{AskedCalls, GivenValue, Reader, Scope};
use super::source::{Bit, Call, Callee, Expr, Statement, source};
use super::values::{ALTERNATIVES, class_name, plain_string};

impl FileFacts {
    /// The facts of a file's source; of calls of the code's own functions, those that are asked for.
    ///
    /// `folders` are the names of those in the root: a word alone is a path where it is one of them.
    pub(super) fn of(file: &Path, text: &str, folders: &HashSet<String>, asked: AskedCalls<'_>) -> Self {
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
            asked,
            folders,
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
            if !matches!(asked, AskedCalls::OnlyCalls(_)) {
                reader.statement(statement, scope, line);
            }
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
    let end = text.char_indices().nth(4096).map_or(text.len(), |(at, _)| at);
    let head = text.get(..end).unwrap_or_default();
    let asks = ["php_sapi_name()", "PHP_SAPI"].iter().any(|name| head.contains(name));
    asks && head.contains("cli") && ["exit", "die"].iter().any(|word| head.contains(word))
}

impl<'s> Reader<'s> {
    /// Notes what variables are given.
    fn note_assignments(&mut self, statement: &'s Statement<'s>, scope: &'s Scope) {
        if let Statement::Foreach(list, key, value) = statement {
            if let Some(Expr::Variable(key)) = key.as_ref().map(Expr::bare) {
                self.give(key, scope, GivenValue::Keys(list));
            }
            if let Expr::Variable(value) = value.bare() {
                self.give(value, scope, GivenValue::Elements(list));
            }
        }
        for expression in statement.expressions() {
            expression.each(&mut |expression| {
                let Expr::Assign(both, _) = expression else { return };
                match &both.0 {
                    Expr::Variable(name) => self.give(name, scope, GivenValue::All(&both.1)),
                    // `$list[] = …`, `$list['name'] = …`
                    Expr::Index(list, _) if is_plain(&both.1) => {
                        if let Expr::Variable(name) = **list {
                            self.give(name, scope, GivenValue::All(&both.1));
                        }
                    }
                    _ => {}
                }
            });
        }
    }

    fn give(&mut self, variable: &'s str, scope: &'s Scope, given: GivenValue<'s>) {
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
                    let values = vec![vec![Piece::Parameter(scope.function.as_str().into(), place)]];
                    self.facts.properties.push(((scope.class.clone(), (*name).to_owned()), values));
                }
            }
            Statement::Return(value) => {
                if scope.function.is_empty() {
                    return;
                }
                let mut values = self.values(value, scope, 0);
                values.retain(says_something);
                if !values.is_empty() {
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
            _ if matches!(self.asked, AskedCalls::OnlyCalls(_)) => {}
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

    fn entry(&mut self, name: &str, mut values: Values, line: usize) {
        let name = name.to_ascii_lowercase();
        values.retain(says_something);
        let words = values.extract_if(.., |value| !self.may_be_kept_as_a_path(value));
        let words: Vec<(u64, u64)> = words.map(|value| (hash_of(&name), hash_of(&value))).collect();
        self.facts.words.extend(words);
        if !values.is_empty() {
            self.facts.entries.push((name, values, line));
        }
    }

    /// Whether what is kept under a name may be a path, or a folder's name: most of it are sentences.
    fn may_be_kept_as_a_path(&self, value: &Value) -> bool {
        let is_folder = |text: &str| text.contains(['/', ROOT]) || self.folders.contains(text);
        match value.as_slice() {
            [Piece::Sentence(_)] => false,
            [Piece::Text(text)] => is_folder(text),
            _ => true,
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
        let Some(name) = call.name() else { return };
        let name = name.to_ascii_lowercase();
        if !is_phps_own(&call.callee, &name) {
            self.own_call(&name, call, scope);
        } else if !matches!(self.asked, AskedCalls::OnlyCalls(_)) {
            self.phps_own_call(&name, call, scope);
        }
    }

    /// A call of one of PHP's own functions, or of a method that libraries have in common.
    fn phps_own_call(&mut self, name: &str, call: &'s Call<'s>, scope: &'s Scope) {
        let (arguments, line) = (&call.arguments, call.line);
        if let Some((place, sink)) = sink(&call.callee, name) {
            if let Some(path) = arguments.get(place)
                && really_writes(name, arguments)
            {
                let paths = self.values(path, scope, 0);
                self.touch(sink, paths, line, name);
            }
            return;
        }
        match name {
            "define" => {
                let (Some(name), Some(value)) = (arguments.first(), arguments.get(1)) else { return };
                let (Some(name), values) = (plain_string(name), self.values(value, scope, 0)) else { return };
                self.setting(&name, &values, line);
                self.facts.constants.push((name, values));
            }
            "ini_set" => {
                let (Some(name), Some(value)) = (arguments.first(), arguments.get(1)) else { return };
                let sink = match plain_string(name).as_deref() {
                    Some("session.save_path") => Sink::Session,
                    Some("error_log" | "upload_tmp_dir" | "soap.wsdl_cache_dir" | "sys_temp_dir") => Sink::Setting,
                    _ => return,
                };
                let paths = self.values(value, scope, 0);
                self.touch(sink, paths, line, "ini_set");
            }
            "error_log" => {
                if let Some(path) = arguments.get(2) {
                    let paths = self.values(path, scope, 0);
                    self.touch(Sink::Write, paths, line, name);
                }
            }
            "sqlite3" | "pdo" | "splfileobject" => {
                if let Some(path) = arguments.first()
                    && (name != "splfileobject" || really_writes("fopen", arguments))
                {
                    let paths = self.values(path, scope, 0).into_iter().filter_map(without_scheme).collect();
                    self.touch(Sink::Write, paths, line, &format!("new {name}"));
                }
            }
            _ => {}
        }
    }

    /// A call of one of the code's own functions.
    fn own_call(&mut self, plain: &str, call: &'s Call<'s>, scope: &'s Scope) {
        let name = match call.callee {
            Callee::New(_) => format!("{plain}{CONSTRUCTOR}"),
            _ => plain.to_owned(),
        };
        let wanted = match self.asked {
            AskedCalls::All => true,
            AskedCalls::NoCalls => {
                if !call.arguments.is_empty() {
                    *self.facts.called.entry(hash_of(&name)).or_default() += 1;
                }
                false
            }
            AskedCalls::OnlyCalls(of) => of.contains(&name),
        };
        if !wanted {
            return;
        }
        let arguments: Vec<Values> =
            call.arguments.iter().take(4).map(|argument| self.values(argument, scope, 0)).collect();
        if arguments.iter().flatten().any(says_something) {
            self.facts.calls.push(facts::KeptCall { name, arguments: Arc::new(arguments), line: call.line });
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
            *text = path.into();
        } else if text.contains(':') {
            return None;
        }
    }
    Some(value)
}

/// Whether something of a value is known.
fn says_something(value: &Value) -> bool {
    value.iter().any(|piece| *piece != Piece::Hole)
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
