//! The edits under way, and what each of them asks for.

use crate::store::Record;
use crate::store::scim::service::{Resource, Wish};
use crate::store::scim::session::{Everybody, Session};
use std::collections::HashMap;
use std::sync::Mutex;
use webtaxon_core::apply::{Edit, Outcome, Standing};

/// The edits under way.
pub(super) struct Work<'a> {
    pub(super) session: &'a Session,
    pub(super) everybody: Everybody,
    pub(super) edits: &'a [Edit],
    pub(super) standings: Vec<Standing>,
    /// Users as they were before the edits that these take back, by link and by login.
    pub(super) originals: HashMap<String, Resource>,
    /// Never waited for: it only makes this a value that several threads may look at.
    pub(super) record: Mutex<Record<'a>>,
    pub(super) stop_after: Option<usize>,
    pub(super) failed: usize,
    pub(super) is_over: bool,
}

/// A change that is ready to be asked for.
pub(super) struct Prepared {
    pub(super) place: usize,
    /// The user before and after; none where it comes or goes.
    pub(super) before: Option<Resource>,
    pub(super) after: Option<Resource>,
    /// None where only groups change.
    pub(super) wish: Option<Wish>,
}

/// Why a change cannot be asked for.
pub(super) enum Hindrance {
    /// What becomes of it.
    Told(Outcome),
    /// It names a person who may come in yet.
    Later(String),
}

impl From<String> for Hindrance {
    fn from(words: String) -> Self {
        Self::Told(Outcome::Failed(words))
    }
}

impl Work<'_> {
    pub(super) fn edit(&self, place: usize) -> Option<&Edit> {
        self.edits.get(place)
    }
}
