//! What the application would do: accounts to import, update, suspend or remove, and why.
//!
//! [`Preview::of`] is a function of one [`Situation`]; it depends on nothing else and changes nothing. Three promises
//! are kept here: without the proof of a whole reading nobody leaves; accounts without a link are never changed; a
//! person is found by the link first, so that a new name is still the same person. No I/O, no recursion; memory is
//! linear in the accounts.

mod adoption;
mod anew;
mod belonging;
mod brakes;
mod cause;
mod change;
mod claims;
mod clash;
pub mod compare;
mod difference;
mod document;
mod draft;
mod emptied;
mod found;
mod fresh;
mod groups;
mod idle;
mod leaving;
mod matching;
mod memory;
mod narrow;
mod origins;
mod question;
mod refresh;
mod settling;
mod situation;
mod summary;
#[cfg(test)]
mod tests;
mod ways;
mod whose;
pub mod why;

pub use belonging::Belonging;
pub use brakes::{Brake, BrakeKind, UnknownBrake};
pub use cause::Cause;
pub use change::{Action, Change, ChangeKind, Departure, FieldChange, Held, HeldReason, Wait};
pub use clash::{Clash, Holder, Way, Who, Word};
pub use groups::{GroupChange, GroupChangeKind, GroupPreview, HeldGroup};
pub use idle::{IdleReason, IdleWord};
pub use memory::{Fresh, Grace, Memory};
pub use narrow::{Narrow, Sort};
pub use origins::Origins;
pub use question::{Question, Side};
pub use situation::Situation;
pub use summary::{AccountCounts, Incomplete, OpenField, Stranger};

use crate::account::Inquiry;
use crate::ldap::identity::Identity;
use crate::reading::{Footprint, Gap, Reading};
use crate::selection::FunnelStep;
use crate::settings::{Intake, Intakes};
use jiff::civil::Date;
use matching::Matching;
use situation::Selected;
use std::collections::BTreeMap;

/// One intake: the server that was read, and the number of people after each step.
#[derive(Clone, Debug)]
pub struct IntakeSummary {
    /// The intake's name.
    pub intake: String,
    /// The directory's name.
    pub directory: String,
    /// The server that was read.
    pub server: String,
    /// Remarks on harmless events: another server, a second look.
    pub notes: Vec<String>,
    /// Number of groups read.
    pub groups_read: usize,
    /// The number of people after each step of the selection.
    pub funnel: Vec<FunnelStep>,
}

/// The changes that an apply would make, and everything that explains them.
#[derive(Debug)]
pub struct Preview {
    /// The intakes, in order.
    pub intakes: Intakes<IntakeSummary>,
    /// Parts that were not read to their end; empty exactly when the reading is whole.
    pub gaps: Vec<Gap>,
    /// People left out only because the directory lacks a required value.
    pub incomplete: Vec<Incomplete>,
    /// Fields of selected people for which the directory has no reliable value.
    pub open_fields: Vec<OpenField>,
    /// Members of selecting groups who are not among the people found: outside the bases, excluded by the filter, or
    /// deleted.
    pub strangers: Vec<Stranger>,
    /// The number of accounts, now and after the changes.
    pub accounts: AccountCounts,
    /// The number of changes of each kind that occurs, including those that [`Preview::narrow`] removed.
    pub kinds: Vec<(ChangeKind, usize)>,
    /// The changes, sorted by kind and login.
    pub changes: Vec<Change>,
    /// Expected changes that are not made, and why.
    pub held: Vec<Held>,
    /// Entries of `only` and `except` that match nobody.
    pub nobody: Vec<String>,
    /// Entries of `whose` that cannot apply, or not yet.
    pub idle_words: Vec<IdleWord>,
    /// Accounts that would get no seat: restored ones first, then new ones, each sorted by login.
    pub unseated: Vec<String>,
    /// The changes to the application's groups; `None` if the settings import none.
    pub groups: Option<GroupPreview>,
    /// Limits that are exceeded, and stop an apply.
    pub brakes: Vec<Brake>,
    /// Number of linked accounts without changes.
    pub unchanged: usize,
    /// By link, since when each leaving person has been missed. An apply remembers it; unless the reading is whole,
    /// it is what was remembered before; nothing, if only one person was read.
    pub missed: BTreeMap<Identity, Date>,
    /// By intake, what was seen, in counts. An apply remembers it. Readings that were not whole are missing.
    pub footprints: BTreeMap<String, Footprint>,
    /// By link, the people who come in, and those who did a short while ago, with the server that showed them. An apply
    /// remembers those whom it brings in.
    pub fresh: BTreeMap<Identity, Fresh>,
    /// The directory that each link comes from. An apply remembers it.
    pub origins: Origins,
    /// The number of a run that was interrupted, if what it did is not known yet.
    pub interrupted: Option<i64>,
    /// Number of changes and held changes that [`Preview::narrow`] removed.
    pub left_out: usize,
}

impl IntakeSummary {
    fn of(part: &Selected<'_>, memory: &Memory) -> Self {
        let source = part.reading.source();
        let mut notes = source.notes.clone();
        notes.extend(part.reading.doubts().iter().cloned());
        notes.extend(fresh::note(part, memory));
        Self {
            intake: part.intake.name.clone(),
            directory: source.directory.clone(),
            server: source.server.clone(),
            notes,
            groups_read: part.reading.graph().groups(),
            funnel: part.selection.funnel.clone(),
        }
    }

    /// The summary of an intake that was not read.
    fn none(intake: &Intake) -> Self {
        Self {
            intake: intake.name.clone(),
            directory: intake.directory.clone(),
            server: String::new(),
            notes: Vec::new(),
            groups_read: 0,
            funnel: Vec::new(),
        }
    }
}

impl Preview {
    /// Works out the changes.
    #[must_use]
    pub fn of(situation: Situation<'_>) -> Self {
        let Situation { settings, readings, accounts, groups, memory, .. } = situation;
        let selections = situation.selections();
        let parts: Vec<Selected<'_>> = situation.selected(&selections).collect();
        let decisions = Matching::new(situation, &parts).decisions();
        let counts = AccountCounts::new(accounts, &decisions.changes, settings.accounts.seats);
        let of = |kind: ChangeKind| decisions.changes.iter().filter(|change| change.kind() == kind).count();
        let kinds = ChangeKind::ALL.into_iter().map(|kind| (kind, of(kind)));
        let kinds = kinds.filter(|(_, count)| *count > 0).collect();
        let unseated = summary::unseated(&decisions.changes, &counts);
        let groups =
            groups.map(|groups| GroupPreview::new(settings, readings, accounts, &decisions.changes, groups));
        // A reading of one person says nothing of others: of them, nothing is counted, and nothing remembered.
        let is_of_one = readings.iter().any(Reading::is_of_one);
        let mut brakes = match is_of_one {
            true => Vec::new(),
            false => brakes::brakes(situation, &parts, &decisions, &unseated, &counts),
        };
        brakes.extend(groups.as_ref().and_then(|groups| brakes::memberships(settings, groups)));
        let is_whole = parts.iter().all(|part| part.reading.whole().is_some())
            && parts.len() == settings.intakes.count();
        Self {
            intakes: Intakes::new(parts.iter().map(|part| IntakeSummary::of(part, memory)))
                .unwrap_or_else(|| IntakeSummary::none(&settings.intakes.first).into()),
            gaps: parts.iter().flat_map(|part| part.reading.gaps()).cloned().collect(),
            incomplete: parts.iter().flat_map(summary::incomplete).collect(),
            open_fields: summary::open_fields(&parts, &decisions.held),
            strangers: summary::strangers(&parts),
            nobody: parts.iter().flat_map(|part| part.selection.nobody.clone()).collect(),
            idle_words: decisions.idle_words,
            unseated,
            accounts: counts,
            kinds,
            held: decisions.held,
            groups,
            brakes,
            unchanged: decisions.unchanged,
            footprints: parts.iter().filter_map(Selected::footprint).collect(),
            fresh: fresh::fresh(&parts, &decisions.changes, memory),
            origins: Origins::of(&parts),
            interrupted: memory.interrupted,
            missed: match (is_whole, is_of_one) {
                (true, _) => decisions.missed,
                (false, true) => BTreeMap::new(),
                (false, false) => memory.missed.clone(),
            },
            changes: decisions.changes,
            left_out: 0,
        }
    }

    /// The questions to the store: every value that an apply would write, and every account that it would remove.
    #[must_use]
    pub fn inquiry(&self) -> Inquiry {
        let mut inquiry = Inquiry::default();
        for change in self.changes.iter().filter(|change| change.kind().is_done()) {
            if change.kind() == ChangeKind::Remove {
                inquiry.removals.insert(change.login.clone());
                continue;
            }
            let fields = change.fields.iter().filter(|(name, _)| !["link", "state"].contains(&name.as_str()));
            for (name, field) in fields {
                let values = inquiry.values.entry(name.clone()).or_default();
                let new = field.new.as_deref().unwrap_or_default();
                if !values.contains(new) {
                    values.insert(new.to_owned());
                }
            }
        }
        inquiry
    }

    /// Whether everything that the settings ask for was read.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.gaps.is_empty()
    }

    /// Whether an apply would change anything.
    #[must_use]
    pub fn has_work(&self) -> bool {
        let groups = self.groups.as_ref().is_some_and(|groups| !groups.changes.is_empty());
        groups || self.kinds.iter().any(|(kind, _)| kind.is_done())
    }

    /// The changes of one kind, sorted by login.
    pub fn of_kind(&self, kind: ChangeKind) -> impl Iterator<Item = &Change> {
        self.changes.iter().filter(move |change| change.kind() == kind)
    }
}
