//! What can be wrong with Webtaxon's own file.

use miette::Diagnostic;
use std::path::PathBuf;
use thiserror::Error;

/// Why what is remembered cannot be used.
#[derive(Debug, Error, Diagnostic)]
#[error(transparent)]
#[diagnostic(transparent)]
pub struct StateError(#[from] StateErrorKind);

/// What is wrong.
#[derive(Debug, Error, Diagnostic)]
#[non_exhaustive]
pub enum StateErrorKind {
    /// It cannot be read or written.
    #[error("what was remembered in {} cannot be used: {reason}", file.display())]
    #[diagnostic(
        code(WX0108),
        help(
            "put the file back as it was, and see that it may be written; without it, days of grace begin anew and nothing can be undone"
        )
    )]
    Broken {
        /// The file.
        file: PathBuf,
        /// The reason.
        reason: String,
    },
    /// A newer Webtaxon wrote it.
    #[error("{place} was written by a newer Webtaxon (its form is {found}, this one knows {known})")]
    #[diagnostic(code(WX0601), help("install the newer Webtaxon here, too; nothing was changed"))]
    Newer {
        /// Where it is.
        place: String,
        /// Its form.
        found: usize,
        /// The newest form that this version knows.
        known: usize,
    },
    /// The database that has it cannot be used.
    #[error("what is remembered in {place} cannot be used: {reason}")]
    #[diagnostic(code(WX0613), help("{help}"))]
    Server {
        /// The database.
        place: String,
        /// The reason.
        reason: String,
        /// The way out.
        help: &'static str,
    },
    /// This build has no place for it there.
    #[error("[state] names a PostgreSQL database, and this build of Webtaxon has no PostgreSQL in it")]
    #[diagnostic(
        code(WX0519),
        help(
            "build it with the feature postgres, or take [state] out: then it is a file beside the settings"
        )
    )]
    NoPostgres,
    /// This build has no SQLite for a file.
    #[error(
        "the state is an SQLite file beside the settings, and this build of Webtaxon has no SQLite in it"
    )]
    #[diagnostic(
        code(WX0519),
        help(
            "build it with the feature sqlite, keep the state in a PostgreSQL database ([state]), or give it a place of the application's own (Workspace::with_state)"
        )
    )]
    NoSqlite,
    /// Another apply is going on.
    #[error("another apply is going on: {holder}")]
    #[diagnostic(
        code(WX0602),
        help("wait until it is done, and look again: what it does will not be in this preview")
    )]
    Busy {
        /// Who, and since when.
        holder: String,
    },
}

impl StateError {
    /// What is wrong.
    #[must_use]
    pub fn kind(&self) -> &StateErrorKind {
        &self.0
    }
}
