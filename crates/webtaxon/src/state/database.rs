//! What the journal asks of the database that has it, whichever that is.

use super::StateError;

/// A value of a row.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Cell {
    Null,
    Int(i64),
    Text(String),
}

impl Cell {
    /// The text; none for null.
    pub(super) fn text(self) -> Option<String> {
        match self {
            Self::Null => None,
            Self::Int(number) => Some(number.to_string()),
            Self::Text(text) => Some(text),
        }
    }

    /// The number; none for what is none.
    pub(super) fn int(&self) -> Option<i64> {
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
pub(super) struct Statement {
    pub(super) sql: &'static str,
    pub(super) rows: Vec<Vec<Cell>>,
}

impl Statement {
    /// One that is run once.
    pub(super) fn once(sql: &'static str, values: Vec<Cell>) -> Self {
        Self { sql, rows: vec![values] }
    }
}

/// A database with the journal's tables.
pub(super) trait Database: Send + std::fmt::Debug {
    /// Where it is, for people.
    fn place(&self) -> String;

    /// The form of its tables: 0 before there are any.
    fn form(&self) -> Result<usize, StateError>;

    /// What says which kind an edit is.
    fn kind_of_edit(&self) -> &'static str;

    /// Every row of an answer.
    fn all(&self, sql: &str, values: Vec<Cell>) -> Result<Vec<Vec<Cell>>, StateError>;

    /// Runs statements in their order, all of them or none.
    fn change(&mut self, statements: Vec<Statement>) -> Result<(), StateError>;

    /// That it cannot be used.
    fn broken(&self, reason: &dyn std::fmt::Display) -> StateError;
}
