//! PHP expressions as far as they are paths: what they may be, in symbols.

use tree_sitter::Node;

use super::facts::{Piece, ROOT, Value, Values};
use super::read::{Given, Reader, Scope};

/// As many values of one expression are followed.
pub(super) const ALTERNATIVES: usize = 8;
/// Expressions are followed so deep.
const DEEPEST: usize = 24;
/// What a variable is given is as much deeper: `$path = "$path/x"` would go on for ever.
const STEP: usize = 6;

/// As many arguments of a function are kept.
const HANDED: usize = 3;

/// No path is put together from more pieces.
const LONGEST: usize = 64;
/// Functions that hand their first argument on as the same path.
const SAME: &[&str] =
    &["realpath", "rtrim", "trim", "ltrim", "strval", "str_replace", "escapeshellarg", "untrailingslashit"];

impl<'t> Reader<'t, '_> {
    /// A string without anything to fill in.
    pub(super) fn plain_string(&self, node: Node<'t>) -> Option<String> {
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
    pub(super) fn values(&self, node: Node<'t>, scope: &Scope, deep: usize) -> Values {
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
            "variable_name" => self.variable(self.text(node), scope, deep),
            // `"${base}/x"`, `"${settings['base']}/x"`
            "dynamic_variable_name" => match node.named_child(0) {
                Some(name) if name.kind() == "name" => self.variable(&format!("${}", self.text(name)), scope, deep),
                Some(inner) if inner.kind() == "subscript_expression" => self.subscript(inner, scope, deep),
                _ => value(Piece::Hole),
            },
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
                let class = class_name(self.text(class), scope);
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
                value(Piece::Property(class_name(&class, scope), name))
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

    fn variable(&self, name: &str, scope: &Scope, deep: usize) -> Values {
        let name = name.to_owned();
        // By how much deeper it may be followed.
        let key = (scope.function.clone(), name.clone(), deep / STEP);
        if let Some(known) = self.followed.borrow().get(&key) {
            return known.clone();
        }
        let deep = deep / STEP * STEP;
        let mut found: Values = Vec::new();
        if let Some(given) = self.assigned.get(&(scope.function.clone(), name.clone())) {
            for given in given {
                let next = match given {
                    Given::All(value) => self.values(*value, scope, deep + STEP),
                    Given::Elements(list) => self.elements(*list, scope, deep + STEP, false),
                    Given::Keys(list) => self.elements(*list, scope, deep + STEP, true),
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
        self.followed.borrow_mut().insert(key, found.clone());
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
        let under = || self.values(key, scope, deep + STEP);
        // In a string the key stands without quotes: `"$settings[base]/x"`.
        let bare = (key.kind() == "name").then(|| self.text(key).to_owned());
        let key = self.plain_string(key).or(bare);
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
            // `get($name) { return $settings[$name]; }`
            None => match under().into_iter().find(|value| matches!(value.as_slice(), [Piece::Parameter(..)])) {
                Some(value) => vec![vec![Piece::EntryOf(Box::new(value))]],
                None => vec![vec![Piece::Hole]],
            },
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
        if parts.len() > LONGEST {
            return vec![vec![Piece::Hole]];
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
            return vec![vec![Piece::Returned(name, self.handed(&arguments, scope, deep))]];
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
                _ => vec![vec![Piece::Returned(name.to_owned(), self.handed(&arguments, scope, deep))]],
            },
        }
    }

    /// What a function is handed, as far as it may matter for a path.
    fn handed(&self, arguments: &[Node<'t>], scope: &Scope, deep: usize) -> Vec<Values> {
        let hole = |_: &Node<'t>| vec![vec![Piece::Hole]];
        let value = |argument: &Node<'t>| self.values(*argument, scope, deep + STEP);
        let mut handed: Vec<Values> =
            arguments.iter().take(HANDED).map(|a| if deep + STEP > DEEPEST { hole(a) } else { value(a) }).collect();
        let nothing = |value: &Value| value.contains(&Piece::Hole) && value.iter().all(|piece| *piece == Piece::Hole);
        while handed.last().is_some_and(|last| last.iter().all(nothing)) {
            handed.pop();
        }
        handed
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
            // `%s`, or `%2$s`
            let (place, kind) = match part.split_once('$') {
                Some((number, kind)) if number.parse::<usize>().is_ok() => (number.parse().unwrap_or(1), kind),
                _ => (place + 1, part),
            };
            let value = match (kind.strip_prefix('s'), arguments.get(place)) {
                (Some(_), Some(argument)) => self.values(*argument, scope, deep + 1),
                _ => vec![vec![Piece::Hole]],
            };
            let rest = part.trim_start_matches(|c: char| c.is_ascii_digit() || matches!(c, '$' | '.' | '-' | '\''));
            let rest = rest.get(1..).unwrap_or_default().to_owned();
            whole = joined(&joined(&whole, &value), &vec![vec![Piece::Text(rest)]]);
        }
        whole
    }
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

pub(super) fn last_child(node: Node<'_>) -> Option<Node<'_>> {
    let last = u32::try_from(node.named_child_count()).ok()?.checked_sub(1)?;
    node.named_child(last).filter(|_| node.kind() != "subscript_expression" || last > 0)
}

/// The class that a name in front of `::` means, in lower case.
pub(super) fn class_name(text: &str, scope: &Scope) -> String {
    match text {
        "self" | "static" | "parent" => scope.class.clone(),
        name => name.rsplit('\\').next().unwrap_or(name).to_ascii_lowercase(),
    }
}
