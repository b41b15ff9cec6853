//! Values to SQLite and back.

use super::super::sql::{Bound, marked};
use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::{Row, ToSql};
use std::borrow::Cow;

impl ToSql for Bound {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(match self {
            Bound::Null => ToSqlOutput::Owned(Value::Null),
            Bound::Text(text) => ToSqlOutput::Borrowed(ValueRef::Text(text.as_bytes())),
            Bound::Bytes(bytes) => ToSqlOutput::Borrowed(ValueRef::Blob(bytes)),
        })
    }
}

/// A value as text, without loss; `None` for null, and for an unread column.
pub(super) fn shown<'r>(row: &'r Row<'_>, at: usize) -> Option<Cow<'r, str>> {
    match row.get_ref(at).ok()? {
        ValueRef::Null => None,
        ValueRef::Integer(number) => Some(number.to_string().into()),
        ValueRef::Real(number) => Some(number.to_string().into()),
        ValueRef::Text(text) => Some(String::from_utf8_lossy(text)),
        ValueRef::Blob(bytes) => Some(marked(bytes).into()),
    }
}
