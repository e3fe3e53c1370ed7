//! PHP expressions as far as they are paths: what they may be, in symbols.

use super::facts::{Piece, ROOT, Value, Values, hash_of};
use super::functions::PHPS_OWN;
use super::reader::{GivenValue, Reader, Scope};
use super::source::{Bit, Call, Callee, Expr};

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

impl<'s> Reader<'s> {
    /// All that an expression may be.
    pub(super) fn values(&self, expression: &'s Expr<'s>, scope: &'s Scope, deep: usize) -> Values {
        if deep > DEEPEST {
            return one(Piece::Hole);
        }
        match expression {
            Expr::Text(bits, _) if bits.len() > LONGEST => one(Piece::Hole),
            Expr::Text(bits, _) => self.text(bits, scope, deep),
            Expr::Number(number) => one(Piece::Text((*number).into())),
            Expr::Word(word) => self.constant(word),
            Expr::Variable(name) => self.variable(name, scope, deep),
            Expr::Same(inner) => self.values(inner, scope, deep + 1),
            Expr::Join(parts) if parts.len() > LONGEST => one(Piece::Hole),
            Expr::Join(parts) => {
                let mut whole: Values = vec![Vec::new()];
                for part in parts {
                    whole = joined(&whole, &self.values(part, scope, deep + 1));
                }
                whole
            }
            Expr::Either(_, both) => {
                either(self.values(&both.0, scope, deep + 1), self.values(&both.1, scope, deep + 1))
            }
            Expr::Assign(both, _) => self.values(&both.1, scope, deep + 1),
            Expr::ClassConstant(class, name) => {
                one(Piece::ClassConstant(class_name(class, scope).into(), (*name).into()))
            }
            Expr::Member(object, name) => {
                let name = name.unwrap_or_default();
                one(match **object {
                    Expr::Variable("this") => Piece::Property(scope.class.as_str().into(), name.into()),
                    _ => Piece::Entry(name.to_ascii_lowercase().into()),
                })
            }
            Expr::StaticMember(class, name) => one(Piece::Property(class_name(class, scope).into(), (*name).into())),
            Expr::Index(array, key) => self.index(array, key.as_deref(), scope, deep),
            Expr::Call(call) => self.called(call, scope, deep),
            Expr::Array(_) | Expr::Load(..) | Expr::Function(_) | Expr::Other(_) => one(Piece::Hole),
        }
    }

    fn text(&self, bits: &'s [Bit<'s>], scope: &'s Scope, deep: usize) -> Values {
        let mut whole: Values = vec![Vec::new()];
        for bit in bits {
            let part = match bit {
                Bit::Plain(text) => one(written(text)),
                Bit::Escape(text) => one(written(unescaped(text))),
                Bit::Filled(inner) => self.values(inner, scope, deep + 1),
            };
            whole = joined(&whole, &part);
        }
        whole
    }

    fn constant(&self, word: &str) -> Values {
        one(match word.rsplit('\\').next().unwrap_or(word) {
            "__DIR__" => Piece::Text(self.dir.as_str().into()),
            "__FILE__" => Piece::Text(self.file.as_str().into()),
            "DIRECTORY_SEPARATOR" | "DS" => Piece::Text("/".into()),
            "PATH_SEPARATOR" => Piece::Text(":".into()),
            "true" | "false" | "null" | "TRUE" | "FALSE" | "NULL" => Piece::Hole,
            name => Piece::Constant(name.into()),
        })
    }

    fn variable(&self, name: &'s str, scope: &'s Scope, deep: usize) -> Values {
        // By how much deeper it may be followed.
        let key = (scope.function.as_str(), name, deep / STEP);
        if let Some(known) = self.followed.borrow().get(&key) {
            return known.clone();
        }
        let deep = deep / STEP * STEP;
        let mut found: Values = Vec::new();
        for given in self.given(name, scope) {
            let next = match given {
                GivenValue::All(value) => self.values(value, scope, deep + STEP),
                GivenValue::Elements(list) => self.elements(list, scope, deep + STEP, false),
                GivenValue::Keys(list) => self.elements(list, scope, deep + STEP, true),
            };
            found = either(found, next);
        }
        if let Some(place) = scope.place(name) {
            found = either(found, one(Piece::Parameter(scope.function.as_str().into(), place)));
        }
        if found.is_empty() {
            found.push(vec![Piece::Entry(name.to_ascii_lowercase().into())]);
        }
        self.followed.borrow_mut().insert(key, found.clone());
        found
    }

    /// What a variable is given in its function.
    fn given(&self, name: &'s str, scope: &'s Scope) -> &[GivenValue<'s>] {
        self.assigned.get(&(scope.function.as_str(), name)).map(Vec::as_slice).unwrap_or_default()
    }

    /// The elements (or keys) of an array that is written out, directly or in a variable.
    fn elements(&self, list: &'s Expr<'s>, scope: &'s Scope, deep: usize, keys: bool) -> Values {
        if deep > DEEPEST {
            return Vec::new();
        }
        match list {
            Expr::Array(elements) => {
                let mut found = Values::new();
                for element in elements {
                    let Some(wanted) = (if keys { element.key.as_ref() } else { Some(&element.value) }) else {
                        continue;
                    };
                    // Lists of checks are long; each of their paths counts.
                    found.extend(match wanted {
                        Expr::Array(_) => self.elements(wanted, scope, deep + 1, false),
                        _ => self.values(wanted, scope, deep + 1),
                    });
                    if found.len() > ALTERNATIVES * 8 {
                        break;
                    }
                }
                found
            }
            Expr::Variable(name) => {
                let lists = self.given(name, scope).iter().filter_map(|given| match given {
                    GivenValue::All(list @ Expr::Array(_)) => Some(self.elements(list, scope, deep + 1, keys)),
                    GivenValue::All(value) => Some(self.values(value, scope, deep + 1)),
                    GivenValue::Elements(_) | GivenValue::Keys(_) => None,
                });
                lists.flatten().collect()
            }
            // `array_merge($a, $b)`, `array_unique($a)`.
            Expr::Call(call) if call.name().is_some_and(|name| name.starts_with("array_")) => {
                call.arguments.iter().flat_map(|list| self.elements(list, scope, deep + 1, keys)).collect()
            }
            _ => Vec::new(),
        }
    }

    fn index(&self, array: &'s Expr<'s>, key: Option<&'s Expr<'s>>, scope: &'s Scope, deep: usize) -> Values {
        let Some(key) = key else { return one(Piece::Hole) };
        // In a string the key stands without quotes: `"$settings[base]/x"`.
        let bare = if let Expr::Word(word) = key { Some((*word).to_owned()) } else { None };
        let name = plain_string(key).or(bare);
        if let Expr::Variable("_SERVER") = array {
            return one(match name.as_deref() {
                Some("DOCUMENT_ROOT") => Piece::Served,
                Some("SCRIPT_FILENAME") => Piece::Text(self.file.as_str().into()),
                _ => Piece::Hole,
            });
        }
        let Some(name) = name else {
            // `get($name) { return $settings[$name]; }`
            let under = self.values(key, scope, deep + STEP);
            let handed = under.into_iter().find(|value| matches!(value.as_slice(), [Piece::Parameter(..)]));
            return one(handed.map_or(Piece::Hole, |value| Piece::EntryOf(Box::new(value))));
        };
        if let Expr::Variable(variable) = array {
            // What a request says.
            if variable.starts_with('_') {
                return one(Piece::Hole);
            }
            // An array that is written out here beats what others keep under the same name.
            let found = self.given(variable, scope).iter().find_map(|given| match given {
                GivenValue::All(Expr::Array(elements)) => {
                    elements.iter().find(|e| e.key.as_ref().and_then(plain_string).as_ref() == Some(&name))
                }
                _ => None,
            });
            if let Some(element) = found {
                return self.values(&element.value, scope, deep + 1);
            }
        }
        one(Piece::Entry(name.to_ascii_lowercase().into()))
    }

    fn called(&self, call: &'s Call<'s>, scope: &'s Scope, deep: usize) -> Values {
        let (Some(name), arguments) = (call.name(), &call.arguments) else { return one(Piece::Hole) };
        let name = name.to_ascii_lowercase();
        let of_own = match &call.callee {
            Callee::New(_) | Callee::Unknown(_) => return one(Piece::Hole),
            Callee::Function(_) => return self.answer(&name, arguments, scope, deep),
            Callee::Method(object, _) => matches!(object, Expr::Variable("this")),
            Callee::Static(class, _) => matches!(class, Expr::Word("self" | "static")),
        };
        let name = if of_own { format!("{}::{name}", scope.class) } else { name };
        one(Piece::Returned(name.into(), self.handed(arguments, scope, deep)))
    }

    /// What a function answers: PHP's own, as far as they make paths of paths, and the code's.
    fn answer(&self, name: &str, arguments: &'s [Expr<'s>], scope: &'s Scope, deep: usize) -> Values {
        let value = |place: usize| {
            arguments.get(place).map_or_else(|| one(Piece::Hole), |argument| self.values(argument, scope, deep + 1))
        };
        match name {
            "dirname" => {
                let levels = match arguments.get(1) {
                    Some(Expr::Number(levels)) => levels.parse().unwrap_or(1),
                    _ => 1,
                };
                value(0).into_iter().map(|path| vec![Piece::Above(Box::new(path), levels)]).collect()
            }
            "str_replace" => value(2),
            "sprintf" => self.formatted(arguments, scope, deep),
            "implode" | "join" => {
                let Some(Expr::Array(elements)) = arguments.get(1) else { return one(Piece::Hole) };
                let glue = value(0);
                let parts = elements.iter().map(|part| self.values(&part.value, scope, deep + 1));
                let whole = parts.reduce(|whole, part| joined(&joined(&whole, &glue), &part));
                whole.unwrap_or_else(|| one(Piece::Hole))
            }
            "getcwd" => one(Piece::Text(ROOT.to_string().into())),
            "sys_get_temp_dir" => one(Piece::Text("/tmp".into())),
            "constant" => {
                one(arguments.first().and_then(plain_string).map_or(Piece::Hole, |name| Piece::Constant(name.into())))
            }
            name if SAME.contains(&name) => value(0),
            name if PHPS_OWN.contains(&name) => one(Piece::Hole),
            // Helpers such as `storage_path('logs')`, where the code does not say what they answer.
            name => match (arguments, name.strip_suffix("_path")) {
                ([_], Some(folder)) if matches!(folder, "base" | "storage" | "public" | "app" | "resource") => {
                    let base = if folder == "base" { ROOT.to_string() } else { format!("{ROOT}/{folder}") };
                    joined(&one(Piece::Text(format!("{base}/").into())), &value(0))
                }
                _ => one(Piece::Returned(name.into(), self.handed(arguments, scope, deep))),
            },
        }
    }

    /// What a function is handed, as far as it may matter for a path.
    fn handed(&self, arguments: &'s [Expr<'s>], scope: &'s Scope, deep: usize) -> Box<[Values]> {
        let value = |argument: &'s Expr<'s>| {
            if deep + STEP > DEEPEST { one(Piece::Hole) } else { self.values(argument, scope, deep + STEP) }
        };
        let mut handed: Vec<Values> = arguments.iter().take(HANDED).map(value).collect();
        let nothing = |value: &Value| value.contains(&Piece::Hole) && value.iter().all(|piece| *piece == Piece::Hole);
        while handed.last().is_some_and(|last| last.iter().all(nothing)) {
            handed.pop();
        }
        handed.into()
    }

    /// `sprintf('%s/cache/%s', $dir, $name)`.
    fn formatted(&self, arguments: &'s [Expr<'s>], scope: &'s Scope, deep: usize) -> Values {
        let Some(format) = arguments.first().and_then(plain_string) else { return one(Piece::Hole) };
        let mut whole: Values = vec![Vec::new()];
        let mut parts = format.split('%');
        whole = joined(&whole, &one(written(parts.next().unwrap_or_default())));
        for (place, part) in parts.enumerate() {
            // `%s`, or `%2$s`
            let (place, kind) = match part.split_once('$') {
                Some((number, kind)) if number.parse::<usize>().is_ok() => (number.parse().unwrap_or(1), kind),
                _ => (place + 1, part),
            };
            let value = match (kind.strip_prefix('s'), arguments.get(place)) {
                (Some(_), Some(argument)) => self.values(argument, scope, deep + 1),
                _ => one(Piece::Hole),
            };
            let rest = part.trim_start_matches(|c: char| c.is_ascii_digit() || matches!(c, '$' | '.' | '-' | '\''));
            let mut rest = rest.chars();
            rest.next();
            whole = joined(&joined(&whole, &value), &one(written(rest.as_str())));
        }
        whole
    }
}

fn one(piece: Piece) -> Values {
    vec![vec![piece]]
}

/// A text that is written out.
fn written(text: &str) -> Piece {
    // What is before a colon may say what is behind it: `sqlite:/path`.
    let in_paths = text.chars().all(|c| in_paths(c) || c == ':');
    if in_paths { Piece::Text(text.into()) } else { Piece::Sentence(hash_of(text)) }
}

/// A text without anything to fill in.
pub(super) fn plain_string(expression: &Expr<'_>) -> Option<String> {
    let Expr::Text(bits, _) = expression else { return None };
    let mut text = String::new();
    for bit in bits {
        text.push_str(match bit {
            Bit::Plain(plain) => plain,
            Bit::Escape(escape) => unescaped(escape),
            Bit::Filled(_) => return None,
        });
    }
    Some(text)
}

/// Whether a path may hold such a character.
pub(super) fn in_paths(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '/' | '.' | '_' | '-' | '+' | '@' | '~' | ' ' | ROOT)
}

/// Each of one followed by each of the other.
fn joined(first: &Values, second: &Values) -> Values {
    let mut all = Values::new();
    for head in first {
        for tail in second.iter().take(ALTERNATIVES * 8 / first.len().max(1) + 1) {
            let whole = followed_by(head, tail);
            if !all.contains(&whole) {
                all.push(whole);
            }
        }
    }
    all.truncate(ALTERNATIVES * 8);
    all
}

/// One value after another. Behind what is not known nothing begins a path, and in a sentence neither.
fn followed_by(head: &Value, tail: &Value) -> Value {
    let mut whole = Value::with_capacity(head.len() + tail.len());
    for piece in head.iter().chain(tail) {
        match piece {
            Piece::Sentence(_) => return vec![piece.clone()],
            Piece::Text(text) if text.is_empty() => {}
            Piece::Hole if whole.last() == Some(&Piece::Hole) => {}
            _ if whole.first() == Some(&Piece::Hole) => {}
            _ => whole.push(piece.clone()),
        }
    }
    whole
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

/// The class that stands in front of `::`, in lower case.
pub(super) fn class_name(class: &Expr<'_>, scope: &Scope) -> String {
    match class {
        Expr::Word("self" | "static" | "parent") => scope.class.clone(),
        Expr::Word(name) => name.rsplit('\\').next().unwrap_or(name).to_ascii_lowercase(),
        Expr::Variable(name) => format!("${}", name.to_ascii_lowercase()),
        _ => String::new(),
    }
}
