//! Statements with their values.

use std::sync::Arc;

/// A bound value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in super::super) enum Bound {
    Null,
    Text(String),
    Bytes(Vec<u8>),
}

impl Bound {
    pub(super) fn of(text: &str) -> Self {
        Self::Text(text.to_owned())
    }

    /// The value as text; `None` for null and for bytes.
    #[cfg(feature = "postgres")]
    pub(in super::super) fn text(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            Self::Null | Self::Bytes(_) => None,
        }
    }
}

/// A statement with its values; placeholders are numbered from 1.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in super::super) struct Statement {
    pub(in super::super) text: Text,
    pub(in super::super) values: Vec<Bound>,
    /// Whether it must change exactly one row.
    pub(in super::super) is_one: bool,
    /// Whether it refers to a row inserted by another statement.
    pub(in super::super) comes_after: bool,
}

/// The text of a statement.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in super::super) struct Text {
    pub(in super::super) one: Arc<str>,
    /// The form for many rows; `None` if there is none.
    pub(in super::super) many: Option<Many>,
}

/// The form of an INSERT for many rows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in super::super) enum Many {
    /// One statement, with an array for each column.
    #[cfg(feature = "postgres")]
    Arrays(Arc<str>),
    /// The beginning, and the expression for one row, which is repeated.
    #[cfg(feature = "mysql")]
    Rows(Arc<str>, Arc<str>),
}

impl From<String> for Text {
    fn from(one: String) -> Self {
        Self { one: one.into(), many: None }
    }
}

/// A value as an SQL literal (ISO 9075-2).
pub(super) fn literal(value: &Bound) -> String {
    match value {
        Bound::Null => "NULL".to_owned(),
        Bound::Text(text) if text.contains('\0') => {
            format!("CAST(X'{}' AS TEXT)", super::hex(text.as_bytes()))
        }
        Bound::Text(text) => format!("'{}'", text.replace('\'', "''")),
        Bound::Bytes(bytes) => format!("X'{}'", super::hex(bytes)),
    }
}
