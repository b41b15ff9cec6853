//! Faults on request: what a SCIM service, or something on the way to it, does wrong.

use serde_json::Value;

/// One fault, and when it comes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trouble {
    /// What goes wrong.
    pub kind: TroubleKind,
    /// For what befalls a change: the first change that it befalls, counted from 1.
    pub at: u64,
    /// How many changes it befalls.
    pub times: u64,
}

/// What goes wrong.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum TroubleKind {
    /// A change is refused with 429 and the seconds to wait.
    Busy(u64),
    /// A change is refused with 500, and was not made.
    Failing,
    /// A change is made, and answered with 500.
    Forgetful,
    /// A change is made, and its answer breaks off.
    Cut,
    /// A change is not made, and its answer breaks off.
    CutBefore,
    /// A change is refused with 409.
    Conflict,
    /// A change is refused with 403.
    Denied,
    /// Just before a change, somebody gives an attribute of the user with this name another value.
    Meddling(String, String, Value),
    /// Every answer is a page for people.
    Page,
    /// Every answer sends the client on to this address.
    Elsewhere(String),
    /// A list grows with every page of it.
    Endless,
    /// A list says of more users than it gives.
    Short,
    /// Every page is the first one.
    SamePage,
    /// An answer that never ends.
    Huge,
    /// Every answer is half a document.
    Garbled,
}

impl Trouble {
    /// Something that goes wrong from the start, or at every change.
    #[must_use]
    pub fn always(kind: TroubleKind) -> Self {
        Self { kind, at: 1, times: u64::MAX }
    }

    /// Something that befalls one change.
    #[must_use]
    pub fn at(kind: TroubleKind, at: u64) -> Self {
        Self { kind, at, times: 1 }
    }

    /// Whether it befalls the change with this number.
    pub(super) fn befalls(&self, write: u64) -> bool {
        write >= self.at && write - self.at < self.times
    }
}
