//! The directory that each link comes from: an account is changed by the word of its own directory only.

use super::Memory;
use super::situation::Selected;
use crate::account::Account;
use crate::ldap::identity::Identity;
use crate::settings::Settings;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The directory that shows each link of this run.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Origins {
    /// The directory of all of them, if the settings read only one.
    pub only: Option<String>,
    /// Else the directory of each.
    pub each: BTreeMap<Identity, String>,
}

impl Origins {
    pub(super) fn of(parts: &[Selected<'_>]) -> Self {
        let Some(first) = parts.first().map(|part| &part.intake.directory) else { return Self::default() };
        if parts.iter().all(|part| part.intake.directory == *first) {
            return Self { only: Some(first.clone()), each: BTreeMap::new() };
        }
        let mut each = BTreeMap::new();
        for part in parts {
            for candidate in &part.selection.candidates {
                each.entry(candidate.identity.clone()).or_insert_with(|| part.intake.directory.clone());
            }
        }
        Self { only: None, each }
    }

    /// The directory that shows a link.
    #[must_use]
    pub fn directory(&self, link: &Identity) -> Option<&str> {
        self.only.as_deref().or_else(|| self.each.get(link).map(String::as_str))
    }
}

/// The other directory that a link comes from, as the state or else the account itself says, if the settings still
/// have it.
pub(super) fn other<'m>(
    settings: &Settings,
    memory: &'m Memory,
    account: Option<&'m Account>,
    link: &Identity,
    directory: &str,
) -> Option<&'m str> {
    let field = settings.accounts.origin.as_deref();
    let own = || Some(account?.field(field?)).filter(|own| !own.is_empty());
    let origin = memory.origins.get(link).map(String::as_str).or_else(own)?;
    let is_known = settings.directories.contains_key(origin);
    (origin != directory && is_known).then_some(origin)
}
