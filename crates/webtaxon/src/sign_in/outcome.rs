//! The outcome of a sign-in: for the application, for the administrator, and for the record.

use crate::error::Error;
use serde::Serialize;
use webtaxon_core::account::Account;
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::preview::ChangeKind;
use webtaxon_core::preview::why::Why;
use webtaxon_core::sign_in::{Refusal, Sentence};

/// The outcome of a sign-in.
#[derive(Debug)]
#[non_exhaustive]
pub enum SignInOutcome {
    /// The person gets in.
    SignedIn(Box<SignedIn>),
    /// They do not.
    Refused(Refusal),
    /// It could not be found out: the directory or the application could not be asked.
    Unavailable(Error),
    /// It could not be found out whether they are selected: what decides it was not read to its end.
    Undecided(String),
}

/// Somebody who got in.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct SignedIn {
    /// Their account, with the field `roles`.
    pub account: Account,
    /// Their entry.
    pub dn: String,
    /// The lasting identity of the entry.
    pub identity: Identity,
    /// The directory that knows them.
    pub directory: String,
    /// The intake that selects them.
    pub intake: String,
    /// The change to the account, if any.
    pub change: Option<ChangeKind>,
    /// Seconds until the password expires, if the directory tells.
    pub expires_in: Option<u64>,
    /// Sign-ins that are left with a password that has expired.
    pub grace_left: Option<u32>,
}

impl SignInOutcome {
    /// The sentence for the page of somebody who does not get in; `None` for somebody who does.
    #[must_use]
    pub fn sentence(&self) -> Option<Sentence> {
        match self {
            Self::SignedIn(_) => None,
            Self::Refused(refusal) => Some(refusal.sentence()),
            Self::Unavailable(_) | Self::Undecided(_) => Some(Sentence::NotNow),
        }
    }
}

/// The outcome of one step.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum StepOutcome {
    /// It is passed.
    Good,
    /// It stops the person.
    Bad,
    /// It is not known.
    Unknown,
    /// It was not tried.
    Skipped,
}

/// One step of a sign-in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ExaminationStep {
    /// The step: `name`, `password`, `selected`, `account`.
    pub name: &'static str,
    /// Its outcome.
    pub outcome: StepOutcome,
    /// The outcome, in words.
    pub message: String,
    /// The remedy; empty if nothing is to be done.
    pub remedy: String,
}

/// A sign-in, step by step.
#[derive(Debug)]
#[non_exhaustive]
pub struct Examination {
    /// The steps.
    pub steps: Vec<ExaminationStep>,
    /// The person's entry, if it was found.
    pub dn: Option<String>,
    /// Why they do not get in; `None` if they do, or if it is not known.
    pub refusal: Option<Refusal>,
    /// True if it could not be found out.
    pub is_unknown: bool,
    /// Seconds until the password expires, if the directory tells.
    pub expires_in: Option<u64>,
    /// Sign-ins that are left with a password that has expired.
    pub grace_left: Option<u32>,
    /// The whole explanation of the person, if the sign-in came so far.
    pub why: Option<Box<Why>>,
}
