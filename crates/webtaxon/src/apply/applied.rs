//! The outcome of an apply.

use serde::Serialize;
use std::path::PathBuf;
use webtaxon_core::apply::Outcome;

/// The outcome of an apply.
#[derive(Debug, Default)]
pub struct Applied {
    /// The number of the run in the journal; `None` if there was nothing to do.
    pub run: Option<i64>,
    /// The outcome of each edit of an account, in order; `None` if it is unknown.
    pub outcomes: Vec<Option<Outcome>>,
    /// The outcome of each edit of a group, in the order of [`GroupWork::all`](super::GroupWork::all).
    pub groups: Vec<Option<Outcome>>,
    /// The copy of the accounts made before; that of the groups is beside it.
    pub backup: Option<PathBuf>,
    /// An interrupted earlier run, and what was found out about it.
    pub interrupted: Option<Interrupted>,
    /// The places of fields that the store was found to take values for and not to keep.
    pub dropped: Vec<String>,
    /// Why the store could not continue, if it could not.
    pub stopped: Option<String>,
}

impl Applied {
    /// Number of edits with this outcome.
    #[must_use]
    pub fn count(&self, what: impl Fn(&Outcome) -> bool) -> usize {
        self.outcomes.iter().chain(&self.groups).flatten().filter(|outcome| what(outcome)).count()
    }

    /// Whether every edit is made, by this run or earlier.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        let done = |outcome: &Option<Outcome>| matches!(outcome, Some(Outcome::Done | Outcome::Made));
        self.stopped.is_none() && self.outcomes.iter().chain(&self.groups).all(done)
    }
}

/// An interrupted run, and what was found out about it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Interrupted {
    /// Its number.
    pub run: i64,
    /// Number of its edits that had been made.
    pub done: usize,
    /// Number of its edits that had not.
    pub open: usize,
}
