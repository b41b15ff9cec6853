//! Entries of `whose` in the settings that cannot apply, and why.

use super::cause::Cause;
use crate::ldap::identity::Identity;
use serde::Serialize;

/// An entry of `whose` that cannot apply, or not yet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct IdleWord {
    /// The login in the entry.
    pub account: String,
    /// The link in the entry.
    pub link: Identity,
    /// The reason.
    pub reason: IdleReason,
}

/// The reason why an entry of `whose` cannot apply.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum IdleReason {
    /// No account has the login.
    NoAccount,
    /// The account is protected.
    Protected,
    /// The account is in a state that the settings do not name.
    OtherState,
    /// Nobody who was read has the link.
    Nobody,
    /// The person is there, and out for this cause.
    Out(Cause),
    /// The person has another account.
    HasAccount(String),
    /// The account belongs to somebody who is in: their entry.
    Taken(String),
}

impl IdleWord {
    /// The reason and what can be done, in words.
    #[must_use]
    pub fn message(&self) -> String {
        let Self { account, link, reason } = self;
        let why = match reason {
            IdleReason::NoAccount => "there is no such account; remove the entry".to_owned(),
            IdleReason::Protected => {
                "the account is protected; take it out of protected, or remove the entry".to_owned()
            }
            IdleReason::OtherState => {
                "the account is in a state that `states` of [accounts] does not name".to_owned()
            }
            IdleReason::Nobody => {
                "nobody who was read has this link; webtaxon why shows a person's link".to_owned()
            }
            IdleReason::Out(cause) => format!("its person is not selected ({})", cause.name()),
            IdleReason::HasAccount(own) => {
                format!("its person has the account {own} already; remove {own} in the application first")
            }
            IdleReason::Taken(dn) => format!("the account is linked to {dn}, who is in"),
        };
        format!("{account} = {link}: {why}")
    }
}
