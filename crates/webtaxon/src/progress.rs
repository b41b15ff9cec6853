//! What a reading reports while it goes on, to whoever watches it.

use serde::Serialize;
use std::sync::Arc;

/// Entries between two reports.
pub(crate) const EVERY: usize = 100;

/// How far a reading has come. Counts only grow, unless another server begins anew.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Progress {
    /// A server has answered and accepted who asks.
    Connected {
        /// The server, as the settings name it.
        server: String,
    },
    /// People came.
    People {
        /// How many so far.
        read: usize,
    },
    /// Groups were read.
    Groups {
        /// How many so far.
        read: usize,
    },
    /// Entries were gone through to see which members of groups are groups.
    Members {
        /// How many so far.
        looked_at: usize,
    },
    /// People of accounts are looked for whom the bases do not have.
    LookingFor {
        /// How many.
        people: usize,
    },
    /// Edits were carried out, or left out, of an apply.
    CarriedOut {
        /// How many so far.
        edits: usize,
        /// Of how many.
        of: usize,
    },
}

type Told = dyn Fn(&Progress) + Send + Sync;

/// Who is told, if anybody is.
#[derive(Clone, Default)]
pub struct Watch(Option<Arc<Told>>);

impl std::fmt::Debug for Watch {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_tuple("Watch").field(&self.0.is_some()).finish()
    }
}

impl Watch {
    /// Tells everything to `told`, which must return soon: the reading waits for it.
    #[must_use]
    pub fn new(told: impl Fn(&Progress) + Send + Sync + 'static) -> Self {
        Self(Some(Arc::new(told)))
    }

    pub(crate) fn tell(&self, progress: impl FnOnce() -> Progress) {
        if let Some(told) = &self.0 {
            told(&progress());
        }
    }
}
