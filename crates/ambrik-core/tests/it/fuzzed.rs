//! A bounded run of the fuzz targets' entry points: the corpus, and changed copies of it, by a seed that is printed.

use std::fs;
use std::path::Path;

use rand::rngs::StdRng;
use rand::{Rng as _, SeedableRng as _};
use rstest::rstest;

#[expect(clippy::expect_used, reason = "what the functions themselves need is there")]
#[path = "../../../../fuzz/entry_points.rs"]
mod entry_points;

/// As many changed copies are tried of each.
const COPIES: usize = 400;

fn changed(bytes: &[u8], all: &[Vec<u8>], random: &mut StdRng) -> Vec<u8> {
    let mut bytes = bytes.to_vec();
    for _ in 0..random.random_range(1..8) {
        let at = random.random_range(0..=bytes.len());
        match random.random_range(0..6) {
            0 if at < bytes.len() => bytes[at] ^= 1 << random.random_range(0..8),
            1 if at < bytes.len() => bytes[at] = random.random(),
            2 => bytes.truncate(at),
            3 => bytes.insert(at, random.random()),
            4 => {
                // Something of another, or a piece of itself again.
                let other = &all[random.random_range(0..all.len())];
                let from = random.random_range(0..=other.len());
                let to = (from + random.random_range(0..64)).min(other.len());
                bytes.splice(at..at, other[from..to].iter().copied());
            }
            _ => {
                let end = (at + random.random_range(0..16)).min(bytes.len());
                bytes.drain(at..end);
            }
        }
    }
    bytes
}

#[rstest]
fn no_bytes_are_too_strange(#[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10)] number: usize) {
    let (name, run) = entry_points::ENTRY_POINTS[number];
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus").join(name);
    let mut paths: Vec<_> = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    paths.sort();
    let corpus: Vec<Vec<u8>> = paths.iter().map(|path| fs::read(path).unwrap()).collect();
    assert!(!corpus.is_empty(), "{}", folder.display());
    let seed = rand::rng().random();
    eprintln!("{name}: seed {seed}");
    let mut random = StdRng::seed_from_u64(seed);
    run(b"");
    for bytes in &corpus {
        run(bytes);
    }
    for n in 0..COPIES {
        let bytes = changed(&corpus[n % corpus.len()], &corpus, &mut random);
        let done = std::panic::catch_unwind(|| run(&bytes));
        assert!(done.is_ok(), "{name}, seed {seed}: {:?}", String::from_utf8_lossy(&bytes));
    }
}
