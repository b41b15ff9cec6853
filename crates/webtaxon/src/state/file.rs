//! The state in an SQLite file beside the settings.

use super::database::{Cell, NEWEST, SQLITE_TABLES, StateDatabase, StateStore, Statement};
use super::lock::{self, Lock};
use super::{StateError, StateErrorKind};
use crate::box_error::BoxError;
use crate::crash;
use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::{Connection, OpenFlags, ToSql, params_from_iter};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// The application id in SQLite's header: "Wtxn".
const APPLICATION: i64 = 0x5774_786e;

/// The open file.
#[derive(Debug)]
struct OpenFile {
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

/// The path of the file, which may not exist yet.
#[derive(Debug)]
pub(super) struct StateFile(pub(super) PathBuf);

impl StateStore for StateFile {
    fn describe(&self) -> String {
        self.0.display().to_string()
    }

    fn read(&self) -> Result<Option<Box<dyn StateDatabase>>, StateError> {
        if !self.0.exists() {
            return Ok(None);
        }
        // Not opened read-only, so that the writes of an interrupted run are rolled back first.
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        Ok(Some(Box::new(OpenFile::open(self.0.clone(), flags, None)?)))
    }

    fn write(&self, who: &str) -> Result<Box<dyn StateDatabase>, StateError> {
        let lock = lock::take(&self.0, who)?;
        #[cfg(unix)]
        {
            use std::os::unix::fs::OpenOptionsExt as _;
            // It contains accounts, so only its owner may read it, from the first byte on.
            let mut options = std::fs::OpenOptions::new();
            let made = options.append(true).create(true).mode(0o600).open(&self.0);
            made.map_err(|error| broken(&self.0, error))?;
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        Ok(Box::new(OpenFile::open(self.0.clone(), flags, Some(lock))?))
    }
}

impl OpenFile {
    fn open(file: PathBuf, flags: OpenFlags, lock: Option<Lock>) -> Result<Self, StateError> {
        let opened = Connection::open_with_flags(&file, flags).and_then(|db| {
            db.busy_timeout(Duration::from_secs(10))?;
            db.execute_batch(
                "PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON; PRAGMA cache_spill = OFF;",
            )?;
            let ours = is_ours(&db)?;
            Ok((db, ours))
        });
        let (db, ours) = opened.map_err(|error| broken(&file, error))?;
        if !ours {
            return Err(broken(&file, "it is another program's file"));
        }
        Ok(Self { db, file, _lock: lock })
    }
}

impl StateDatabase for OpenFile {
    fn place(&self) -> String {
        self.file.display().to_string()
    }

    fn form(&self) -> Result<usize, StateError> {
        let form: i64 = self
            .db
            .query_row("PRAGMA user_version", [], |row| row.get(0))
            .map_err(|error| broken(&self.file, error))?;
        Ok(usize::try_from(form).unwrap_or(usize::MAX))
    }

    fn migrate(&mut self, from: usize) -> Result<(), StateError> {
        let mut migrate = || -> rusqlite::Result<()> {
            let change = self.db.transaction()?;
            for step in SQLITE_TABLES.iter().skip(from) {
                change.execute_batch(step)?;
            }
            let header = format!("PRAGMA application_id = {APPLICATION}; PRAGMA user_version = {};", NEWEST);
            change.execute_batch(&header)?;
            change.commit()
        };
        migrate().map_err(|error| broken(&self.file, error))
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
        rows().map_err(|error| broken(&self.file, error))
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
        done.map_err(|error| broken(&self.file, error))
    }

    fn broken(&self, source: BoxError) -> StateError {
        broken(&self.file, source)
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

fn broken(file: &Path, source: impl Into<BoxError>) -> StateError {
    StateErrorKind::Broken { file: file.to_owned(), source: source.into() }.into()
}
