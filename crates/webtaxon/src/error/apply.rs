//! Why an apply is not begun.

use miette::Diagnostic;
use std::path::PathBuf;
use thiserror::Error;
use webtaxon_core::preview::{Brake, BrakeKind};

/// Why an apply is not begun. Nothing was changed.
#[derive(Debug, Error, Diagnostic)]
#[error(transparent)]
#[diagnostic(transparent)]
pub struct ApplyError(#[from] ApplyErrorKind);

/// What stands in its way.
#[derive(Debug, Error, Diagnostic)]
#[non_exhaustive]
pub enum ApplyErrorKind {
    /// Limits are passed.
    #[error("nothing was changed: {} holds it: {}", if brakes.len() == 1 { "a brake" } else { "more than one brake" }, in_words(brakes))]
    #[diagnostic(
        code(WX0603),
        help(
            "look at the preview; if it is what you want, add --release {} for this one time",
            names(brakes)
        )
    )]
    Braked {
        /// The brakes that were not released.
        brakes: Vec<Brake>,
    },
    /// A brake that there is not.
    #[error("there is no brake {0}")]
    #[diagnostic(code(WX0604), help("the brakes are {}", BrakeKind::ALL.map(BrakeKind::name).join(", ")))]
    NoBrake(String),
    /// A saved preview that cannot be used.
    #[error("{} is no saved preview that can be used: {reason}", file.display())]
    #[diagnostic(code(WX0605), help("make it again: webtaxon preview --save FILE"))]
    NotSaved {
        /// The file.
        file: PathBuf,
        /// The reason.
        reason: String,
    },
    /// A preview that was made with something else.
    #[error("the saved preview was made {what}")]
    #[diagnostic(
        code(WX0606),
        help("make it again with the settings as they are now: webtaxon preview --save FILE")
    )]
    Other {
        /// What with.
        what: &'static str,
    },
    /// A run that the journal does not have.
    #[error("the journal has no run {0}")]
    #[diagnostic(code(WX0607), help("webtaxon journal lists the runs"))]
    NoRun(i64),
    /// A run that was cut off, and nobody knows yet what it did.
    #[error("run {0} was cut off, and what it did has not been looked at yet")]
    #[diagnostic(code(WX0608), help("webtaxon apply looks at it first, before anything else"))]
    CutOff(i64),
    /// The accounts cannot be copied before they are changed.
    #[error("no copy of the accounts can be written to {}: {reason}", file.display())]
    #[diagnostic(code(WX0609), help("nothing was changed; make room there, or give the right to write"))]
    NoCopy {
        /// Where it was to be.
        file: PathBuf,
        /// The reason.
        reason: String,
    },
    /// There is no database that takes statements.
    #[error("{0} is no table of a database: there are no statements to write down")]
    #[diagnostic(code(WX0611), help("leave --statements out; the preview shows what an apply would do"))]
    NoTable(String),
    /// The list is not all that would change.
    #[error(
        "statements would leave the links behind, which are kept apart from the list (links = \"apart\")"
    )]
    #[diagnostic(
        code(WX0612),
        help(
            "leave --statements out and let webtaxon apply make the changes; or give the table a column for the link"
        )
    )]
    LinksApart,
    /// It was done, and the journal does not have it.
    #[error("changes were made, but what became of them could not be written to the journal: {reason}")]
    #[diagnostic(
        code(WX0610),
        help(
            "make room or give the right to write, then type webtaxon apply: it looks first at what was done, and writes it down"
        )
    )]
    Unrecorded {
        /// The reason.
        reason: String,
    },
}

impl ApplyError {
    /// That the journal has no such run.
    #[must_use]
    pub fn no_run(run: i64) -> Self {
        ApplyErrorKind::NoRun(run).into()
    }

    /// What stands in its way.
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
