//! The settings: what the administrator wrote in `webtaxon.toml`, checked.
//!
//! [`Settings::parse`] reads the text; every fault has its line, its column and a way out. No I/O:
//! files that the settings name are opened by the layer above.

mod error;
mod read;
mod server;
mod table;
#[cfg(test)]
mod tests;

pub use error::{SettingsError, SettingsErrorKind};
pub use server::{Scheme, Server};

use crate::field::FieldRule;
use crate::filter::Filter;
use crate::name::Dn;
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
    /// What stops an apply.
    pub brakes: Brakes,
}

impl Settings {
    /// The directory that the intake reads.
    #[must_use]
    pub fn directory(&self) -> Option<&Directory> {
        self.directories.get(&self.intake.directory)
    }
}

/// One LDAP service.
#[derive(Clone, Debug)]
pub struct Directory {
    /// Its name in the settings.
    pub name: String,
    /// Its servers, tried in this order.
    pub servers: Vec<Server>,
    /// Whose certificates are good.
    pub trust: Trust,
    /// Who asks: a DN or `user@domain`; none is anonymous.
    pub bind: Option<String>,
    /// Where the password comes from.
    pub password: Option<PasswordSource>,
    /// Entries in a page (RFC 2696); 500 unless said otherwise.
    pub page: u32,
    /// The longest wait for the server's next answer; 30 seconds unless said otherwise.
    pub timeout: Duration,
    /// The longest time for a whole reading; 10 minutes unless said otherwise.
    pub deadline: Duration,
    /// Whether `ldap://` may go without encryption.
    pub plain: bool,
}

/// Whose certificates are good. Exhaustive on purpose: whoever opens one must know every kind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Trust {
    /// The system's own list of authorities.
    System,
    /// The authorities in a PEM file, beside the settings unless the path is absolute.
    Authority(PathBuf),
}

/// Where a password comes from; never the settings themselves. Exhaustive on purpose: whoever opens one must know every kind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PasswordSource {
    /// An environment variable of this name.
    Env(String),
    /// The first line of a file, beside the settings unless the path is absolute.
    File(PathBuf),
}

/// The application's own list of accounts.
#[derive(Clone, Debug)]
pub struct Accounts {
    /// Where the list is kept.
    pub store: StoreSettings,
    /// Logins that nothing here may touch.
    pub protected: Vec<String>,
    /// How many active accounts the licence allows.
    pub seats: Option<u64>,
}

/// Where the list is kept. Exhaustive on purpose: whoever opens one must know every kind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum StoreSettings {
    /// A CSV file (RFC 4180), beside the settings unless the path is absolute.
    Csv {
        /// The file.
        path: PathBuf,
        /// The columns' names where they are not the usual ones: from `login`, `link`, `state` to
        /// the column.
        columns: IndexMap<String, String>,
    },
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
    /// Only people in one of these groups, nested members among them; empty for everybody.
    pub groups: Vec<Dn>,
    /// Nobody who is in one of these groups, nested members among them.
    pub not_in_group: Vec<Dn>,
    /// Where groups sit: a member elsewhere is not looked up as a group. Empty for everywhere.
    pub group_bases: Vec<Dn>,
    /// Which people are active; none for what this kind of server says.
    pub active: Option<Filter>,
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
    /// What happens to an account whose person is no candidate any more.
    pub leaving: Leaving,
}

impl Intake {
    /// An intake that selects everybody, to be filled in by a test.
    #[cfg(test)]
    pub(crate) fn for_tests() -> Self {
        Self {
            name: "staff".to_owned(),
            directory: "museum".to_owned(),
            bases: Vec::new(),
            filter: Filter::And(Vec::new()),
            groups: Vec::new(),
            not_in_group: Vec::new(),
            group_bases: Vec::new(),
            active: None,
            identity: None,
            matching: vec![MatchBy::Link, MatchBy::Login],
            adopt: Adopt::Never,
            new: true,
            fields: IndexMap::new(),
            leaving: Leaving::default(),
        }
    }
}

/// One way in which a candidate finds its account.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum MatchBy {
    /// By the lasting identity.
    Link,
    /// By the login.
    Login,
}

/// Whether an account that was made by hand may become the directory's.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Adopt {
    /// Never: the two are shown as a clash.
    Never,
    /// If it has the candidate's login.
    SameLogin,
}

/// What happens to a linked account, by the cause for which its person is no candidate any more.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Leaving {
    /// There is no such entry.
    pub gone: LeavingAction,
    /// The entry is there, but not selected.
    pub outside: LeavingAction,
    /// The person is not active.
    pub disabled: LeavingAction,
    /// A required field is missing.
    pub incomplete: LeavingAction,
}

impl Default for Leaving {
    /// The careful way: nobody is removed unless the settings say so.
    fn default() -> Self {
        Self {
            gone: LeavingAction::Suspend,
            outside: LeavingAction::Suspend,
            disabled: LeavingAction::Suspend,
            incomplete: LeavingAction::Keep,
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
#[derive(Clone, Debug, Default)]
pub struct Brakes {
    /// The most accounts that may be removed or suspended.
    pub removals: Option<Removals>,
    /// The fewest candidates there must be.
    pub fewest: Option<u64>,
}

/// The most accounts that may be removed or suspended.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Removals {
    /// This many.
    Number(u64),
    /// This share of the linked accounts, in percent.
    Percent(f64),
}
