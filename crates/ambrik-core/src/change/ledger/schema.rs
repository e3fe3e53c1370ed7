//! The ledger's tables, and the steps from one version of them to the next.

use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt as _;
use std::path::Path;

use rusqlite::{Connection, params};

use super::block::{BlockWriter, CHANGES, Sort};
use super::rows::{as_u64, kind_of};
use crate::entry::Identity;

/// The version that the steps below lead to.
pub(super) const VERSION: i64 = 10;
pub(super) const TABLES: &str = "
CREATE TABLE change_set (
  id INTEGER PRIMARY KEY, site TEXT NOT NULL, command TEXT NOT NULL, begun TEXT NOT NULL, ended TEXT,
  process INTEGER NOT NULL, phase_before TEXT NOT NULL, phase_after TEXT NOT NULL,
  undoes INTEGER REFERENCES change_set(id), undone_by INTEGER REFERENCES change_set(id),
  done INTEGER NOT NULL DEFAULT 0, failed INTEGER NOT NULL DEFAULT 0, until TEXT, parts TEXT);
CREATE TABLE folder (id INTEGER PRIMARY KEY, path BLOB NOT NULL);
CREATE TABLE rights (
  id INTEGER PRIMARY KEY, uid INTEGER NOT NULL, gid INTEGER NOT NULL, mode INTEGER NOT NULL,
  acl BLOB, default_acl BLOB, capabilities BLOB);
CREATE TABLE turn (
  id INTEGER PRIMARY KEY, folder INTEGER NOT NULL, name BLOB NOT NULL,
  kind INTEGER NOT NULL, dev INTEGER NOT NULL, ino INTEGER NOT NULL, links INTEGER NOT NULL,
  before INTEGER NOT NULL, after INTEGER NOT NULL, failed TEXT, left_seconds INTEGER, left_nanos INTEGER);
CREATE TABLE creation (
  change_set INTEGER NOT NULL, path BLOB NOT NULL, kind INTEGER NOT NULL, rights INTEGER NOT NULL, content BLOB);
CREATE TABLE removal (
  change_set INTEGER NOT NULL, path BLOB NOT NULL, reason TEXT NOT NULL, keepsake TEXT, files INTEGER NOT NULL,
  before_times BLOB, after_times BLOB);
CREATE TABLE restoring (
  change_set INTEGER NOT NULL, path BLOB NOT NULL, keepsake TEXT NOT NULL);
CREATE TABLE site (name TEXT PRIMARY KEY, phase TEXT NOT NULL, until TEXT, parts TEXT) WITHOUT ROWID;
";
/// What came with version 9: many changes of rights in one row; what came of single ones; whose the rights are.
const BLOCKS: &str = "
CREATE TABLE rights_changes (id INTEGER PRIMARY KEY, count INTEGER NOT NULL, block BLOB NOT NULL);
CREATE TABLE rights_outcome (
  id INTEGER PRIMARY KEY, not_begun INTEGER NOT NULL DEFAULT 0, failed TEXT, left_seconds INTEGER, left_nanos INTEGER);
ALTER TABLE rights ADD COLUMN change_set INTEGER;
";

/// Brings the changes of rights of version 8, a row each, into blocks.
fn into_blocks(db: &Connection) -> rusqlite::Result<()> {
    db.execute_batch(BLOCKS)?;
    let mut rows = db.prepare(
        "SELECT turn.id, folder.path, name, kind, dev, ino, links, before, after, born
         FROM turn JOIN folder ON folder.id = folder ORDER BY turn.id",
    )?;
    let mut rows = rows.query([])?;
    let mut insert = db.prepare("INSERT INTO rights_changes (id, count, block) VALUES (?,?,?)")?;
    let mut put = |first: i64, block: &BlockWriter| {
        let count = i64::try_from(block.len()).unwrap_or(i64::MAX);
        insert.execute(params![first, count, block.bytes()])
    };
    let (mut block, mut first, mut next) = (BlockWriter::default(), 0, 0);
    while let Some(row) = rows.next()? {
        let id: i64 = row.get(0)?;
        // Those in one block follow each other: numbers that were taken out again end it.
        if block.len() > 0 && (id != next || block.len() == CHANGES) {
            put(first, &std::mem::take(&mut block))?;
        }
        if block.len() == 0 {
            first = id;
        }
        let (folder, name): (Vec<u8>, Vec<u8>) = (row.get(1)?, row.get(2)?);
        let kind = kind_of(row.get(3)?).ok_or(rusqlite::Error::IntegralValueOutOfRange(3, row.get(3)?))?;
        let (dev, ino) = (as_u64(row.get(4)?), as_u64(row.get(5)?));
        let sort = Sort { kind, links: row.get(6)?, dev, before: row.get(7)?, after: row.get(8)? };
        let (folder, name) = (Path::new(OsStr::from_bytes(&folder)), OsStr::from_bytes(&name));
        block.push(folder, name, sort, &Identity { dev, ino, born: row.get(9)? });
        next = id + 1;
    }
    if block.len() > 0 {
        put(first, &block)?;
    }
    db.execute_batch(
        "INSERT INTO rights_outcome (id, failed, left_seconds, left_nanos)
           SELECT id, failed, left_seconds, left_nanos FROM turn WHERE failed IS NOT NULL OR left_seconds IS NOT NULL;
         CREATE TEMP TABLE used (id INTEGER PRIMARY KEY, change_set INTEGER);
         INSERT OR IGNORE INTO used SELECT before, id >> 40 FROM turn;
         INSERT OR IGNORE INTO used SELECT after, id >> 40 FROM turn;
         INSERT OR IGNORE INTO used SELECT rights, change_set FROM creation;
         UPDATE rights SET change_set = (SELECT change_set FROM used WHERE used.id = rights.id);
         DELETE FROM rights WHERE change_set IS NULL;
         DROP TABLE used;
         DROP TABLE turn;
         DROP TABLE folder;",
    )
}

/// What came with version 8: when the keepsakes of a change set went, and how much was written in the window that it ended.
const PURGED: &str =
    "ALTER TABLE change_set ADD COLUMN purged TEXT; ALTER TABLE change_set ADD COLUMN written INTEGER;";
/// What came with version 7: audits of the whole host, and what the last of them found; who made a change set, and with what
/// command.
const AUDITS: &str = "
ALTER TABLE change_set ADD COLUMN who TEXT;
ALTER TABLE change_set ADD COLUMN line TEXT;
CREATE TABLE audit (
  id INTEGER PRIMARY KEY, taken TEXT NOT NULL, complete INTEGER NOT NULL, high INTEGER NOT NULL, medium INTEGER NOT NULL,
  low INTEGER NOT NULL);
CREATE TABLE found (
  site TEXT NOT NULL, check_name TEXT NOT NULL, part TEXT NOT NULL, severity TEXT NOT NULL, says TEXT NOT NULL,
  paths INTEGER NOT NULL, sum BLOB NOT NULL, PRIMARY KEY (site, check_name, part)) WITHOUT ROWID;
";
/// What came with version 6: what archives brought, and where they are unpacked before it gets its names.
const DELIVERED: &str = "
ALTER TABLE creation ADD COLUMN sum BLOB;
CREATE TABLE delivered (
  change_set INTEGER NOT NULL, path BLOB NOT NULL, sum BLOB NOT NULL, PRIMARY KEY (change_set, path)) WITHOUT ROWID;
CREATE TABLE staging (change_set INTEGER NOT NULL, site TEXT NOT NULL, path BLOB NOT NULL, made BLOB);
";
/// What came with version 5: which inodes things were and are, by device, number and time of birth;
/// and which change sets were stopped.
const IDENTITIES: &str = "
ALTER TABLE change_set ADD COLUMN settled INTEGER NOT NULL DEFAULT 0;
ALTER TABLE turn ADD COLUMN born INTEGER NOT NULL DEFAULT 0;
ALTER TABLE creation ADD COLUMN above BLOB;
ALTER TABLE creation ADD COLUMN made BLOB;
ALTER TABLE removal ADD COLUMN above BLOB;
ALTER TABLE restoring ADD COLUMN above BLOB;
ALTER TABLE restoring ADD COLUMN made BLOB;
ALTER TABLE moving ADD COLUMN moved BLOB;
CREATE TABLE successor (change_set INTEGER NOT NULL, old BLOB NOT NULL, new BLOB NOT NULL);
CREATE TABLE place (
  site TEXT NOT NULL, path BLOB NOT NULL, identity BLOB NOT NULL, closed INTEGER NOT NULL, PRIMARY KEY (site, path)) WITHOUT ROWID;
CREATE TABLE window_state (
  site TEXT NOT NULL, path BLOB NOT NULL, identity BLOB NOT NULL, size INTEGER NOT NULL, modified INTEGER NOT NULL, sum BLOB);
CREATE INDEX window_state_of_site ON window_state (site);
CREATE TABLE unproven (
  site TEXT NOT NULL, path BLOB NOT NULL, how TEXT NOT NULL, PRIMARY KEY (site, path)) WITHOUT ROWID;
CREATE TABLE clean (site TEXT PRIMARY KEY, taken INTEGER NOT NULL) WITHOUT ROWID;
";
/// What came with version 4.
const LABELS: &str = "ALTER TABLE rights ADD COLUMN label TEXT;
CREATE TABLE module (change_set INTEGER NOT NULL, name TEXT NOT NULL, before TEXT, after TEXT);
CREATE TABLE switch (change_set INTEGER NOT NULL, name TEXT NOT NULL, switched_on INTEGER NOT NULL);";
/// What came with version 3.
const MOVING: &str = "
CREATE TABLE moving (
  change_set INTEGER NOT NULL, part TEXT NOT NULL, root BLOB NOT NULL, path_from BLOB NOT NULL, path_to BLOB NOT NULL,
  link INTEGER NOT NULL, file BLOB NOT NULL, text_before TEXT NOT NULL, text_after TEXT NOT NULL,
  keeper INTEGER NOT NULL);
";
/// What makes tables of a version those of the next one; the tables above are of version 2.
pub(super) const STEPS: [(i64, Step); 9] = [
    (1, Step::Sql(FROM_1)),
    (2, Step::Sql(MOVING)),
    (3, Step::Sql(LABELS)),
    (4, Step::Sql(IDENTITIES)),
    (5, Step::Sql(DELIVERED)),
    (6, Step::Sql(AUDITS)),
    (7, Step::Sql(PURGED)),
    (8, Step::Code(into_blocks)),
    (9, Step::Code(super::brought::into_blocks)),
];

/// What leads from one version to the next.
#[derive(Clone, Copy, Debug)]
pub(super) enum Step {
    Sql(&'static str),
    Code(fn(&Connection) -> rusqlite::Result<()>),
}

impl Step {
    pub(super) fn take(self, db: &Connection) -> rusqlite::Result<()> {
        match self {
            Self::Sql(sql) => db.execute_batch(sql),
            Self::Code(code) => code(db),
        }
    }
}

/// What makes tables of version 1 those of version 2.
const FROM_1: &str = "
ALTER TABLE change_set ADD COLUMN until TEXT;
ALTER TABLE change_set ADD COLUMN parts TEXT;
ALTER TABLE creation ADD COLUMN content BLOB;
ALTER TABLE site ADD COLUMN parts TEXT;
";
