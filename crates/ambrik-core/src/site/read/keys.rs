//! Keys of a table: what they must hold, and what is said where they do not.

use std::ops::Range;

use toml::Spanned;
use toml::de::DeValue;

use super::super::{Switch, Word};
use super::{SiteReader, Table};
use crate::account::Account;
use crate::nearest::nearest;

impl SiteReader<'_> {
    pub(super) fn known_keys(&mut self, table: &Table<'_>, known: &[&'static str]) {
        for key in table.table.keys() {
            let word: &str = key.get_ref();
            if known.contains(&word) {
                continue;
            }
            let right = match nearest(word, known.iter().copied()) {
                Some(near) => format!("did you mean \"{near}\"?"),
                None => format!("known here: {}", known.join(", ")),
            };
            self.problem(&key.span(), format!("unknown key \"{word}\" in {}", table.name), right);
        }
    }

    pub(super) fn string<'d>(&mut self, table: &Table<'d>, key: &str) -> Option<(&'d str, Range<usize>)> {
        let value = table.table.get(key)?;
        if let DeValue::String(text) = value.get_ref() {
            return Some((text, value.span()));
        }
        self.problem(&value.span(), format!("{key} is not a text"), format!("write it in quotes: {key} = \"…\""));
        None
    }

    pub(super) fn required<'d>(
        &mut self,
        table: &Table<'d>,
        key: &str,
        right: &str,
    ) -> Option<(&'d str, Range<usize>)> {
        if table.table.get(key).is_none() {
            self.problem(&table.span, format!("{} has no {key}", table.name), right);
        }
        self.string(table, key)
    }

    /// The texts of a list, each as `read` finds it right.
    pub(super) fn list<T>(
        &mut self,
        table: &Table<'_>,
        key: &str,
        right: &str,
        read: impl Fn(&str) -> Option<T>,
    ) -> Option<Vec<T>> {
        let value = table.table.get(key)?;
        let DeValue::Array(list) = value.get_ref() else {
            self.problem(&value.span(), format!("{key} is no list"), right);
            return None;
        };
        let mut found = Vec::new();
        for item in list {
            let text = if let DeValue::String(text) = item.get_ref() { read(text) } else { None };
            match text {
                Some(text) => found.push(text),
                None => self.problem(&item.span(), format!("this cannot stand in {key}"), right),
            }
        }
        Some(found)
    }

    /// The SELinux booleans that the application needs.
    pub(super) fn switches(&mut self, table: &Table<'_>) -> Vec<Switch> {
        let right = "write switches = [\"httpd_…\"], the names of SELinux booleans that are to be on";
        let name = |text: &str| crate::security_context::is_boolean_name(text).then(|| text.to_owned());
        let names = self.list(table, "switches", right, name).unwrap_or_default();
        let at = table.table.get("switches").map_or(0, |value| value.span().start);
        let line = self.line_of(at);
        names.into_iter().map(|name| Switch { name, file: self.source.file.clone(), line }).collect()
    }

    /// The line of a place in the text, from 1.
    pub(super) fn line_of(&self, at: usize) -> usize {
        self.lines.partition_point(|end| *end < at) + 1
    }

    /// The pages that are asked before and after a change.
    pub(super) fn pages(&mut self, table: &Table<'_>) -> Option<Vec<String>> {
        let right = "write pages = [\"/\", \"/login.php\"], paths below url";
        let is_page = |text: &str| text.starts_with('/') && text.bytes().all(|byte| byte.is_ascii_graphic());
        self.list(table, "pages", right, |text| is_page(text).then(|| text.to_owned()))
    }

    /// The same of a site file, which must say below which address they are.
    pub(super) fn pages_below_url(&mut self, table: &Table<'_>) -> Vec<String> {
        let pages = self.pages(table);
        if pages.is_some() && table.table.get("url").is_none() {
            let span = table.table.get("pages").map_or(0..0, Spanned::span);
            self.problem(&span, "pages are below url, and there is no url", "add url = \"http://…/\"");
        }
        pages.unwrap_or_default()
    }

    pub(super) fn boolean(&mut self, table: &Table<'_>, key: &str) -> bool {
        match table.table.get(key).map(|value| (value.get_ref(), value.span())) {
            None => false,
            Some((DeValue::Boolean(value), _)) => *value,
            Some((_, span)) => {
                self.problem(&span, format!("{key} is neither true nor false"), format!("write {key} = true"));
                false
            }
        }
    }

    pub(super) fn word<W: Word>(&mut self, table: &Table<'_>, key: &str) -> Option<W> {
        let (text, span) = self.string(table, key)?;
        let word = W::of_word(text);
        if word.is_none() {
            let words: Vec<&str> = W::WORDS.iter().map(|(w, _)| *w).collect();
            let right = match nearest(text, words.iter().copied()) {
                Some(near) => format!("did you mean \"{near}\"?"),
                None => format!("it is one of: {}", words.join(", ")),
            };
            self.problem(&span, format!("{key} = \"{text}\" is unknown"), right);
        }
        word
    }

    pub(super) fn account(&mut self, table: &Table<'_>, key: &str) -> Option<Account> {
        let (text, span) = self.string(table, key)?;
        match self.accounts.account(text) {
            Ok(account) => Some(account),
            Err(unknown) => {
                self.problem(
                    &span,
                    format!("{key} = \"{text}\": {unknown}"),
                    "name a user, or user:group, that exists",
                );
                None
            }
        }
    }
}
