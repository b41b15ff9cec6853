//! Faults of a SCIM service, or of something in front of it, for tests.

use serde_json::Value;

/// One fault, and when it comes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trouble {
    /// The kind of fault.
    pub kind: TroubleKind,
    /// For faults of changes: the number of the first change affected, from 1.
    pub at: u64,
    /// The number of changes affected.
    pub times: u64,
}

/// The kinds of fault.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum TroubleKind {
    /// A change is refused with 429 and a time to wait in seconds.
    Busy(u64),
    /// A change is refused with 500, and not made.
    Failing,
    /// A change is made, but answered with 500.
    Forgetful,
    /// A change is made, but its response breaks off.
    Cut,
    /// A change is not made, and its response breaks off.
    CutBefore,
    /// A change is refused with 409.
    Conflict,
    /// A change is refused with 403.
    Denied,
    /// Just before a change, an attribute of this user is set to another value.
    Meddling(String, String, Value),
    /// Every response is an HTML page.
    Page,
    /// Every response redirects to this address.
    Elsewhere(String),
    /// A list grows with every page of it.
    Endless,
    /// A list announces more users than it contains.
    Short,
    /// Every page is the first one.
    SamePage,
    /// A response that never ends.
    Huge,
    /// Every response is half a document.
    Garbled,
}

impl Trouble {
    /// A fault of every request or change.
    #[must_use]
    pub fn always(kind: TroubleKind) -> Self {
        Self { kind, at: 1, times: u64::MAX }
    }

    /// A fault of one change.
    #[must_use]
    pub fn at(kind: TroubleKind, at: u64) -> Self {
        Self { kind, at, times: 1 }
    }

    /// Whether the change with this number is affected.
    pub(super) fn befalls(&self, write: u64) -> bool {
        write >= self.at && write - self.at < self.times
    }
}
