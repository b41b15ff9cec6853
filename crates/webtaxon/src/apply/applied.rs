//! The outcome of an apply.

use serde::Serialize;
use std::path::PathBuf;
use webtaxon_core::apply::Outcome;

/// What was done.
#[derive(Debug, Default)]
pub struct Applied {
    /// The run's number in the journal; none where there was nothing to do.
    pub run: Option<i64>,
    /// What became of each edit of an account, in the order of the work; none for one of which nobody knows.
    pub outcomes: Vec<Option<Outcome>>,
    /// What became of each edit of a group, in the order of [`GroupWork::all`](super::GroupWork::all).
    pub groups: Vec<Option<Outcome>>,
    /// Where the accounts stand as they were before; groups stand beside them.
    pub backup: Option<PathBuf>,
    /// What was found of a run that had been cut off.
    pub interrupted: Option<Interrupted>,
    /// Why the store could not go on, if it could not.
    pub stopped: Option<String>,
}

impl Applied {
    /// How many edits of accounts and groups came to this.
    #[must_use]
    pub fn count(&self, what: impl Fn(&Outcome) -> bool) -> usize {
        self.outcomes.iter().chain(&self.groups).flatten().filter(|outcome| what(outcome)).count()
    }

    /// Whether every edit was done, now or before.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        let done = |outcome: &Option<Outcome>| matches!(outcome, Some(Outcome::Done | Outcome::Made));
        self.stopped.is_none() && self.outcomes.iter().chain(&self.groups).all(done)
    }
}

/// A run that had been cut off, and what was found of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Interrupted {
    /// Its number.
    pub run: i64,
    /// How many of its edits had been done.
    pub done: usize,
    /// How many had not.
    pub open: usize,
}
