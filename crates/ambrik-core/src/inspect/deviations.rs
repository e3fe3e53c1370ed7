//! The paths that are not as they should be, in little memory: in blocks, folder by folder, each path as it differs from the one before it.
//!
//! In a tree in which everything is wrong there are as many as it has paths. Most of a folder share their judgement, and have inode
//! numbers, times of birth and times of change close together: a path takes little more than its name.

use std::ffi::CStr;
use std::ops::Range;
use std::sync::Arc;

use super::{SiteDir, Verdict};
use crate::bytes::{ByteReader, ByteWriter};
use crate::check::Raised;
use crate::entry::{Facts, Identity, Kind, Nanos, TreePath};

/// As many stand in one block: to come to one of them, those before it are read.
const BLOCK: usize = 64;

/// Where a deviation is.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Spot<'d> {
    /// It is the start with this number.
    Start(u32),
    /// It has this name in this directory.
    In(&'d Arc<SiteDir>, &'d CStr),
}

/// A path that is not as it should be, or that has several names.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Deviation<'d> {
    pub(crate) spot: Spot<'d>,
    pub(crate) id: Identity,
    pub(crate) links: u32,
    /// When it was changed last.
    pub(crate) changed: Nanos,
    pub(crate) verdict: &'d Arc<Verdict>,
    /// What its name or content gave rise to.
    pub(crate) extra: &'d [Raised],
}

/// What all paths of a block have in common.
#[derive(Clone, Debug)]
enum Place {
    Start(u32),
    In(Arc<SiteDir>),
}

impl Place {
    fn is(&self, spot: &Spot<'_>) -> bool {
        match (self, spot) {
            (Self::Start(one), Spot::Start(other)) => one == other,
            (Self::In(one), Spot::In(other, _)) => Arc::ptr_eq(one, other),
            _ => false,
        }
    }

    fn is_same(&self, other: &Self) -> bool {
        match other {
            Self::Start(number) => self.is(&Spot::Start(*number)),
            Self::In(dir) => self.is(&Spot::In(dir, c"")),
        }
    }

    /// What decides which place comes first: where a walk begins by its number, then directories.
    fn order(&self) -> (Option<TreePath<'static>>, u32) {
        match self {
            Self::Start(number) => (None, *number),
            Self::In(dir) => (Some(dir.path().into()), 0),
        }
    }

    /// What the first path of a block is written as differing from.
    fn before_first(&self) -> Last {
        let id = match self {
            Self::Start(_) => Identity { dev: 0, ino: 0, born: 0 },
            Self::In(dir) => dir.id,
        };
        Last { sort: (0, 1, id.dev), id, changed: id.born }
    }
}

/// The path before, as far as the next one is written as differing from it.
#[derive(Debug)]
struct Last {
    /// Judgement, number of names and device: most paths of a directory have those of the one before.
    sort: (u32, u32, u64),
    id: Identity,
    changed: Nanos,
}

/// A path that waits for the others of its directory.
struct Waiting {
    name: Box<CStr>,
    id: Identity,
    links: u32,
    changed: Nanos,
    verdict: u32,
    extra: Option<Arc<[Raised]>>,
}

/// Paths of one directory.
#[derive(Debug)]
struct Block {
    place: Place,
    /// The number of its first path, and how many it has.
    first: u32,
    count: u32,
    bytes: Box<[u8]>,
    /// What single paths gave rise to, by their places in the block, in order.
    extra: Box<[(u32, Arc<[Raised]>)]>,
}

/// What one thread found.
#[derive(Default)]
pub(crate) struct Gathered {
    place: Option<Place>,
    waiting: Vec<Waiting>,
    blocks: Vec<Block>,
    several_names: bool,
}

impl Gathered {
    /// Adds a path. Those of one directory come one after the other, in any order.
    pub(crate) fn push(&mut self, spot: Spot<'_>, facts: &Facts, verdict: &Verdict, extra: Vec<Raised>) {
        if self.place.as_ref().is_none_or(|place| !place.is(&spot)) {
            self.close();
        }
        let name = match spot {
            Spot::Start(number) => {
                self.place = Some(Place::Start(number));
                c""
            }
            Spot::In(dir, name) => {
                self.place.get_or_insert_with(|| Place::In(Arc::clone(dir)));
                name
            }
        };
        let before = self.waiting.last().and_then(|last| last.extra.as_ref());
        let extra = match before {
            _ if extra.is_empty() => None,
            Some(before) if is_same(before, &extra) => Some(Arc::clone(before)),
            _ => Some(extra.into()),
        };
        self.several_names |= facts.links > 1 && facts.kind == Kind::File;
        let (id, links, changed, verdict) = (facts.id, facts.links, facts.changed, verdict.number);
        self.waiting.push(Waiting { name: name.into(), id, links, changed, verdict, extra });
    }

    /// Puts the paths of the directory at hand into blocks.
    fn close(&mut self) {
        if let Some(place) = self.place.take() {
            pack(&place, &mut self.waiting, &mut self.blocks);
        }
    }
}

/// Whether the same is said.
fn is_same(one: &[Raised], other: &[Raised]) -> bool {
    let same = |((check, says), (other, says_other)): (&Raised, &Raised)| check.is(other) && says == says_other;
    one.len() == other.len() && one.iter().zip(other).all(same)
}

/// Writes paths of one directory into blocks, in the order of their names; none are left.
fn pack(place: &Place, paths: &mut Vec<Waiting>, blocks: &mut Vec<Block>) {
    paths.sort_unstable_by(|one, other| one.name.cmp(&other.name));
    let mut paths = paths.drain(..).peekable();
    while paths.peek().is_some() {
        let (mut bytes, mut extra, mut last) = (ByteWriter::default(), Vec::new(), place.before_first());
        let mut count = 0;
        for path in paths.by_ref().take(BLOCK) {
            let sort = (path.verdict, path.links, path.id.dev);
            bytes.number(u8::from(sort != last.sort));
            if sort != last.sort {
                bytes.number(sort.0);
                bytes.number(sort.1);
                bytes.number(sort.2);
            }
            bytes.number(path.id.ino.wrapping_sub(last.id.ino).cast_signed());
            bytes.number(path.id.born.wrapping_sub(last.id.born));
            bytes.number(path.changed.wrapping_sub(last.changed));
            bytes.0.extend_from_slice(path.name.to_bytes_with_nul());
            last = Last { sort, id: path.id, changed: path.changed };
            extra.extend(path.extra.map(|extra| (count, extra)));
            count += 1;
        }
        blocks.push(Block { place: place.clone(), first: 0, count, bytes: bytes.0.into(), extra: extra.into() });
    }
}

/// Puts blocks in the order of their places, where they stand: of a large tree a second list of them would take as much again.
fn into_order(blocks: &mut [Block]) {
    let mut keyed: Vec<_> = blocks.iter().map(|block| block.place.order()).zip(0..).collect();
    keyed.sort_unstable();
    let mut order: Vec<usize> = keyed.into_iter().map(|(_, from)| from).collect();
    for first in 0..order.len() {
        let mut at = first;
        // Round the circle of places that each get the next one's block.
        while order[at] != first {
            let from = std::mem::replace(&mut order[at], at);
            blocks.swap(at, from);
            at = from;
        }
        order[at] = at;
    }
}

/// The paths of a site that are not as they should be, or that have several names, in order: where walks begin, then by directory,
/// then by name. They are numbered from 0 on.
#[derive(Debug, Default)]
pub(crate) struct Deviations {
    blocks: Vec<Block>,
    verdicts: Vec<Arc<Verdict>>,
    count: u32,
    several_names: bool,
}

impl Deviations {
    /// What all threads found, in one order whichever thread saw it; `verdicts` by their numbers.
    pub(crate) fn of(found: impl IntoIterator<Item = Gathered>, verdicts: Vec<Arc<Verdict>>) -> Self {
        let (mut blocks, mut several_names) = (Vec::new(), false);
        for mut gathered in found {
            gathered.close();
            several_names |= gathered.several_names;
            blocks.append(&mut gathered.blocks);
        }
        into_order(&mut blocks);
        let mut first = 0;
        while let Some(block) = blocks.get(first) {
            let place = block.place.clone();
            let end = first + blocks.iter().skip(first).take_while(|block| block.place.is_same(&place)).count();
            if end - first > 1 {
                // Several threads can have seen its names, each some.
                let mut paths: Vec<Waiting> = blocks.iter().take(end).skip(first).flat_map(Block::waiting).collect();
                let mut packed = Vec::new();
                pack(&place, &mut paths, &mut packed);
                let mut packed = packed.into_iter();
                for block in blocks.iter_mut().take(end).skip(first) {
                    match packed.next() {
                        Some(whole) => *block = whole,
                        // Together they take fewer blocks.
                        None => block.count = 0,
                    }
                }
            }
            first = end;
        }
        blocks.retain(|block| block.count > 0);
        let mut count = 0;
        for block in &mut blocks {
            block.first = count;
            count += block.count;
        }
        Self { blocks, verdicts, count, several_names }
    }

    /// Whether a file among them has several names.
    pub(crate) const fn have_several_names(&self) -> bool {
        self.several_names
    }

    /// All, in order.
    pub(crate) fn iter(&self) -> impl Iterator<Item = Deviation<'_>> {
        self.range(0..self.count)
    }

    /// Those whose name or content gave rise to something, with their numbers.
    pub(crate) fn with_extra(&self) -> impl Iterator<Item = (u32, Deviation<'_>)> {
        let blocks = self.blocks.iter().filter(|block| !block.extra.is_empty());
        let numbered = blocks.flat_map(|block| (block.first..).zip(block.paths(&self.verdicts)));
        numbered.filter(|(_, deviation)| !deviation.extra.is_empty())
    }

    /// Those with these numbers, in order.
    pub(crate) fn range(&self, numbers: Range<u32>) -> impl Iterator<Item = Deviation<'_>> {
        let first = self.block_of(numbers.start);
        let before = self.blocks.get(first).map_or(0, |block| numbers.start.saturating_sub(block.first));
        let blocks = self.blocks.get(first..).unwrap_or_default();
        let all = blocks.iter().flat_map(|block| block.paths(&self.verdicts));
        all.skip(before as usize).take(numbers.len())
    }

    /// The one with this number.
    pub(crate) fn get(&self, number: u32) -> Option<Deviation<'_>> {
        self.range(number..number.saturating_add(1)).next()
    }

    /// Has a path's name or content give rise to something else.
    pub(crate) fn set_extra(&mut self, number: u32, extra: Vec<Raised>) {
        let block = self.block_of(number);
        let Some(block) = self.blocks.get_mut(block) else { return };
        let in_block = number - block.first;
        let mut all = std::mem::take(&mut block.extra).into_vec();
        all.retain(|(place, _)| *place != in_block);
        let at = all.partition_point(|(place, _)| *place < in_block);
        all.insert(at, (in_block, extra.into()));
        block.extra = all.into();
    }

    /// The place of the block that holds a number.
    fn block_of(&self, number: u32) -> usize {
        self.blocks.partition_point(|block| block.first <= number).saturating_sub(1)
    }
}

impl Block {
    /// What is written, path by path.
    fn written(&self) -> Written<'_> {
        Written { bytes: ByteReader(&self.bytes), last: self.place.before_first() }
    }

    /// Its paths, as they were before they were written.
    fn waiting(&self) -> impl Iterator<Item = Waiting> {
        let extra = |number| self.extra.iter().find(|(place, _)| *place == number).map(|(_, extra)| Arc::clone(extra));
        (0..).zip(self.written()).map(move |(number, path)| Waiting {
            name: path.name.into(),
            id: path.id,
            links: path.links,
            changed: path.changed,
            verdict: path.verdict,
            extra: extra(number),
        })
    }

    fn paths<'d>(&'d self, verdicts: &'d [Arc<Verdict>]) -> impl Iterator<Item = Deviation<'d>> {
        let mut extra = self.extra.iter().peekable();
        (0..).zip(self.written()).filter_map(move |(number, path)| {
            let extra = extra.next_if(|(place, _)| *place == number).map_or(&[][..], |(_, extra)| extra);
            let spot = match &self.place {
                Place::Start(number) => Spot::Start(*number),
                Place::In(dir) => Spot::In(dir, path.name),
            };
            let verdict = verdicts.get(path.verdict as usize)?;
            Some(Deviation { spot, id: path.id, links: path.links, changed: path.changed, verdict, extra })
        })
    }
}

/// Reads what [`pack`] wrote.
struct Written<'b> {
    bytes: ByteReader<'b>,
    last: Last,
}

struct WrittenPath<'b> {
    name: &'b CStr,
    id: Identity,
    links: u32,
    changed: Nanos,
    verdict: u32,
}

impl<'b> Iterator for Written<'b> {
    type Item = WrittenPath<'b>;

    fn next(&mut self) -> Option<WrittenPath<'b>> {
        let (bytes, last) = (&mut self.bytes, &mut self.last);
        if bytes.number::<u8>()? != 0 {
            last.sort = (bytes.number()?, bytes.number()?, bytes.number()?);
        }
        let (verdict, links, dev) = last.sort;
        last.id.dev = dev;
        last.id.ino = last.id.ino.wrapping_add(bytes.number::<i64>()?.cast_unsigned());
        last.id.born = last.id.born.wrapping_add(bytes.number()?);
        last.changed = last.changed.wrapping_add(bytes.number()?);
        let name = CStr::from_bytes_until_nul(bytes.0).ok()?;
        bytes.take(name.count_bytes() + 1)?;
        Some(WrittenPath { name, id: last.id, links, changed: last.changed, verdict })
    }
}

#[cfg(test)]
mod tests;
