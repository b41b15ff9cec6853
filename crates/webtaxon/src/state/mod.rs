//! The state between runs: since when people are missing, the settings of the last apply, links for which the list
//! has no place, and the journal of each apply. It is an SQLite file beside the settings, or a schema of a PostgreSQL
//! database shared by several hosts.
//!
//! A preview only reads it. An apply records its edits before making them, so that an interrupted run can be
//! resolved; only one apply at a time can write.

mod database;
mod error;
#[cfg(feature = "sqlite")]
mod file;
mod journal;
#[cfg(feature = "sqlite")]
mod lock;
#[cfg(not(all(feature = "postgres", feature = "sqlite")))]
mod missing;
mod run;
#[cfg(feature = "postgres")]
mod server;

pub use database::{Cell, NEWEST, SQLITE_TABLES, StateDatabase, StateStore, Statement};
pub use error::{StateError, StateErrorKind};
pub use journal::Journal;
pub(crate) use journal::{Begun, Remembered, Ties, memory};
pub use run::{Ending, Recorded, Run};

use std::path::{Path, PathBuf};
use std::sync::Arc;
use webtaxon_core::settings::StateDatabase as StateSettings;

/// The state file of a settings file: `webtaxon.state.sqlite` for `webtaxon.toml`.
#[must_use]
pub fn file_of(settings: &Path) -> PathBuf {
    settings.with_extension("state.sqlite")
}

/// The folder for copies of the accounts, made before each apply: `webtaxon.backups`.
#[must_use]
pub fn backups_of(settings: &Path) -> PathBuf {
    settings.with_extension("backups")
}

/// The place of the state in the settings: a database, or a file beside them. Relative paths start from `folder`.
pub(crate) fn open(settings: &Path, server: Option<&StateSettings>, folder: &Path) -> Arc<dyn StateStore> {
    match server {
        #[cfg(feature = "postgres")]
        Some(server) => Arc::new(server::StateServer { settings: server.clone(), folder: folder.to_owned() }),
        #[cfg(not(feature = "postgres"))]
        Some(server) => {
            let _ = folder;
            Arc::new(missing::MissingServer(server.clone()))
        }
        #[cfg(feature = "sqlite")]
        None => Arc::new(file::StateFile(file_of(settings))),
        #[cfg(not(feature = "sqlite"))]
        None => Arc::new(missing::MissingFile(file_of(settings))),
    }
}
