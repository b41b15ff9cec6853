//! What the application would do: accounts to import, update, suspend or remove, and why.
//!
//! [`Preview::new`] is a function of settings, reading and accounts; it looks at nothing else and
//! changes nothing. Three promises are kept here: without the proof of a whole reading nobody
//! leaves; accounts without a link are never changed; a person is found by the link first, so that
//! a new name is still the same person. No I/O, no recursion; memory is linear in the accounts.

mod change;
pub mod compare;
mod matching;
mod memory;
mod narrow;
mod summary;
#[cfg(test)]
mod tests;
pub mod why;

pub use change::{Cause, Change, ChangeKind, Clash, FieldChange, Held, HeldReason, Wait};
pub use memory::{Grace, Memory};
pub use narrow::{Narrow, Sort};
pub use summary::{AccountCounts, BRAKES, Brake, Incomplete, OpenField, Stranger};

use crate::account::Account;
use crate::identity::Identity;
use crate::reading::{Gap, Reading};
use crate::selection::{FunnelStep, Selection};
use crate::settings::Settings;
use jiff::civil::Date;
use std::collections::BTreeMap;

/// What one run would change.
#[derive(Debug)]
pub struct Preview {
    /// The intake's name.
    pub intake: String,
    /// The directory's name and the server that answered.
    pub directory: String,
    /// The server that answered.
    pub server: String,
    /// What happened on the way that did no harm: another server, a second look.
    pub notes: Vec<String>,
    /// How many groups were read.
    pub groups_read: usize,
    /// What was not read to its end; empty exactly when the reading is whole.
    pub gaps: Vec<Gap>,
    /// The count of people after each step of the selection.
    pub funnel: Vec<FunnelStep>,
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

impl Preview {
    /// Works out what would change, on the day that `memory` says.
    #[must_use]
    pub fn new(settings: &Settings, reading: &Reading, accounts: &[Account], memory: &Memory) -> Self {
        let intake = &settings.intake;
        let selection = Selection::new(reading, intake);
        let outcome = matching::Matching::new(settings, reading, &selection, accounts, memory).outcome();
        let counts = AccountCounts::new(accounts, &outcome.changes, settings.accounts.seats);
        let of = |kind: ChangeKind| outcome.changes.iter().filter(|change| change.kind == kind).count();
        let kinds = ChangeKind::ALL.into_iter().map(|kind| (kind, of(kind)));
        let kinds = kinds.filter(|(_, count)| *count > 0).collect();
        let unseated = summary::unseated(&outcome.changes, &counts);
        let brakes = summary::brakes(
            settings,
            (reading, &selection),
            accounts,
            (&outcome.changes, &unseated),
            &counts,
            memory,
        );
        Self {
            intake: intake.name.clone(),
            directory: reading.source().directory.clone(),
            server: reading.source().server.clone(),
            notes: reading.source().notes.clone(),
            groups_read: reading.graph().groups(),
            gaps: reading.gaps().to_vec(),
            incomplete: summary::incomplete(reading, &selection),
            open_fields: summary::open_fields(settings, reading, &selection),
            strangers: summary::strangers(reading, &selection),
            nobody: selection.nobody,
            unseated,
            funnel: selection.funnel,
            accounts: counts,
            kinds,
            changes: outcome.changes,
            held: outcome.held,
            brakes,
            unchanged: outcome.unchanged,
            missed: if reading.whole().is_some() { outcome.missed } else { memory.missed.clone() },
            left_out: 0,
        }
    }

    /// Whether everything was read that the settings ask for.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.gaps.is_empty()
    }

    /// The changes of one kind, by login.
    pub fn of(&self, kind: ChangeKind) -> impl Iterator<Item = &Change> {
        self.changes.iter().filter(move |change| change.kind == kind)
    }
}
