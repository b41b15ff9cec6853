//! The work of an apply: the edits of a preview or of the way back of a run, and what they were made with.

use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::path::PathBuf;
use webtaxon_core::apply::{Edit, GroupEdit, Seats, brakes_of_part};
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
///
/// Nothing in it can be altered, so that what was agreed to is what is carried out. Some of it alone is
/// [`part`](Self::part).
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Work {
    pub(super) origin: Origin,
    pub(super) edits: Vec<Edit>,
    pub(super) groups: GroupWork,
    pub(super) brakes: Vec<Brake>,
    /// The list, in the words of its store.
    pub(super) store: String,
    /// The digest of the settings.
    pub(super) settings: String,
    /// The seats that the edits of a preview take, where the settings say how many there are.
    pub(super) seats: Option<Seats>,
    /// The settings that select people; those of the whole of a preview alone.
    pub(super) selecting: Option<BTreeMap<String, String>>,
    /// Since when people have been missed; in a preview alone.
    pub(super) missed: Option<BTreeMap<Identity, Date>>,
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
    /// Where the edits come from.
    #[must_use]
    pub fn origin(&self) -> Origin {
        self.origin
    }

    /// What is to be done to accounts, in order.
    #[must_use]
    pub fn edits(&self) -> &[Edit] {
        &self.edits
    }

    /// What is to be done to groups.
    #[must_use]
    pub fn groups(&self) -> &GroupWork {
        &self.groups
    }

    /// The limits that are passed; each must be released.
    #[must_use]
    pub fn brakes(&self) -> &[Brake] {
        &self.brakes
    }

    /// Some edits of accounts alone, in the same order: those that were approved, say.
    ///
    /// Limits on removals and seats are held against what is left. Groups are left as they are, and
    /// `settings_changed` still holds for the edits that were not kept: the next preview has both. An
    /// edit that cannot be made without one that was left out (two accounts that exchange a login) is
    /// refused by the store, and the outcome says so.
    ///
    /// ```
    /// # use webtaxon::{ChangeKind, apply::Work};
    /// fn imports_alone(work: &Work) -> Work {
    ///     work.part(|edit| edit.kind == ChangeKind::Import)
    /// }
    /// ```
    #[must_use]
    pub fn part(&self, keep: impl FnMut(&Edit) -> bool) -> Self {
        let mut part = self.clone();
        part.edits.retain(keep);
        part.brakes = brakes_of_part(&self.brakes, self.seats, &part.edits);
        part.groups = GroupWork::default();
        part.selecting = None;
        part
    }

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
