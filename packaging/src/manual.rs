//! Manual pages of section 5, made of the pages in docs.

use pulldown_cmark::{CodeBlockKind, Event, Options, Parser, Tag, TagEnd};
use roff::{Inline, Roff, bold, italic, roman};

/// Name, page, and what it is.
pub(crate) const PAGES: [(&str, &str, &str); 3] = [
    ("ambrik-site", "site-file.md", "what a site is, and what each of its parts is for"),
    ("ambrik-host", "host-file.md", "what holds for all sites of a host"),
    ("ambrik-outline", "host-file.md", "what sites of one application have in common"),
];

/// A page of the manual.
pub(crate) fn page(name: &str, says: &str, text: &str) -> String {
    let mut writer = Writer { page: Roff::new(), line: Vec::new(), look: Look::Plain, cells: Vec::new(), code: false };
    writer.page.control("TH", [&*name.to_uppercase(), "5", "", "Ambrik", "Ambrik"]);
    writer.page.control("SH", ["NAME"]).text([roman(format!("{name} - {says}"))]);
    for event in Parser::new_ext(text, Options::ENABLE_TABLES) {
        writer.take(event);
    }
    writer.page.control("SH", ["SEE ALSO"]).text([
        bold("ambrik"),
        roman("(1), "),
        bold("ambrik-proofread"),
        roman("(1)"),
    ]);
    writer.page.to_roff()
}

#[derive(Clone, Copy)]
enum Look {
    Plain,
    Bold,
    Italic,
}

struct Writer {
    page: Roff,
    line: Vec<Inline>,
    look: Look,
    /// The cells of a table's row.
    cells: Vec<Vec<Inline>>,
    code: bool,
}

impl Writer {
    fn take(&mut self, event: Event<'_>) {
        match event {
            Event::Start(Tag::Strong) => self.look = Look::Bold,
            Event::Start(Tag::Emphasis) => self.look = Look::Italic,
            Event::End(TagEnd::Strong | TagEnd::Emphasis) => self.look = Look::Plain,
            Event::Start(Tag::CodeBlock(CodeBlockKind::Fenced(_) | CodeBlockKind::Indented)) => {
                self.page.control("PP", []).control("nf", []).control("RS", ["4"]);
                self.code = true;
            }
            Event::End(TagEnd::CodeBlock) => {
                self.page.control("RE", []).control("fi", []);
                self.code = false;
            }
            Event::Text(text) if self.code => {
                for line in text.lines() {
                    self.page.text([roman(line)]);
                }
            }
            Event::Text(text) => self.line.push(match self.look {
                Look::Plain => roman(&*text),
                Look::Bold => bold(&*text),
                Look::Italic => italic(&*text),
            }),
            Event::Code(text) => self.line.push(bold(&*text)),
            Event::SoftBreak | Event::HardBreak => self.line.push(roman(" ")),
            Event::End(TagEnd::Heading(_)) => {
                let words: String = std::mem::take(&mut self.line).into_iter().map(plain).collect();
                self.page.control("SH", [&*words.to_uppercase()]);
            }
            Event::Start(Tag::Item) => {
                self.page.control("IP", ["\\(bu", "2"]);
            }
            Event::Start(Tag::Paragraph) => {
                self.page.control("PP", []);
            }
            Event::End(TagEnd::Paragraph | TagEnd::Item) => self.end_line(),
            Event::End(TagEnd::TableCell) => {
                let cell = std::mem::take(&mut self.line);
                self.cells.push(cell);
            }
            // A row is its first cell, and the others under it.
            Event::End(TagEnd::TableRow) => {
                let mut cells = std::mem::take(&mut self.cells).into_iter();
                self.page.control("TP", []);
                self.page.text(cells.next().unwrap_or_default());
                let mut rest = Vec::new();
                for cell in cells.filter(|cell| !cell.is_empty()) {
                    if !rest.is_empty() {
                        rest.push(roman("; "));
                    }
                    rest.extend(cell);
                }
                self.page.text(rest);
            }
            // What the columns are called says nothing where there are none.
            Event::End(TagEnd::TableHead) => self.cells.clear(),
            _ => {}
        }
    }

    fn end_line(&mut self) {
        let line = std::mem::take(&mut self.line);
        if !line.is_empty() {
            self.page.text(line);
        }
    }
}

fn plain(inline: Inline) -> String {
    match inline {
        Inline::Roman(text) | Inline::Bold(text) | Inline::Italic(text) => text,
        _ => String::new(),
    }
}
