//! The application's groups.

use super::Fields;
use crate::ldap::identity::Identity;
use serde::{Deserialize, Serialize};

/// One group of accounts in the application.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Group {
    /// Its name in the application. Unique, ignoring case.
    pub name: String,
    /// The link to a directory entry. A group without one was made by hand and is never changed.
    pub link: Option<Identity>,
    /// The logins of its members, each once.
    pub members: Vec<String>,
    /// The application's other fields, by name. They are never changed, and come back if a removed group is restored.
    #[serde(default, skip_serializing_if = "Fields::is_empty")]
    pub fields: Fields,
}

/// All groups of the application.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Groups {
    /// The groups.
    pub list: Vec<Group>,
    /// Whether members are stored as logins, so that a changed login must be changed here as well.
    pub by_login: bool,
}
