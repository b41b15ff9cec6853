//! The settings: what the administrator wrote in `webtaxon.toml`, checked.
//!
//! [`Settings::parse`] reads the text; every fault has its line, its column and a way out. No I/O:
//! files that the settings name are opened by the layer above.

mod accounts;
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
#[cfg(test)]
mod tests;

pub use accounts::{Accounts, Postgres, RoleTable, RowsOf, SqlTable, StateDatabase, StoreSettings};
pub use directory::{Bind, ClientCertificate, Directory, PasswordSource, References, Servers, Trust};
pub use error::{SettingsError, SettingsErrorKind};
pub use fingerprint::Fingerprint;
pub use groups::{CsvGroups, GroupIntake, GroupLeaving, GroupMembers, MemberTable, SqlGroups};
pub use intake::{
    Adopt, GroupPurpose, Intake, Leaving, LeavingAction, LeavingRule, Locked, MatchBy, OtherRoles, Strategy,
};
pub use intakes::Intakes;
pub use scim::{AttributePath, Credentials, ENTERPRISE, Literal, Scim, USER};

use indexmap::IndexMap;
use serde::Serialize;

/// The settings, checked: read from a file ([`Settings::parse`]), or put together by a program
/// ([`Settings::from_value`]).
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Settings {
    /// The directories, by the name that the settings give them.
    pub directories: IndexMap<String, Directory>,
    /// The application's own list.
    pub accounts: Accounts,
    /// Which people come in, and as what.
    pub intakes: Intakes,
    /// What stops an apply.
    pub brakes: Brakes,
    /// The database that has what is remembered from run to run; none where that is a file beside the
    /// settings.
    pub state: Option<StateDatabase>,
}

impl Settings {
    /// Whether groups come into the application, too.
    #[must_use]
    pub fn brings_groups(&self) -> bool {
        self.intakes.iter().any(|intake| intake.application_groups.is_some())
    }

    /// The directory that an intake reads.
    #[must_use]
    pub fn directory(&self, intake: &Intake) -> Option<&Directory> {
        self.directories.get(&intake.directory)
    }

    /// The fields of accounts that the intakes write, `login` and `roles` among them, each once.
    #[must_use]
    pub fn account_fields(&self) -> Vec<&str> {
        let mut seen = std::collections::HashSet::new();
        self.intakes.iter().flat_map(Intake::account_fields).filter(|name| seen.insert(*name)).collect()
    }

    /// The fields of which no two accounts may have one value, each once; logins beside them.
    #[must_use]
    pub fn unique_fields(&self) -> Vec<&str> {
        let mut seen = std::collections::HashSet::new();
        let rules = self.intakes.iter().flat_map(|intake| &intake.fields);
        let unique = rules.filter(|(name, rule)| rule.unique && *name != "login");
        unique.map(|(name, _)| name.as_str()).filter(|name| seen.insert(*name)).collect()
    }
}

/// What stops an apply; a preview shows it.
#[derive(Clone, Debug, Serialize)]
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
#[derive(Clone, Copy, Debug, PartialEq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Removals {
    /// This many.
    Number(u64),
    /// This share of what there is, in percent.
    Percent(f64),
}
