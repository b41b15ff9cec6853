//! Which groups of the directory the application gets, and where it keeps them.

use crate::ldap::filter::Filter;
use crate::ldap::identity::LASTING;
use crate::ldap::name::Dn;
use crate::settings::rules::{Condition, FieldRule};
use indexmap::IndexMap;
use serde::Serialize;
use std::collections::BTreeSet;
use std::path::PathBuf;

/// Which groups of the directory come into the application, and as what.
#[derive(Clone, Debug, Serialize)]
pub struct GroupIntake {
    /// Where they sit; each base is read with everything below it.
    pub bases: Vec<Dn>,
    /// Which entries there they are.
    pub filter: Filter,
    /// How `name` is drawn from a group's entry; there is no other field.
    pub fields: IndexMap<String, FieldRule>,
    /// Who is in a group of the application.
    pub members: GroupMembers,
    /// Whether a group that was made by hand becomes the directory's if it has the name.
    pub adopt: bool,
    /// What becomes of a group whose entry is not among those that come in any more.
    pub gone: GroupLeaving,
}

impl GroupIntake {
    /// The attributes of groups that say which they are and what they are called.
    #[must_use]
    pub fn attributes(&self) -> Vec<String> {
        let rules = self.fields.values();
        let conditions = rules.clone().flat_map(|rule| &rule.choices).map(|choice| &choice.condition);
        let named = rules.flat_map(FieldRule::from_attributes);
        let named = named.chain(self.filter.attributes()).chain(conditions.flat_map(Condition::attributes));
        // Members are read with the nests.
        let is_list = |name: &&str| {
            ["member", "uniqueMember", "memberUid"].iter().any(|list| list.eq_ignore_ascii_case(name))
        };
        let all: BTreeSet<&str> = named.filter(|name| !is_list(name)).chain(LASTING).collect();
        all.into_iter().chain(["objectClass"]).map(str::to_owned).collect()
    }

    /// Which groups of a directory they are, as text.
    #[must_use]
    pub fn which(&self) -> String {
        let bases: Vec<String> = self.bases.iter().map(ToString::to_string).collect();
        format!("{} under {}", self.filter, bases.join(" and "))
    }
}

/// Who is in a group of the application, of those who are in the directory's.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum GroupMembers {
    /// Everybody, through groups in it, too.
    #[default]
    Flattened,
    /// Only whom the group itself has.
    Direct,
}

/// What becomes of a group whose entry is not among those that come in any more.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum GroupLeaving {
    /// It stays as it is.
    #[default]
    Keep,
    /// It is removed.
    Remove,
}

/// The application's groups in a CSV file (RFC 4180), beside the settings unless the path is absolute.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct CsvGroups {
    /// The file.
    pub path: PathBuf,
    /// The columns' names where they are not the usual ones: from `name`, `link`, `members` to the column.
    pub columns: IndexMap<String, String>,
}

/// The application's groups in a table, one a row.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SqlGroups {
    /// Its name.
    pub name: String,
    /// The columns' names where they are not `name` and `link`.
    pub columns: IndexMap<String, String>,
    /// The table that has the members.
    pub members: MemberTable,
}

/// A table of members, one a row: which account is in which group.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct MemberTable {
    /// Its name.
    pub name: String,
    /// Its column that says which group.
    pub group: String,
    /// The column of the groups' table that it refers to.
    pub group_key: String,
    /// Its column that says which account.
    pub account: String,
    /// The column of the accounts' table that it refers to.
    pub account_key: String,
}
