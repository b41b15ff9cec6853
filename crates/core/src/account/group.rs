//! One group of the application's own, and the list of all.

use super::Fields;
use crate::ldap::identity::Identity;
use serde::{Deserialize, Serialize};

/// A group of accounts, as the application keeps it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Group {
    /// What the application calls it. Unique, whatever its case.
    pub name: String,
    /// The tie to a directory entry. A group without one was made by hand and is never changed.
    pub link: Option<Identity>,
    /// The logins of its members, each once.
    pub members: Vec<String>,
    /// Everything else that the application keeps of it, by name: nothing here changes it, and a group that was
    /// removed gets it back.
    #[serde(default, skip_serializing_if = "Fields::is_empty")]
    pub fields: Fields,
}

/// Every group that the application has.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Groups {
    /// The groups.
    pub list: Vec<Group>,
    /// Whether members are written as logins, so that somebody's new login must be written here as well.
    pub by_login: bool,
}
