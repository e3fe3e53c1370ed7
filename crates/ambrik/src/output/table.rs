//! Tables without lines: columns side by side, as wide as what is in them.

use std::cell::RefCell;
use std::collections::HashMap;
use std::io::{self, Write};
use std::sync::OnceLock;

use anstyle::{AnsiColor, Style};
use comfy_table::{CellAlignment, ContentArrangement, Table, presets};

/// As wide output is where nothing says how wide it may be.
const USUAL: usize = 100;
/// It is never narrower or wider.
const NARROWEST: usize = 60;
const WIDEST: usize = 200;

/// How many columns output has: `COLUMNS` says it, else the terminal that it goes to.
pub(crate) fn width() -> usize {
    static WIDTH: OnceLock<usize> = OnceLock::new();
    *WIDTH.get_or_init(|| {
        let said = std::env::var("COLUMNS").ok().and_then(|columns| columns.parse().ok());
        let seen = || rustix::termios::tcgetwinsize(std::io::stdout()).ok().map(|size| usize::from(size.ws_col));
        said.or_else(seen).filter(|columns| *columns > 0).unwrap_or(USUAL).clamp(NARROWEST, WIDEST)
    })
}
/// What is wrong.
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
/// What deserves a look.
pub(crate) const ODD: Style = AnsiColor::Yellow.on_default();
/// What is as it should be.
pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
/// What matters less.
pub(crate) const FAINT: Style = Style::new().dimmed();
/// Headings.
pub(crate) const HEAD: Style = Style::new().bold();

/// A text in a style.
pub(crate) fn styled(style: Style, text: &str) -> String {
    format!("{style}{text}{style:#}")
}

/// A table with this heading, to be filled and written.
pub(crate) fn table(heading: &[&str]) -> Table {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    if !heading.is_empty() {
        table.set_header(heading.iter().map(|text| styled(FAINT, text)));
    }
    table
}

/// A table with this heading and these rows; as long as it is too wide for the output, the columns in `drops` are left out, one after
/// the other.
///
/// Writes it, the columns `numbers` aligned to the right.
pub(crate) fn fitting(
    heading: &[&str],
    rows: &[Vec<String>],
    (numbers, drops): (&[usize], &[usize]),
    indent: &str,
    out: &mut dyn Write,
) -> io::Result<()> {
    let room = width().saturating_sub(indent.len());
    let without = |dropped: &[usize]| {
        let kept = |column: &usize| !dropped.contains(column);
        let heads: Vec<&str> = (0..heading.len()).filter(kept).map(|column| heading[column]).collect();
        let mut table = table(&heads);
        for row in rows {
            table.add_row((0..row.len()).filter(kept).map(|column| row[column].clone()).collect::<Vec<_>>());
        }
        table
    };
    let fits = |dropped: &usize| crate::plain::is_plain() || natural(&without(&drops[..*dropped])) <= room + 2;
    let dropped = &drops[..(0..=drops.len()).find(fits).unwrap_or(drops.len())];
    let kept = numbers.iter().filter(|number| !dropped.contains(number));
    let right = kept.map(|number| number - dropped.iter().filter(|column| *column < number).count());
    write(&mut without(dropped), &right.collect::<Vec<_>>(), indent, out)
}

/// How wide a table is where its cells are not broken.
fn natural(table: &Table) -> usize {
    table.column_max_content_widths().iter().map(|width| usize::from(*width) + 2).sum()
}

/// Writes a table, indented, these columns aligned to the right.
pub(crate) fn write(table: &mut Table, right_aligned: &[usize], indent: &str, out: &mut dyn Write) -> io::Result<()> {
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    for &column in right_aligned {
        if let Some(column) = table.column_mut(column) {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    if crate::plain::is_plain() {
        return in_lines_of_words(table, indent, out);
    }
    let room = width().saturating_sub(indent.len());
    if natural(table) > room + 2 {
        // Its longest cells take several lines, broken between words.
        table.set_content_arrangement(ContentArrangement::Dynamic).set_width(u16::try_from(room).unwrap_or(u16::MAX));
    }
    for line in table.lines() {
        writeln!(out, "{indent}{}", line.trim_end())?;
    }
    Ok(())
}

/// A table as sentences: a line for each row, each cell behind the name of its column.
fn in_lines_of_words(table: &Table, indent: &str, out: &mut dyn Write) -> io::Result<()> {
    let heads: Vec<String> =
        table.header().map(|row| row.cell_iter().map(comfy_table::Cell::content).collect()).unwrap_or_default();
    for row in table.row_iter() {
        let cells = row
            .cell_iter()
            .enumerate()
            .map(|(n, cell)| (n, cell.content().trim().to_owned()))
            .filter(|(_, cell)| !cell.is_empty());
        let said = cells.map(|(n, cell)| match heads.get(n).filter(|head| !head.is_empty()) {
            Some(head) => format!("{head} {cell}"),
            None => cell,
        });
        wrapped_once(&said.collect::<Vec<_>>().join(", "), indent, &format!("{indent}  "), out)?;
    }
    Ok(())
}

thread_local! {
    /// Texts that were wrapped lately: long lists say the same again and again.
    static WRAPPED: RefCell<HashMap<String, String>> = RefCell::default();
}
/// As many are kept.
const KEPT: usize = 256;

/// Writes a text in lines of at most [`width`], the first after `first`, the others after `rest`.
pub(crate) fn wrapped(text: &str, first: &str, rest: &str, out: &mut dyn Write) -> io::Result<()> {
    WRAPPED.with_borrow_mut(|known| {
        let key = [first, rest, text].join("\0");
        if let Some(lines) = known.get(&key) {
            return out.write_all(lines.as_bytes());
        }
        let lines = in_lines(text, first, rest);
        out.write_all(lines.as_bytes())?;
        if known.len() >= KEPT {
            known.clear();
        }
        known.insert(key, lines);
        Ok(())
    })
}

/// As [`wrapped`], for a text that is not said again.
pub(crate) fn wrapped_once(text: &str, first: &str, rest: &str, out: &mut dyn Write) -> io::Result<()> {
    out.write_all(in_lines(text, first, rest).as_bytes())
}

fn in_lines(text: &str, first: &str, rest: &str) -> String {
    if first.len() + text.len() <= width() && !text.contains('\n') {
        return format!("{first}{}\n", text.trim_end());
    }
    // Words such as `r-x` and names of paths stay whole.
    let whole = textwrap::WordSplitter::NoHyphenation;
    let options = textwrap::Options::new(width()).initial_indent(first).subsequent_indent(rest).word_splitter(whole);
    // A command's name stays with it.
    let mut lines = textwrap::wrap(&text.replace("ambrik ", "ambrik\u{a0}"), options).join("\n");
    lines.push('\n');
    lines.replace('\u{a0}', " ")
}

/// A text cut to `width` characters; where it is longer, the middle is left out.
pub(crate) fn cut(text: &str, width: usize) -> String {
    let length = text.chars().count();
    if length <= width {
        return text.to_owned();
    }
    let head = width.saturating_sub(1) / 2;
    let tail = width.saturating_sub(1) - head;
    let start: String = text.chars().take(head).collect();
    let end: String = text.chars().skip(length - tail).collect();
    format!("{start}…{end}")
}
