//! What would be changed on a host, in a line: of documents of any length nothing but counts is kept.

use std::fmt;
use std::io::{self, Read};

use serde::Deserialize;
use serde::de::{Deserializer, SeqAccess, Visitor};

use super::audits::{capped, clean};

/// `changes/1`: `set`, `open`, `seal`, `move`.
#[derive(Deserialize)]
struct Changes {
    #[serde(deserialize_with = "capped")]
    sites: Vec<ChangedSite>,
}

#[derive(Deserialize)]
struct ChangedSite {
    name: String,
    #[serde(default, deserialize_with = "counted")]
    changes: u64,
}

/// `unpack/1`.
#[derive(Deserialize)]
struct Unpacked {
    site: String,
    #[serde(deserialize_with = "counted")]
    new: u64,
    #[serde(deserialize_with = "counted")]
    replaced: u64,
    #[serde(deserialize_with = "counted")]
    gone: u64,
}

/// `undo/1`.
#[derive(Deserialize)]
struct Undone {
    site: String,
    undoes: i64,
    changed: u64,
    restored: u64,
    removed: u64,
}

/// `accept/1`.
#[derive(Deserialize)]
struct Accepted {
    site: String,
    check: String,
    path: String,
}

/// `purge/1`.
#[derive(Deserialize)]
struct Purged {
    #[serde(deserialize_with = "capped")]
    keepsakes: Vec<serde::de::IgnoredAny>,
    #[serde(deserialize_with = "capped")]
    change_sets: Vec<serde::de::IgnoredAny>,
}

/// What a document of this kind (`changes`, without its version) says that would be changed, fit to be shown.
///
/// # Errors
/// Where it is none of that kind.
pub fn previewed(kind: &str, out: impl Read) -> io::Result<String> {
    fn read<T: serde::de::DeserializeOwned>(out: impl Read) -> io::Result<T> {
        serde_json::from_reader(out).map_err(io::Error::from)
    }
    let mut says = match kind {
        "unpack" => {
            let Unpacked { site, new, replaced, gone } = read(out)?;
            format!("{site}: {new} new, {replaced} replaced, {gone} gone in the new version")
        }
        "undo" => {
            let Undone { site, undoes, changed, restored, removed } = read(out)?;
            format!("{site}: change set {undoes} taken back: {changed} as before, {restored} come back, {removed} go")
        }
        "accept" => {
            let Accepted { site, check, path } = read(out)?;
            format!("{site}: {check} accepted for {path}")
        }
        "purge" => {
            let Purged { keepsakes, change_sets } = read(out)?;
            let several = |n: usize, what| several(n as u64, what);
            let (keepsakes, sets) = (several(keepsakes.len(), "keepsake"), several(change_sets.len(), "change set"));
            format!("{keepsakes} and the record of {sets} go")
        }
        _ => {
            let Changes { sites } = read(out)?;
            let changed = sites.iter().filter(|site| site.changes > 0);
            let each: Vec<String> =
                changed.map(|site| format!("{}: {}", site.name, several(site.changes, "path"))).collect();
            if each.is_empty() { "records or labels alone".to_owned() } else { each.join(", ") }
        }
    };
    clean(&mut says);
    Ok(says)
}

/// Which pages do not answer any more as they did, as a document of changes says it (`changes/1`, and the others where they have it), fit
/// to be shown.
///
/// # Errors
/// Where it is no document.
pub fn broken_pages(out: impl Read) -> io::Result<Vec<String>> {
    #[derive(Deserialize)]
    struct Document {
        #[serde(default, deserialize_with = "capped")]
        sites: Vec<Site>,
        #[serde(default, deserialize_with = "capped")]
        broken: Vec<Page>,
    }
    #[derive(Deserialize)]
    struct Site {
        #[serde(default, deserialize_with = "capped")]
        broken: Vec<Page>,
    }
    #[derive(Deserialize)]
    struct Page {
        address: String,
        before: String,
        after: String,
    }
    let Document { sites, broken } = serde_json::from_reader(out).map_err(io::Error::from)?;
    let pages = broken.into_iter().chain(sites.into_iter().flat_map(|site| site.broken));
    let says = pages.map(|Page { address, before, after }| {
        let mut says = format!("{address} answered {before}, and now {after}");
        clean(&mut says);
        says
    });
    Ok(says.collect())
}

fn several(n: u64, what: &str) -> String {
    if n == 1 { format!("1 {what}") } else { format!("{n} {what}s") }
}

/// How many paths a list of changes is of: those of one path, its owner and its mode, follow each other.
fn counted<'de, D: Deserializer<'de>>(from: D) -> Result<u64, D::Error> {
    #[derive(Deserialize)]
    struct Change {
        path: String,
    }
    struct Changes;
    impl<'de> Visitor<'de> for Changes {
        type Value = u64;

        fn expecting(&self, to: &mut fmt::Formatter<'_>) -> fmt::Result {
            to.write_str("a list of changes")
        }

        fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Self::Value, A::Error> {
            let (mut paths, mut last) = (0, None);
            while let Some(Change { path }) = list.next_element()? {
                paths += u64::from(last.as_ref() != Some(&path));
                last = Some(path);
            }
            Ok(paths)
        }
    }
    from.deserialize_seq(Changes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::owner_and_mode_are_one_path(
        "changes",
        r#"{"sites":[{"name":"x","changes":[{"path":"a","what":"owner"},{"path":"a","what":"mode"},{"path":"b"}]},{"name":"y","changes":[]}]}"#,
        "x: 2 paths"
    )]
    #[case::nothing_of_the_tree("changes", r#"{"sites":[{"name":"x"}]}"#, "records or labels alone")]
    #[case::archive(
        "unpack",
        r#"{"site":"x","new":[{"path":"a"},{"path":"b"}],"replaced":[{"path":"c"}],"gone":[]}"#,
        "x: 2 new, 1 replaced, 0 gone in the new version"
    )]
    #[case::back(
        "undo",
        r#"{"site":"x","undoes":3,"changed":5,"restored":1,"removed":0}"#,
        "x: change set 3 taken back: 5 as before, 1 come back, 0 go"
    )]
    #[case::exception("accept", r#"{"site":"x","check":"c","path":"p"}"#, "x: c accepted for p")]
    #[case::records(
        "purge",
        r#"{"keepsakes":[{}],"change_sets":[1,2]}"#,
        "1 keepsake and the record of 2 change sets go"
    )]
    #[case::signs("accept", r#"{"site":"\u001b[2J","check":"c","path":"p"}"#, "\u{fffd}[2J: c accepted for p")]
    fn what_would_be_done(#[case] kind: &str, #[case] text: &str, #[case] want: &str) {
        assert_eq!(previewed(kind, text.as_bytes()).unwrap(), want);
    }

    #[rstest]
    #[case(r#"{"sites":[{"broken":[{"address":"/","before":"200","after":"403"}]},{}]}"#, &["/ answered 200, and now 403"])]
    #[case(r#"{"broken":[{"address":"/\u0007","before":"200","after":"no"}]}"#, &["/\u{fffd} answered 200, and now no"])]
    #[case("{}", &[])]
    fn pages_that_broke(#[case] text: &str, #[case] want: &[&str]) {
        assert_eq!(broken_pages(text.as_bytes()).unwrap(), want);
    }

    #[rstest]
    fn what_is_none_of_the_kind_says_nothing(#[values("changes", "unpack", "undo", "accept", "purge")] kind: &str) {
        assert!(previewed(kind, &b"{\"sites\":[{}]}"[..]).is_err());
    }
}
