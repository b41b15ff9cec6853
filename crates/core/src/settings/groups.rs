//! The directory groups that the application gets, and where it keeps them.

use crate::ldap::filter::Filter;
use crate::ldap::identity::LASTING;
use crate::ldap::name::Dn;
use crate::settings::rules::{Condition, FieldRule};
use indexmap::IndexMap;
use serde::Serialize;
use std::collections::BTreeSet;
use std::path::PathBuf;

/// Which groups of the directory are imported into the application, and how.
#[derive(Clone, Debug, Serialize)]
pub struct GroupIntake {
    /// The search bases; each covers its whole subtree.
    pub bases: Vec<Dn>,
    /// The filter that selects the groups.
    pub filter: Filter,
    /// How `name` is drawn from a group's entry; there is no other field.
    pub fields: IndexMap<String, FieldRule>,
    /// Which members the application's group gets.
    pub members: GroupMembers,
    /// Whether a group made by hand becomes the directory's if it has the same name.
    pub adopt: bool,
    /// What happens to a group that is no longer selected.
    pub gone: GroupLeaving,
}

impl GroupIntake {
    /// The attributes of groups needed to select and name them.
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

    /// The selection of groups, as text.
    #[must_use]
    pub fn which(&self) -> String {
        let bases: Vec<String> = self.bases.iter().map(ToString::to_string).collect();
        format!("{} under {}", self.filter, bases.join(" and "))
    }
}

/// The members that a group of the application gets.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum GroupMembers {
    /// All people in the group, directly or nested.
    #[default]
    Flattened,
    /// Only people whom the group lists itself.
    Direct,
}

/// What happens to a group that is no longer selected.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum GroupLeaving {
    /// It is kept unchanged.
    #[default]
    Keep,
    /// It is removed.
    Remove,
}

/// The application's groups in a CSV file (RFC 4180), relative to the settings file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct CsvGroups {
    /// The file.
    pub path: PathBuf,
    /// Columns with other than the usual names: from `name`, `link`, `members` to the column.
    pub columns: IndexMap<String, String>,
}

/// The application's groups in a table, one to a row.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct SqlGroups {
    /// Its name.
    pub name: String,
    /// Columns with other names than `name` and `link`.
    pub columns: IndexMap<String, String>,
    /// The table of members.
    pub members: MemberTable,
}

/// A table of memberships, one to a row: an account and a group.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct MemberTable {
    /// Its name.
    pub name: String,
    /// The column that identifies the group.
    pub group: String,
    /// The column of the groups table that it refers to.
    pub group_key: String,
    /// The column that identifies the account.
    pub account: String,
    /// The column of the accounts table that it refers to.
    pub account_key: String,
}
