//! Answers for people: what the account can do, what decides it, what makes it right.

mod reviews;

use std::cell::RefCell;
use std::io::{self, Write};
use std::path::Path;

use ambrik_core::entry::Kind;
use ambrik_core::shown::Shown;
use ambrik_core::site::Phase;
use ambrik_core::why::{AbleFolder, Act, Answer, Cure, Everything, Match, RunsPhp, Step, Wanted};
use anstream::adapter::strip_bytes;
use anstyle::Style;

use super::table::{BAD, FAINT, GOOD, HEAD, ODD, cut, styled, table, wrapped, wrapped_once, write};
use super::{count, counted, number, paths};
pub(crate) use reviews::reviews;

/// Writes the heading of a list with a line for each path.
pub(crate) fn heading(width: usize, out: &mut dyn Write) -> io::Result<()> {
    let width = width.max("account".len());
    let head = format!("{:<width$}  read  write  search  create  delete  wanted  path", "account");
    writeln!(out, "{}", styled(FAINT, &head))
}

/// Writes the answer for a path as one line, the account in so many columns.
pub(crate) fn line(account: &str, width: usize, answer: &Answer, out: &mut dyn Write) -> io::Result<()> {
    let width = width.max("account".len());
    let word = |can: Option<bool>| match can {
        Some(true) => "yes",
        Some(false) => "no",
        None => "?",
    };
    let can = answer.can;
    let wanted = match answer.wanted.as_ref().map(|wanted| &wanted.is) {
        None => "-",
        Some(Match::AsWanted) => "yes",
        Some(Match::TooLittle(_)) => "more",
        Some(Match::TooMuch(_)) => "less",
        Some(Match::Unknown) => "?",
    };
    writeln!(
        out,
        "{account:<width$}  {:<4}  {:<5}  {:<6}  {:<6}  {:<6}  {wanted:<6}  {}",
        word(can.read),
        word(can.write),
        word(can.search),
        word(can.create),
        word(can.delete),
        Shown(&answer.path)
    )
}

/// What stands for an answer where it is not known whom to ask about: as one line, the account in so many columns, or as a text.
pub(crate) fn unknown(account: &str, width: Option<usize>, path: &Path, out: &mut dyn Write) -> io::Result<()> {
    let Some(width) = width else {
        return writeln!(out, "{}: in no site, so it is not known who \"{account}\" is", Shown(path));
    };
    let width = width.max("account".len());
    writeln!(out, "{account:<width$}  ?     ?      ?       ?       ?       -       {}", Shown(path))
}

/// What is said of a path besides its name and of what is to be changed.
struct Block {
    of: Answer,
    account: String,
    /// What it can do, in one sentence.
    verdict: String,
    /// What the site file wants, and the steps.
    rest: Vec<u8>,
}

thread_local! {
    /// The block of the last answer: the next path is mostly much like it.
    static LAST: RefCell<Option<Block>> = const { RefCell::new(None) };
}

/// Writes the answer for a path, with what decides it and what makes it right.
pub(crate) fn block(account: &str, answer: &Answer, colours: bool, out: &mut dyn Write) -> io::Result<()> {
    LAST.with_borrow_mut(|last| {
        let block = match last {
            Some(block) if block.account == account && block.of.is_like(answer) => block,
            last => {
                let mut rest = Vec::new();
                about(account, answer, &mut rest)?;
                let rest = if colours { rest } else { strip_bytes(&rest).into_vec() };
                let verdict = verdict(account, answer);
                last.insert(Block { of: answer.clone(), account: account.to_owned(), verdict, rest })
            }
        };
        let differs = answer.wanted.as_ref().is_some_and(Wanted::differs);
        let style = match () {
            () if !answer.is_complete() => ODD,
            () if differs => BAD,
            () => GOOD,
        };
        let path = painted(colours, HEAD, &Shown(&answer.path).to_string());
        wrapped_once(&format!("{path}: {}", painted(colours, style, &block.verdict)), "", "  ", out)?;
        out.write_all(&block.rest)?;
        mends(answer.wanted.as_ref(), colours, out)
    })
}

/// A text in a style, where there are colours.
fn painted(colours: bool, style: Style, text: &str) -> String {
    if colours { styled(style, text) } else { text.to_owned() }
}

/// Where a path leads, what the site file wants, and the steps.
fn about(account: &str, answer: &Answer, out: &mut dyn Write) -> io::Result<()> {
    if let Some(to) = &answer.leads_to {
        wrapped(&format!("leads to {}", Shown(to)), "  ", "    ", out)?;
    }
    if let Some(wanted) = &answer.wanted {
        wrapped(&compared(account, wanted), "  ", "    ", out)?;
        if let Some(bar) = &wanted.barred {
            let says = format!("PHP itself does not open it, whatever {account} may do: {bar}");
            wrapped(&styled(ODD, &says), "  ", "    ", out)?;
        }
    }
    steps(answer, out)
}

/// What the account can do and what it cannot, in one sentence.
fn verdict(account: &str, answer: &Answer) -> String {
    if !answer.is_complete() {
        return format!("cannot tell from here what {account} can do");
    }
    let can = answer.can;
    let directory = answer.kind == Some(Kind::Directory);
    if answer.missing {
        let make = if can.create == Some(true) { "can" } else { "cannot" };
        let left = if can.delete == Some(true) { "; it can remove the link that leads there" } else { "" };
        let what = if answer.leads_to.is_some() { "leads to nothing" } else { "is not there" };
        return format!("{what}; {account} {make} make it{left}");
    }
    let mut acts = vec![("read", can.read), ("write", can.write)];
    acts.push((if directory { "search" } else { "execute" }, can.search));
    if directory {
        acts.push(("create in", can.create));
    }
    acts.push(("delete", can.delete));
    let of = |answer: bool| -> Vec<&str> {
        acts.iter().filter(|(_, can)| *can == Some(answer)).map(|(act, _)| *act).collect()
    };
    match (of(true), of(false)) {
        (able, not) if able.is_empty() => format!("{account} can do nothing with it: not {}", listed(&not, "nor")),
        (able, not) if not.is_empty() => format!("{account} can {} it", listed(&able, "and")),
        (able, not) => format!("{account} can {} it, and not {}", listed(&able, "and"), listed(&not, "or")),
    }
}

fn listed(words: &[&str], last_word: &str) -> String {
    match words {
        [] => String::new(),
        [one] => (*one).to_owned(),
        [most @ .., last] => format!("{} {last_word} {last}", most.join(", ")),
    }
}

/// What the site file wants, and how that compares.
fn compared(account: &str, wanted: &Wanted) -> String {
    let site = &wanted.site;
    let right = match wanted.right.word() {
        "rw" => "read and write",
        "r" => "read",
        _ => "nothing",
    };
    let part = if wanted.part.is_none() { String::new() } else { format!(" {}", wanted.part_shown()) };
    let wants = format!("{} ({}): {}{part} gives {account} {right}", site.name, wanted.phase, wanted.used_as);
    let acts = |acts: &[Act]| listed(&acts.iter().map(|act| act.word()).collect::<Vec<_>>(), "and");
    let window = if wanted.in_window && wanted.phase == Phase::Sealed {
        "; PHP may write here only while the site is open for an install"
    } else {
        ""
    };
    match &wanted.is {
        Match::AsWanted => format!("{wants}: as it should be{window}"),
        Match::TooLittle(lacks) => format!("{wants}: it lacks {}", acts(lacks)),
        Match::TooMuch(has) => format!("{wants}: it should not be able to {}{window}", acts(has)),
        Match::Unknown => wants,
    }
}

/// A line about a step, or about several that are alike.
struct Line {
    allows: Option<bool>,
    acts: String,
    says: String,
}

/// The steps: those on the way that let the account through in one line, each obstacle in its own.
fn steps(answer: &Answer, out: &mut dyn Write) -> io::Result<()> {
    let steps = answer.steps();
    let mut lines: Vec<Line> = Vec::new();
    let mut through: Vec<&Step> = Vec::new();
    let mut alike: Vec<(Vec<Act>, &Step)> = Vec::new();
    for step in &steps {
        if step.on_the_way && step.allows == Some(true) && step.act == Act::Search {
            through.push(step);
            continue;
        }
        if step.on_the_way {
            lines.extend(passed(&through));
            through.clear();
            lines.push(one(&[step.act], step, answer));
            continue;
        }
        // That something is not executed needs no line, nor that it can be removed: the verdict tells that.
        if matches!((step.act, step.allows), (Act::Execute, Some(false)) | (Act::Delete, Some(true))) {
            continue;
        }
        let same = |(_, other): &&mut (Vec<Act>, &Step)| {
            (&other.path, &other.says, other.allows) == (&step.path, &step.says, step.allows)
        };
        match alike.iter_mut().find(same) {
            Some((acts, _)) => acts.push(step.act),
            None => alike.push((vec![step.act], step)),
        }
    }
    lines.extend(passed(&through));
    lines.extend(alike.iter().map(|(acts, step)| one(acts, step, answer)));
    let width = lines.iter().map(|line| line.acts.len()).max().unwrap_or(0);
    let rest = " ".repeat(width + 9);
    for Line { allows, acts, says } in &lines {
        let (style, word) = match allows {
            Some(true) => (GOOD, "yes"),
            Some(false) => (BAD, "no"),
            None => (ODD, "?"),
        };
        let first = format!("  {}  {acts:<width$}  ", styled(style, &format!("{word:<3}")));
        wrapped(says, &first, &rest, out)?;
    }
    Ok(())
}

/// Directories that let the account through, as one line.
fn passed(through: &[&Step]) -> Option<Line> {
    let says = match through {
        [] => return None,
        [one] => format!("{}: {}", Shown(&one.path), one.says),
        [first, .., last] => {
            let count = through.len();
            format!("{} to {}: {count} directories, and all let it through", Shown(&first.path), Shown(&last.path))
        }
    };
    Some(Line { allows: Some(true), acts: "search".into(), says })
}

fn one(acts: &[Act], step: &Step, answer: &Answer) -> Line {
    let itself = answer.leads_to.as_deref().unwrap_or(&answer.path);
    let says = if &*step.path == itself && !step.on_the_way {
        step.says.to_string()
    } else {
        format!("{}: {}", Shown(&step.path), step.says)
    };
    let acts: Vec<&str> = acts.iter().map(|act| act.word()).collect();
    Line { allows: step.allows, acts: acts.join(", "), says }
}

/// What makes it right.
fn mends(wanted: Option<&Wanted>, colours: bool, out: &mut dyn Write) -> io::Result<()> {
    let Some(wanted) = wanted.filter(|wanted| !wanted.mends.is_empty()) else { return Ok(()) };
    let name = &wanted.site.name;
    if wanted.mends.iter().any(|mend| mend.remedy == Cure::Set) {
        let words = format!("to make it right: ambrik set {name}  (first: -n)");
        writeln!(out, "  {}", painted(colours, HEAD, &words))?;
    }
    for mend in &wanted.mends {
        let line = match (&mend.remedy, &mend.to) {
            (Cure::Set, Some(to)) => format!("{}: {} → {to}", Shown(&mend.path), mend.from),
            (Cure::Set, None) => format!("{}: {}", Shown(&mend.path), mend.from),
            (Cure::Hand(words), _) => format!("{}: {}; by hand: {words}", Shown(&mend.path), mend.from),
        };
        wrapped_once(&line, "    ", "      ", out)?;
    }
    Ok(())
}

/// As many directories are shown.
const SHOWN: usize = 20;

/// Writes everything that an account can do in a site.
pub(crate) fn everything(found: &Everything, account: &str, out: &mut dyn Write) -> io::Result<()> {
    let site = &found.site.name;
    let verb = if found.act == Act::Read { "read" } else { "change" };
    let (able, total, too_many) = (found.able(), found.entries, found.too_many());
    let more = match too_many {
        0 => "all of them as the site file says".to_owned(),
        n if n == able => "none of which it should".to_owned(),
        n => format!("{} of which it should not", number(n)),
    };
    let says = match able {
        0 => format!("{account} can {verb} nothing of {}", paths(total)),
        _ => format!("{account} can {verb} {} of {}, {more}", number(able), paths(total)),
    };
    let style = if too_many > 0 { BAD } else { GOOD };
    let numbers = styled(style, &says);
    match found.runs_php.as_ref().filter(|runs| !runs.folders.is_empty()) {
        Some(runs) => {
            let first = styled(BAD, &run_as_php(account, runs));
            wrapped(&format!("{}: {first}", styled(HEAD, site)), "", "  ", out)?;
            wrapped(&numbers, "  ", "  ", out)?;
        }
        None => wrapped(&format!("{}: {numbers}", styled(HEAD, site)), "", "  ", out)?,
    }
    writeln!(out)?;
    let mut rows = table(&["part", "use", "paths", verb, "should"]);
    for part in &found.parts {
        let shown = if part.part == "." { ". (all else)".to_owned() } else { cut(&part.part, 40) };
        let wanted = if part.right.word() == "rw" || (found.act == Act::Read && part.right.word() == "r") {
            "yes"
        } else {
            "no"
        };
        let able = match (part.able, wanted) {
            (0, _) => "-".to_owned(),
            (n, "no") => styled(BAD, &number(n)),
            (n, _) => number(n),
        };
        rows.add_row(vec![shown, part.used_as.to_string(), number(part.paths), able, wanted.to_owned()]);
    }
    write(&mut rows, &[2, 3], "  ", out)?;
    if !found.folders.is_empty() {
        writeln!(out)?;
    }
    let width = found.folders.iter().take(SHOWN).map(|one| folder(&one.path).chars().count()).max();
    let width = width.unwrap_or(0).min(48);
    for one in found.folders.iter().take(SHOWN) {
        let path = folder(&one.path);
        let room = super::table::width().saturating_sub(path.chars().count().max(width) + 4);
        writeln!(out, "  {path:<width$}  {}", cut(&in_folder(one, found.act), room))?;
    }
    if found.folders.len() > SHOWN {
        let more = counted(count(found.folders.len() - SHOWN), "directory", "directories");
        writeln!(out, "  {}", styled(FAINT, &format!("and {more} more; --format json lists every path")))?;
    }
    Ok(())
}

/// What an intruder makes of it: code of his own that is run.
fn run_as_php(account: &str, runs: &RunsPhp) -> String {
    let names: Vec<String> = runs.folders.iter().take(4).map(|path| folder(path)).collect();
    let more = if runs.folders.len() > 4 { format!(" and {} more", runs.folders.len() - 4) } else { String::new() };
    let how = match &runs.server {
        Some(server) => format!("{server} runs PHP there, by its configuration"),
        None => "no configuration of a web server tells otherwise".into(),
    };
    format!("PHP code that {account} writes into {}{more} is run: {how}", names.join(", "))
}

/// What can be done in a directory.
fn in_folder(one: &AbleFolder, act: Act) -> String {
    if one.whole {
        return if one.paths == 1 { "itself".to_owned() } else { format!("everything, {}", paths(one.paths)) };
    }
    let itself = if act == Act::Read { "it can be listed" } else { "names in it can be made and removed" };
    let mut says: Vec<String> = one.itself.then(|| itself.to_owned()).into_iter().collect();
    if one.others > 0 {
        let names: Vec<String> = one.names.iter().map(|name| Shown(name).to_string()).collect();
        let more = if one.others > count(names.len()) { ", …" } else { "" };
        says.push(format!("{} of {}: {}{more}", number(one.others), number(one.paths), names.join(", ")));
    }
    says.join("; ")
}

fn folder(path: &Path) -> String {
    match path.to_str() {
        Some(".") => "the site's root".to_owned(),
        _ => Shown(path).to_string(),
    }
}

/// Whether a step has to do with what was tried.
fn counts(step: &Step, act: Option<Act>) -> bool {
    let act = match act {
        Some(Act::Create) => Some(Act::Write),
        act => act,
    };
    step.on_the_way
        || matches!(step.act, Act::Find)
        || act.is_none_or(|act| act == step.act || (act == Act::Write && step.act == Act::Create))
}
