//! The edits in progress, and their requests.

use super::originals::Originals;
use crate::store::scim::service::{Resource, Wish};
use crate::store::scim::session::{Everybody, Session};
use crate::store::{Recorder, Secrets};
use std::collections::HashSet;
use std::sync::Mutex;
use webtaxon_core::apply::{Edit, Outcome, Plan};

/// The edits in progress.
pub(super) struct Work<'a> {
    pub(super) session: &'a Session,
    pub(super) everybody: Everybody,
    pub(super) plan: &'a Plan<'a>,
    /// The list from before the edits that these undo.
    pub(super) originals: Originals,
    /// The secret fields of new users.
    pub(super) secrets: &'a Secrets,
    /// Never contended: the mutex only makes the type `Sync`.
    pub(super) record: Mutex<Recorder>,
    pub(super) stop_after: Option<usize>,
    pub(super) failed: usize,
    pub(super) is_over: bool,
    /// The fields whose change by PATCH was seen to have its effect.
    pub(super) seen: HashSet<String>,
}

/// A change with its request.
pub(super) struct Prepared {
    pub(super) place: usize,
    /// The user before and after; `None` if it is created or deleted.
    pub(super) before: Option<Resource>,
    pub(super) after: Option<Resource>,
    /// `None` if only groups change.
    pub(super) wish: Option<Wish>,
}

/// Why there is no request.
pub(super) enum Hindrance {
    /// The edit already has an outcome.
    Told(Outcome),
    /// It refers to a person who may still be created.
    Later(String),
}

impl From<String> for Hindrance {
    fn from(words: String) -> Self {
        Self::Told(Outcome::Failed(words))
    }
}

impl<'a> Work<'a> {
    pub(super) fn edit(&self, place: usize) -> Option<&'a Edit> {
        self.plan.edits().get(place)
    }
}
