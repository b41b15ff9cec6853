//! The settings of one intake: which people come in, as what, and what happens when they leave.

use super::GroupIntake;
use super::rules::{Condition, FieldRule, RoleRule};
use crate::ldap::filter::Filter;
use crate::ldap::name::Dn;
use crate::ldap::schema::ServerKind;
use indexmap::IndexMap;
use serde::Serialize;

/// Which people come in, and as what.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Intake {
    /// Its name.
    pub name: String,
    /// The directory it reads, by name.
    pub directory: String,
    /// Where people sit; each is read with everything below it.
    pub bases: Vec<Dn>,
    /// Which entries under the bases are people.
    pub filter: Filter,
    /// Only these people, each by the login that they would have or by their entry's name; empty for
    /// everybody.
    pub only: Vec<String>,
    /// None of these people, named in the same way.
    pub except: Vec<String>,
    /// Only people in one of these groups, nested members among them; empty for everybody.
    pub groups: Vec<Dn>,
    /// Nobody who is in one of these groups, nested members among them.
    pub not_in_group: Vec<Dn>,
    /// Where groups sit: a member elsewhere is not looked up as a group. Empty for everywhere.
    pub group_bases: Vec<Dn>,
    /// Which people are active; none for what this kind of server says.
    pub active: Option<Filter>,
    /// Whether people count as active who are locked out after wrong passwords.
    pub locked: Locked,
    /// The attribute that `memberUid` of a group speaks of; none for `uid`, and on a domain controller
    /// for none.
    pub member_login: Option<String>,
    /// How nests of groups are read.
    pub strategy: Strategy,
    /// The attribute of the lasting identity; none for whichever of the usual ones there is.
    pub identity: Option<String>,
    /// How a candidate finds its account, in this order.
    pub matching: Vec<MatchBy>,
    /// Whether an account that was made by hand may become the directory's.
    pub adopt: Adopt,
    /// Whether people without an account get one.
    pub new: bool,
    /// The account's fields, in the order of the settings.
    pub fields: IndexMap<String, FieldRule>,
    /// The application's roles that people get by rule, in the order of the settings.
    pub roles: Vec<RoleRule>,
    /// What becomes of roles that no rule gives.
    pub other_roles: OtherRoles,
    /// What happens to an account whose person is no candidate any more.
    pub leaving: Leaving,
    /// Which groups come into the application, too; none for none.
    pub application_groups: Option<GroupIntake>,
}

impl Intake {
    /// The conditions of fields and roles.
    pub fn conditions(&self) -> impl Iterator<Item = &Condition> {
        let choices = self.fields.values().flat_map(|rule| &rule.choices);
        choices.map(|choice| &choice.condition).chain(self.roles.iter().map(|role| &role.condition))
    }

    /// Every group that a condition of a field or a role asks about, each once.
    #[must_use]
    pub fn deciding_groups(&self) -> Vec<&Dn> {
        let mut seen = std::collections::HashSet::new();
        let groups = self.conditions().flat_map(|condition| &condition.in_group);
        groups.filter(|group| seen.insert(group.key())).collect()
    }

    /// The groups whose nests must be read, and what for. Those that keep people out come first, so that
    /// a group of several nests counts for these.
    #[must_use]
    pub fn nests(&self) -> [(Vec<&Dn>, GroupPurpose); 3] {
        [
            (self.not_in_group.iter().collect(), GroupPurpose::Exclude),
            (self.groups.iter().collect(), GroupPurpose::Admit),
            (self.deciding_groups(), GroupPurpose::Decide),
        ]
    }

    /// The fields of accounts that the settings write, `login` and `roles` among them.
    #[must_use]
    pub fn account_fields(&self) -> Vec<&str> {
        let roles = (!self.roles.is_empty()).then_some("roles");
        self.fields.keys().map(String::as_str).chain(roles).collect()
    }

    /// The attribute that `memberUid` of a group speaks of on a server of this kind, if that is known.
    #[must_use]
    pub fn member_login_attribute(&self, kind: ServerKind) -> Option<&str> {
        self.member_login.as_deref().or((kind == ServerKind::Plain).then_some("uid"))
    }

    /// The same people, with the nests of these groups in place of everything that rules and roles ask
    /// for: what a look into groups reads.
    #[must_use]
    pub fn for_nests(&self, groups: Vec<Dn>, group_bases: &[Dn]) -> Self {
        Self {
            groups,
            group_bases: group_bases.to_vec(),
            strategy: self.strategy.by_lists(),
            not_in_group: Vec::new(),
            fields: IndexMap::new(),
            roles: Vec::new(),
            application_groups: None,
            ..self.clone()
        }
    }

    /// An intake of which nothing is said but whom it reads, and in which directory.
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
            active: None,
            locked: Locked::Active,
            member_login: None,
            strategy: Strategy::Auto,
            identity: None,
            matching: vec![MatchBy::Link, MatchBy::Login],
            adopt: Adopt::Never,
            new: true,
            fields: IndexMap::new(),
            roles: Vec::new(),
            other_roles: OtherRoles::Keep,
            leaving: Leaving::default(),
            application_groups: None,
        }
    }

    /// An intake that selects everybody, to be filled in by a test.
    #[cfg(test)]
    pub(crate) fn for_tests() -> Self {
        Self::new("staff".to_owned(), "museum".to_owned(), Vec::new(), Filter::And(Vec::new()))
    }
}

/// One way in which a candidate finds its account.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum MatchBy {
    /// By the lasting identity.
    Link,
    /// By the login.
    Login,
    /// By the value of this field, of which no two accounts have the same.
    Field(String),
}

/// How nests of groups are read. Each way finds the same people; what one cannot see, it says.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Strategy {
    /// Whichever way is cheapest of those that see everything there, as the nest shows while it is read: as a rule
    /// [`Strategy::Lists`].
    #[default]
    Auto,
    /// The groups' own lists: by look-ups or with one search, whichever is cheaper.
    Lists,
    /// Each group is looked up, downwards from the named ones, many at once.
    Downwards,
    /// All groups are read with one search first.
    Sweep,
    /// From the people upwards, by what they and their groups say they are in (`memberOf`).
    Upwards,
    /// A domain controller is asked who is in each group, through any nesting (the rule
    /// 1.2.840.113556.1.4.1941).
    Chain,
    /// A domain controller is asked of each person which groups they are in (`tokenGroups`).
    Tokens,
}

impl Strategy {
    /// Whether it reads the groups' own lists, or may.
    #[must_use]
    pub fn reads_lists(self) -> bool {
        matches!(self, Self::Auto | Self::Lists | Self::Downwards | Self::Sweep)
    }

    /// The same, if it reads the groups' own lists, which a snapshot keeps and a look into a group needs; else
    /// one that does.
    #[must_use]
    pub fn by_lists(self) -> Self {
        match self {
            Self::Lists | Self::Downwards | Self::Sweep => self,
            Self::Auto | Self::Upwards | Self::Chain | Self::Tokens => Self::Lists,
        }
    }
}

/// Whether people count as active who are locked out after wrong passwords, which passes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Locked {
    /// They do.
    #[default]
    Active,
    /// They do not, as long as it lasts.
    Inactive,
}

/// What becomes of an account's roles that no rule of the settings gives.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum OtherRoles {
    /// They stay: somebody gave them in the application.
    #[default]
    Keep,
    /// They are taken away.
    Remove,
}

/// Whether an account that was made by hand may become the directory's.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Adopt {
    /// Never: the two are shown as a clash.
    Never,
    /// A person decides: each that may be somebody's is shown as a clash of its own kind.
    Ask,
    /// If it has the candidate's login, or the same value of a field.
    Same(Vec<MatchBy>),
}

impl Adopt {
    /// If it has the candidate's login.
    #[must_use]
    pub fn same_login() -> Self {
        Self::Same(vec![MatchBy::Login])
    }
}

/// What happens to a linked account, by the cause for which its person is no candidate any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Leaving {
    /// There is no such entry.
    pub gone: LeavingRule,
    /// The entry is there, but not selected.
    pub outside: LeavingRule,
    /// The person is not active.
    pub disabled: LeavingRule,
    /// A required field is missing.
    pub incomplete: LeavingRule,
}

/// What happens for one cause, and when.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct LeavingRule {
    /// What happens.
    pub action: LeavingAction,
    /// Days of grace, from the day on which the person was first missed; 0 for none.
    pub after_days: u32,
}

impl From<LeavingAction> for LeavingRule {
    fn from(action: LeavingAction) -> Self {
        Self { action, after_days: 0 }
    }
}

impl Default for Leaving {
    /// The careful way: nobody is removed unless the settings say so.
    fn default() -> Self {
        Self {
            gone: LeavingAction::Suspend.into(),
            outside: LeavingAction::Suspend.into(),
            disabled: LeavingAction::Suspend.into(),
            incomplete: LeavingAction::Keep.into(),
        }
    }
}

/// What happens to one account.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum LeavingAction {
    /// The account is deleted.
    Remove,
    /// The account stays, and nobody may sign in to it.
    Suspend,
    /// Nothing.
    Keep,
}

/// The purpose of a named group.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum GroupPurpose {
    /// `groups`: its members come in.
    Admit,
    /// `not_in_group`: its members stay out.
    Exclude,
    /// A condition asks about it.
    Decide,
    /// It comes into the application.
    Import,
}
