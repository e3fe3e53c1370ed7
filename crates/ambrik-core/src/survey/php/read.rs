//! Reads one parsed PHP file: what it defines, keeps, calls and touches.

use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap};
use std::path::Path;
use std::sync::Arc;

use tree_sitter::{Node, Tree};

use super::facts::{Call, Facts, Piece, ROOT, Sink, Touch, Value, Values};
use super::values::{ALTERNATIVES, class_name, last_child};

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
    /// The facts of a parsed file.
    pub(super) fn of(file: &Path, tree: &Tree, bytes: &[u8]) -> Self {
        let dir = file.parent().unwrap_or(Path::new(""));
        // What lies outside the tree is called as it is.
        let whole = |path: &Path| match (path.is_absolute(), path.as_os_str().is_empty()) {
            (true, _) => path.display().to_string(),
            (false, true) => ROOT.to_string(),
            (false, false) => format!("{ROOT}/{}", path.display()),
        };
        let mut reader = Reader {
            bytes,
            file: whole(file),
            dir: whole(dir),
            assigned: BTreeMap::new(),
            followed: RefCell::default(),
            facts: Self { file: file.to_owned(), command_line: is_command_line(bytes), ..Self::default() },
        };
        reader.shape(tree.root_node());
        let mut nodes = Vec::new();
        all_nodes(tree.root_node(), &mut nodes);
        // What a variable was given may stand below where it is used.
        for (node, scope) in &nodes {
            reader.note_assignment(*node, scope);
        }
        for (node, scope) in &nodes {
            reader.visit(*node, scope);
        }
        reader.facts
    }
}

/// A script that only a shell starts.
fn is_command_line(bytes: &[u8]) -> bool {
    if bytes.starts_with(b"#!") {
        return true;
    }
    let head = &bytes[..bytes.len().min(4096)];
    let text = String::from_utf8_lossy(head);
    let asks = ["php_sapi_name()", "PHP_SAPI"].iter().any(|name| text.contains(name));
    asks && text.contains("cli") && ["exit", "die"].iter().any(|word| text.contains(word))
}

/// Where a node stands.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Scope {
    /// The class around it, in lower case.
    pub(super) class: String,
    /// The function around it, in lower case: `name`, or `class::name`; empty outside of all.
    pub(super) function: String,
    /// Its parameters.
    pub(super) parameters: std::rc::Rc<Vec<String>>,
}

/// Every node of a tree with its scope, in the order of the file; no recursion, however deep it is nested.
fn all_nodes<'t>(root: Node<'t>, nodes: &mut Vec<(Node<'t>, std::rc::Rc<NodeScope<'t>>)>) {
    let top = std::rc::Rc::new(NodeScope::new(None, None));
    let mut waiting = vec![(root, top)];
    while let Some((node, scope)) = waiting.pop() {
        let inner = match node.kind() {
            "class_declaration"
            | "trait_declaration"
            | "interface_declaration"
            | "enum_declaration"
            | "anonymous_class" => std::rc::Rc::new(NodeScope::new(Some(node), None)),
            "method_declaration" | "function_definition" => std::rc::Rc::new(NodeScope::new(scope.class, Some(node))),
            _ => std::rc::Rc::clone(&scope),
        };
        let mut cursor = node.walk();
        let children: Vec<Node<'t>> = node.named_children(&mut cursor).collect();
        waiting.extend(children.into_iter().rev().map(|child| (child, std::rc::Rc::clone(&inner))));
        nodes.push((node, scope));
    }
}

/// The class and function that a node stands in.
struct NodeScope<'t> {
    class: Option<Node<'t>>,
    function: Option<Node<'t>>,
    /// By name, found out once.
    named: std::cell::OnceCell<std::rc::Rc<Scope>>,
}

impl<'t> NodeScope<'t> {
    fn new(class: Option<Node<'t>>, function: Option<Node<'t>>) -> Self {
        Self { class, function, named: std::cell::OnceCell::new() }
    }
}

pub(super) struct Reader<'t, 'b> {
    bytes: &'b [u8],
    /// `__FILE__` and `__DIR__`.
    pub(super) file: String,
    pub(super) dir: String,
    /// What variables are given, by function and name.
    pub(super) assigned: BTreeMap<(String, String), Vec<Given<'t>>>,
    /// What variables may be, by function, name and depth: each is followed once.
    pub(super) followed: RefCell<HashMap<(String, String, usize), Values>>,
    facts: Facts,
}

/// What a variable is given.
#[derive(Clone, Copy)]
pub(super) enum Given<'t> {
    /// This expression.
    All(Node<'t>),
    /// Each element of this array, or its keys.
    Elements(Node<'t>),
    Keys(Node<'t>),
}

impl<'t> Reader<'t, '_> {
    fn shape(&mut self, root: Node<'t>) {
        let mut cursor = root.walk();
        let mut statements: Vec<Node<'t>> = root.named_children(&mut cursor).collect();
        // What stands in braces after a namespace is as outermost as the rest.
        let bodies: Vec<Node<'t>> = statements.iter().filter_map(|node| node.child_by_field_name("body")).collect();
        for body in bodies.iter().filter(|body| body.parent().is_some_and(|node| node.kind() == "namespace_definition"))
        {
            let mut cursor = body.walk();
            statements.extend(body.named_children(&mut cursor));
        }
        for statement in statements {
            let inner = statement.named_child(0).map_or("", |node| node.kind());
            let text = self.text(statement).trim_start_matches('\\');
            let begins = |words: &[&str]| words.iter().any(|word| text.starts_with(word));
            let (settings, definitions, others) = match statement.kind() {
                "php_tag"
                | "php_end_tag"
                | "comment"
                | "namespace_definition"
                | "namespace_use_declaration"
                | "declare_statement"
                | "text_interpolation"
                | "text"
                | "empty_statement" => (0, 0, 0),
                "class_declaration"
                | "function_definition"
                | "interface_declaration"
                | "trait_declaration"
                | "enum_declaration" => (0, 1, 0),
                "const_declaration" | "global_declaration" => (1, 0, 0),
                "return_statement" if inner == "array_creation_expression" => (1, 0, 0),
                "expression_statement" if inner == "assignment_expression" => (1, 0, 0),
                "expression_statement" if begins(&["define(", "define ("]) => (1, 0, 0),
                "expression_statement" if begins(&["defined", "ini_set", "error_reporting"]) => (0, 0, 0),
                "if_statement" if text.len() < 160 && text.contains("defined") => (0, 0, 0),
                _ => (0, 0, 1),
            };
            let shape = &mut self.facts.shape;
            shape.settings += settings;
            shape.definitions += definitions;
            shape.others += others;
        }
    }

    pub(super) fn text(&self, node: Node<'_>) -> &str {
        node.utf8_text(self.bytes).unwrap_or_default()
    }

    pub(super) fn field(&self, node: Node<'t>, name: &str) -> Option<String> {
        node.child_by_field_name(name).map(|child| self.text(child).to_owned())
    }

    fn scope(&self, around: &NodeScope<'t>) -> std::rc::Rc<Scope> {
        std::rc::Rc::clone(around.named.get_or_init(|| std::rc::Rc::new(self.named_scope(around))))
    }

    fn named_scope(&self, around: &NodeScope<'t>) -> Scope {
        let class = around.class.and_then(|class| self.field(class, "name")).unwrap_or_default().to_ascii_lowercase();
        let Some(function) = around.function else { return Scope { class, ..Scope::default() } };
        let name = self.field(function, "name").unwrap_or_default().to_ascii_lowercase();
        let function_name = if class.is_empty() { name } else { format!("{class}::{name}") };
        let parameters =
            function.child_by_field_name("parameters").map(|list| self.parameters(list)).unwrap_or_default();
        Scope { class, function: function_name, parameters: std::rc::Rc::new(parameters) }
    }

    fn parameters(&self, list: Node<'t>) -> Vec<String> {
        let mut cursor = list.walk();
        let names = list.named_children(&mut cursor).map(|parameter| self.field(parameter, "name").unwrap_or_default());
        names.collect()
    }

    /// Notes what variables are given.
    fn note_assignment(&mut self, node: Node<'t>, around: &NodeScope<'t>) {
        match node.kind() {
            "assignment_expression" => {
                let (Some(left), Some(right)) = (node.child_by_field_name("left"), node.child_by_field_name("right"))
                else {
                    return;
                };
                if left.kind() == "variable_name" {
                    self.give(left, around, Given::All(right));
                } else if left.kind() == "subscript_expression" && is_plain(right.kind()) {
                    // `$list[] = …`, `$list['name'] = …`
                    if let Some(list) = left.named_child(0).filter(|list| list.kind() == "variable_name") {
                        self.give(list, around, Given::All(right));
                    }
                }
            }
            "foreach_statement" => {
                let mut cursor = node.walk();
                let children: Vec<Node<'t>> = node.named_children(&mut cursor).collect();
                let [list, each, ..] = children.as_slice() else { return };
                match each.kind() {
                    "variable_name" => self.give(*each, around, Given::Elements(*list)),
                    "pair" => {
                        if let (Some(key), Some(value)) = (each.named_child(0), each.named_child(1)) {
                            self.give(key, around, Given::Keys(*list));
                            self.give(value, around, Given::Elements(*list));
                        }
                    }
                    _ => {}
                }
            }
            _ => {}
        }
    }

    fn give(&mut self, variable: Node<'t>, around: &NodeScope<'t>, given: Given<'t>) {
        let key = (self.scope(around).function.clone(), self.text(variable).to_owned());
        let known = self.assigned.entry(key).or_default();
        if known.len() < ALTERNATIVES * 2 {
            known.push(given);
        }
    }

    /// Takes what a node says.
    fn visit(&mut self, node: Node<'t>, around: &NodeScope<'t>) {
        match node.kind() {
            "function_call_expression"
            | "member_call_expression"
            | "nullsafe_member_call_expression"
            | "scoped_call_expression"
            | "object_creation_expression" => self.call(node, around),
            "string_content" => {
                let text = self.text(node);
                let kept = ["/etc/", "/var/", "/srv/", "/opt/", "/home/", "/data/", "/mnt/", "/usr/local/"];
                if kept.iter().any(|top| text.starts_with(top)) && text.len() < 200 && self.facts.literals.len() < 500 {
                    let text = text.to_owned();
                    self.facts.literals.push((text, line(node)));
                }
            }
            "const_element" => {
                let (Some(name), Some(value)) = (node.named_child(0), node.named_child(1)) else { return };
                let scope = self.scope(around);
                let values = self.values(value, &scope, 0);
                let name = self.text(name).to_owned();
                if scope.class.is_empty() {
                    self.facts.constants.push((name, values));
                } else {
                    self.facts.class_constants.push(((scope.class.clone(), name), values));
                }
            }
            "property_element" => {
                let Some(value) = node.child_by_field_name("default_value") else { return };
                let Some(name) = node.child_by_field_name("name") else { return };
                let scope = self.scope(around);
                let name = self.text(name).trim_start_matches('$').to_owned();
                let values = self.values(value, &scope, 0);
                self.setting(&name, &values, node);
                self.facts.properties.push(((scope.class.clone(), name), values));
            }
            "property_promotion_parameter" => {
                let scope = self.scope(around);
                let name = self.field(node, "name").unwrap_or_default();
                let place = scope.parameters.iter().position(|parameter| *parameter == name);
                if let Some(place) = place {
                    let name = name.trim_start_matches('$').to_owned();
                    let values = vec![vec![Piece::Parameter(scope.function.clone(), place)]];
                    self.facts.properties.push(((scope.class.clone(), name), values));
                }
            }
            "assignment_expression" => self.assignment(node, around),
            "array_element_initializer" => {
                let (Some(key), Some(value)) = (node.named_child(0), node.named_child(1)) else { return };
                if let Some(key) = self.plain_string(key)
                    && is_plain(value.kind())
                {
                    let scope = self.scope(around);
                    let values = self.values(value, &scope, 0);
                    self.setting(&key, &values, node);
                    self.entry(&key, values, node);
                }
            }
            "return_statement" => {
                let scope = self.scope(around);
                if let Some(value) = node.named_child(0).filter(|_| !scope.function.is_empty()) {
                    let values = self.values(value, &scope, 0);
                    if values.iter().any(|value| value.iter().any(|piece| *piece != Piece::Hole)) {
                        self.facts.returns.push((scope.function.clone(), values));
                    }
                }
            }
            "require_expression" | "require_once_expression" | "include_expression" | "include_once_expression" => {
                let scope = self.scope(around);
                let paths = node.named_child(0).map(|path| self.values(path, &scope, 0)).unwrap_or_default();
                self.touch(Sink::Load, paths, node, node.kind().split('_').next().unwrap_or_default());
            }
            "function_definition" | "method_declaration" => {
                let class = self.scope(around).class.clone();
                let name = self.field(node, "name").unwrap_or_default().to_ascii_lowercase();
                self.facts.functions.push(if class.is_empty() { name } else { format!("{class}::{name}") });
            }
            _ => {}
        }
    }

    fn assignment(&mut self, node: Node<'t>, around: &NodeScope<'t>) {
        let (Some(left), Some(right)) = (node.child_by_field_name("left"), node.child_by_field_name("right")) else {
            return;
        };
        if !is_plain(right.kind()) {
            return;
        }
        let scope = self.scope(around);
        let name = match left.kind() {
            "variable_name" if scope.function.is_empty() => self.text(left).trim_start_matches('$').to_owned(),
            // A function's own variable is nothing that others read.
            "variable_name" => {
                let name = self.text(left).trim_start_matches('$').to_owned();
                let values = self.values(right, &scope, 0);
                return self.setting(&name, &values, node);
            }
            "subscript_expression" => match last_child(left).and_then(|key| self.plain_string(key)) {
                Some(key) => key,
                None => return,
            },
            "member_access_expression" => {
                let name = self.field(left, "name").unwrap_or_default();
                if self.field(left, "object").as_deref() == Some("$this") {
                    let values = self.values(right, &scope, 0);
                    self.setting(&name, &values, node);
                    return self.facts.properties.push(((scope.class.clone(), name), values));
                }
                name
            }
            "scoped_property_access_expression" => {
                let name = self.field(left, "name").unwrap_or_default().trim_start_matches('$').to_owned();
                let values = self.values(right, &scope, 0);
                self.setting(&name, &values, node);
                let class = class_name(&self.field(left, "scope").unwrap_or_default(), &scope);
                return self.facts.properties.push(((class, name), values));
            }
            _ => return,
        };
        let values = self.values(right, &scope, 0);
        self.setting(&name, &values, node);
        self.entry(&name, values, node);
    }

    fn entry(&mut self, name: &str, values: Values, node: Node<'t>) {
        let known = values.iter().any(|value| !value.is_empty() && value.iter().any(|piece| *piece != Piece::Hole));
        if known {
            self.facts.entries.push((name.to_ascii_lowercase(), values, line(node)));
        }
    }

    /// A path that is kept under a name which says that PHP writes there.
    fn setting(&mut self, name: &str, values: &Values, node: Node<'t>) {
        let ends_so = |value: &Value| matches!(value.as_slice(), [_, .., Piece::Text(end)] if is_written_folder(end));
        if says_written(name) || values.iter().any(ends_so) {
            self.touch(Sink::Setting, values.clone(), node, name);
        }
    }

    fn touch(&mut self, sink: Sink, paths: Values, node: Node<'t>, call: &str) {
        if !paths.is_empty() {
            self.facts.touches.push(Touch { sink, paths, line: line(node), call: call.to_owned() });
        }
    }

    fn call(&mut self, node: Node<'t>, around: &NodeScope<'t>) {
        let Some((name, list)) = self.called(node) else { return };
        let mut cursor = list.walk();
        let arguments: Vec<Node<'t>> = list
            .named_children(&mut cursor)
            .filter(|child| child.kind() == "argument")
            .filter_map(|argument| {
                argument.named_child(u32::try_from(argument.named_child_count()).ok()?.checked_sub(1)?)
            })
            .collect();
        let scope = self.scope(around);
        let plain = name.trim_start_matches('\\').to_ascii_lowercase();
        let is_function = node.kind() == "function_call_expression";
        let known = if is_function { SINKS } else { METHODS };
        if let Some((_, place, sink)) = known.iter().find(|(sink, _, _)| *sink == plain) {
            if let Some(path) = arguments.get(*place)
                && self.really_writes(&plain, &arguments)
            {
                let paths = self.values(*path, &scope, 0);
                self.touch(*sink, paths, node, &plain);
            }
            return;
        }
        match plain.as_str() {
            "define" if is_function => {
                let (Some(name), Some(value)) = (arguments.first(), arguments.get(1)) else { return };
                let (Some(name), values) = (self.plain_string(*name), self.values(*value, &scope, 0)) else { return };
                self.setting(&name, &values, node);
                return self.facts.constants.push((name, values));
            }
            "ini_set" if is_function => {
                let (Some(name), Some(value)) = (arguments.first(), arguments.get(1)) else { return };
                let sink = match self.plain_string(*name).as_deref() {
                    Some("session.save_path") => Sink::Session,
                    Some("error_log" | "upload_tmp_dir" | "soap.wsdl_cache_dir" | "sys_temp_dir") => Sink::Setting,
                    _ => return,
                };
                let paths = self.values(*value, &scope, 0);
                return self.touch(sink, paths, node, "ini_set");
            }
            "error_log" if is_function => {
                if let Some(path) = arguments.get(2) {
                    let paths = self.values(*path, &scope, 0);
                    self.touch(Sink::Write, paths, node, "error_log");
                }
                return;
            }
            "sqlite3" | "pdo" | "splfileobject" if node.kind() == "object_creation_expression" => {
                if let Some(path) = arguments.first()
                    && (plain != "splfileobject" || self.really_writes("fopen", &arguments))
                {
                    let paths = self.values(*path, &scope, 0).into_iter().filter_map(without_scheme).collect();
                    self.touch(Sink::Write, paths, node, &format!("new {plain}"));
                }
                return;
            }
            _ => {}
        }
        if is_function && PHPS_OWN.contains(&&*plain) {
            return;
        }
        let arguments: Vec<Values> =
            arguments.iter().take(4).map(|argument| self.values(*argument, &scope, 0)).collect();
        let telling = |values: &Values| values.iter().any(|value| value.iter().any(|piece| *piece != Piece::Hole));
        if arguments.iter().any(telling) {
            let name = match node.kind() {
                "object_creation_expression" => format!("{plain}::__construct"),
                _ => plain,
            };
            self.facts.calls.push(Call { name, arguments: Arc::new(arguments), line: line(node) });
        }
    }

    /// What is called (without its namespace), and with what.
    pub(super) fn called(&self, node: Node<'t>) -> Option<(String, Node<'t>)> {
        let mut cursor = node.walk();
        let list = node
            .child_by_field_name("arguments")
            .or_else(|| node.named_children(&mut cursor).find(|child| child.kind() == "arguments"))?;
        let name = match node.kind() {
            "function_call_expression" => node.child_by_field_name("function")?,
            "object_creation_expression" => node.named_child(0)?,
            _ => node.child_by_field_name("name")?,
        };
        matches!(name.kind(), "name" | "qualified_name" | "relative_scope")
            .then(|| (self.text(name).rsplit('\\').next().unwrap_or_default().to_owned(), list))
    }

    /// Whether an opening mode writes, a new mode lets more in, and so on.
    fn really_writes(&self, name: &str, arguments: &[Node<'t>]) -> bool {
        match name {
            "fopen" | "gzopen" | "bzopen" => arguments.get(1).is_some_and(|mode| {
                let mode = self.plain_string(*mode).unwrap_or_default();
                mode.contains(['w', 'a', 'x', 'c', '+'])
            }),
            "chmod" => arguments.get(1).is_some_and(|mode| {
                let digits = self.text(*mode).trim_start_matches(['0', 'o']);
                let octal = u32::from_str_radix(digits, 8).unwrap_or(0);
                octal & 0o022 != 0
            }),
            _ => true,
        }
    }
}

fn line(node: Node<'_>) -> usize {
    node.start_position().row + 1
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
fn is_plain(kind: &str) -> bool {
    !matches!(
        kind,
        "array_creation_expression" | "anonymous_function" | "arrow_function" | "object_creation_expression"
    )
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
