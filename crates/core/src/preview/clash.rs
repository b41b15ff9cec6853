//! Two claims on one account or on one value, and the ways to settle them.

use super::cause::Cause;
use crate::ldap::identity::Identity;
use jiff::civil::Date;
use serde::Serialize;
use std::fmt;

/// Two claims that only a person can settle.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Clash {
    /// Several people draw one login, or one value of a unique field.
    SameDrawn {
        /// The field, or `login`.
        field: String,
        /// The value.
        value: String,
        /// The entries of the other people.
        others: Vec<String>,
    },
    /// An account that is not the person's has the login, or the value of a unique field, and keeps it.
    Taken {
        /// The field, or `login`.
        field: String,
        /// The value.
        value: String,
        /// The account.
        holder: Holder,
    },
    /// The entry of an account's person is gone, and this person has the account's login and another of its unique
    /// values: the same person, made anew?
    MadeAnew {
        /// That account.
        holder: Holder,
        /// The fields with the same values, `login` first.
        same: Vec<String>,
    },
    /// An account made by hand may be the person's, and the settings say to ask.
    MayBeTheirs {
        /// That account.
        account: String,
        /// The value that they share: `login`, or a field.
        by: String,
    },
    /// Several accounts made by hand may be the person's.
    SeveralAccounts {
        /// The accounts.
        accounts: Vec<String>,
    },
    /// An account made by hand may belong to several people.
    SeveralPeople {
        /// That account.
        account: String,
        /// The entries of the other people.
        others: Vec<String>,
    },
    /// Two entries have the same lasting identity.
    SameIdentity {
        /// The other entry.
        other: String,
    },
    /// The account is linked to the same identity in another directory.
    OtherOrigin {
        /// The account.
        account: String,
        /// The directory that its link comes from.
        origin: String,
    },
}

/// An account that has what a person draws.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Holder {
    /// Its login.
    pub account: String,
    /// Its owner.
    pub who: Who,
}

/// The owner of an account.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Who {
    /// Nobody's: it was made by hand.
    ByHand,
    /// The settings protect it.
    Protected,
    /// Somebody's who is in.
    In {
        /// Their entry.
        dn: String,
        /// True if they draw another value, which they cannot get yet.
        is_stuck: bool,
    },
    /// Somebody's who is out, or whose entry is gone.
    Out {
        /// Their entry, where there is one.
        dn: Option<String>,
        /// The cause.
        cause: Cause,
        /// Since when they have been missed, where that is remembered.
        since: Option<Date>,
    },
    /// Somebody's of whom this reading does not tell whether they are there.
    Unknown {
        /// The account's link.
        link: Identity,
    },
}

impl Who {
    /// The keyword.
    #[must_use]
    pub fn name(&self) -> &'static str {
        match self {
            Self::ByHand => "by hand",
            Self::Protected => "protected",
            Self::In { .. } => "in",
            Self::Out { cause, .. } => cause.name(),
            Self::Unknown { .. } => "unknown",
        }
    }

    /// The owner, in words that follow the account's name.
    fn in_words(&self, field: &str) -> String {
        let is = |since: &Option<Date>| if since.is_some() { "has been" } else { "is" };
        let day = |since: &Option<Date>| since.map(|day| format!(" since {day}")).unwrap_or_default();
        match self {
            Self::ByHand => "an account made by hand".to_owned(),
            Self::Protected => "which is protected".to_owned(),
            Self::In { dn, is_stuck: false } => format!("whose person is in ({dn})"),
            Self::In { dn, is_stuck: true } => {
                format!("whose person is in ({dn}) and cannot get another {field} yet")
            }
            Self::Out { cause: Cause::Gone, since, .. } => {
                format!("whose person's entry {} gone{}", is(since), day(since))
            }
            Self::Out { dn, cause, since } => {
                let dn = dn.as_ref().map(|dn| format!(": {dn}")).unwrap_or_default();
                format!("whose person {} out{} ({}{dn})", is(since), day(since), cause.name())
            }
            Self::Unknown { link } => {
                format!("which is linked to {link}; whether that person is there was not seen")
            }
        }
    }
}

impl Clash {
    /// The login of the existing account that two claim, if any.
    #[must_use]
    pub fn account(&self) -> Option<&str> {
        match self {
            Self::Taken { holder, .. } | Self::MadeAnew { holder, .. } => Some(&holder.account),
            Self::MayBeTheirs { account, .. }
            | Self::OtherOrigin { account, .. }
            | Self::SeveralPeople { account, .. } => Some(account),
            Self::SameDrawn { .. } | Self::SameIdentity { .. } | Self::SeveralAccounts { .. } => None,
        }
    }

    /// The account that has what the person draws, if it is known whose it is.
    #[must_use]
    pub fn holder(&self) -> Option<&Holder> {
        match self {
            Self::Taken { holder, .. } | Self::MadeAnew { holder, .. } => Some(holder),
            _ => None,
        }
    }

    /// The two claims, in words.
    #[must_use]
    pub fn message(&self) -> String {
        match self {
            Self::SameDrawn { field, value, others } => {
                format!("the same {} as {}", named(field, value), others.join(" and "))
            }
            Self::Taken { field, value, holder } => {
                let who = holder.who.in_words(field);
                format!("the {} of {}, {who}", named(field, value), holder.account)
            }
            Self::MadeAnew { holder, same } => {
                let who = holder.who.in_words("login");
                let same = same.join(" and ");
                format!("the {same} of {}, {who}: the same person, made anew?", holder.account)
            }
            Self::MayBeTheirs { account, by } => {
                format!("the same {by} as {account}, an account made by hand that may be theirs")
            }
            Self::SeveralAccounts { accounts } => {
                format!("{}, accounts made by hand, may each be theirs", accounts.join(" and "))
            }
            Self::SeveralPeople { account, others } => {
                let others = others.join(" and ");
                format!("{account}, an account made by hand, may be theirs or that of {others}")
            }
            Self::SameIdentity { other } => format!("the same lasting identity as {other}"),
            Self::OtherOrigin { account, origin } => {
                format!("the same lasting identity as the person of {account} in the directory {origin}")
            }
        }
    }
}

/// Names listed on the other side of a clash: a directory in which everybody draws one value would list everybody for
/// everybody.
const LISTED: usize = 8;

/// The first of the other people, and the word `others` if there are more.
pub(super) fn listed(mut names: impl Iterator<Item = String>) -> Vec<String> {
    let mut list: Vec<String> = names.by_ref().take(LISTED).collect();
    list.extend(names.next().map(|_| "others".to_owned()));
    list
}

/// A field with its value; a login stands in the account's name already.
fn named(field: &str, value: &str) -> String {
    if field == "login" { field.to_owned() } else { format!("{field} {value}") }
}

/// One way to settle a clash.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Way {
    /// When this way is right, in words that follow "if"; empty for the way that remains.
    pub when: String,
    /// The line of the settings that takes this way; `None` if it leads through the directory, the application or
    /// another setting.
    pub word: Option<Word>,
    /// The work to be done, or, with a line of the settings, the effect of the line.
    pub does: String,
}

/// An entry of `whose` in `[accounts]`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Word {
    /// The account's login.
    pub account: String,
    /// The identity of the person whose it is to be.
    pub link: Identity,
}

impl Word {
    /// The entry of `whose`.
    #[must_use]
    pub fn entry(&self) -> String {
        let texts = [&self.account, self.link.as_str()].map(|text| toml::Value::from(text).to_string());
        texts.join(" = ")
    }
}

impl fmt::Display for Word {
    /// As a line of the settings.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "whose = {{ {} }}", self.entry())
    }
}

impl Way {
    /// The work to be done, and when it is right, in words.
    #[must_use]
    pub fn in_words(&self) -> String {
        match (self.when.as_str(), &self.word) {
            ("", _) => self.does.clone(),
            (when, None) => format!("if {when}, {}", self.does),
            (when, Some(word)) => format!("if {when}, write {word} in [accounts]: {}", self.does),
        }
    }
}

/// All ways, as one sentence.
pub(super) fn in_words(ways: &[Way]) -> String {
    let one = |(at, way): (usize, &Way)| match at {
        0 => way.in_words(),
        _ if way.when.is_empty() => format!("otherwise {}", way.in_words()),
        _ => way.in_words(),
    };
    ways.iter().enumerate().map(one).collect::<Vec<_>>().join("; ")
}
