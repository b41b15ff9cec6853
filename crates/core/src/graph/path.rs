//! The path of groups to a member, bounded in length: nests can be as deep as there are groups.

use serde::Serialize;

/// Maximum groups kept in a [`GroupPath`]; real nests are far shallower.
pub const LONGEST_PATH: usize = 16;

/// The groups on the way to a member: the named group first, the group that lists the member last. Empty if it is not
/// a member.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct GroupPath {
    /// Their names; of more than [`LONGEST_PATH`], those in the middle are left out.
    #[serde(rename = "path")]
    pub groups: Vec<String>,
    /// Number of groups left out after the first.
    pub left_out: usize,
}

impl GroupPath {
    /// Number of groups, including those left out.
    #[must_use]
    pub fn len(&self) -> usize {
        self.groups.len() + self.left_out
    }

    /// Whether there is no path.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.groups.is_empty()
    }

    /// The groups by display name, with a note of how many are left out.
    #[must_use]
    pub fn told(&self, called: impl Fn(&str) -> String) -> Vec<String> {
        let mut told: Vec<String> = self.groups.iter().map(|dn| called(dn)).collect();
        if let Some(omission) = self.omission() {
            told.insert(told.len().min(1), omission);
        }
        told
    }

    /// The number of groups left out after the first, in words; `None` if there are none.
    #[must_use]
    pub fn omission(&self) -> Option<String> {
        let groups = if self.left_out == 1 { "group" } else { "groups" };
        (self.left_out > 0).then(|| format!("({} {groups} left out)", self.left_out))
    }
}
