//! The account that the rules draw from one person, and the fields that stay open.

use crate::settings::rules::Fault;
use std::borrow::Cow;

/// The account that the field rules draw from one candidate. What needs no change on its way stays where
/// it was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Proposal<'r> {
    /// One value for each rule, in the order of the rules.
    pub(super) values: Box<[Option<Cow<'r, str>>]>,
    /// Fields of which no value could be drawn though there may be one, and why.
    pub(super) open: Box<[(usize, Open)]>,
    /// Whether the person has each role, in the order of the settings; none where nobody can say.
    pub(super) roles: Box<[Option<bool>]>,
    pub(super) login: usize,
}

/// Why a field has no value that could be relied on. The account keeps what it has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Open {
    /// Something was not read that decides it, in words.
    Unknown(String),
    /// The directory's value is not one that the rule takes.
    Fault(Fault),
}

impl Open {
    /// Why, in words.
    #[must_use]
    pub fn in_words(&self) -> String {
        match self {
            Self::Unknown(why) => format!("cannot be known: {why}"),
            Self::Fault(fault) => format!("\u{201c}{}\u{201d} {}", fault.value, fault.why),
        }
    }
}

/// A required field that an entry has no value for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MissingField {
    /// The field.
    pub field: String,
    /// Why, in words: "has no value (from mail)".
    pub why: String,
}

/// What one rule gave for one person.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Drawn<'r> {
    /// A value, and which of the rule's choices gave it.
    Value(Cow<'r, str>, usize),
    /// None.
    Nothing,
    /// None that could be relied on.
    Open(Open),
}

impl Proposal<'_> {
    /// What the person signs in with.
    #[must_use]
    pub fn login(&self) -> &str {
        self.value(self.login)
    }

    /// The value of the rule at `index`; empty where there is none.
    #[must_use]
    pub fn value(&self, index: usize) -> &str {
        self.values.get(index).and_then(Option::as_deref).unwrap_or("")
    }

    /// Why the rule at `index` gave no value that could be relied on; none where it did.
    #[must_use]
    pub fn open(&self, index: usize) -> Option<&Open> {
        self.open.iter().find(|(at, _)| *at == index).map(|(_, open)| open)
    }

    /// Every field without a value that could be relied on, by its place among the rules.
    pub fn all_open(&self) -> impl Iterator<Item = (usize, &Open)> {
        self.open.iter().map(|(at, open)| (*at, open))
    }

    /// Whether the person has the role at `index` of the settings; none where nobody can say.
    #[must_use]
    pub fn role(&self, index: usize) -> Option<bool> {
        self.roles.get(index).copied().flatten()
    }

    /// Whether anything is left open because it was not read.
    #[must_use]
    pub fn is_unsure(&self) -> bool {
        self.open.iter().any(|(_, open)| matches!(open, Open::Unknown(_)))
            || self.roles.iter().any(Option::is_none)
    }
}
