//! The state in an SQLite file beside the settings.

use super::database::{Cell, Database, Statement};
use super::lock::{self, Lock};
use super::{StateError, StateErrorKind, file_of};
use crate::crash;
use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::{Connection, OpenFlags, ToSql, params_from_iter};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// Says that a file is this program's, in SQLite's own header: "Wtxn".
const APPLICATION: i64 = 0x5774_786e;

/// Each step makes the next form; the count of them is the newest.
const STEPS: [&str; super::NEWEST] = [
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
CREATE TABLE kept (
  list TEXT NOT NULL,
  link TEXT NOT NULL,
  login TEXT NOT NULL,
  PRIMARY KEY (list, link),
  UNIQUE (list, login)
) STRICT, WITHOUT ROWID;
",
];

/// The file, open.
#[derive(Debug)]
pub(super) struct StateFile {
    db: Connection,
    file: PathBuf,
    _lock: Option<Lock>,
}

impl ToSql for Cell {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(match self {
            Self::Null => ToSqlOutput::Owned(Value::Null),
            Self::Int(number) => ToSqlOutput::Owned(Value::Integer(*number)),
            Self::Text(text) => ToSqlOutput::Borrowed(ValueRef::Text(text.as_bytes())),
        })
    }
}

impl StateFile {
    /// Opens the file of some settings, to be read; none if there is none yet.
    pub(super) fn read(settings: &Path) -> Result<Option<Self>, StateError> {
        let file = file_of(settings);
        if !file.exists() {
            return Ok(None);
        }
        // Not for reading alone: what a run that was cut off had begun to write is taken back first.
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        Ok(Some(Self::open(file, flags, None)?))
    }

    /// Opens it to be written, and makes it if need be; nobody else can until it is closed.
    pub(super) fn write(settings: &Path, who: &str) -> Result<Self, StateError> {
        let file = file_of(settings);
        let lock = lock::take(&file, who)?;
        #[cfg(unix)]
        {
            use std::os::unix::fs::OpenOptionsExt as _;
            // The accounts in it are for its owner's eyes only, from the first byte on.
            let mut options = std::fs::OpenOptions::new();
            let made = options.append(true).create(true).mode(0o600).open(&file);
            made.map_err(|error| broken(&file, &error))?;
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        Self::open(file, flags, Some(lock))
    }

    fn open(file: PathBuf, flags: OpenFlags, lock: Option<Lock>) -> Result<Self, StateError> {
        let opened = Connection::open_with_flags(&file, flags).and_then(|db| {
            db.busy_timeout(Duration::from_secs(10))?;
            db.execute_batch("PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON;")?;
            let ours = is_ours(&db)?;
            Ok((db, ours))
        });
        let (db, ours) = opened.map_err(|error| broken(&file, &error))?;
        if !ours {
            return Err(broken(&file, &"it is another program's file"));
        }
        Ok(Self { db, file, _lock: lock })
    }

    /// Brings the tables from an older form to the newest, at once or not at all.
    pub(super) fn migrate(&mut self, from: usize) -> Result<(), StateError> {
        let mut migrate = || -> rusqlite::Result<()> {
            let change = self.db.transaction()?;
            for step in STEPS.iter().skip(from) {
                change.execute_batch(step)?;
            }
            let header =
                format!("PRAGMA application_id = {APPLICATION}; PRAGMA user_version = {};", super::NEWEST);
            change.execute_batch(&header)?;
            change.commit()
        };
        migrate().map_err(|error| broken(&self.file, &error))
    }
}

impl Database for StateFile {
    fn place(&self) -> String {
        self.file.display().to_string()
    }

    fn form(&self) -> Result<usize, StateError> {
        let form: i64 = self
            .db
            .query_row("PRAGMA user_version", [], |row| row.get(0))
            .map_err(|error| broken(&self.file, &error))?;
        Ok(usize::try_from(form).unwrap_or(usize::MAX))
    }

    fn kind_of_edit(&self) -> &'static str {
        "json_extract(edit, '$.kind')"
    }

    fn all(&self, sql: &str, values: Vec<Cell>) -> Result<Vec<Vec<Cell>>, StateError> {
        let rows = || -> rusqlite::Result<Vec<Vec<Cell>>> {
            let mut query = self.db.prepare(sql)?;
            let columns = query.column_count();
            let rows = query.query_map(params_from_iter(values), |row| {
                (0..columns).map(|at| Ok(cell(row.get_ref(at)?))).collect()
            })?;
            rows.collect()
        };
        rows().map_err(|error| broken(&self.file, &error))
    }

    fn change(&mut self, statements: Vec<Statement>) -> Result<(), StateError> {
        let done = self.db.transaction().and_then(|change| {
            for statement in statements {
                let mut prepared = change.prepare(statement.sql)?;
                for row in statement.rows {
                    prepared.execute(params_from_iter(row))?;
                }
            }
            crash::point();
            change.commit()
        });
        crash::point();
        done.map_err(|error| broken(&self.file, &error))
    }

    fn broken(&self, reason: &dyn std::fmt::Display) -> StateError {
        broken(&self.file, reason)
    }
}

fn cell(value: ValueRef<'_>) -> Cell {
    match value {
        ValueRef::Null => Cell::Null,
        ValueRef::Integer(number) => Cell::Int(number),
        ValueRef::Real(number) => Cell::Text(number.to_string()),
        ValueRef::Text(text) | ValueRef::Blob(text) => Cell::Text(String::from_utf8_lossy(text).into_owned()),
    }
}

/// Whether the file is this program's, or empty.
fn is_ours(db: &Connection) -> rusqlite::Result<bool> {
    let id: i64 = db.query_row("PRAGMA application_id", [], |row| row.get(0))?;
    let tables: i64 = db.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0))?;
    Ok(id == APPLICATION || (id == 0 && tables == 0))
}

fn broken(file: &Path, reason: &dyn std::fmt::Display) -> StateError {
    StateErrorKind::Broken { file: file.to_owned(), reason: reason.to_string() }.into()
}
