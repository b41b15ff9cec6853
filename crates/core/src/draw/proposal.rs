//! The account that the rules draw from one person, and the fields that remain undecided.

use crate::account::Form;
use crate::settings::rules::Fault;
use std::borrow::Cow;

/// The account that the field rules draw from one candidate. Values that no step changes borrow from the reading.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Proposal<'r> {
    /// One value for each rule, in order.
    pub(super) values: Box<[Option<Cow<'r, str>>]>,
    /// Fields without a reliable value, and why.
    pub(super) open: Box<[(usize, Open)]>,
    /// Whether the person has each role, in the order of the settings; `None` if that is not known.
    pub(super) roles: Box<[Option<bool>]>,
    pub(super) login: usize,
    /// Fields whose attribute has several values, with those that were not taken.
    pub(super) others: Box<[(usize, Vec<String>)]>,
}

/// Why a field has no reliable value. The account keeps its current one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Open {
    /// Something that decides it was not read; in words.
    Unknown(String),
    /// The directory's value is not valid for the rule.
    Fault(Fault),
    /// The store has no room for the value.
    Unfit(Fault),
    /// There is no value, and the store demands one: what it has is kept.
    Kept,
}

impl Open {
    /// The reason, in words.
    #[must_use]
    pub fn in_words(&self) -> String {
        match self {
            Self::Unknown(why) => format!("is undecided: {why}"),
            Self::Unfit(fault) if fault.value.is_empty() => fault.why.clone(),
            Self::Fault(fault) | Self::Unfit(fault) => {
                format!("\u{201c}{}\u{201d} {}", fault.value, fault.why)
            }
            Self::Kept => "is empty, and the application demands a value".to_owned(),
        }
    }
}

/// A required field without a value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MissingField {
    /// The field.
    pub field: String,
    /// The reason, in words: "has no value (from mail)".
    pub why: String,
}

/// The result of one rule for one person.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Drawn<'r> {
    /// A value, and the number of the choice that gave it.
    Value(Cow<'r, str>, usize),
    /// No value.
    Nothing,
    /// No reliable value.
    Open(Open),
}

impl Proposal<'_> {
    /// The fields whose attribute has several values.
    pub(crate) fn undecided(&self) -> impl Iterator<Item = usize> {
        self.others.iter().map(|(at, _)| *at)
    }

    /// Takes the present value of a field if it is one of several: directories store values in no particular order.
    pub(crate) fn keep(&mut self, index: usize, present: &str) {
        let others = self.others.iter().find(|(at, _)| *at == index);
        if others.is_some_and(|(_, others)| others.iter().any(|other| other == present))
            && let Some(value) = self.values.get_mut(index)
        {
            *value = Some(Cow::Owned(present.to_owned()));
        }
    }

    /// Puts the value of a field into the form in which the store keeps it.
    pub(crate) fn fit(&mut self, index: usize, form: &Form) {
        let why = match form {
            Form::As(kept) => {
                if let Some(value) = self.values.get_mut(index) {
                    *value = (!kept.is_empty()).then(|| Cow::Owned(kept.to_string()));
                }
                return;
            }
            Form::Unfit(why) => {
                let value = self.value(index).to_owned();
                Open::Unfit(Fault { value, why: why.clone() })
            }
            Form::Own => Open::Kept,
        };
        let mut open = std::mem::take(&mut self.open).into_vec();
        open.push((index, why));
        self.open = open.into();
    }

    /// The first field that the store has no room for, by the index of its rule.
    pub(crate) fn unfit(&self) -> Option<(usize, &Open)> {
        self.all_open().find(|(_, open)| matches!(open, Open::Unfit(_)))
    }

    /// The login.
    #[must_use]
    pub fn login(&self) -> &str {
        self.value(self.login)
    }

    /// The value of the rule at `index`; empty if there is none.
    #[must_use]
    pub fn value(&self, index: usize) -> &str {
        self.values.get(index).and_then(Option::as_deref).unwrap_or("")
    }

    /// Why the rule at `index` has no reliable value; `None` if it has one.
    #[must_use]
    pub fn open(&self, index: usize) -> Option<&Open> {
        self.open.iter().find(|(at, _)| *at == index).map(|(_, open)| open)
    }

    /// Every field without a reliable value, by the index of its rule.
    pub fn all_open(&self) -> impl Iterator<Item = (usize, &Open)> {
        self.open.iter().map(|(at, open)| (*at, open))
    }

    /// Whether the person has the role at `index` of the settings; `None` if that is not known.
    #[must_use]
    pub fn role(&self, index: usize) -> Option<bool> {
        self.roles.get(index).copied().flatten()
    }

    /// Whether any field is undecided because something was not read.
    #[must_use]
    pub fn is_unsure(&self) -> bool {
        self.open.iter().any(|(_, open)| matches!(open, Open::Unknown(_)))
            || self.roles.iter().any(Option::is_none)
    }
}
