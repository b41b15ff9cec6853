//! The work of an apply: edits, and the circumstances in which they were worked out.

use jiff::civil::Date;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::Arc;
use webtaxon_core::apply::{Edit, GroupEdit, Seats, brakes_of_part};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::preview::{Brake, ChangeKind, Fresh, Origins};
use webtaxon_core::reading::Footprint;

/// The origin of the edits.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Origin {
    /// A preview.
    Preview,
    /// The undoing of this run.
    Undo(i64),
}

/// The work of an apply: the edits of a preview or of undoing a run, with the circumstances in which they were worked
/// out.
///
/// It cannot be altered, so that exactly what was approved is carried out. [`part`](Self::part) selects some of the
/// edits.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Work {
    pub(super) origin: Origin,
    pub(super) edits: Arc<[Edit]>,
    pub(super) groups: GroupWork,
    pub(super) brakes: Vec<Brake>,
    /// The account list, as its store identifies it.
    pub(super) store: String,
    /// The digest of the settings.
    pub(super) settings: String,
    /// The seats that a preview's edits take, if the settings limit them.
    pub(super) seats: Option<Seats>,
    /// The settings that select people; only for a complete preview.
    pub(super) selecting: Option<BTreeMap<String, String>>,
    /// Since when people have been missed; only for a preview.
    pub(super) missed: Option<BTreeMap<Identity, Date>>,
    /// By intake, what was seen; only for a complete preview.
    pub(super) footprints: BTreeMap<String, Footprint>,
    /// The people who come in, and those who did a short while ago, with the server that showed
    /// them; only for a preview.
    pub(super) fresh: BTreeMap<Identity, Fresh>,
    /// The directory of each link; only for a preview.
    pub(super) origins: Origins,
    /// The latest run before this.
    pub(super) latest: i64,
    /// The copy of the list from before the run to be undone.
    pub(super) original: Option<PathBuf>,
    /// The logins of accounts that are suspended if their removal is refused.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub(super) or_suspended: BTreeSet<String>,
    /// Edits that are other than expected, and why, in words.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(super) notes: Vec<String>,
}

/// The edits of the application's groups.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct GroupWork {
    /// Before accounts change: members who leave, and groups to be deleted.
    pub first: Vec<GroupEdit>,
    /// After accounts have changed: groups to be created, and members who join.
    pub last: Vec<GroupEdit>,
}

impl GroupWork {
    /// All edits, in order.
    pub fn all(&self) -> impl Iterator<Item = &GroupEdit> {
        self.first.iter().chain(&self.last)
    }

    /// Number of edits.
    #[must_use]
    pub fn len(&self) -> usize {
        self.first.len() + self.last.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

impl Work {
    /// The origin of the edits.
    #[must_use]
    pub fn origin(&self) -> Origin {
        self.origin
    }

    /// The edits of accounts, in order.
    #[must_use]
    pub fn edits(&self) -> &[Edit] {
        &self.edits
    }

    /// Edits that are other than expected, and why, in words: accounts that an undoing suspends instead of removing.
    #[must_use]
    pub fn notes(&self) -> &[String] {
        &self.notes
    }

    /// The edits of groups.
    #[must_use]
    pub fn groups(&self) -> &GroupWork {
        &self.groups
    }

    /// The limits that are exceeded; each must be released.
    #[must_use]
    pub fn brakes(&self) -> &[Brake] {
        &self.brakes
    }

    /// A part of the edits of accounts, in the same order; for example the approved ones.
    ///
    /// Removals and seats are counted again for the part. Groups are not edited, and `settings_changed` remains in
    /// force for the other edits: the next preview shows both. An edit that depends on one left out (two accounts
    /// that swap logins) is refused by the store, as its outcome says.
    ///
    /// ```
    /// # use webtaxon::{ChangeKind, apply::Work};
    /// fn imports_alone(work: &Work) -> Work {
    ///     work.part(|edit| edit.kind == ChangeKind::Import)
    /// }
    /// ```
    #[must_use]
    pub fn part(&self, mut keep: impl FnMut(&Edit) -> bool) -> Self {
        let mut part = self.clone();
        part.edits = self.edits.iter().filter(|edit| keep(edit)).cloned().collect();
        part.brakes = brakes_of_part(&self.brakes, self.seats, &part.edits);
        part.groups = GroupWork::default();
        part.selecting = None;
        part.footprints.clear();
        part
    }

    /// Whether there is nothing to do.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.edits.is_empty() && self.groups.is_empty()
    }

    /// The number of edits of accounts of each kind that occurs.
    #[must_use]
    pub fn counts(&self) -> Vec<(ChangeKind, usize)> {
        let of = |kind| self.edits.iter().filter(|edit| edit.kind == kind).count();
        ChangeKind::ALL.into_iter().map(|kind| (kind, of(kind))).filter(|(_, count)| *count > 0).collect()
    }
}

/// Who approves an apply, and on what terms.
#[derive(Clone, Debug, Default)]
pub struct Consent {
    /// The person, for the journal.
    pub who: String,
    /// The brakes released for this apply, by name.
    pub release: Vec<String>,
    /// Number of refusals by the store after which no further edit begins.
    pub stop_after: Option<usize>,
}
