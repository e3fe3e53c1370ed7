//! The ledger's tables, and the steps from one version of them to the next.

/// The version of the tables below.
pub(super) const VERSION: i64 = 8;
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
pub(super) const STEPS: [(i64, &str); 7] =
    [(1, FROM_1), (2, MOVING), (3, LABELS), (4, IDENTITIES), (5, DELIVERED), (6, AUDITS), (7, PURGED)];
/// What makes tables of version 1 those of version 2.
const FROM_1: &str = "
ALTER TABLE change_set ADD COLUMN until TEXT;
ALTER TABLE change_set ADD COLUMN parts TEXT;
ALTER TABLE creation ADD COLUMN content BLOB;
ALTER TABLE site ADD COLUMN parts TEXT;
";
