//! What Webtaxon keeps from run to run, in one SQLite file of its own beside the settings: since when
//! people are missing, the settings of the last apply, and the journal of what each apply did.
//!
//! A preview only reads it. An apply writes down what it will do before it does it, so that a run that
//! was cut off anywhere can be taken up; and only one apply at a time may hold the file.

mod error;
mod journal;
mod lock;
mod schema;

pub use error::{StateError, StateErrorKind};
pub(crate) use journal::{Begun, Remembered};
pub use journal::{Ending, Journal, Recorded, Run};

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use std::path::{Path, PathBuf};
use webtaxon_core::preview::Memory;

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

/// Reads what is remembered; nothing if there is no file. Days are those of UTC.
///
/// # Errors
/// The file is there and cannot be read, or is of a newer version: a memory that was lost would let
/// days of grace begin anew without a word.
pub fn memory(settings: &Path) -> Result<Memory, StateError> {
    match Journal::read(settings)? {
        Some(journal) => journal.memory(),
        None => Ok(Memory::on(today())),
    }
}

/// Makes a new file, for its owner's eyes only.
pub(crate) fn private(file: &Path) -> std::io::Result<std::fs::File> {
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(0o600);
    }
    options.open(file)
}
