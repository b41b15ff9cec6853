//! A place for the state that this build does not support.

use super::{StateDatabase, StateError, StateErrorKind, StateStore};

/// A file, in a build without SQLite.
#[cfg(not(feature = "sqlite"))]
pub(super) struct MissingFile(pub(super) std::path::PathBuf);

#[cfg(not(feature = "sqlite"))]
impl StateStore for MissingFile {
    fn describe(&self) -> String {
        self.0.display().to_string()
    }

    fn read(&self) -> Result<Option<Box<dyn StateDatabase>>, StateError> {
        // Without a file nothing has been applied; ignoring one would restart days of grace.
        if self.0.exists() { Err(StateErrorKind::NoSqlite.into()) } else { Ok(None) }
    }

    fn write(&self, _: &str) -> Result<Box<dyn StateDatabase>, StateError> {
        Err(StateErrorKind::NoSqlite.into())
    }
}

/// A schema, in a build without PostgreSQL.
#[cfg(not(feature = "postgres"))]
pub(super) struct MissingServer(pub(super) webtaxon_core::settings::StateDatabase);

#[cfg(not(feature = "postgres"))]
impl StateStore for MissingServer {
    fn describe(&self) -> String {
        super::database::in_words(&self.0)
    }

    fn read(&self) -> Result<Option<Box<dyn StateDatabase>>, StateError> {
        Err(StateErrorKind::NoPostgres.into())
    }

    fn write(&self, _: &str) -> Result<Box<dyn StateDatabase>, StateError> {
        Err(StateErrorKind::NoPostgres.into())
    }
}
