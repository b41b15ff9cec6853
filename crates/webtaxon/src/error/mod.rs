//! All errors of a run, as one type.

mod apply;

pub use apply::{ApplyError, ApplyErrorKind};

use crate::box_error::BoxError;
use crate::directory::DirectoryError;
use crate::state::StateError;
use crate::store::StoreError;
use miette::Diagnostic;
use std::path::PathBuf;
use thiserror::Error;
use webtaxon_core::settings::SettingsError;

/// Why a run failed.
#[derive(Debug, Error, Diagnostic)]
#[non_exhaustive]
pub enum Error {
    /// The settings file cannot be read.
    #[error("the settings file {} cannot be read: {source}", file.display())]
    #[diagnostic(
        code(WX0107),
        help("name the file with --settings FILE; `webtaxon demo --keep DIR` writes one to begin with")
    )]
    NoSettings {
        /// The file.
        file: PathBuf,
        /// The system's reason.
        source: std::io::Error,
    },
    /// The snapshot cannot be read.
    #[error("the snapshot {} cannot be read: {source}", file.display())]
    #[diagnostic(code(WX0405), help("`webtaxon snapshot FILE` writes one; any LDIF file can be read, too"))]
    NoSnapshot {
        /// The file.
        file: PathBuf,
        /// The reason, with its line.
        source: BoxError,
    },
    /// The record of sign-ins cannot be read.
    #[error("the record of sign-ins {} cannot be read: {source}", file.display())]
    #[diagnostic(
        code(WX0803),
        help("only the user who runs the application may read it; `audit` in [sign_in] names it")
    )]
    NoAudit {
        /// The file.
        file: PathBuf,
        /// The system's reason.
        source: std::io::Error,
    },
    /// An operation that needs a single intake.
    #[error("a snapshot holds what one intake reads, and the settings have several")]
    #[diagnostic(code(WX0109), help("choose one with --intake NAME: {}", .0.join(", ")))]
    SeveralIntakes(Vec<String>),
    /// An unknown intake.
    #[error("the settings have no intake {name}")]
    #[diagnostic(code(WX0110), help("the intakes are {}", known.join(", ")))]
    NoIntake {
        /// The name.
        name: String,
        /// The known ones.
        known: Vec<String>,
    },
    /// The state cannot be used.
    #[error(transparent)]
    #[diagnostic(transparent)]
    State(#[from] StateError),
    /// The apply did not begin.
    #[error(transparent)]
    #[diagnostic(transparent)]
    Apply(#[from] ApplyError),
    /// The settings are wrong.
    #[error(transparent)]
    #[diagnostic(transparent)]
    Settings(#[from] SettingsError),
    /// The directory could not be read.
    #[error(transparent)]
    #[diagnostic(transparent)]
    Directory(#[from] DirectoryError),
    /// The accounts could not be read.
    #[error(transparent)]
    #[diagnostic(transparent)]
    Store(#[from] StoreError),
}
