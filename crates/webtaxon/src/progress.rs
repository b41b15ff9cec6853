//! Progress events of a reading or an apply.

use serde::Serialize;
use std::sync::Arc;

/// Number of entries between two events.
pub(crate) const EVERY: usize = 100;

/// A progress event. Counts only grow, unless the reading starts again on another server.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Progress {
    /// A server accepted the bind.
    Connected {
        /// The server, as in the settings.
        server: String,
    },
    /// People were read.
    People {
        /// Number so far.
        read: usize,
    },
    /// Groups were read.
    Groups {
        /// Number so far.
        read: usize,
    },
    /// Members of groups were examined for further groups.
    Members {
        /// Number so far.
        looked_at: usize,
    },
    /// People of accounts who are in no base are being looked up.
    LookingFor {
        /// Their number.
        people: usize,
    },
    /// Edits were carried out or left out.
    CarriedOut {
        /// Number so far.
        edits: usize,
        /// Number in all.
        of: usize,
    },
}

type Told = dyn Fn(&Progress) + Send + Sync;

/// A receiver of progress events, or none.
#[derive(Clone, Default)]
pub struct Watch(Option<Arc<Told>>);

impl std::fmt::Debug for Watch {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_tuple("Watch").field(&self.0.is_some()).finish()
    }
}

impl Watch {
    /// Sends events to `told`, which must return quickly: the reading waits for it.
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
