//! Exploring a directory: where people and groups are, which attributes people have, and a first settings file. For
//! an administrator who does not know the directory.

mod draft;
mod fields;
mod find;
mod tree;

pub use draft::{Draft, DraftOptions, draft};
pub use fields::{FieldFacts, Survey, fields};
pub use find::{Finding, Named, everything, find, find_one, groups, nearest};
pub use tree::{Container, Tree};

use crate::directory::GROUP_CLASSES;
use webtaxon_core::ldap::entry::Entry;

/// The kinds of entry that this job distinguishes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub enum EntryKind {
    /// A person who could have an account.
    Person,
    /// A group.
    Group,
    /// Any other entry: a unit, a computer, a contact, a room.
    Other,
}

impl EntryKind {
    /// The kind by object classes (RFC 4519 §3, RFC 2798, RFC 2307; and a domain controller's own).
    #[must_use]
    pub fn of(entry: Entry<'_>) -> Self {
        const PEOPLE: [&str; 5] = ["inetOrgPerson", "user", "posixAccount", "account", "person"];
        const NOBODY: [&str; 2] = ["computer", "contact"];
        let has = |classes: &[&str]| {
            entry
                .values("objectClass")
                .any(|value| classes.iter().any(|class| class.as_bytes().eq_ignore_ascii_case(value)))
        };
        if has(&GROUP_CLASSES) {
            Self::Group
        } else if has(&PEOPLE) && !has(&NOBODY) {
            Self::Person
        } else {
            Self::Other
        }
    }
}
