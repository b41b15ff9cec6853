//! The settings of one intake: which people are imported, what they become, and what happens when they leave.

use super::rules::{Condition, FieldRule, RoleRule};
use super::{GroupIntake, PasswordSource};
use crate::ldap::filter::Filter;
use crate::ldap::name::Dn;
use indexmap::IndexMap;
use serde::Serialize;

/// Which people are imported, and as what.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Intake {
    /// Its name.
    pub name: String,
    /// The name of its directory.
    pub directory: String,
    /// The search bases for people; each covers its whole subtree.
    pub bases: Vec<Dn>,
    /// The filter that selects people.
    pub filter: Filter,
    /// If not empty, only these people are selected, each given by login or by the name of the entry.
    pub only: Vec<String>,
    /// People who are never selected, given in the same way.
    pub except: Vec<String>,
    /// If not empty, only direct or nested members of these groups are selected.
    pub groups: Vec<Dn>,
    /// Direct or nested members of these groups are never selected.
    pub not_in_group: Vec<Dn>,
    /// Where groups are: a member elsewhere is not looked up as a group. Empty for everywhere.
    pub group_bases: Vec<Dn>,
    /// Entries that member lists still name and that no longer exist.
    pub deleted: Vec<Dn>,
    /// The filter for active people; `None` for the server kind's own rule.
    pub active: Option<Filter>,
    /// Whether a person locked out after wrong passwords counts as active.
    pub locked: Locked,
    /// The attribute that `memberUid` of a group refers to; `None` means `uid`, or nothing on a domain controller.
    pub member_login: Option<String>,
    /// The attribute that says who is in which group; `None` for the usual ones of groups.
    pub member_attribute: Option<MemberAttribute>,
    /// How nested groups are read.
    pub strategy: Strategy,
    /// The attribute of the lasting identity; `None` for the first usual one present.
    pub identity: Option<String>,
    /// How to find a candidate's account, in this order.
    pub matching: Vec<MatchBy>,
    /// Whether an account made by hand may be linked to a person.
    pub adopt: Adopt,
    /// Adoption may hand over roles that no rule gives.
    pub adopt_roles: bool,
    /// Whether people without an account are imported.
    pub new: bool,
    /// The account's fields, in the order of the settings.
    pub fields: IndexMap<String, FieldRule>,
    /// Fields that are written when an account is created, and never read.
    #[serde(skip_serializing_if = "IndexMap::is_empty")]
    pub secrets: IndexMap<String, SecretRule>,
    /// Roles given by rule, in the order of the settings.
    pub roles: Vec<RoleRule>,
    /// What happens to roles that no rule gives.
    pub other_roles: OtherRoles,
    /// What happens to an account whose person is no longer a candidate.
    pub leaving: Leaving,
    /// The groups imported into the application, if any.
    pub application_groups: Option<GroupIntake>,
}

impl Intake {
    /// The conditions of all fields and roles.
    pub fn conditions(&self) -> impl Iterator<Item = &Condition> {
        let choices = self.fields.values().flat_map(|rule| &rule.choices);
        choices.map(|choice| &choice.condition).chain(self.roles.iter().map(|role| &role.condition))
    }

    /// Every group that a condition refers to, each once.
    #[must_use]
    pub fn deciding_groups(&self) -> Vec<&Dn> {
        let mut seen = std::collections::HashSet::new();
        let groups = self.conditions().flat_map(|condition| &condition.in_group);
        groups.filter(|group| seen.insert(group.key())).collect()
    }

    /// The groups whose nests must be read, by purpose. Excluding groups come first, so that a group in several nests
    /// counts as excluding.
    #[must_use]
    pub fn nests(&self) -> [(Vec<&Dn>, GroupPurpose); 3] {
        [
            (self.not_in_group.iter().collect(), GroupPurpose::Exclude),
            (self.groups.iter().collect(), GroupPurpose::Admit),
            (self.deciding_groups(), GroupPurpose::Decide),
        ]
    }

    /// The fields of accounts that the intake writes, including `login` and `roles`.
    #[must_use]
    pub fn account_fields(&self) -> Vec<&str> {
        let roles = (!self.roles.is_empty()).then_some("roles");
        self.fields.keys().map(String::as_str).chain(roles).collect()
    }

    /// The secret fields that are drawn from entries, with their rules.
    pub fn drawn_secrets(&self) -> impl Iterator<Item = (&String, &FieldRule)> {
        self.secrets.iter().filter_map(|(name, rule)| match rule {
            SecretRule::Drawn(rule) => Some((name, rule)),
            SecretRule::Random | SecretRule::Shared(_) => None,
        })
    }

    /// An intake with default settings for these people of this directory.
    #[must_use]
    pub(crate) fn new(name: String, directory: String, bases: Vec<Dn>, filter: Filter) -> Self {
        Self {
            name,
            directory,
            bases,
            filter,
            only: Vec::new(),
            except: Vec::new(),
            groups: Vec::new(),
            not_in_group: Vec::new(),
            group_bases: Vec::new(),
            deleted: Vec::new(),
            active: None,
            locked: Locked::Active,
            member_login: None,
            member_attribute: None,
            strategy: Strategy::Auto,
            identity: None,
            matching: vec![MatchBy::Link, MatchBy::Login],
            adopt: Adopt::Never,
            adopt_roles: false,
            new: true,
            fields: IndexMap::new(),
            secrets: IndexMap::new(),
            roles: Vec::new(),
            other_roles: OtherRoles::Keep,
            leaving: Leaving::default(),
            application_groups: None,
        }
    }

    /// An intake that selects everybody, for tests to adapt.
    #[cfg(test)]
    pub(crate) fn for_tests() -> Self {
        Self::new("staff".to_owned(), "museum".to_owned(), Vec::new(), Filter::And(Vec::new()))
    }
}

/// The value of a secret field, such as a first password.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum SecretRule {
    /// A random text for each account, which nobody knows.
    Random,
    /// The same for all, from this source.
    Shared(PasswordSource),
    /// Drawn from the person's entry when the account is created.
    Drawn(FieldRule),
}

/// One way to find a candidate's account.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum MatchBy {
    /// By link.
    Link,
    /// By login.
    Login,
    /// By the value of this field, which must be unique.
    Field(String),
}

/// How nested groups are read. All strategies find the same people; each reports what it cannot see.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Strategy {
    /// The cheapest strategy that sees everything, as the nest turns out during the reading; usually
    /// [`Strategy::Lists`].
    #[default]
    Auto,
    /// The groups' member lists: by look-ups or with one search, whichever is cheaper.
    Lists,
    /// Look-ups of each group, downwards from the named ones, many at once.
    Downwards,
    /// One search for all groups first.
    Sweep,
    /// Upwards from the people, by the groups that they and their groups claim (`memberOf`).
    Upwards,
    /// A domain controller evaluates nested membership (matching rule 1.2.840.113556.1.4.1941).
    Chain,
    /// A domain controller lists each person's groups (`tokenGroups`).
    Tokens,
}

impl Strategy {
    /// Whether it reads member lists, or may.
    #[must_use]
    pub fn reads_lists(self) -> bool {
        matches!(self, Self::Auto | Self::Lists | Self::Downwards | Self::Sweep)
    }

    /// This strategy if it reads member lists, which snapshots and `members` need; otherwise one that does.
    #[must_use]
    pub fn by_lists(self) -> Self {
        match self {
            Self::Lists | Self::Downwards | Self::Sweep => self,
            Self::Auto | Self::Upwards | Self::Chain | Self::Tokens => Self::Lists,
        }
    }
}

/// An attribute that says who is in which group, on servers that use one of their own.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct MemberAttribute {
    /// The attribute.
    pub name: String,
    /// The entries that have it, and the form of its values.
    pub kind: MemberAttributeKind,
}

/// The entries that have a [`MemberAttribute`], and the form of its values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum MemberAttributeKind {
    /// Groups have it, with the names of their members, beside the usual attributes.
    NamesOfMembers,
    /// Groups have it, with the logins of their members, beside the usual attributes.
    LoginsOfMembers,
    /// People have it, and groups that are in other groups, with the names of their groups.
    NamesOfGroups,
    /// People have it, and groups that are in other groups, with the `cn` of their groups.
    CommonNamesOfGroups,
}

impl MemberAttribute {
    /// Whether people have it, so that no member list is read.
    #[must_use]
    pub fn is_on_people(&self) -> bool {
        matches!(self.kind, MemberAttributeKind::NamesOfGroups | MemberAttributeKind::CommonNamesOfGroups)
    }
}

/// Whether a person who is temporarily locked out after wrong passwords counts as active.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Locked {
    /// Active.
    #[default]
    Active,
    /// Not active while the lockout lasts.
    Inactive,
}

/// What happens to an account's roles that no rule gives.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum OtherRoles {
    /// They are kept: somebody gave them in the application.
    #[default]
    Keep,
    /// They are removed.
    Remove,
}

/// Whether an account made by hand may be linked to a person.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Adopt {
    /// Never: the pair is reported as a clash.
    Never,
    /// An administrator decides: each possible pair is reported as a clash of its own kind.
    Ask,
    /// If it has the candidate's login, or the same value in a field.
    Same(Vec<MatchBy>),
}

impl Adopt {
    /// If it has the candidate's login.
    #[must_use]
    pub fn same_login() -> Self {
        Self::Same(vec![MatchBy::Login])
    }
}

/// What happens to a linked account whose person is no longer a candidate, by cause.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Leaving {
    /// The entry does not exist.
    pub gone: LeavingRule,
    /// The entry exists, but is not selected.
    pub outside: LeavingRule,
    /// The person is not active.
    pub disabled: LeavingRule,
    /// A required field is missing.
    pub incomplete: LeavingRule,
    /// Whether the login and the unique fields of people who are out, and whose entry is still there, follow the
    /// directory, so that nobody else waits for a value that the directory has given to them.
    pub refresh: bool,
}

/// What happens for one cause, and when.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct LeavingRule {
    /// What happens.
    pub action: LeavingAction,
    /// Days of grace, from the day on which the person was first missed; 0 for none.
    pub after_days: u32,
    /// What happens if the database refuses to remove the account; `None` to leave it alone.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub refused: Option<LeavingAction>,
}

impl From<LeavingAction> for LeavingRule {
    fn from(action: LeavingAction) -> Self {
        Self { action, after_days: 0, refused: None }
    }
}

impl Default for Leaving {
    /// The cautious default: nobody is removed.
    fn default() -> Self {
        Self {
            gone: LeavingAction::Suspend.into(),
            outside: LeavingAction::Suspend.into(),
            disabled: LeavingAction::Suspend.into(),
            incomplete: LeavingAction::Keep.into(),
            refresh: true,
        }
    }
}

/// What happens to an account.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum LeavingAction {
    /// The account is deleted.
    Remove,
    /// The account is kept, but nobody can sign in to it.
    Suspend,
    /// Nothing.
    Keep,
}

/// The purpose of a named group.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum GroupPurpose {
    /// `groups`: its members are selected.
    Admit,
    /// `not_in_group`: its members are excluded.
    Exclude,
    /// A condition refers to it.
    Decide,
    /// It is imported into the application.
    Import,
}
