//! What Webtaxon keeps from run to run: since when people are missing, the settings of the last apply, links
//! that have no place in the list, and the journal of what each apply did. It is an SQLite file beside the
//! settings, or a schema of a PostgreSQL database where several hosts do the work.
//!
//! A preview only reads it. An apply writes down what it will do before it does it, so that a run that
//! was cut off anywhere can be taken up; and only one apply at a time may write it.

mod database;
mod error;
mod file;
mod journal;
mod lock;
#[cfg(feature = "postgres")]
mod server;

pub use error::{StateError, StateErrorKind};
pub(crate) use journal::{Begun, Remembered, Ties};
pub use journal::{Ending, Journal, Recorded, Run};

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::path::{Path, PathBuf};
use webtaxon_core::preview::Memory;
use webtaxon_core::settings::StateDatabase;

/// The newest form of the tables that this version knows.
const NEWEST: usize = 2;

/// The file that belongs to a settings file: `webtaxon.state.sqlite` to `webtaxon.toml`.
#[must_use]
pub fn file_of(settings: &Path) -> PathBuf {
    settings.with_extension("state.sqlite")
}

/// The folder for copies of the application's list, each made before an apply: `webtaxon.backups`.
#[must_use]
pub fn backups_of(settings: &Path) -> PathBuf {
    settings.with_extension("backups")
}

/// Today, by UTC.
pub(crate) fn today() -> Date {
    Timestamp::now().to_zoned(TimeZone::UTC).date()
}

/// Where the state of some settings is.
#[derive(Clone, Debug)]
pub(crate) struct Place {
    /// The settings, beside which it stands unless a server has it.
    pub(crate) settings: PathBuf,
    /// The server that has it.
    pub(crate) server: Option<StateDatabase>,
    /// What paths in the settings start from.
    #[cfg_attr(not(feature = "postgres"), expect(dead_code, reason = "a file stands beside the settings"))]
    pub(crate) folder: PathBuf,
}

impl Place {
    /// Where it is, for people.
    pub(crate) fn describe(&self) -> String {
        self.server.as_ref().map_or_else(|| file_of(&self.settings).display().to_string(), in_words)
    }
}

/// Where a database has the state, for people.
fn in_words(state: &StateDatabase) -> String {
    let server = &state.server;
    let host = if server.host.starts_with('/') {
        server.host.clone()
    } else {
        format!("{}:{}", server.host, server.port)
    };
    format!("the schema {} of the database {} at {host}", state.schema, server.database)
}

/// Reads what is remembered; nothing if nothing was yet. Days are those of UTC.
///
/// # Errors
/// It is there and cannot be read, or is of a newer version: a memory that was lost would let days of grace
/// begin anew without a word.
pub(crate) fn memory(place: &Place) -> Result<Memory, StateError> {
    match Journal::read(place)? {
        Some(journal) => journal.memory(),
        None => Ok(Memory::on(today())),
    }
}
