//! The form of the state file, and how an older one becomes the newest.

use rusqlite::Connection;

/// Says that a file is this program's, in SQLite's own header: "Wtxn".
pub(super) const APPLICATION: i64 = 0x5774_786e;

/// Each step makes the next form; the count of them is the newest.
const STEPS: [&str; 2] = [
    "
CREATE TABLE missed (link TEXT PRIMARY KEY, since TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE known (link TEXT PRIMARY KEY, login TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE applied (setting TEXT PRIMARY KEY, says TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE run (
  run INTEGER PRIMARY KEY AUTOINCREMENT,
  begun TEXT NOT NULL,
  ended TEXT,
  who TEXT NOT NULL,
  undoes INTEGER,
  settings TEXT NOT NULL,
  store TEXT NOT NULL,
  released TEXT NOT NULL,
  backup TEXT,
  ending TEXT
) STRICT;
CREATE TABLE edit (
  run INTEGER NOT NULL REFERENCES run ON DELETE CASCADE,
  place INTEGER NOT NULL,
  edit TEXT NOT NULL,
  outcome TEXT,
  reason TEXT,
  PRIMARY KEY (run, place)
) STRICT, WITHOUT ROWID;
",
    "
CREATE TABLE kept (link TEXT PRIMARY KEY, login TEXT NOT NULL UNIQUE) STRICT, WITHOUT ROWID;
",
];

/// The newest form.
pub(super) const NEWEST: usize = STEPS.len();

/// The form of a file: 0 for one that is new.
pub(super) fn form(db: &Connection) -> rusqlite::Result<i64> {
    db.query_row("PRAGMA user_version", [], |row| row.get(0))
}

/// Whether the file is this program's, or empty.
pub(super) fn is_ours(db: &Connection) -> rusqlite::Result<bool> {
    let id: i64 = db.query_row("PRAGMA application_id", [], |row| row.get(0))?;
    let tables: i64 = db.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0))?;
    Ok(id == APPLICATION || (id == 0 && tables == 0))
}

/// Brings an older file to the newest form, at once or not at all.
pub(super) fn migrate(db: &mut Connection, from: usize) -> rusqlite::Result<()> {
    let change = db.transaction()?;
    for step in STEPS.iter().skip(from) {
        change.execute_batch(step)?;
    }
    change
        .execute_batch(&format!("PRAGMA application_id = {APPLICATION}; PRAGMA user_version = {NEWEST};"))?;
    change.commit()
}
