//! The table of rights of an audit.

use std::io::{self, Write};

use ambrik_core::audit::{Audit, Cell, PartLine};

use super::table::{BAD, FAINT, ODD, cut, fitting, styled, table, width, write};
use super::{count, counted, number};

/// As many parts are shown where not each path is asked for.
const MOST_PARTS: usize = 200;
/// keeper, php, web and others.
const ROLES: usize = 4;

/// The table of rights: what each account can do in each part, and, where that differs, what it should.
pub(super) fn rights(audit: &Audit, each: bool, out: &mut dyn Write) -> io::Result<()> {
    let mut rows = Vec::new();
    let room = if each { usize::MAX } else { MOST_PARTS };
    let is_wrong = |line: &&PartLine| line.cells.iter().any(is_off);
    // Of very many, those that are not as they should be come before those that are.
    let (wrong, right): (Vec<_>, Vec<_>) = audit.seen.table.iter().partition(is_wrong);
    let lines: Vec<&PartLine> = if audit.seen.table.len() <= room {
        audit.seen.table.iter().collect()
    } else {
        wrong.into_iter().chain(right).collect()
    };
    for &line in lines.iter().take(room) {
        let mut row = vec![part_name(audit, line), audit.part_use(line.part).to_string(), number(line.count)];
        row.extend(line.cells.iter().take(ROLES).map(|each| cell(each, line.count)));
        rows.push(row);
    }
    let shown = &lines[..lines.len().min(room)];
    let room = room.saturating_sub(lines.len());
    for &part in audit.seen.missing.iter().take(room) {
        let shown = cut(audit.part_shown(Some(part)), part_room());
        rows.push(vec![shown, audit.part_use(Some(part)).to_string(), styled(FAINT, "not there")]);
    }
    // Where there is no room, what the keeper can do is missed least, as long as it is right.
    let keepers_right = lines.iter().all(|line| line.cells.first().is_none_or(|keeper| !is_off(keeper)));
    let drops: &[usize] = if keepers_right { &[3, 1, 2] } else { &[1, 2] };
    let heads = ["part", "use", "paths", "keeper", "php", "web", "others"];
    fitting(&heads, &rows, (&[2], drops), "  ", out)?;
    let left = lines.len().saturating_sub(MOST_PARTS.min(lines.len())) + audit.seen.missing.len().saturating_sub(room);
    if left > 0 && !each {
        writeln!(
            out,
            "  {}",
            styled(FAINT, &format!("and {} more: --each lists them", counted(count(left), "part", "parts")))
        )?;
    }
    besides(audit, shown, out)
}

/// Whether an account can do more or less than it should.
pub(super) const fn is_off(cell: &Cell) -> bool {
    cell.more_count + cell.less_count > 0
}

/// So long the name of a part may be in a table.
fn part_room() -> usize {
    (width() / 3).clamp(18, 60)
}

/// The part of a line of the table.
fn part_name(audit: &Audit, line: &PartLine) -> String {
    if line.part.is_none() { ". (all else)".to_owned() } else { cut(audit.part_shown(line.part), part_room()) }
}

/// What those can do who have access besides: tables of their own, so that none is too wide.
fn besides(audit: &Audit, lines: &[&PartLine], out: &mut dyn Write) -> io::Result<()> {
    const A_TABLE: usize = 3;
    let names: Vec<String> = audit.besides().map(|access| cut(&access.who.to_string(), 20)).collect();
    for (n, names) in names.chunks(A_TABLE).enumerate() {
        let heads: Vec<&str> = ["part"].into_iter().chain(names.iter().map(String::as_str)).collect();
        let mut rows = table(&heads);
        for line in lines {
            let cells = line.cells.iter().skip(ROLES + n * A_TABLE).take(A_TABLE);
            let cells = cells.map(|each| cell(each, line.count));
            rows.add_row([part_name(audit, line)].into_iter().chain(cells).collect::<Vec<String>>());
        }
        writeln!(out)?;
        write(&mut rows, &[], "  ", out)?;
    }
    Ok(())
}

fn cell(cell: &Cell, paths: u64) -> String {
    let should = cell.should.iter().rev().map(|right| right.word()).collect::<Vec<_>>().join("/");
    if cell.more_count + cell.less_count == 0 {
        return should;
    }
    let now: Vec<&str> = cell.more.iter().chain(&cell.less).copied().collect();
    let wrong = cell.more_count + cell.less_count;
    let some = if wrong < paths { format!(" in {}", number(wrong)) } else { String::new() };
    let style = if cell.more_count > 0 { BAD } else { ODD };
    let now = now.join("/");
    let plain = crate::plain::is_plain();
    let words = if plain { format!("{now}{some} (should be {should})") } else { format!("{now}{some} → {should}") };
    styled(style, &words)
}
