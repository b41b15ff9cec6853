//! The settings: the content of `webtaxon.toml`, checked.
//!
//! [`Settings::parse`] reads the text; every error has its line, its column and a remedy. No I/O: files named in the
//! settings are opened elsewhere.

mod accounts;
mod active;
mod directory;
mod error;
mod fingerprint;
mod groups;
mod intake;
mod intakes;
mod parse;
pub mod rules;
mod scim;
mod selecting;
mod sign_in;
#[cfg(test)]
mod tests;

pub use accounts::{
    Accounts, Anew, DatabaseServer, Removed, RowsOf, SideTable, SqlTable, StateDatabase, States,
    StoreSettings, Times,
};
pub use active::active_filter;
pub(crate) use active::{ActiveCondition, active_conditions};
pub use directory::{Bind, ClientCertificate, Directory, PasswordSource, References, Servers, Trust};
pub use error::{SettingsError, SettingsErrorKind};
pub use fingerprint::Fingerprint;
pub use groups::{CsvGroups, GroupIntake, GroupLeaving, GroupMembers, MemberTable, SqlGroups};
pub use intake::{
    Adopt, GroupPurpose, Intake, Leaving, LeavingAction, LeavingRule, Locked, MatchBy, MemberAttribute,
    MemberAttributeKind, OtherRoles, SecretRule, Strategy,
};
pub use intakes::Intakes;
pub use scim::{AttributePath, Credentials, ENTERPRISE, Literal, Scim, USER};
pub use sign_in::{Audit, FirstSignIn, LeaverSignIn, Rotation, SignIn, Throttle};

use indexmap::IndexMap;
use serde::Serialize;

/// The checked settings, from a file ([`Settings::parse`]) or from a program ([`Settings::from_value`]).
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Settings {
    /// The directories, by their names in the settings.
    pub directories: IndexMap<String, Directory>,
    /// The application's accounts.
    pub accounts: Accounts,
    /// Which people are imported, and as what.
    pub intakes: Intakes,
    /// The limits that stop an apply.
    pub brakes: Brakes,
    /// The database that holds the state between runs; `None` if it is a file beside the settings.
    pub state: Option<StateDatabase>,
    /// The settings of a sign-in.
    #[serde(skip_serializing_if = "SignIn::is_usual")]
    pub sign_in: SignIn,
}

impl Settings {
    /// Whether groups are imported as well.
    #[must_use]
    pub fn brings_groups(&self) -> bool {
        self.intakes.iter().any(|intake| intake.application_groups.is_some())
    }

    /// The directory that an intake reads.
    #[must_use]
    pub fn directory(&self, intake: &Intake) -> Option<&Directory> {
        self.directories.get(&intake.directory)
    }

    /// The fields of accounts that the intakes write, each once, including `login` and `roles`.
    #[must_use]
    pub fn account_fields(&self) -> Vec<&str> {
        let mut seen = std::collections::HashSet::new();
        self.intakes.iter().flat_map(Intake::account_fields).filter(|name| seen.insert(*name)).collect()
    }

    /// The fields that are written when an account is created, and never read; each once.
    #[must_use]
    pub fn secret_fields(&self) -> Vec<&str> {
        let mut seen = std::collections::HashSet::new();
        let names = self.intakes.iter().flat_map(|intake| intake.secrets.keys().map(String::as_str));
        names.filter(|name| seen.insert(*name)).collect()
    }

    /// The fields whose values must be unique, each once; logins always are.
    #[must_use]
    pub fn unique_fields(&self) -> Vec<&str> {
        let mut seen = std::collections::HashSet::new();
        let rules = self.intakes.iter().flat_map(|intake| &intake.fields);
        let unique = rules.filter(|(name, rule)| rule.unique && *name != "login");
        unique.map(|(name, _)| name.as_str()).filter(|name| seen.insert(*name)).collect()
    }
}

/// The limits that stop an apply; a preview shows them.
#[derive(Clone, Debug, Serialize)]
pub struct Brakes {
    /// Maximum accounts that may be removed or suspended; `None` for a tenth of the linked ones, and never fewer than
    /// five ([`Brakes::leaving`]).
    pub removals: Option<Removals>,
    /// Minimum number of candidates.
    pub fewest: Option<u64>,
    /// Whether the first apply after a change of the selecting settings is stopped.
    pub settings_changed: bool,
    /// Maximum memberships in linked groups that may be lost.
    pub memberships: Option<Removals>,
    /// Maximum fall of a count of the footprint.
    pub shrunk: Removals,
    /// Maximum rows of other tables that may be deleted together with accounts.
    pub cascades: u64,
}

impl Brakes {
    /// The number of accounts, out of so many linked ones, that may be removed or suspended.
    #[must_use]
    pub fn leaving(&self, linked: u64) -> u64 {
        self.removals
            .map_or_else(|| Removals::Percent(10.0).of(linked).max(5), |removals| removals.of(linked))
    }
}

impl Default for Brakes {
    fn default() -> Self {
        let shrunk = Removals::Percent(20.0);
        Self { removals: None, fewest: None, settings_changed: true, memberships: None, shrunk, cascades: 0 }
    }
}

/// A limit on what may be taken away.
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Removals {
    /// This many.
    Number(u64),
    /// This percentage of what exists.
    Percent(f64),
}

impl Removals {
    /// The number out of `of` that may be taken away.
    #[expect(
        clippy::cast_precision_loss,
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "a share of a count: both far below 2^52, and not negative"
    )]
    #[must_use]
    pub fn of(self, of: u64) -> u64 {
        match self {
            Self::Number(number) => number,
            Self::Percent(percent) => (of as f64 * percent / 100.0).floor() as u64,
        }
    }
}
