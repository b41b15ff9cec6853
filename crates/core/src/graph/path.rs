//! The groups by which somebody is in one, in bounds: a nest may be as deep as it has groups.

use serde::Serialize;

/// Groups in a [`GroupPath`] at most; nests that people make are far less deep.
pub const LONGEST_PATH: usize = 16;

/// The groups by which somebody is in one: the named one first, the one that has them last. Empty where they are in none.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct GroupPath {
    /// Their names; of more than [`LONGEST_PATH`] those in between are left out.
    #[serde(rename = "path")]
    pub groups: Vec<String>,
    /// How many groups are left out, behind the first.
    pub left_out: usize,
}

impl GroupPath {
    /// How many groups there are, those among them that are left out.
    #[must_use]
    pub fn len(&self) -> usize {
        self.groups.len() + self.left_out
    }

    /// Whether nobody is in by it.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.groups.is_empty()
    }

    /// The groups as they are to be called, and how many are left out where they are.
    #[must_use]
    pub fn told(&self, called: impl Fn(&str) -> String) -> Vec<String> {
        let mut told: Vec<String> = self.groups.iter().map(|dn| called(dn)).collect();
        if let Some(omission) = self.omission() {
            told.insert(told.len().min(1), omission);
        }
        told
    }

    /// How many groups are left out behind the first, in words; none where none is.
    #[must_use]
    pub fn omission(&self) -> Option<String> {
        let groups = if self.left_out == 1 { "group" } else { "groups" };
        (self.left_out > 0).then(|| format!("({} {groups} left out)", self.left_out))
    }
}
