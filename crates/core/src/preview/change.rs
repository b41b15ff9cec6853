//! One thing that the application would do, or would not do though it might be expected.

use super::memory::Grace;
use crate::graph::GroupPath;
use crate::ldap::identity::Identity;
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};

/// What would happen to one account.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum ChangeKind {
    /// A person gets an account.
    Import,
    /// An account that was there already becomes the person's.
    Adopt,
    /// Fields change.
    Update,
    /// A suspended account is opened again.
    Restore,
    /// The days of grace of an account still run: what then happens is not done yet.
    Wait,
    /// The account stays, and nobody may sign in to it.
    Suspend,
    /// The account is deleted.
    Remove,
    /// Two claims on one account: a person decides.
    Clash,
}

impl ChangeKind {
    /// Every kind, in the order in which a preview lists them.
    pub const ALL: [ChangeKind; 8] = [
        Self::Import,
        Self::Adopt,
        Self::Update,
        Self::Restore,
        Self::Wait,
        Self::Suspend,
        Self::Remove,
        Self::Clash,
    ];

    /// Whether an apply does something for it.
    #[must_use]
    pub fn is_done(self) -> bool {
        !matches!(self, Self::Wait | Self::Clash)
    }

    /// The word for it.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Import => "import",
            Self::Adopt => "adopt",
            Self::Update => "update",
            Self::Restore => "restore",
            Self::Wait => "wait",
            Self::Suspend => "suspend",
            Self::Remove => "remove",
            Self::Clash => "clash",
        }
    }
}

/// Why a linked account's person is no candidate any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Cause {
    /// There is no such entry.
    Gone,
    /// The entry is there, but not selected.
    Outside,
    /// The person is not active.
    Disabled,
    /// A required field is missing.
    Incomplete,
}

impl Cause {
    /// The word for it.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Gone => "gone",
            Self::Outside => "outside",
            Self::Disabled => "disabled",
            Self::Incomplete => "incomplete",
        }
    }
}

/// One field's value before and after; none for "no account" and "no account any more".
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct FieldChange {
    /// What the account has now.
    pub old: Option<String>,
    /// What it would have.
    pub new: Option<String>,
}

/// One thing that the application would do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// What it is.
    pub kind: ChangeKind,
    /// The login of the account: as it is now, or as it would be where there is none yet.
    pub login: String,
    /// The person's entry, where one is known.
    pub dn: Option<String>,
    /// The tie between the two, as it is or would be.
    pub link: Option<Identity>,
    /// Why a person leaves.
    pub cause: Option<Cause>,
    /// What decided it, in words, where the cause alone does not say.
    pub detail: Option<String>,
    /// The fields that would be different, in the order of the settings.
    pub fields: IndexMap<String, FieldChange>,
    /// The groups by which the person is in, the named one first.
    pub path: GroupPath,
    /// The two claims, for a clash.
    pub clash: Option<Clash>,
    /// The days of grace, and what is done when they are over, for a wait.
    pub wait: Option<Wait>,
}

/// What is not done yet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Wait {
    /// The days of grace.
    pub grace: Grace,
    /// What is done when they are over.
    pub then: ChangeKind,
}

/// Two claims on one account.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Clash {
    /// Several people would have one login.
    SameLogin {
        /// The other people's entries.
        others: Vec<String>,
    },
    /// The login belongs to an account that was made by hand.
    HandMade {
        /// That account.
        account: String,
    },
    /// The login belongs to an account that nothing may touch.
    Protected {
        /// That account.
        account: String,
    },
    /// The login belongs to an account that is linked to another person.
    LinkedElsewhere {
        /// That account.
        account: String,
        /// Its link.
        link: Identity,
    },
    /// A field that must be unique has the value of another account or person.
    SameValue {
        /// The field.
        field: String,
        /// The value.
        value: String,
        /// The login of the other account, or the other person's entry.
        holder: String,
    },
    /// An account that was made by hand may be the person's, and the settings ask.
    MayBeTheirs {
        /// That account.
        account: String,
        /// What they have in common: `login`, or a field.
        by: String,
    },
    /// Several accounts that were made by hand may be the person's.
    SeveralAccounts {
        /// The accounts.
        accounts: Vec<String>,
    },
    /// An account that was made by hand may become several people's.
    SeveralPeople {
        /// That account.
        account: String,
        /// The other people's entries.
        others: Vec<String>,
    },
    /// Two entries have one lasting identity.
    SameIdentity {
        /// The other entry.
        other: String,
    },
}

impl Clash {
    /// The login of the account that two claim, if it is an account that there is.
    #[must_use]
    pub fn account(&self) -> Option<&str> {
        match self {
            Self::HandMade { account }
            | Self::Protected { account }
            | Self::LinkedElsewhere { account, .. }
            | Self::MayBeTheirs { account, .. }
            | Self::SeveralPeople { account, .. } => Some(account),
            Self::SameValue { holder, .. } => holder.strip_prefix("account "),
            Self::SameLogin { .. } | Self::SameIdentity { .. } | Self::SeveralAccounts { .. } => None,
        }
    }

    /// The two claims, in words.
    #[must_use]
    pub fn message(&self) -> String {
        match self {
            Self::SameLogin { others } => format!("the same login as {}", others.join(" and ")),
            Self::HandMade { account } => format!("the login of {account}, an account made by hand"),
            Self::Protected { account } => format!("the login of {account}, which is protected"),
            Self::LinkedElsewhere { account, link } => {
                format!("the login of {account}, which is linked to another person ({link})")
            }
            Self::SameValue { field, value, holder } => format!("the same {field} as {holder}: {value}"),
            Self::MayBeTheirs { account, by } => {
                format!("the same {by} as {account}, an account made by hand that may be theirs")
            }
            Self::SeveralAccounts { accounts } => {
                format!("{}, accounts made by hand, may each be theirs", accounts.join(" and "))
            }
            Self::SeveralPeople { account, others } => {
                format!(
                    "{account}, an account made by hand, may be theirs or that of {}",
                    others.join(" and ")
                )
            }
            Self::SameIdentity { other } => format!("the same lasting identity as {other}"),
        }
    }
}

impl Change {
    /// The ways out of a clash, in words; nothing for another change.
    #[must_use]
    pub fn remedy(&self) -> String {
        let Some(clash) = &self.clash else { return String::new() };
        let link = self.link.as_ref().map(ToString::to_string).unwrap_or_default();
        let whose = |account: &str| {
            let [account, link] = [account, &link].map(|text| toml::Value::from(text).to_string());
            format!("write whose = {{ {account} = {link} }} in [accounts]")
        };
        match clash {
            Clash::SameLogin { .. } => {
                "draw login from an attribute that is different for each of them".to_owned()
            }
            Clash::HandMade { account } => format!(
                "if it is the same person, {}, or set adopt = \"same-login\" for everybody; otherwise rename one of the two",
                whose(account)
            ),
            Clash::Protected { .. } => "rename one of the two, or take the login out of protected".to_owned(),
            Clash::LinkedElsewhere { account, .. } => format!(
                "if the person's entry was made anew, {}; otherwise give one of them another login",
                whose(account)
            ),
            Clash::SameValue { field, .. } => match clash.account() {
                Some(account) => format!(
                    "if it is the same person, {}, or have all matched and adopted by {field}; otherwise give one of them another value",
                    whose(account)
                ),
                None => "give one of them another value".to_owned(),
            },
            Clash::MayBeTheirs { account, .. } => format!(
                "if it is the same person, {}; otherwise give one of them another value",
                whose(account)
            ),
            Clash::SeveralPeople { account, .. } => {
                format!("if it is this person's, {}", whose(account))
            }
            Clash::SeveralAccounts { accounts } => format!(
                "if {} is theirs, {}, and likewise for another; and remove or rename the rest",
                accounts.first().map_or("", String::as_str),
                whose(accounts.first().map_or("", String::as_str))
            ),
            Clash::SameIdentity { .. } => {
                "choose another identity attribute: this one is not unique".to_owned()
            }
        }
    }
}

/// Something that would not be done though it might be expected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Held {
    /// The account's login, as it is or would be.
    pub login: String,
    /// The person's entry, where one is known.
    pub dn: Option<String>,
    /// Why the person leaves, if they do and it is known.
    pub cause: Option<Cause>,
    /// What it would have been, if that is known.
    pub would: Option<ChangeKind>,
    /// Why it is not done.
    pub reason: HeldReason,
}

/// Why something is not done.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum HeldReason {
    /// The reading is not whole, and nobody leaves on the word of half a reading.
    NotWhole,
    /// The groups that keep people out were not read to their end, so nobody comes in.
    ExclusionUnknown,
    /// What the account's fields or roles would be hangs on something that was not read.
    FieldsUnknown,
    /// The settings say `keep` for this cause.
    Kept,
    /// The account is protected.
    Protected,
    /// The settings say `new = false`.
    NoNewAccounts,
    /// Nobody could look up where the person is: the link cannot be an identity of this directory,
    /// or the server does not say where its trees begin.
    NotLookedUp,
}

impl HeldReason {
    /// Why, in words.
    #[must_use]
    pub fn message(self) -> &'static str {
        match self {
            Self::NotWhole => "the reading is not whole",
            Self::ExclusionUnknown => "the groups that keep people out were not read to their end",
            Self::FieldsUnknown => {
                "its fields or roles hang on a group or an entry that was not read to its end"
            }
            Self::Kept => "the settings keep accounts for this cause",
            Self::Protected => "the account is protected",
            Self::NoNewAccounts => "the settings say new = false",
            Self::NotLookedUp => {
                "its person cannot be looked up: the link is no identity of this directory, or the server hides its naming contexts"
            }
        }
    }
}
