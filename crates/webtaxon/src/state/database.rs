//! The interface to the state's database: open it, and run a few SQL statements.

use super::StateError;
use crate::box_error::BoxError;
use webtaxon_core::settings::StateDatabase as StateSettings;

/// The newest form of the tables that this version supports.
pub const NEWEST: usize = 4;

/// A value of a row.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Cell {
    /// Null.
    Null,
    /// An integer.
    Int(i64),
    /// A text.
    Text(String),
}

impl Cell {
    /// The text; `None` for null.
    #[must_use]
    pub fn text(self) -> Option<String> {
        match self {
            Self::Null => None,
            Self::Int(number) => Some(number.to_string()),
            Self::Text(text) => Some(text),
        }
    }

    /// The number; `None` for other values.
    #[must_use]
    pub fn int(&self) -> Option<i64> {
        match self {
            Self::Int(number) => Some(*number),
            Self::Null | Self::Text(_) => None,
        }
    }
}

impl From<i64> for Cell {
    fn from(number: i64) -> Self {
        Self::Int(number)
    }
}

impl<T: Into<String>> From<Option<T>> for Cell {
    fn from(text: Option<T>) -> Self {
        text.map_or(Self::Null, |text| Self::Text(text.into()))
    }
}

impl From<String> for Cell {
    fn from(text: String) -> Self {
        Self::Text(text)
    }
}

impl From<&str> for Cell {
    fn from(text: &str) -> Self {
        Self::Text(text.to_owned())
    }
}

/// A statement with the values of each execution; `?1` stands for the first value.
#[derive(Debug)]
pub struct Statement {
    /// The statement.
    pub sql: &'static str,
    /// The values of each execution; without rows it is not executed.
    pub rows: Vec<Vec<Cell>>,
}

impl Statement {
    /// A statement executed once.
    #[must_use]
    pub fn once(sql: &'static str, values: Vec<Cell>) -> Self {
        Self { sql, rows: vec![values] }
    }
}

/// A place for the state: a file, a schema of a PostgreSQL database, or an application's own
/// ([`Workspace::with_state`](crate::Workspace::with_state)).
///
/// It contains copies of accounts, so protect it. Its methods may block: they are called on a thread of their own.
pub trait StateStore: Send + Sync {
    /// The place, in words.
    fn describe(&self) -> String;

    /// Opens the state for reading; `None` if it does not exist yet.
    ///
    /// # Errors
    /// It exists, but cannot be read.
    fn read(&self) -> Result<Option<Box<dyn StateDatabase>>, StateError>;

    /// Opens the state for writing on behalf of `who`, creating it if needed. Until it is dropped, no other process
    /// or thread can open it for writing: they get [`StateErrorKind::Busy`](super::StateErrorKind::Busy).
    ///
    /// # Errors
    /// It is in use, or cannot be written.
    fn write(&self, who: &str) -> Result<Box<dyn StateDatabase>, StateError>;
}

/// An open database with the state's tables. Its SQL is the subset that SQLite and PostgreSQL share; `?1` stands for
/// the first value.
pub trait StateDatabase: Send + std::fmt::Debug {
    /// The place, in words.
    fn place(&self) -> String;

    /// The form of its tables; 0 before there are any.
    ///
    /// # Errors
    /// It cannot be read, or contains another program's tables.
    fn form(&self) -> Result<usize, StateError>;

    /// Upgrades the tables to [`NEWEST`], completely or not at all: for SQLite, runs [`SQLITE_TABLES`] from index
    /// `from`, and stores the new form.
    ///
    /// # Errors
    /// It cannot be written.
    fn migrate(&mut self, from: usize) -> Result<(), StateError>;

    /// The SQL expression for the member `kind` of the JSON in the column `edit`.
    fn kind_of_edit(&self) -> &'static str {
        "json_extract(edit, '$.kind')"
    }

    /// All rows of a query.
    ///
    /// # Errors
    /// It cannot be read.
    fn all(&self, sql: &str, values: Vec<Cell>) -> Result<Vec<Vec<Cell>>, StateError>;

    /// Runs statements in order, in one transaction. On return, the changes survive a power failure.
    ///
    /// # Errors
    /// It cannot be written.
    fn change(&mut self, statements: Vec<Statement>) -> Result<(), StateError>;

    /// The error for an unusable database.
    fn broken(&self, source: BoxError) -> StateError;
}

/// The tables in SQLite; each step produces the next form.
pub const SQLITE_TABLES: [&str; NEWEST] = [
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
    "
CREATE TABLE footprint (intake TEXT PRIMARY KEY, says TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE fresh (link TEXT PRIMARY KEY, server TEXT NOT NULL, since TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE origin (link TEXT PRIMARY KEY, directory TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE seal (key TEXT PRIMARY KEY) STRICT, WITHOUT ROWID;
",
    "
CREATE TABLE habit (list TEXT PRIMARY KEY, says TEXT NOT NULL) STRICT, WITHOUT ROWID;
",
];

/// The place of a state in a database, in words.
pub(super) fn in_words(state: &StateSettings) -> String {
    let server = &state.server;
    let host = if server.host.starts_with('/') {
        server.host.clone()
    } else {
        format!("{}:{}", server.host, server.port)
    };
    format!("the schema {} of the database {} at {host}", state.schema, server.database)
}
