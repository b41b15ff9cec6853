//! Errors of the state.

use crate::box_error::BoxError;
use miette::Diagnostic;
use std::path::PathBuf;
use thiserror::Error;

/// Why the state cannot be used.
#[derive(Debug, Error, Diagnostic)]
#[error(transparent)]
#[diagnostic(transparent)]
pub struct StateError(#[from] StateErrorKind);

/// The kinds of error.
#[derive(Debug, Error, Diagnostic)]
#[non_exhaustive]
pub enum StateErrorKind {
    /// It cannot be read or written.
    #[error("the state in {} cannot be used: {source}", file.display())]
    #[diagnostic(
        code(WX0108),
        help(
            "restore the file, and make sure that it can be written; without it, days of grace start again and nothing can be undone"
        )
    )]
    Broken {
        /// The file.
        file: PathBuf,
        /// The reason.
        source: BoxError,
    },
    /// It was written by a newer version.
    #[error("{place} was written by a newer Webtaxon (form {found}; this version supports {known})")]
    #[diagnostic(code(WX0601), help("install the newer Webtaxon here, too; nothing was changed"))]
    Newer {
        /// The place.
        place: String,
        /// Its form.
        found: usize,
        /// The newest form that this version supports.
        known: usize,
    },
    /// Its database cannot be used.
    #[error("the state in {place} cannot be used: {source}")]
    #[diagnostic(code(WX0613), help("{help}"))]
    Server {
        /// The database.
        place: String,
        /// The reason.
        source: BoxError,
        /// The remedy.
        help: &'static str,
    },
    /// This build does not support the state in a database.
    #[error("[state] is a PostgreSQL database, which this build of Webtaxon does not support")]
    #[diagnostic(
        code(WX0519),
        help(
            "build it with the feature postgres, or remove [state]: then the state is a file beside the settings"
        )
    )]
    NoPostgres,
    /// This build does not support the state in a file.
    #[error("the state is an SQLite file, which this build of Webtaxon does not support")]
    #[diagnostic(
        code(WX0519),
        help(
            "build it with the feature sqlite, keep the state in a PostgreSQL database ([state]), or implement a place of your own (Workspace::with_state)"
        )
    )]
    NoSqlite,
    /// Another apply is running.
    #[error("another apply is running: {holder}")]
    #[diagnostic(
        code(WX0602),
        help("wait until it has finished, and make a new preview: this one does not contain its changes")
    )]
    Busy {
        /// Who runs it, and since when.
        holder: String,
    },
}

impl StateError {
    /// The kind of error.
    #[must_use]
    pub fn kind(&self) -> &StateErrorKind {
        &self.0
    }
}
