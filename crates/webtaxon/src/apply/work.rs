//! The work of an apply: the edits of a preview or of the way back of a run, and what they were made with.

use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::PathBuf;
use webtaxon_core::apply::{Edit, GroupEdit};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::preview::{Brake, ChangeKind};

/// Where edits come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Origin {
    /// A preview.
    Preview,
    /// The way back of this run.
    Undo(i64),
}

/// What an apply is to do: the edits of a preview or of the way back, and what they were made with.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Work {
    /// Where the edits come from.
    pub origin: Origin,
    /// What is to be done to accounts, in order.
    pub edits: Vec<Edit>,
    /// What is to be done to groups.
    pub groups: GroupWork,
    /// Limits that are passed; each must be released.
    pub brakes: Vec<Brake>,
    /// The list, in the words of its store.
    pub(super) store: String,
    /// The digest of the settings.
    pub(super) settings: String,
    /// The settings that select people.
    pub(super) selecting: BTreeMap<String, String>,
    /// Since when people have been missed.
    pub(super) missed: BTreeMap<Identity, Date>,
    /// The latest run before this.
    pub(super) latest: i64,
    /// The list as it was before the run that is taken back.
    pub(super) original: Option<PathBuf>,
}

/// What is to be done to the application's groups.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct GroupWork {
    /// Before accounts change: who leaves a group, and which groups go.
    pub first: Vec<GroupEdit>,
    /// Behind them: which groups come, and who comes into one.
    pub last: Vec<GroupEdit>,
}

impl GroupWork {
    /// Everything, in order.
    pub fn all(&self) -> impl Iterator<Item = &GroupEdit> {
        self.first.iter().chain(&self.last)
    }

    /// How many edits there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.first.len() + self.last.len()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

impl Work {
    /// Whether there is nothing to do.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.edits.is_empty() && self.groups.is_empty()
    }

    /// How many edits of accounts there are of each kind that occurs.
    #[must_use]
    pub fn counts(&self) -> Vec<(ChangeKind, usize)> {
        let of = |kind| self.edits.iter().filter(|edit| edit.kind == kind).count();
        ChangeKind::ALL.into_iter().map(|kind| (kind, of(kind))).filter(|(_, count)| *count > 0).collect()
    }
}

/// Who wants it, and on which terms.
#[derive(Clone, Debug, Default)]
pub struct Consent {
    /// Who wants it, for the journal.
    pub who: String,
    /// The brakes that are released for this one time, by name.
    pub release: Vec<String>,
    /// After so many refusals of the store no further edit is begun.
    pub stop_after: Option<usize>,
}
