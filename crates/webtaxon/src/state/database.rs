//! What is asked of whatever keeps the state: to be opened, and then a few statements in SQL.

use super::StateError;
use webtaxon_core::settings::StateDatabase as StateSettings;

/// The newest form of the tables that this version knows.
pub const NEWEST: usize = 2;

/// A value of a row.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Cell {
    /// Nothing.
    Null,
    /// A whole number.
    Int(i64),
    /// A text.
    Text(String),
}

impl Cell {
    /// The text; none for null.
    #[must_use]
    pub fn text(self) -> Option<String> {
        match self {
            Self::Null => None,
            Self::Int(number) => Some(number.to_string()),
            Self::Text(text) => Some(text),
        }
    }

    /// The number; none for what is none.
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

/// A statement, and the values for each time that it is run; `?1` stands for the first of them.
#[derive(Debug)]
pub struct Statement {
    /// The statement.
    pub sql: &'static str,
    /// The values, once for each time; with no row it is not run.
    pub rows: Vec<Vec<Cell>>,
}

impl Statement {
    /// One that is run once.
    #[must_use]
    pub fn once(sql: &'static str, values: Vec<Cell>) -> Self {
        Self { sql, rows: vec![values] }
    }
}

/// Where the state is kept: a file, a schema of a PostgreSQL database, or what an application has of its own
/// ([`Workspace::with_state`](crate::Workspace::with_state)).
///
/// Accounts stand in it: keep it from other eyes. It may block, since it is asked on a thread of its own.
pub trait StateStore: Send + Sync {
    /// Where it is, for people.
    fn describe(&self) -> String;

    /// Opens it to be read; none if there is none yet.
    ///
    /// # Errors
    /// It is there, and cannot be read.
    fn read(&self) -> Result<Option<Box<dyn StateDatabase>>, StateError>;

    /// Opens it to be written, empty if there was none; `who` wants it. Until it is dropped nobody else is let in,
    /// from this process or another: they get [`StateErrorKind::Busy`](super::StateErrorKind::Busy).
    ///
    /// # Errors
    /// Somebody else has it, or it cannot be written.
    fn write(&self, who: &str) -> Result<Box<dyn StateDatabase>, StateError>;
}

/// A database with the state's tables, open. Its SQL is what SQLite and PostgreSQL have in common; `?1`
/// stands for the first value.
pub trait StateDatabase: Send + std::fmt::Debug {
    /// Where it is, for people.
    fn place(&self) -> String;

    /// The form of its tables: 0 before there are any.
    ///
    /// # Errors
    /// It cannot be asked, or has another program's tables.
    fn form(&self) -> Result<usize, StateError>;

    /// Brings the tables from an older form to [`NEWEST`], at once or not at all: for SQLite, all of
    /// [`SQLITE_TABLES`] but the first `from`, and then the new form is written down.
    ///
    /// # Errors
    /// It cannot be written.
    fn migrate(&mut self, from: usize) -> Result<(), StateError>;

    /// What says, in SQL, which kind an edit is: the member `kind` of the JSON in the column `edit`.
    fn kind_of_edit(&self) -> &'static str {
        "json_extract(edit, '$.kind')"
    }

    /// Every row of an answer.
    ///
    /// # Errors
    /// It cannot be asked.
    fn all(&self, sql: &str, values: Vec<Cell>) -> Result<Vec<Vec<Cell>>, StateError>;

    /// Runs statements in their order, all of them or none. Once this returns, what was written outlives a
    /// loss of power.
    ///
    /// # Errors
    /// It cannot be written.
    fn change(&mut self, statements: Vec<Statement>) -> Result<(), StateError>;

    /// That it cannot be used, for a reason.
    fn broken(&self, reason: &dyn std::fmt::Display) -> StateError;
}

/// The tables in SQLite; each step makes the next form.
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
];

/// Where a database has the state, for people.
pub(super) fn in_words(state: &StateSettings) -> String {
    let server = &state.server;
    let host = if server.host.starts_with('/') {
        server.host.clone()
    } else {
        format!("{}:{}", server.host, server.port)
    };
    format!("the schema {} of the database {} at {host}", state.schema, server.database)
}
