//! The settings: what the administrator wrote in `webtaxon.toml`, checked.
//!
//! [`Settings::parse`] reads the text; every fault has its line, its column and a way out. No I/O:
//! files that the settings name are opened by the layer above.

mod accounts;
mod error;
mod fingerprint;
mod groups;
mod read;
mod read_accounts;
mod read_directory;
mod read_fields;
mod read_groups;
mod scim;
mod selecting;
mod server;
mod table;
#[cfg(test)]
mod tests;

pub use accounts::{Accounts, Postgres, RoleTable, RowsOf, SqlTable, StateDatabase, StoreSettings};
pub use error::{SettingsError, SettingsErrorKind};
pub use fingerprint::Fingerprint;
pub use groups::{CsvGroups, GroupIntake, GroupLeaving, GroupMembers, MemberTable, SqlGroups};
pub use scim::{AttributePath, Credentials, ENTERPRISE, Literal, Scim, USER};
pub use server::{Scheme, Server};

use crate::field::{Condition, FieldRule, RoleRule};
use crate::filter::Filter;
use crate::name::Dn;
use crate::reading::Purpose;
use indexmap::IndexMap;
use std::path::PathBuf;
use std::time::Duration;

/// One settings file.
#[derive(Clone, Debug)]
pub struct Settings {
    /// The directories, by the name that the settings give them.
    pub directories: IndexMap<String, Directory>,
    /// The application's own list.
    pub accounts: Accounts,
    /// Which people come in, and as what.
    pub intake: Intake,
    /// Further intakes, in their order: a person belongs to the first that selects them.
    pub further: Vec<Intake>,
    /// What stops an apply.
    pub brakes: Brakes,
    /// The database that has what is remembered from run to run; none where that is a file beside the
    /// settings.
    pub state: Option<StateDatabase>,
}

impl Settings {
    /// Every intake, in order.
    pub fn intakes(&self) -> impl Iterator<Item = &Intake> {
        std::iter::once(&self.intake).chain(&self.further)
    }

    /// The same settings with each of the intakes alone.
    pub fn each(&self) -> impl Iterator<Item = Self> {
        self.intakes().map(|intake| Self { intake: intake.clone(), further: Vec::new(), ..self.clone() })
    }

    /// Whether groups come into the application, too.
    #[must_use]
    pub fn brings_groups(&self) -> bool {
        self.intakes().any(|intake| intake.application_groups.is_some())
    }

    /// The directory that the first intake reads.
    #[must_use]
    pub fn directory(&self) -> Option<&Directory> {
        self.directories.get(&self.intake.directory)
    }

    /// The fields of accounts that the intakes write, `login` and `roles` among them, each once.
    #[must_use]
    pub fn account_fields(&self) -> Vec<&str> {
        let mut seen = std::collections::HashSet::new();
        self.intakes().flat_map(Intake::account_fields).filter(|name| seen.insert(*name)).collect()
    }

    /// The fields of which no two accounts may have one value, each once; logins beside them.
    #[must_use]
    pub fn unique_fields(&self) -> Vec<&str> {
        let mut seen = std::collections::HashSet::new();
        let rules = self.intakes().flat_map(|intake| &intake.fields);
        let unique = rules.filter(|(name, rule)| rule.unique && *name != "login");
        unique.map(|(name, _)| name.as_str()).filter(|name| seen.insert(*name)).collect()
    }
}

/// One LDAP service.
#[derive(Clone, Debug)]
pub struct Directory {
    /// Its name in the settings.
    pub name: String,
    /// How its servers are found.
    pub servers: Servers,
    /// Whose certificates are good.
    pub trust: Trust,
    /// The certificate by which this side shows who it is.
    pub certificate: Option<ClientCertificate>,
    /// Who asks.
    pub bind: Bind,
    /// What becomes of parts of the tree that other servers keep.
    pub references: References,
    /// Entries in a page (RFC 2696); 500 unless said otherwise.
    pub page: u32,
    /// The longest wait for a connection, TLS included; 10 seconds unless said otherwise.
    pub connect_timeout: Duration,
    /// The longest wait for the server's next answer; 30 seconds unless said otherwise.
    pub timeout: Duration,
    /// The longest time for a whole reading; 10 minutes unless said otherwise.
    pub deadline: Duration,
    /// Whether `ldap://` may go without encryption.
    pub plain: bool,
}

impl Directory {
    /// Whether the same servers are asked by the same name, so that one reading does for both.
    #[must_use]
    pub fn is_same(&self, other: &Self) -> bool {
        (&self.servers, &self.bind, &self.certificate, self.references)
            == (&other.servers, &other.bind, &other.certificate, other.references)
    }
}

/// How a directory's servers are found. Exhaustive on purpose: whoever connects must know every kind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Servers {
    /// By name, tried in this order.
    Named(Vec<Server>),
    /// By asking the name servers who serves this domain: `_ldap._tcp.DOMAIN` (RFC 2782).
    Domain(String),
}

/// Whose certificates are good. Exhaustive on purpose: whoever opens one must know every kind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Trust {
    /// The system's own list of authorities.
    System,
    /// The authorities in a PEM file, beside the settings unless the path is absolute.
    Authority(PathBuf),
    /// Certificates that the administrator has verified by another way, one for each server.
    Pinned(Vec<Fingerprint>),
}

/// A certificate of this side's own: who asks is shown by the key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ClientCertificate {
    /// A PEM file with the certificate, and those of the authorities between it and the root.
    pub chain: PathBuf,
    /// A PEM file with the key.
    pub key: PathBuf,
}

/// Who asks, and how that is shown (RFC 4513 §5). Exhaustive on purpose: whoever binds must know every kind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Bind {
    /// Nobody in particular.
    Anonymous,
    /// A name and a password.
    Simple {
        /// A DN, `user@domain` or `DOMAIN\user`.
        name: String,
        /// Where the password comes from; without one there is no bind.
        password: Option<PasswordSource>,
    },
    /// Whoever the connection itself shows: the client certificate, or the user at a local socket
    /// (SASL EXTERNAL, RFC 4422 appendix A).
    External,
}

impl Bind {
    /// The name that is shown to the server, if it is shown one.
    #[must_use]
    pub fn name(&self) -> Option<&str> {
        match self {
            Self::Simple { name, .. } => Some(name),
            Self::Anonymous | Self::External => None,
        }
    }
}

/// What becomes of a part of the tree that another server keeps (RFC 4511 §4.5.3).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum References {
    /// It is read there. The bind's credentials go only to servers that the settings name.
    Follow,
    /// It is left out; the reading is not whole.
    #[default]
    Ignore,
    /// The reading ends there, and is not whole.
    Refuse,
}

/// Where a password comes from; never the settings themselves. Exhaustive on purpose: whoever opens one must know every kind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PasswordSource {
    /// An environment variable of this name.
    Env(String),
    /// The first line of a file, beside the settings unless the path is absolute.
    File(PathBuf),
    /// The first line that a program writes; it is started without a shell.
    Command(Vec<String>),
    /// A file of this name in the folder that the service manager gives to this program.
    Credential(String),
    /// A question at the terminal.
    Ask,
}

/// Which people come in, and as what.
#[derive(Clone, Debug)]
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
    pub fn nests(&self) -> [(Vec<&Dn>, Purpose); 3] {
        [
            (self.not_in_group.iter().collect(), Purpose::Exclude),
            (self.groups.iter().collect(), Purpose::Admit),
            (self.deciding_groups(), Purpose::Decide),
        ]
    }

    /// The fields of accounts that the settings write, `login` and `roles` among them.
    #[must_use]
    pub fn account_fields(&self) -> Vec<&str> {
        let roles = (!self.roles.is_empty()).then_some("roles");
        self.fields.keys().map(String::as_str).chain(roles).collect()
    }

    /// An intake that selects everybody, to be filled in by a test.
    #[cfg(test)]
    pub(crate) fn for_tests() -> Self {
        Self {
            name: "staff".to_owned(),
            directory: "museum".to_owned(),
            bases: Vec::new(),
            filter: Filter::And(Vec::new()),
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
}

/// One way in which a candidate finds its account.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
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
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
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
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Locked {
    /// They do.
    #[default]
    Active,
    /// They do not, as long as it lasts.
    Inactive,
}

/// What becomes of an account's roles that no rule of the settings gives.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OtherRoles {
    /// They stay: somebody gave them in the application.
    #[default]
    Keep,
    /// They are taken away.
    Remove,
}

/// Whether an account that was made by hand may become the directory's.
#[derive(Clone, Debug, PartialEq, Eq)]
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
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
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
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LeavingAction {
    /// The account is deleted.
    Remove,
    /// The account stays, and nobody may sign in to it.
    Suspend,
    /// Nothing.
    Keep,
}

/// What stops an apply; a preview shows it.
#[derive(Clone, Debug)]
pub struct Brakes {
    /// The most accounts that may be removed or suspended.
    pub removals: Option<Removals>,
    /// The fewest candidates there must be.
    pub fewest: Option<u64>,
    /// Whether the first apply after a change of the settings that select people is stopped.
    pub settings_changed: bool,
    /// How often somebody may leave a group of the application, of all places in linked groups.
    pub memberships: Option<Removals>,
}

impl Default for Brakes {
    fn default() -> Self {
        Self { removals: None, fewest: None, settings_changed: true, memberships: None }
    }
}

/// The most that may be taken away.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Removals {
    /// This many.
    Number(u64),
    /// This share of what there is, in percent.
    Percent(f64),
}
