//! Why an apply did not begin.

use crate::box_error::BoxError;
use crate::state::StateError;
use miette::Diagnostic;
use std::path::PathBuf;
use thiserror::Error;
use webtaxon_core::preview::{Brake, BrakeKind};

/// Why an apply did not begin. Nothing was changed.
#[derive(Debug, Error, Diagnostic)]
#[error(transparent)]
#[diagnostic(transparent)]
pub struct ApplyError(#[from] ApplyErrorKind);

/// The kinds of obstacle.
#[derive(Debug, Error, Diagnostic)]
#[non_exhaustive]
pub enum ApplyErrorKind {
    /// Brakes are in force.
    #[error("nothing was changed: {} stops it: {}", if brakes.len() == 1 { "a brake" } else { "more than one brake" }, in_words(brakes))]
    #[diagnostic(
        code(WX0603),
        help("look at the preview; if it is what you want, add --release {} this time", names(brakes))
    )]
    Braked {
        /// The brakes that were not released.
        brakes: Vec<Brake>,
    },
    /// An unknown brake.
    #[error("there is no brake {0}")]
    #[diagnostic(code(WX0604), help("the brakes are {}", BrakeKind::ALL.map(BrakeKind::name).join(", ")))]
    NoBrake(String),
    /// A saved preview that cannot be used.
    #[error("{} is not a usable saved preview: {source}", file.display())]
    #[diagnostic(code(WX0605), help("make it again: webtaxon preview --save FILE"))]
    NotSaved {
        /// The file.
        file: PathBuf,
        /// The reason.
        source: BoxError,
    },
    /// A preview that cannot be saved.
    #[error("nothing was saved to {}: {source}", file.display())]
    #[diagnostic(
        code(WX0617),
        help(
            "a file that is there is never replaced: choose another name, or delete the file if it is no longer needed"
        )
    )]
    Unsaved {
        /// The file.
        file: PathBuf,
        /// The reason.
        source: BoxError,
    },
    /// The work was made with other settings or for another list.
    #[error("the saved preview was made {what}")]
    #[diagnostic(
        code(WX0606),
        help("make it again with the settings as they are now: webtaxon preview --save FILE")
    )]
    Other {
        /// The difference.
        what: &'static str,
    },
    /// A run that is not in the journal.
    #[error("the journal has no run {0}")]
    #[diagnostic(code(WX0607), help("webtaxon journal lists the runs"))]
    NoRun(i64),
    /// An interrupted run whose outcome is not known yet.
    #[error("run {0} was interrupted, and what it did is not known yet")]
    #[diagnostic(code(WX0608), help("webtaxon apply finds out first, before anything else"))]
    CutOff(i64),
    /// An interrupted run of another list.
    #[error("run {run} was interrupted while it changed another list of accounts ({store})")]
    #[diagnostic(
        code(WX0614),
        help("apply with the settings of that list first: that finds out what the run did")
    )]
    CutOffElsewhere {
        /// The run.
        run: i64,
        /// The list.
        store: String,
    },
    /// The accounts cannot be copied.
    #[error("no copy of the accounts can be written to {}: {source}", file.display())]
    #[diagnostic(code(WX0609), help("nothing was changed; make room there, or give the right to write"))]
    NoCopy {
        /// The file of the copy.
        file: PathBuf,
        /// The reason.
        source: BoxError,
    },
    /// The accounts are not in a table, so there are no statements.
    #[error("{0} is not a database table: there are no statements for it")]
    #[diagnostic(code(WX0611), help("remove --statements; the preview shows what an apply would do"))]
    NoTable(String),
    /// Part of the change is not in the list.
    #[error(
        "statements would leave the links behind, which are kept apart from the list (links = \"apart\")"
    )]
    #[diagnostic(
        code(WX0612),
        help(
            "remove --statements and let webtaxon apply make the changes; or give the table a column for the link"
        )
    )]
    LinksApart,
    /// An edit was made, but the journal could not record it.
    #[error("changes were made, but their outcome could not be written to the journal: {source}")]
    #[diagnostic(
        code(WX0610),
        help(
            "make room or give the right to write, then type webtaxon apply: it first finds out what was done, and records it"
        )
    )]
    Unrecorded {
        /// The reason.
        source: StateError,
    },
}

impl ApplyError {
    /// The error for a run that is not in the journal.
    #[must_use]
    pub fn no_run(run: i64) -> Self {
        ApplyErrorKind::NoRun(run).into()
    }

    /// The kind of obstacle.
    #[must_use]
    pub fn kind(&self) -> &ApplyErrorKind {
        &self.0
    }
}

fn in_words(brakes: &[Brake]) -> String {
    let one = |brake: &Brake| format!("{} ({})", brake.kind, brake.in_words());
    brakes.iter().map(one).collect::<Vec<_>>().join("; ")
}

fn names(brakes: &[Brake]) -> String {
    brakes.iter().map(|brake| brake.kind.name()).collect::<Vec<_>>().join(",")
}
