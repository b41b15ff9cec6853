//! One change to an account, or a change held back.

use super::cause::Cause;
use super::clash::{self, Clash, Holder, Way, Who};
use super::memory::Grace;
use crate::account::Dependents;
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

/// One field's value before and after; `None` if there is no account.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct FieldChange {
    /// The current value.
    pub old: Option<String>,
    /// The future value.
    pub new: Option<String>,
}

impl FieldChange {
    /// From one value to another.
    pub(super) fn of(old: &str, new: &str) -> Self {
        Self { old: Some(old.to_owned()), new: Some(new.to_owned()) }
    }
}

/// Fields by name, with what changes.
pub(super) type FieldChanges = IndexMap<String, FieldChange>;

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
    Adopt {
        /// The former owner; `None` if it was made by hand.
        former: Option<Who>,
    },
    /// Fields change.
    Update,
    /// Its login and unique fields follow the directory, though its person is out for this cause.
    Refresh(Cause),
    /// It becomes active again.
    Restore,
    /// Its days of grace are running.
    Wait(Departure, Wait),
    /// A person waits for the login or another unique value of an account that will be deleted.
    Await {
        /// The field, or `login`.
        field: String,
        /// The account that has the value.
        holder: Holder,
        /// The day.
        wait: Wait,
    },
    /// It is kept, but nobody can sign in to it.
    Suspend(Departure),
    /// It is deleted.
    Remove(Departure),
    /// Nothing, until an administrator decides between two claims.
    Clash(Clash, Vec<Way>),
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
    /// The rows of other tables that the removal deletes or changes; empty if the account stays.
    pub dependents: Vec<Dependents>,
    /// True if the account is suspended where its removal is refused.
    pub or_suspended: bool,
}

impl Departure {
    /// A departure of which nothing else is known.
    pub(super) fn of(cause: Cause, detail: Option<String>, evidence: String) -> Self {
        Self { cause, detail, evidence, dependents: Vec::new(), or_suspended: false }
    }
}

/// A change that waits for its day.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Wait {
    /// The days of grace.
    pub grace: Grace,
    /// The change made when they are over.
    pub then: ChangeKind,
}

impl Change {
    /// The kind of change.
    #[must_use]
    pub fn kind(&self) -> ChangeKind {
        match &self.action {
            Action::Import { .. } => ChangeKind::Import,
            Action::Adopt { .. } => ChangeKind::Adopt,
            Action::Update | Action::Refresh(_) => ChangeKind::Update,
            Action::Restore => ChangeKind::Restore,
            Action::Wait(..) | Action::Await { .. } => ChangeKind::Wait,
            Action::Suspend(_) => ChangeKind::Suspend,
            Action::Remove(_) => ChangeKind::Remove,
            Action::Clash(..) => ChangeKind::Clash,
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
            Action::Adopt { former: Some(former) } => Some(Cow::Owned(match former {
                Who::Out { cause: Cause::Gone, .. } => "was linked to an entry that is gone".to_owned(),
                Who::Out { dn: Some(dn), .. } => format!("was linked to {dn}"),
                _ => "was linked to another entry".to_owned(),
            })),
            Action::Adopt { former: None } => Some(Cow::Borrowed("made by hand")),
            Action::Refresh(cause) => Some(Cow::Owned(format!(
                "out ({}): only the login and unique fields follow the directory",
                cause.name()
            ))),
            Action::Await { field, holder, wait } => Some(Cow::Owned(format!(
                "waits for the {field} of {}, {}",
                holder.account,
                match &holder.who {
                    Who::Out { .. } => format!("which is deleted on {}", wait.grace.until),
                    _ => format!("which waits for another one until {}", wait.grace.until),
                }
            ))),
            _ => self.departure()?.detail.as_deref().map(Cow::Borrowed),
        }
    }

    /// The days of grace that are running, if it waits for them.
    #[must_use]
    pub fn wait(&self) -> Option<&Wait> {
        match &self.action {
            Action::Wait(_, wait) | Action::Await { wait, .. } => Some(wait),
            _ => None,
        }
    }

    /// The two claims, if it is a clash.
    #[must_use]
    pub fn clash(&self) -> Option<&Clash> {
        match &self.action {
            Action::Clash(clash, _) => Some(clash),
            _ => None,
        }
    }

    /// The ways to settle a clash; empty for other changes.
    #[must_use]
    pub fn ways(&self) -> &[Way] {
        match &self.action {
            Action::Clash(_, ways) => ways,
            _ => &[],
        }
    }

    /// The ways to settle a clash, in words; empty for other changes.
    #[must_use]
    pub fn remedy(&self) -> String {
        clash::in_words(self.ways())
    }

    /// The login of the existing account that somebody else claims, or waits for.
    #[must_use]
    pub fn claimed_account(&self) -> Option<&str> {
        match &self.action {
            Action::Clash(clash, _) => clash.account(),
            Action::Await { holder, .. } => Some(&holder.account),
            _ => None,
        }
    }

    /// True if the person waits for the value of another account.
    #[must_use]
    pub fn awaits(&self) -> bool {
        matches!(self.action, Action::Await { .. })
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
        let reason = self.reason.message();
        match (&self.about, self.reason) {
            (None, _) => Cow::Borrowed(reason),
            (Some(rows), HeldReason::Dependents) => Cow::Owned(format!("referred to by {rows}: {reason}")),
            (Some(word), HeldReason::OtherState) => Cow::Owned(format!("its state is {word}: {reason}")),
            (Some(about), _) => Cow::Owned(format!("{reason}: {about}")),
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
    /// The person's entry seems to have been made anew: an administrator decides whose the account is.
    MadeAnew,
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
    /// The store has no room for one of the values of a new account.
    Unfit,
    /// Rows of another table that refer to the account forbid its removal.
    Dependents,
    /// The account is in a state that the settings do not name.
    OtherState,
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
            Self::MadeAnew => "its person's entry seems to have been made anew: settle that clash first",
            Self::NoNewAccounts => "the settings have new = false",
            Self::RoleHandedOver => {
                "the account has a role that no rule gives this person, and adopt_roles = true is not set"
            }
            Self::Lagging => {
                "an apply brought them in a short while ago, as another server showed them; this one may not know yet"
            }
            Self::Unfit => "the application has no room for one of the values",
            Self::Dependents => {
                "the database refuses to remove it; refused = \"suspend\" beside do = \"remove\" suspends it instead"
            }
            Self::OtherState => {
                "`states` of [accounts] does not name it; add it there if such accounts are to be kept up to date"
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
