//! What the application would do: accounts to import, update, suspend or remove, and why.
//!
//! [`Preview::of`] is a function of one [`Situation`]; it looks at nothing else and changes nothing. Three promises are kept here: without the proof of a whole reading nobody
//! leaves; accounts without a link are never changed; a person is found by the link first, so that
//! a new name is still the same person. No I/O, no recursion; memory is linear in the accounts.

mod adoption;
mod belonging;
mod brakes;
mod change;
pub mod compare;
mod found;
mod groups;
mod leaving;
mod matching;
mod memory;
mod narrow;
mod situation;
mod summary;
#[cfg(test)]
mod tests;
mod whose;
pub mod why;

pub use belonging::Belonging;
pub use brakes::{Brake, BrakeKind, UnknownBrake};
pub use change::{Cause, Change, ChangeKind, Clash, FieldChange, Held, HeldReason, Wait};
pub use groups::{GroupChange, GroupChangeKind, GroupPreview, HeldGroup};
pub use memory::{Grace, Memory};
pub use narrow::{Narrow, Sort};
pub use situation::Situation;
pub use summary::{AccountCounts, Incomplete, OpenField, Stranger};

use crate::ldap::identity::Identity;
use crate::reading::Gap;
use crate::selection::FunnelStep;
use crate::settings::{Intake, Intakes};
use jiff::civil::Date;
use matching::Matching;
use situation::Selected;
use std::collections::BTreeMap;

/// One intake: where it was read, and the count of people after each of its steps.
#[derive(Clone, Debug)]
pub struct IntakeSummary {
    /// The intake's name.
    pub intake: String,
    /// The directory's name.
    pub directory: String,
    /// The server that answered.
    pub server: String,
    /// What happened on the way that did no harm: another server, a second look.
    pub notes: Vec<String>,
    /// How many groups were read.
    pub groups_read: usize,
    /// The count of people after each step of the selection.
    pub funnel: Vec<FunnelStep>,
}

/// What one run would change.
#[derive(Debug)]
pub struct Preview {
    /// The intakes, in order.
    pub intakes: Intakes<IntakeSummary>,
    /// What was not read to its end; empty exactly when the reading is whole.
    pub gaps: Vec<Gap>,
    /// People who would come in but for a value that the directory does not have.
    pub incomplete: Vec<Incomplete>,
    /// Fields of people who are in, for which the directory has no value that could be relied on.
    pub open_fields: Vec<OpenField>,
    /// Members of the groups who are not among the people that were found: outside the bases, kept
    /// out by the filter, or gone.
    pub strangers: Vec<Stranger>,
    /// How many accounts there are, and would be.
    pub accounts: AccountCounts,
    /// How many changes there are of each kind that occurs, those left out among them.
    pub kinds: Vec<(ChangeKind, usize)>,
    /// What would change, by kind and login.
    pub changes: Vec<Change>,
    /// What would not be done though it might be expected, and why.
    pub held: Vec<Held>,
    /// What `only` and `except` name and nobody is called.
    pub nobody: Vec<String>,
    /// Accounts that would find no seat: restored first, then imported, each by login.
    pub unseated: Vec<String>,
    /// What would become of the application's groups; none where the settings bring none.
    pub groups: Option<GroupPreview>,
    /// Limits that are passed, and would stop an apply.
    pub brakes: Vec<Brake>,
    /// Linked accounts that stay exactly as they are.
    pub unchanged: usize,
    /// By link: since when each person has been missed whose account would leave, or waits. What an apply
    /// remembers; what was remembered before as long as the reading is not whole.
    pub missed: BTreeMap<Identity, Date>,
    /// Changes, and what was held back, that [`Preview::narrow`] took out of the lists.
    pub left_out: usize,
}

impl IntakeSummary {
    fn of(part: &Selected<'_>) -> Self {
        let source = part.reading.source();
        Self {
            intake: part.intake.name.clone(),
            directory: source.directory.clone(),
            server: source.server.clone(),
            notes: source.notes.clone(),
            groups_read: part.reading.graph().groups(),
            funnel: part.selection.funnel.clone(),
        }
    }

    /// Nothing was read for an intake.
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
    /// Works out what would change.
    #[must_use]
    pub fn of(situation: Situation<'_>) -> Self {
        let Situation { settings, readings, accounts, groups, memory } = situation;
        let selections = situation.selections();
        let parts: Vec<Selected<'_>> = situation.selected(&selections).collect();
        let outcome = Matching::new(situation, &parts).outcome();
        let counts = AccountCounts::new(accounts, &outcome.changes, settings.accounts.seats);
        let of = |kind: ChangeKind| outcome.changes.iter().filter(|change| change.kind == kind).count();
        let kinds = ChangeKind::ALL.into_iter().map(|kind| (kind, of(kind)));
        let kinds = kinds.filter(|(_, count)| *count > 0).collect();
        let unseated = summary::unseated(&outcome.changes, &counts);
        let groups =
            groups.map(|groups| GroupPreview::new(settings, readings, accounts, &outcome.changes, groups));
        let mut brakes = brakes::brakes(situation, &parts, &outcome.changes, &unseated, &counts);
        brakes.extend(groups.as_ref().and_then(|groups| brakes::memberships(settings, groups)));
        let is_whole = parts.iter().all(|part| part.reading.whole().is_some())
            && parts.len() == settings.intakes.count();
        Self {
            intakes: Intakes::new(parts.iter().map(IntakeSummary::of))
                .unwrap_or_else(|| IntakeSummary::none(&settings.intakes.first).into()),
            gaps: parts.iter().flat_map(|part| part.reading.gaps()).cloned().collect(),
            incomplete: parts.iter().flat_map(summary::incomplete).collect(),
            open_fields: parts.iter().flat_map(summary::open_fields).collect(),
            strangers: summary::strangers(&parts),
            nobody: parts.iter().flat_map(|part| part.selection.nobody.clone()).collect(),
            unseated,
            accounts: counts,
            kinds,
            changes: outcome.changes,
            held: outcome.held,
            groups,
            brakes,
            unchanged: outcome.unchanged,
            missed: if is_whole { outcome.missed } else { memory.missed.clone() },
            left_out: 0,
        }
    }

    /// Whether everything was read that the settings ask for.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.gaps.is_empty()
    }

    /// Whether an apply would do anything.
    #[must_use]
    pub fn has_work(&self) -> bool {
        let groups = self.groups.as_ref().is_some_and(|groups| !groups.changes.is_empty());
        groups || self.kinds.iter().any(|(kind, _)| kind.is_done())
    }

    /// The changes of one kind, by login.
    pub fn of_kind(&self, kind: ChangeKind) -> impl Iterator<Item = &Change> {
        self.changes.iter().filter(move |change| change.kind == kind)
    }
}
