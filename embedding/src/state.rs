//! What Webtaxon remembers from run to run, and its journal, in a database of the application's.

use sqlite::{Connection, Value};
use std::fmt::{Debug, Formatter};
use std::fs::{File, TryLockError};
use std::path::{Path, PathBuf};
use webtaxon::BoxError;
use webtaxon::state::{
    Cell, SQLITE_TABLES, StateDatabase, StateError, StateErrorKind, StateStore, Statement,
};

/// A database file that has the state and nothing else.
#[derive(Clone, Debug)]
pub struct State {
    file: PathBuf,
}

impl State {
    /// The state in this file, whether there is one already or not.
    pub fn at(file: &Path) -> Self {
        Self { file: file.to_owned() }
    }

    fn open(&self, lock: Option<File>) -> Result<Box<dyn StateDatabase>, StateError> {
        let opened = sqlite::open(&self.file).and_then(|mut db| {
            db.set_busy_timeout(10_000)?;
            db.execute("PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON")?;
            Ok(db)
        });
        let db = opened.map_err(|error| broken(&self.file, error))?;
        Ok(Box::new(Open { db, file: self.file.clone(), _lock: lock }))
    }
}

impl StateStore for State {
    fn describe(&self) -> String {
        self.file.display().to_string()
    }

    fn read(&self) -> Result<Option<Box<dyn StateDatabase>>, StateError> {
        if self.file.exists() { self.open(None).map(Some) } else { Ok(None) }
    }

    fn write(&self, who: &str) -> Result<Box<dyn StateDatabase>, StateError> {
        let lock = File::create(self.file.with_extension("lock"));
        let lock = lock.map_err(|error| broken(&self.file, error))?;
        match lock.try_lock() {
            Ok(()) => self.open(Some(lock)),
            Err(TryLockError::WouldBlock) => {
                Err(StateErrorKind::Busy { holder: format!("the Loans Desk, not {who}") }.into())
            }
            Err(TryLockError::Error(error)) => Err(broken(&self.file, error)),
        }
    }
}

/// The database, open; to be written as long as the lock is kept.
struct Open {
    db: Connection,
    file: PathBuf,
    _lock: Option<File>,
}

impl Debug for Open {
    fn fmt(&self, out: &mut Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Open").field("file", &self.file).finish_non_exhaustive()
    }
}

impl Open {
    fn rows(&self, sql: &str, values: Vec<Cell>) -> sqlite::Result<Vec<Vec<Cell>>> {
        let mut query = self.db.prepare(sql)?;
        bind(&mut query, values)?;
        let mut rows = Vec::new();
        while query.next()? == sqlite::State::Row {
            rows.push(
                (0..query.column_count())
                    .map(|at| Ok(cell(query.read(at)?)))
                    .collect::<sqlite::Result<_>>()?,
            );
        }
        Ok(rows)
    }

    /// Does everything, or nothing.
    fn at_once(&self, act: impl FnOnce() -> sqlite::Result<()>) -> Result<(), StateError> {
        let done =
            self.db.execute("BEGIN IMMEDIATE").and_then(|()| act()).and_then(|()| self.db.execute("COMMIT"));
        done.map_err(|error| {
            let _ = self.db.execute("ROLLBACK");
            broken(&self.file, error)
        })
    }
}

impl StateDatabase for Open {
    fn place(&self) -> String {
        self.file.display().to_string()
    }

    fn form(&self) -> Result<usize, StateError> {
        let rows = self.all("PRAGMA user_version", Vec::new())?;
        let form = rows.first().and_then(|row| row.first()).and_then(Cell::int);
        Ok(form.and_then(|form| usize::try_from(form).ok()).unwrap_or(usize::MAX))
    }

    fn migrate(&mut self, from: usize) -> Result<(), StateError> {
        self.at_once(|| {
            for step in SQLITE_TABLES.iter().skip(from) {
                self.db.execute(step)?;
            }
            self.db.execute(format!("PRAGMA user_version = {}", SQLITE_TABLES.len()))
        })
    }

    fn all(&self, sql: &str, values: Vec<Cell>) -> Result<Vec<Vec<Cell>>, StateError> {
        self.rows(sql, values).map_err(|error| broken(&self.file, error))
    }

    fn change(&mut self, statements: Vec<Statement>) -> Result<(), StateError> {
        self.at_once(|| {
            for statement in statements {
                for row in statement.rows {
                    self.rows(statement.sql, row)?;
                }
            }
            Ok(())
        })
    }

    fn broken(&self, source: BoxError) -> StateError {
        broken(&self.file, source)
    }
}

fn bind(statement: &mut sqlite::Statement<'_>, values: Vec<Cell>) -> sqlite::Result<()> {
    for (at, value) in values.into_iter().enumerate() {
        let value = match value {
            Cell::Null => Value::Null,
            Cell::Int(number) => Value::Integer(number),
            Cell::Text(text) => Value::String(text),
        };
        statement.bind((at + 1, value))?;
    }
    Ok(())
}

fn cell(value: Value) -> Cell {
    match value {
        Value::Integer(number) => Cell::Int(number),
        Value::String(text) => Cell::Text(text),
        Value::Float(_) | Value::Binary(_) | Value::Null => Cell::Null,
    }
}

fn broken(file: &Path, source: impl Into<BoxError>) -> StateError {
    StateErrorKind::Broken { file: file.to_owned(), source: source.into() }.into()
}
