use std::collections::BTreeMap;
use std::ffi::CString;
use std::path::{Path, PathBuf};

use proptest::prelude::*;

use super::*;
use crate::access::NameRule;
use crate::account::{Accounts, Gid, Uid};
use crate::check::{self, Reason};
use crate::entry::{Kind, Rights};
use crate::inspect::{DirData, DirState};
use crate::mode::Mode;
use crate::people::People;
use crate::policy::{Cursor, Policy};
use crate::site::Phase;
use crate::tree::Dir;

/// What a directory, and a judgement, are made with.
struct Fixture {
    cursor: Arc<Cursor>,
    state: Arc<DirState>,
}

impl Fixture {
    fn new() -> Self {
        let accounts = Accounts::from_texts("root:x:0:0::/:/\nphp:x:33:33::/:/\n", "root:x:0:\nphp:x:33:\n");
        let text = "[site]\nroot = \"/srv/x\"\n[accounts]\nphp = \"php\"\n";
        let site = crate::site::read(text, Path::new("x.toml"), &accounts, &[]).unwrap_or_else(|why| panic!("{why}"));
        let site = Arc::new(site);
        let people = People::new(&site, &accounts, &[], &[]);
        let state = DirState { id: 0, reach: people.no_one(), writers: people.no_one(), names: NameRule::default() };
        let cursor = Policy::new(site, Phase::Sealed).at(Path::new("/srv/x"));
        Self { cursor, state: Arc::new(state) }
    }

    fn dir(&self, path: &str, id: Identity) -> Arc<SiteDir> {
        let (now, planned) = (Arc::clone(&self.state), Arc::clone(&self.state));
        let cursor = Arc::clone(&self.cursor);
        let data =
            DirData { cursor, now, planned, php_stop: None, web_stop: None, keepers_alone: true, relabelled: None };
        Arc::new(Dir::top(Path::new(path), id, Arc::new(data)))
    }

    fn verdict(&self, number: u32) -> Arc<Verdict> {
        Arc::new(Verdict {
            number,
            context: self.cursor.context,
            kind: Kind::File,
            rights: Arc::new(rights()),
            findings: Vec::new(),
            label_right: false,
            fix: None,
            abilities: Box::default(),
        })
    }
}

fn rights() -> Rights {
    let mode = Mode::of_st_mode(0o644);
    Rights { uid: Uid(0), gid: Gid(0), mode, acl: None, default_acl: None, capabilities: None, label: None }
}

fn facts(id: Identity, links: u32, changed: Nanos) -> Facts {
    let flags = (false, false, false, false);
    let (mounted, immutable, append_only, label_given) = flags;
    let (kind, rights) = (Kind::File, rights());
    Facts { kind, id, rights, links, changed, size: 0, mounted, mount: 0, immutable, append_only, label_given }
}

/// A path as it is put in, and as it is to come out: everything but where it is.
#[derive(Clone, Debug, PartialEq)]
struct Put {
    id: Identity,
    links: u32,
    changed: Nanos,
    verdict: u32,
    says: Option<String>,
}

fn raised(says: &str) -> Vec<Raised> {
    vec![(&check::STILL_OPEN, Reason::Says(says.to_owned()))]
}

fn as_put(deviation: &Deviation<'_>) -> Put {
    let says = deviation.extra.first().map(|(_, reason)| reason.like().to_owned());
    let Deviation { id, links, changed, verdict, .. } = *deviation;
    Put { id, links, changed, verdict: verdict.number, says }
}

/// What a model answers for a path: where it is, by start or by path, and what is known of it.
type Known = ((Option<u32>, PathBuf), Put);

fn known(deviation: &Deviation<'_>) -> Known {
    let place = match deviation.spot {
        Spot::Start(number) => (Some(number), PathBuf::new()),
        Spot::In(dir, name) => (None, dir.path_of(name)),
    };
    (place, as_put(deviation))
}

fn path() -> impl Strategy<Value = Put> {
    let near = (0..40_u64).prop_map(|ino| (5, 1000 + ino, 1_790_000_000_000_000_000));
    let far = any::<(u64, u64, i64)>();
    let id = prop_oneof![3 => near, 1 => far].prop_map(|(dev, ino, born)| Identity { dev, ino, born });
    let says = prop_oneof![4 => Just(None), 1 => prop::sample::select(vec!["pid 7", "pid 8"]).prop_map(Some)];
    (id, any::<u32>(), any::<i64>(), 0..3_u32, says).prop_map(|(id, links, changed, verdict, says)| Put {
        id,
        links,
        changed,
        verdict,
        says: says.map(str::to_owned),
    })
}

/// The paths of a few directories and starts, by what they are called. There are more in one than a block holds.
fn paths() -> impl Strategy<Value = BTreeMap<(usize, Vec<u8>), Put>> {
    let name = prop::collection::vec(1..=255_u8, 1..4)
        .prop_filter("a name", |name| !name.contains(&b'/') && !name.iter().all(|byte| *byte == b'.'));
    prop::collection::btree_map((0..DIRS.len() + 2, name), path(), 0..300)
}

const DIRS: [&str; 4] = ["/srv/x", "/srv/x/a", "/srv/x/a-b", "/srv/x/a/c"];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    /// Whoever saw which path, and in whichever order, they come out as they were put in, in the order of a tree; by their numbers too.
    #[test]
    fn what_is_put_in_comes_out_in_order(paths in paths(), threads in 1..4_usize, shares in any::<u64>(), asked in any::<prop::sample::Index>()) {
        let fixture = Fixture::new();
        let dirs: Vec<_> = DIRS.iter().zip(1..).map(|(path, ino)| fixture.dir(path, Identity { dev: 5, ino, born: 9 })).collect();
        let verdicts: Vec<_> = (0..3).map(|number| fixture.verdict(number)).collect();
        let mut gathered: Vec<Gathered> = std::iter::repeat_with(Gathered::default).take(threads).collect();
        let mut want: Vec<Known> = Vec::new();
        // From the last name to the first: a directory lists its names in any order.
        for (turn, ((place, name), path)) in paths.iter().rev().enumerate() {
            let name = CString::new(name.clone()).unwrap();
            let start = u32::try_from(place.wrapping_sub(dirs.len())).ok();
            let thread = usize::try_from(shares >> (turn % 60)).unwrap() % threads;
            let (place, spot) = match (dirs.get(*place), start) {
                (Some(dir), _) => ((None, dir.path_of(&name)), Spot::In(dir, &name)),
                (None, Some(start)) if want.iter().all(|((known, _), _)| *known != Some(start)) => ((Some(start), PathBuf::new()), Spot::Start(start)),
                _ => continue,
            };
            let extra = path.says.as_deref().map(raised).unwrap_or_default();
            gathered[thread].push(spot, &facts(path.id, path.links, path.changed), &verdicts[path.verdict as usize], extra);
            want.push((place, path.clone()));
        }
        let key = |((start, path), _): &Known| (start.is_none(), *start, path.parent().map(Path::to_owned), path.clone());
        want.sort_by_key(key);
        let mut found = Deviations::of(gathered, verdicts);
        prop_assert_eq!(found.iter().map(|it| known(&it)).collect::<Vec<_>>(), want.clone());
        prop_assert!(found.blocks.iter().all(|block| block.count as usize <= BLOCK));

        let asked = if want.is_empty() { 0 } else { asked.index(want.len()) };
        let number = u32::try_from(asked).unwrap();
        prop_assert_eq!(found.get(number).map(|it| known(&it)), want.get(asked).cloned());
        prop_assert_eq!(found.range(number..number + 70).map(|it| known(&it)).collect::<Vec<_>>(), want.iter().skip(asked).take(70).cloned().collect::<Vec<_>>());
        prop_assert!(found.get(u32::try_from(want.len()).unwrap()).is_none());

        let with_extra: Vec<_> = found.with_extra().map(|(number, it)| (number, known(&it))).collect();
        let want_extra: Vec<_> = (0..).zip(&want).filter(|(_, (_, it))| it.says.is_some()).map(|(n, it)| (n, it.clone())).collect();
        prop_assert_eq!(with_extra, want_extra);

        found.set_extra(number, raised("said later"));
        if let Some((_, path)) = want.get_mut(asked) {
            path.says = Some("said later".to_owned());
        }
        prop_assert_eq!(found.iter().map(|it| known(&it)).collect::<Vec<_>>(), want);
    }
}

/// What a tree in which everything is wrong takes: names of 14 bytes, ten in a folder.
#[test]
fn a_path_takes_few_bytes() {
    let fixture = Fixture::new();
    let verdicts = vec![fixture.verdict(0)];
    let mut gathered = Gathered::default();
    let now = 1_790_000_000_000_000_000;
    for folder in 0..100 {
        let ino = 1_300_000 + folder * 11;
        let id = |ino| Identity { dev: 5, ino, born: now + ino.cast_signed() * 40_000 };
        let dir = fixture.dir(&format!("/srv/x/{folder}"), id(ino));
        for file in 0..10 {
            let name = CString::new(format!("page-{file:05}.php")).unwrap();
            gathered.push(
                Spot::In(&dir, &name),
                &facts(id(ino + file), 1, now + 900_000_000_000),
                &verdicts[0],
                Vec::new(),
            );
        }
    }
    let found = Deviations::of([gathered], verdicts);
    let bytes: usize = found.blocks.iter().map(|block| block.bytes.len() + size_of::<Block>()).sum();
    assert!(bytes < 40 * 1000, "{bytes}");
}
