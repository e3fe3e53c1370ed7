//! One PHP file: what it defines and which paths it touches, in symbols that [`super::resolve`] fills in.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use tree_sitter::{Node, Tree};

/// Stands at the beginning of a path for the application's root.
pub(crate) const ROOT: char = '\u{1}';

/// As many values of one expression are followed.
const ALTERNATIVES: usize = 8;
/// Expressions are followed so deep.
const DEEPEST: usize = 24;

/// A piece of a value; a value is pieces one after the other.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Piece {
    Text(String),
    /// Not known.
    Hole,
    /// A constant.
    Constant(String),
    /// A class's constant.
    ClassConstant(String, String),
    /// Something kept under a name in an array, an object or a variable of the whole program.
    Entry(String),
    /// A class's own variable.
    Property(String, String),
    /// A function's parameter, by its place.
    Parameter(String, usize),
    /// What a function returns.
    Returned(String),
    /// So many levels above a path.
    Above(Box<Value>, usize),
    /// The web server's document root.
    Served,
}

/// Pieces one after the other.
pub(crate) type Value = Vec<Piece>;
/// All that an expression may be.
pub(crate) type Values = Vec<Value>;

/// What is done with a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Sink {
    /// It is asked whether it can be written.
    Check,
    /// A file is written there.
    Write,
    /// A directory is made there.
    MakeDirectory,
    /// Something is moved there.
    MoveTo,
    /// It is kept under a name that says that PHP writes there.
    Setting,
    /// Sessions are kept there.
    Session,
    /// It is made writable.
    Open,
    /// Another PHP file, or settings, are loaded from there.
    Load,
    /// It is asked whether there is such a file.
    Look,
}

/// A place where a path is touched.
#[derive(Clone, Debug)]
pub(crate) struct Touch {
    pub(crate) sink: Sink,
    pub(crate) paths: Values,
    /// From 1.
    pub(crate) line: usize,
    /// What does it.
    pub(crate) call: String,
}

/// A call with arguments that may be paths.
#[derive(Clone, Debug)]
pub(crate) struct Call {
    pub(crate) name: String,
    pub(crate) arguments: Vec<Values>,
}

/// What one file says.
#[derive(Debug, Default)]
pub(crate) struct Facts {
    pub(crate) file: PathBuf,
    pub(crate) touches: Vec<Touch>,
    pub(crate) calls: Vec<Call>,
    pub(crate) constants: Vec<(String, Values)>,
    pub(crate) class_constants: Vec<((String, String), Values)>,
    /// Names in arrays, objects and global variables, with the line.
    pub(crate) entries: Vec<(String, Values, usize)>,
    pub(crate) properties: Vec<((String, String), Values)>,
    pub(crate) returns: Vec<(String, Values)>,
    /// The functions that it defines: `name`, or `class::name`.
    pub(crate) functions: Vec<String>,
    /// What its outermost statements do.
    pub(crate) shape: Shape,
    /// Whether it is for the command line only.
    pub(crate) command_line: bool,
}

/// What the outermost statements of a file do, guards against direct calls left out.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Shape {
    /// They set variables and constants, or return an array.
    pub(crate) settings: usize,
    /// They define classes and functions.
    pub(crate) definitions: usize,
    /// They do something else.
    pub(crate) others: usize,
}

impl Shape {
    /// Whether it sets, and does little else.
    pub(crate) const fn is_settings(self) -> bool {
        self.settings > 0 && self.definitions == 0 && self.others * 2 <= self.settings
    }

    /// Whether it defines classes or functions, and does nothing when it is asked for.
    pub(crate) const fn only_defines(self) -> bool {
        self.definitions > 0 && self.others == 0
    }
}

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

/// Methods that do, whatever the class.
const METHODS: &[(&str, usize, Sink)] = &[
    ("extractto", 0, Sink::MoveTo),
    ("setcompiledir", 0, Sink::Setting),
    ("setcachedir", 0, Sink::Setting),
    ("setcachepath", 0, Sink::Setting),
    ("settempdir", 0, Sink::Setting),
    ("setlogdir", 0, Sink::Setting),
];

/// Functions that hand their first argument on as the same path.
const SAME: &[&str] =
    &["realpath", "rtrim", "trim", "ltrim", "strval", "str_replace", "escapeshellarg", "untrailingslashit"];

impl Facts {
    /// The facts of a parsed file.
    pub(super) fn of(file: &Path, tree: &Tree, bytes: &[u8]) -> Self {
        let dir = file.parent().unwrap_or(Path::new(""));
        let mut reader = Reader {
            bytes,
            file: format!("{ROOT}/{}", file.display()),
            dir: if dir.as_os_str().is_empty() { ROOT.to_string() } else { format!("{ROOT}/{}", dir.display()) },
            assigned: BTreeMap::new(),
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
struct Scope {
    /// The class around it, in lower case.
    class: String,
    /// The function around it, in lower case: `name`, or `class::name`; empty outside of all.
    function: String,
    /// Its parameters.
    parameters: std::rc::Rc<Vec<String>>,
}

/// Every node of a tree with its scope, in the order of the file; no recursion, however deep it is nested.
fn all_nodes<'t>(root: Node<'t>, nodes: &mut Vec<(Node<'t>, std::rc::Rc<NodeScope<'t>>)>) {
    let top = std::rc::Rc::new(NodeScope { class: None, function: None });
    let mut waiting = vec![(root, top)];
    while let Some((node, scope)) = waiting.pop() {
        let inner = match node.kind() {
            "class_declaration"
            | "trait_declaration"
            | "interface_declaration"
            | "enum_declaration"
            | "anonymous_class" => std::rc::Rc::new(NodeScope { class: Some(node), function: None }),
            "method_declaration" | "function_definition" => {
                std::rc::Rc::new(NodeScope { class: scope.class, function: Some(node) })
            }
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
}

struct Reader<'t, 'b> {
    bytes: &'b [u8],
    /// `__FILE__` and `__DIR__`.
    file: String,
    dir: String,
    /// What variables are given, by function and name.
    assigned: BTreeMap<(String, String), Vec<Given<'t>>>,
    facts: Facts,
}

/// What a variable is given.
#[derive(Clone, Copy)]
enum Given<'t> {
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

    fn text(&self, node: Node<'_>) -> &str {
        node.utf8_text(self.bytes).unwrap_or_default()
    }

    fn field(&self, node: Node<'t>, name: &str) -> Option<String> {
        node.child_by_field_name(name).map(|child| self.text(child).to_owned())
    }

    fn scope(&self, around: &NodeScope<'t>) -> Scope {
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
        let key = (self.scope(around).function, self.text(variable).to_owned());
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
            "const_element" => {
                let (Some(name), Some(value)) = (node.named_child(0), node.named_child(1)) else { return };
                let scope = self.scope(around);
                let values = self.values(value, &scope, 0);
                let name = self.text(name).to_owned();
                if scope.class.is_empty() {
                    self.facts.constants.push((name, values));
                } else {
                    self.facts.class_constants.push(((scope.class, name), values));
                }
            }
            "property_element" => {
                let Some(value) = node.child_by_field_name("default_value") else { return };
                let Some(name) = node.child_by_field_name("name") else { return };
                let scope = self.scope(around);
                let name = self.text(name).trim_start_matches('$').to_owned();
                let values = self.values(value, &scope, 0);
                self.setting(&name, &values, node);
                self.facts.properties.push(((scope.class, name), values));
            }
            "property_promotion_parameter" => {
                let scope = self.scope(around);
                let name = self.field(node, "name").unwrap_or_default();
                let place = scope.parameters.iter().position(|parameter| *parameter == name);
                if let Some(place) = place {
                    let name = name.trim_start_matches('$').to_owned();
                    let values = vec![vec![Piece::Parameter(scope.function, place)]];
                    self.facts.properties.push(((scope.class, name), values));
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
                        self.facts.returns.push((scope.function, values));
                    }
                }
            }
            "require_expression" | "require_once_expression" | "include_expression" | "include_once_expression" => {
                let scope = self.scope(around);
                let paths = node.named_child(0).map(|path| self.values(path, &scope, 0)).unwrap_or_default();
                self.touch(Sink::Load, paths, node, node.kind().split('_').next().unwrap_or_default());
            }
            "function_definition" | "method_declaration" => {
                let class = self.scope(around).class;
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
            "subscript_expression" => match last_child(left).and_then(|key| self.plain_string(key)) {
                Some(key) => key,
                None => return,
            },
            "member_access_expression" => {
                let name = self.field(left, "name").unwrap_or_default();
                if self.field(left, "object").as_deref() == Some("$this") {
                    let values = self.values(right, &scope, 0);
                    self.setting(&name, &values, node);
                    return self.facts.properties.push(((scope.class, name), values));
                }
                name
            }
            "scoped_property_access_expression" => {
                let name = self.field(left, "name").unwrap_or_default().trim_start_matches('$').to_owned();
                let values = self.values(right, &scope, 0);
                self.setting(&name, &values, node);
                return self.facts.properties.push(((scope.class, name), values));
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
        if says_written(name) {
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
        let arguments: Vec<Values> =
            arguments.iter().take(4).map(|argument| self.values(*argument, &scope, 0)).collect();
        let telling = |values: &Values| values.iter().any(|value| value.iter().any(|piece| *piece != Piece::Hole));
        if arguments.iter().any(telling) {
            let name = match node.kind() {
                "object_creation_expression" => format!("{plain}::__construct"),
                _ => plain,
            };
            self.facts.calls.push(Call { name, arguments });
        }
    }

    /// What is called (without its namespace), and with what.
    fn called(&self, node: Node<'t>) -> Option<(String, Node<'t>)> {
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

    /// A string without anything to fill in.
    fn plain_string(&self, node: Node<'t>) -> Option<String> {
        match node.kind() {
            "string" | "encapsed_string" => {
                let mut cursor = node.walk();
                let mut text = String::new();
                for child in node.named_children(&mut cursor) {
                    match child.kind() {
                        "string_content" => text.push_str(self.text(child)),
                        "escape_sequence" => text.push_str(unescaped(self.text(child))),
                        _ => return None,
                    }
                }
                Some(text)
            }
            _ => None,
        }
    }

    /// All that an expression may be.
    fn values(&self, node: Node<'t>, scope: &Scope, deep: usize) -> Values {
        if deep > DEEPEST {
            return vec![vec![Piece::Hole]];
        }
        let value = |piece: Piece| vec![vec![piece]];
        let inner =
            |child: Option<Node<'t>>| child.map_or_else(|| value(Piece::Hole), |c| self.values(c, scope, deep + 1));
        match node.kind() {
            "string" | "encapsed_string" | "heredoc" => self.string(node, scope, deep),
            "integer" => value(Piece::Text(self.text(node).to_owned())),
            "name" | "qualified_name" => self.constant(node),
            "variable_name" => self.variable(node, scope, deep),
            "parenthesized_expression" | "error_suppression_expression" | "clone_expression" => {
                inner(node.named_child(0))
            }
            "cast_expression" => inner(node.child_by_field_name("value")),
            "binary_expression" => self.binary(node, scope, deep),
            "conditional_expression" => {
                let condition = node.child_by_field_name("condition");
                let first = node.child_by_field_name("body").or(condition);
                either(inner(first), inner(node.child_by_field_name("alternative")))
            }
            "assignment_expression" => inner(node.child_by_field_name("right")),
            "class_constant_access_expression" => {
                let (Some(class), Some(name)) = (node.named_child(0), node.named_child(1)) else {
                    return value(Piece::Hole);
                };
                let class = self.class_name(self.text(class), scope);
                value(Piece::ClassConstant(class, self.text(name).to_owned()))
            }
            "member_access_expression" | "nullsafe_member_access_expression" => {
                let name = self.field(node, "name").unwrap_or_default();
                match self.field(node, "object").as_deref() {
                    Some("$this") => value(Piece::Property(scope.class.clone(), name)),
                    _ => value(Piece::Entry(name.to_ascii_lowercase())),
                }
            }
            "scoped_property_access_expression" => {
                let class = self.field(node, "scope").unwrap_or_default();
                let name = self.field(node, "name").unwrap_or_default().trim_start_matches('$').to_owned();
                value(Piece::Property(self.class_name(&class, scope), name))
            }
            "subscript_expression" => self.subscript(node, scope, deep),
            "function_call_expression"
            | "member_call_expression"
            | "nullsafe_member_call_expression"
            | "scoped_call_expression" => self.called_value(node, scope, deep),
            _ => value(Piece::Hole),
        }
    }

    fn string(&self, node: Node<'t>, scope: &Scope, deep: usize) -> Values {
        let node = node.child_by_field_name("value").unwrap_or(node);
        let mut cursor = node.walk();
        let mut whole: Values = vec![Vec::new()];
        for child in node.named_children(&mut cursor) {
            let part = match child.kind() {
                "string_content" => vec![vec![Piece::Text(self.text(child).to_owned())]],
                "escape_sequence" => vec![vec![Piece::Text(unescaped(self.text(child)).to_owned())]],
                _ => self.values(child, scope, deep + 1),
            };
            whole = joined(&whole, &part);
        }
        whole
    }

    fn constant(&self, node: Node<'t>) -> Values {
        let text = self.text(node);
        let name = text.rsplit('\\').next().unwrap_or(text);
        vec![vec![match name {
            "__DIR__" => Piece::Text(self.dir.clone()),
            "__FILE__" => Piece::Text(self.file.clone()),
            "DIRECTORY_SEPARATOR" | "DS" => Piece::Text("/".into()),
            "PATH_SEPARATOR" => Piece::Text(":".into()),
            "true" | "false" | "null" | "TRUE" | "FALSE" | "NULL" => Piece::Hole,
            name => Piece::Constant(name.to_owned()),
        }]]
    }

    fn variable(&self, node: Node<'t>, scope: &Scope, deep: usize) -> Values {
        let name = self.text(node).to_owned();
        let mut found: Values = Vec::new();
        if let Some(given) = self.assigned.get(&(scope.function.clone(), name.clone())) {
            for given in given {
                let next = match given {
                    // `$path = "$path/x"` would go on for ever.
                    Given::All(value) => self.values(*value, scope, deep + 6),
                    Given::Elements(list) => self.elements(*list, scope, deep + 6, false),
                    Given::Keys(list) => self.elements(*list, scope, deep + 6, true),
                };
                found = either(found, next);
            }
        }
        if let Some(place) = scope.parameters.iter().position(|parameter| *parameter == name) {
            found = either(found, vec![vec![Piece::Parameter(scope.function.clone(), place)]]);
        }
        if found.is_empty() {
            found.push(vec![Piece::Entry(name.trim_start_matches('$').to_ascii_lowercase())]);
        }
        found
    }

    /// The elements (or keys) of an array that is written out, directly or in a variable.
    fn elements(&self, list: Node<'t>, scope: &Scope, deep: usize, keys: bool) -> Values {
        if deep > DEEPEST {
            return Vec::new();
        }
        match list.kind() {
            "array_creation_expression" => {
                let mut cursor = list.walk();
                let mut found = Values::new();
                for element in list.named_children(&mut cursor).filter(|e| e.kind() == "array_element_initializer") {
                    let count = element.named_child_count();
                    let wanted = if keys { element.named_child(0).filter(|_| count > 1) } else { last_child(element) };
                    let Some(wanted) = wanted else { continue };
                    // Lists of checks are long; each of their paths counts.
                    found.extend(match wanted.kind() {
                        "array_creation_expression" => self.elements(wanted, scope, deep + 1, false),
                        _ => self.values(wanted, scope, deep + 1),
                    });
                    if found.len() > ALTERNATIVES * 8 {
                        break;
                    }
                }
                found
            }
            "variable_name" => {
                let key = (scope.function.clone(), self.text(list).to_owned());
                let given = self.assigned.get(&key).map(Vec::as_slice).unwrap_or_default();
                let lists = given.iter().filter_map(|given| match given {
                    Given::All(node) => Some(if node.kind() == "array_creation_expression" {
                        self.elements(*node, scope, deep + 1, keys)
                    } else {
                        self.values(*node, scope, deep + 1)
                    }),
                    Given::Elements(_) | Given::Keys(_) => None,
                });
                lists.flatten().collect()
            }
            "function_call_expression" => {
                // `array_merge($a, $b)`, `array_unique($a)`.
                let Some((name, arguments)) = self.called(list) else { return Vec::new() };
                if !name.starts_with("array_") {
                    return Vec::new();
                }
                let mut cursor = arguments.walk();
                let lists = arguments.named_children(&mut cursor).filter_map(|argument| argument.named_child(0));
                lists.flat_map(|list| self.elements(list, scope, deep + 1, keys)).collect()
            }
            _ => Vec::new(),
        }
    }

    fn subscript(&self, node: Node<'t>, scope: &Scope, deep: usize) -> Values {
        let (Some(array), Some(key)) = (node.named_child(0), last_child(node)) else { return vec![vec![Piece::Hole]] };
        let key = self.plain_string(key);
        if self.text(array) == "$_SERVER" {
            return match key.as_deref() {
                Some("DOCUMENT_ROOT") => vec![vec![Piece::Served]],
                Some("SCRIPT_FILENAME") => vec![vec![Piece::Text(self.file.clone())]],
                _ => vec![vec![Piece::Hole]],
            };
        }
        if self.text(array).starts_with("$_") {
            return vec![vec![Piece::Hole]];
        }
        // An array that is written out here beats what others keep under the same name.
        if array.kind() == "variable_name"
            && let Some(key) = &key
        {
            let given = self.assigned.get(&(scope.function.clone(), self.text(array).to_owned()));
            let found = given.into_iter().flatten().find_map(|given| match given {
                Given::All(list) if list.kind() == "array_creation_expression" => self.element(*list, key),
                _ => None,
            });
            if let Some(found) = found {
                return self.values(found, scope, deep + 1);
            }
        }
        match key {
            Some(key) => vec![vec![Piece::Entry(key.to_ascii_lowercase())]],
            None => vec![vec![Piece::Hole]],
        }
    }

    fn element(&self, list: Node<'t>, key: &str) -> Option<Node<'t>> {
        let mut cursor = list.walk();
        let found = list.named_children(&mut cursor).find(|element| {
            element.named_child_count() > 1
                && element.named_child(0).and_then(|k| self.plain_string(k)).as_deref() == Some(key)
        });
        found.and_then(last_child)
    }

    fn binary(&self, node: Node<'t>, scope: &Scope, deep: usize) -> Values {
        // A long chain of `.` leans to the left: it is taken link by link.
        let mut parts = Vec::new();
        let mut left = node;
        while left.kind() == "binary_expression" && self.field(left, "operator").as_deref() == Some(".") {
            parts.extend(left.child_by_field_name("right"));
            let Some(next) = left.child_by_field_name("left") else { break };
            left = next;
        }
        if parts.is_empty() {
            let operator = self.field(node, "operator").unwrap_or_default();
            let both = (node.child_by_field_name("left"), node.child_by_field_name("right"));
            return match (operator.as_str(), both) {
                ("??" | "?:", (Some(first), Some(second))) => {
                    either(self.values(first, scope, deep + 1), self.values(second, scope, deep + 1))
                }
                _ => vec![vec![Piece::Hole]],
            };
        }
        let mut whole = self.values(left, scope, deep + 1);
        for part in parts.iter().rev() {
            whole = joined(&whole, &self.values(*part, scope, deep + 1));
        }
        whole
    }

    fn called_value(&self, node: Node<'t>, scope: &Scope, deep: usize) -> Values {
        let Some((name, list)) = self.called(node) else { return vec![vec![Piece::Hole]] };
        let mut cursor = list.walk();
        let arguments: Vec<Node<'t>> = list.named_children(&mut cursor).filter_map(last_child).collect();
        let name = name.to_ascii_lowercase();
        let first = |place: usize| arguments.get(place).map(|argument| self.values(*argument, scope, deep + 1));
        let hole = || vec![vec![Piece::Hole]];
        if node.kind() != "function_call_expression" {
            let own = self.field(node, "object").is_some_and(|object| object == "$this")
                || self.field(node, "scope").is_some_and(|class| matches!(&*class, "self" | "static"));
            let name = if own { format!("{}::{name}", scope.class) } else { name };
            return vec![vec![Piece::Returned(name)]];
        }
        match name.as_str() {
            "dirname" => {
                let levels = arguments.get(1).and_then(|levels| self.text(*levels).parse().ok()).unwrap_or(1);
                let paths = first(0).unwrap_or_else(hole);
                paths.into_iter().map(|path| vec![Piece::Above(Box::new(path), levels)]).collect()
            }
            "str_replace" => first(2).unwrap_or_else(hole),
            "sprintf" => self.formatted(&arguments, scope, deep),
            "implode" | "join" => {
                let (Some(glue), Some(list)) = (arguments.first(), arguments.get(1)) else { return hole() };
                let glue = self.values(*glue, scope, deep + 1);
                if list.kind() != "array_creation_expression" {
                    return hole();
                }
                let mut cursor = list.walk();
                let parts: Vec<Values> = list
                    .named_children(&mut cursor)
                    .filter_map(last_child)
                    .map(|part| self.values(part, scope, deep + 1))
                    .collect();
                parts.into_iter().reduce(|whole, part| joined(&joined(&whole, &glue), &part)).unwrap_or_else(hole)
            }
            "getcwd" => vec![vec![Piece::Text(ROOT.to_string())]],
            "sys_get_temp_dir" => vec![vec![Piece::Text("/tmp".into())]],
            "constant" => match arguments.first().and_then(|name| self.plain_string(*name)) {
                Some(name) => vec![vec![Piece::Constant(name)]],
                None => hole(),
            },
            name if SAME.contains(&name) => first(0).unwrap_or_else(hole),
            // Helpers such as `storage_path('logs')`, where the code does not say what they answer.
            name => match (arguments.as_slice(), name.strip_suffix("_path")) {
                ([only], Some(folder)) if matches!(folder, "base" | "storage" | "public" | "app" | "resource") => {
                    let base = if folder == "base" { ROOT.to_string() } else { format!("{ROOT}/{folder}") };
                    joined(&vec![vec![Piece::Text(format!("{base}/"))]], &self.values(*only, scope, deep + 1))
                }
                _ => vec![vec![Piece::Returned(name.to_owned())]],
            },
        }
    }

    /// `sprintf('%s/cache/%s', $dir, $name)`.
    fn formatted(&self, arguments: &[Node<'t>], scope: &Scope, deep: usize) -> Values {
        let Some(format) = arguments.first().and_then(|format| self.plain_string(*format)) else {
            return vec![vec![Piece::Hole]];
        };
        let mut whole: Values = vec![Vec::new()];
        let mut parts = format.split('%');
        whole = joined(&whole, &vec![vec![Piece::Text(parts.next().unwrap_or_default().to_owned())]]);
        for (place, part) in parts.enumerate() {
            let value = match (part.strip_prefix('s'), arguments.get(place + 1)) {
                (Some(_), Some(argument)) => self.values(*argument, scope, deep + 1),
                _ => vec![vec![Piece::Hole]],
            };
            let rest = part.trim_start_matches(|c: char| c.is_ascii_digit() || matches!(c, '$' | '.' | '-' | '\''));
            let rest = rest.get(1..).unwrap_or_default().to_owned();
            whole = joined(&joined(&whole, &value), &vec![vec![Piece::Text(rest)]]);
        }
        whole
    }

    fn class_name(&self, text: &str, scope: &Scope) -> String {
        match text {
            "self" | "static" | "parent" => scope.class.clone(),
            name => name.rsplit('\\').next().unwrap_or(name).to_ascii_lowercase(),
        }
    }
}

/// Whether an expression may be a path, and is not a whole array or function.
fn is_plain(kind: &str) -> bool {
    !matches!(
        kind,
        "array_creation_expression" | "anonymous_function" | "arrow_function" | "object_creation_expression"
    )
}

fn last_child(node: Node<'_>) -> Option<Node<'_>> {
    let last = u32::try_from(node.named_child_count()).ok()?.checked_sub(1)?;
    node.named_child(last).filter(|_| node.kind() != "subscript_expression" || last > 0)
}

fn line(node: Node<'_>) -> usize {
    node.start_position().row + 1
}

/// Each of one followed by each of the other.
fn joined(first: &Values, second: &Values) -> Values {
    let mut all = Values::new();
    for head in first {
        for tail in second.iter().take(ALTERNATIVES * 8 / first.len().max(1) + 1) {
            all.push(head.iter().chain(tail).cloned().collect());
        }
    }
    all.truncate(ALTERNATIVES * 8);
    all
}

fn either(mut first: Values, second: Values) -> Values {
    for value in second {
        if !first.contains(&value) && first.len() < ALTERNATIVES * 8 {
            first.push(value);
        }
    }
    first
}

fn unescaped(sequence: &str) -> &str {
    match sequence {
        "\\n" => "\n",
        "\\t" => "\t",
        other => other.strip_prefix('\\').unwrap_or(other),
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
