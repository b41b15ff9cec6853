//! Finding out what a store does otherwise than it says: from its answers, or by a trial with a scratch account.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use webtaxon_core::account::Habits;

/// Habits as known, to which a store adds what it finds. Clones share them.
#[derive(Clone, Debug, Default)]
pub struct KnownHabits(Arc<Mutex<Habits>>);

impl KnownHabits {
    /// A copy of what is known now.
    #[must_use]
    pub fn now(&self) -> Habits {
        self.lock().clone()
    }

    /// Adds to what is known.
    pub fn add(&self, change: impl FnOnce(&mut Habits)) {
        change(&mut self.lock());
    }

    fn lock(&self) -> MutexGuard<'_, Habits> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What a trial with a scratch account showed.
#[derive(Clone, Debug, Default)]
pub struct Trial {
    /// What the store does otherwise than it says.
    pub habits: Habits,
    /// The results, in order.
    pub findings: Vec<TrialFinding>,
}

/// One result of a trial.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum TrialFinding {
    /// It does what it says.
    Good(String),
    /// It does something else, which an apply can do without; with a remedy, which may be empty.
    Odd(String, String),
    /// It does not do what an apply needs; with a remedy.
    Bad(String, String),
}
