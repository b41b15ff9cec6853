//! A connection to the database, with what messages need.

use super::super::{StoreError, StoreErrorKind};
use crate::postgres::{WAIT, in_words};
use crate::sql_names::quoted;
use tokio_postgres::error::SqlState;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Client, Error, Row};
use webtaxon_core::settings::SqlTable;

/// A connection for one table.
pub(super) struct Session<'s> {
    pub(super) client: &'s Client,
    pub(super) table: &'s SqlTable,
    /// The store in a few words.
    pub(super) store: String,
}

impl Session<'_> {
    /// The rows of a query.
    pub(super) async fn query(
        &self,
        sql: &str,
        values: &[&(dyn ToSql + Sync)],
    ) -> Result<Vec<Row>, StoreError> {
        self.client.query(sql, values).await.map_err(|error| refused(&self.store, &error))
    }
}

/// The error for a refusal.
pub(super) fn refused(store: &str, error: &Error) -> StoreError {
    let store = store.to_owned();
    if error.code() == Some(&SqlState::LOCK_NOT_AVAILABLE) {
        return StoreErrorKind::Locked { store, seconds: WAIT.as_secs() }.into();
    }
    StoreErrorKind::Database { store, source: in_words(error).into() }.into()
}

/// A table's name in a statement, with its schema if there is one.
pub(super) fn name_of(table: &str) -> String {
    table.split('.').map(quoted).collect::<Vec<_>>().join(".")
}
