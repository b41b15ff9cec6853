//! One change to an account, or a change held back.

use super::memory::Grace;
use crate::graph::GroupPath;
use crate::ldap::identity::Identity;
use indexmap::IndexMap;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// The kinds of change to an account.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum ChangeKind {
    /// A person gets an account.
    Import,
    /// An existing unlinked account is linked to a person.
    Adopt,
    /// Fields change.
    Update,
    /// A suspended account becomes active again.
    Restore,
    /// The account's days of grace are running; it is changed when they are over.
    Wait,
    /// The account is kept, but nobody can sign in to it.
    Suspend,
    /// The account is deleted.
    Remove,
    /// Two claims on one account; an administrator decides.
    Clash,
}

impl ChangeKind {
    /// All kinds, in the order of a preview.
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

    /// Whether an apply carries it out.
    #[must_use]
    pub fn is_done(self) -> bool {
        !matches!(self, Self::Wait | Self::Clash)
    }

    /// The keyword.
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

/// Why a linked account's person is no longer a candidate.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Cause {
    /// The entry does not exist.
    Gone,
    /// The entry exists, but is not selected.
    Outside,
    /// The person is not active.
    Disabled,
    /// A required field is missing.
    Incomplete,
}

impl Cause {
    /// The keyword.
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

/// One field's value before and after; `None` if there is no account.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct FieldChange {
    /// The current value.
    pub old: Option<String>,
    /// The future value.
    pub new: Option<String>,
}

/// One change to an account.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// What happens to the account.
    pub action: Action,
    /// The login of the account: the current one, or the future one of a new account.
    pub login: String,
    /// The person's entry, where one is known.
    pub dn: Option<String>,
    /// The link between the two, current or future.
    pub link: Option<Identity>,
    /// The fields that change, in the order of the settings.
    pub fields: IndexMap<String, FieldChange>,
    /// The path of groups that selected the person, the named one first.
    pub path: GroupPath,
}

/// What happens to an account.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Action {
    /// It is created for a person.
    Import {
        /// The login of the account that the person had, if it was deleted in the application and not by an apply.
        had: Option<String>,
    },
    /// It is linked to a person.
    Adopt,
    /// Fields change.
    Update,
    /// It becomes active again.
    Restore,
    /// Its days of grace are running.
    Wait(Departure, Wait),
    /// It is kept, but nobody can sign in to it.
    Suspend(Departure),
    /// It is deleted.
    Remove(Departure),
    /// Nothing, until an administrator decides between two claims on it.
    Clash(Clash),
}

/// Why an account's person leaves.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Departure {
    /// The cause.
    pub cause: Cause,
    /// What decided it, in words, if the cause alone does not say.
    pub detail: Option<String>,
    /// The evidence, in words.
    pub evidence: String,
}

/// A change that waits for its day.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Wait {
    /// The days of grace.
    pub grace: Grace,
    /// The change made when they are over.
    pub then: ChangeKind,
}

/// Two claims on one account.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Clash {
    /// Several people would have one login.
    SameLogin {
        /// The entries of the other people.
        others: Vec<String>,
    },
    /// The login belongs to an account made by hand.
    HandMade {
        /// That account.
        account: String,
    },
    /// The login belongs to a protected account.
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
    /// A unique field has the value of another account or person.
    SameValue {
        /// The field.
        field: String,
        /// The value.
        value: String,
        /// Who has it.
        holder: Holder,
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

/// The account or person that has a value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Holder {
    /// An account, by its login.
    Account(String),
    /// A person, by their entry.
    Person(String),
}

impl Clash {
    /// The login of the existing account that two claim, if any.
    #[must_use]
    pub fn account(&self) -> Option<&str> {
        match self {
            Self::HandMade { account }
            | Self::Protected { account }
            | Self::LinkedElsewhere { account, .. }
            | Self::MayBeTheirs { account, .. }
            | Self::OtherOrigin { account, .. }
            | Self::SeveralPeople { account, .. } => Some(account),
            Self::SameValue { holder: Holder::Account(account), .. } => Some(account),
            Self::SameLogin { .. }
            | Self::SameIdentity { .. }
            | Self::SameValue { .. }
            | Self::SeveralAccounts { .. } => None,
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
            Self::SameValue { field, value, holder: Holder::Account(account) } => {
                format!("the same {field} as account {account}: {value}")
            }
            Self::SameValue { field, value, holder: Holder::Person(dn) } => {
                format!("the same {field} as {dn}: {value}")
            }
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
            Self::OtherOrigin { account, origin } => {
                format!("the same lasting identity as the person of {account} in the directory {origin}")
            }
        }
    }
}

impl Change {
    /// The kind of change.
    #[must_use]
    pub fn kind(&self) -> ChangeKind {
        match &self.action {
            Action::Import { .. } => ChangeKind::Import,
            Action::Adopt => ChangeKind::Adopt,
            Action::Update => ChangeKind::Update,
            Action::Restore => ChangeKind::Restore,
            Action::Wait(..) => ChangeKind::Wait,
            Action::Suspend(_) => ChangeKind::Suspend,
            Action::Remove(_) => ChangeKind::Remove,
            Action::Clash(_) => ChangeKind::Clash,
        }
    }

    /// Why the person leaves, if they do.
    #[must_use]
    pub fn departure(&self) -> Option<&Departure> {
        match &self.action {
            Action::Wait(departure, _) | Action::Suspend(departure) | Action::Remove(departure) => {
                Some(departure)
            }
            _ => None,
        }
    }

    /// The cause for which the person leaves, if they do.
    #[must_use]
    pub fn cause(&self) -> Option<Cause> {
        self.departure().map(|departure| departure.cause)
    }

    /// What decided it, in words, if kind and cause do not say.
    #[must_use]
    pub fn detail(&self) -> Option<Cow<'_, str>> {
        match &self.action {
            Action::Import { had: Some(login) } => Some(Cow::Owned(format!(
                "comes back: the account {login} was deleted in the application; except = [\"{login}\"] excludes the person"
            ))),
            _ => self.departure()?.detail.as_deref().map(Cow::Borrowed),
        }
    }

    /// The days of grace that are running, if it waits for them.
    #[must_use]
    pub fn wait(&self) -> Option<&Wait> {
        match &self.action {
            Action::Wait(_, wait) => Some(wait),
            _ => None,
        }
    }

    /// The two claims, if it is a clash.
    #[must_use]
    pub fn clash(&self) -> Option<&Clash> {
        match &self.action {
            Action::Clash(clash) => Some(clash),
            _ => None,
        }
    }

    /// The ways to resolve a clash, in words; empty for other changes.
    #[must_use]
    pub fn remedy(&self) -> String {
        let Some(clash) = self.clash() else { return String::new() };
        let link = self.link.as_ref().map(ToString::to_string).unwrap_or_default();
        let whose = |account: &str| {
            let [account, link] = [account, &link].map(|text| toml::Value::from(text).to_string());
            format!("write whose = {{ {account} = {link} }} in [accounts]")
        };
        match clash {
            Clash::SameLogin { .. } => "take login from an attribute that differs between them".to_owned(),
            Clash::HandMade { account } => format!(
                "if it is the same person, {}, or set adopt = \"same-login\" for everybody; otherwise rename one of the two",
                whose(account)
            ),
            Clash::Protected { .. } => "rename one of the two, or take the login out of protected".to_owned(),
            Clash::LinkedElsewhere { account, .. } => format!(
                "if the person's entry was recreated, {}; otherwise give one of them another login",
                whose(account)
            ),
            Clash::SameValue { field, .. } => match clash.account() {
                Some(account) => format!(
                    "if it is the same person, {}, or match and adopt all accounts by {field}; otherwise give one of them another value",
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
            Clash::OtherOrigin { account, .. } => {
                format!("if this person is to have the account from now on, {}", whose(account))
            }
            Clash::SameIdentity { .. } => {
                "choose another identity attribute: this one is not unique".to_owned()
            }
        }
    }
}

/// An expected change that is not made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Held {
    /// The account's login, current or future.
    pub login: String,
    /// The person's entry, where one is known.
    pub dn: Option<String>,
    /// Why the person leaves, if known.
    pub cause: Option<Cause>,
    /// The change that is held back, if known.
    pub would: Option<ChangeKind>,
    /// The reason.
    pub reason: HeldReason,
    /// The name that the reason needs, such as a role.
    pub about: Option<String>,
}

impl Held {
    /// The reason, in words.
    #[must_use]
    pub fn message(&self) -> Cow<'static, str> {
        match &self.about {
            None => Cow::Borrowed(self.reason.message()),
            Some(about) => Cow::Owned(format!("{}: {about}", self.reason.message())),
        }
    }
}

/// Why a change is held back.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum HeldReason {
    /// The reading is not whole: nobody leaves on partial evidence.
    NotWhole,
    /// The excluding groups were not read to their end, so nobody is imported.
    ExclusionUnknown,
    /// The account's fields or roles depend on something that was not read.
    FieldsUnknown,
    /// The settings say `keep` for this cause.
    Kept,
    /// The account is protected.
    Protected,
    /// The settings say `new = false`.
    NoNewAccounts,
    /// The person was not looked up: the link cannot be an identity of this directory, or the server does not publish
    /// its naming contexts.
    NotLookedUp,
    /// Two entries have the identity to which the account is linked.
    SharedIdentity,
    /// The directory does not show whether the person is active.
    ActivityHidden,
    /// No account is linked to anybody whom the directory shows.
    OtherLinks,
    /// Adoption would hand over a role that no rule gives.
    RoleHandedOver,
    /// The server may not know yet that the person is there.
    Lagging,
    /// The person changed a moment ago, and groups may list another name of theirs.
    Moving,
    /// The server judges a condition otherwise for the person.
    JudgedOtherwise,
}

impl HeldReason {
    /// The reason, in words.
    #[must_use]
    pub fn message(self) -> &'static str {
        match self {
            Self::NotWhole => "the reading is not whole",
            Self::ExclusionUnknown => "the excluding groups were not read to their end",
            Self::FieldsUnknown => {
                "a field or role depends on a group or an entry that was not read to its end"
            }
            Self::Kept => "the settings keep accounts in this case",
            Self::Protected => "the account is protected",
            Self::NoNewAccounts => "the settings have new = false",
            Self::RoleHandedOver => {
                "the account has a role that no rule gives this person, and adopt_roles = true is not set"
            }
            Self::Lagging => {
                "an apply brought them in a short while ago, as another server showed them; this one may not know yet"
            }
            Self::JudgedOtherwise => {
                "the server judges a condition of the settings otherwise for them; write it with attributes and comparisons that it has rules for"
            }
            Self::Moving => {
                "the entry changed a moment ago, and groups may still list another name of theirs; make a new preview"
            }
            Self::OtherLinks => {
                "no account is linked to anybody in the directory: they were linked by another attribute, which may be hidden now, or by another directory; name that attribute with `identity`"
            }
            Self::ActivityHidden => {
                "the directory does not show their userAccountControl, so it is unknown whether they are active; the bind account may lack the right to read it"
            }
            Self::SharedIdentity => {
                "two entries have the identity to which it is linked, so it is unknown whose it is"
            }
            Self::NotLookedUp => {
                "its person cannot be looked up: the link is not an identity of this directory, or the server hides its naming contexts"
            }
        }
    }
}
