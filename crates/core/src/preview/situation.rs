//! The input of a preview, and each intake's part of it with its selection.

use super::Memory;
use crate::account::{Account, Groups, Replies};
use crate::reading::{Footprint, Reading};
use crate::selection::{Candidate, Selection};
use crate::settings::{Intake, Settings};

/// Everything that a preview depends on.
#[derive(Clone, Copy, Debug)]
pub struct Situation<'a> {
    /// The settings.
    pub settings: &'a Settings,
    /// One reading for each intake, in order.
    pub readings: &'a [Reading],
    /// The application's accounts.
    pub accounts: &'a [Account],
    /// The application's groups, if the settings import groups.
    pub groups: Option<&'a Groups>,
    /// Today's date, and what earlier runs remembered.
    pub memory: &'a Memory,
    /// The store's replies to what would be written and removed; `None` if it was not asked.
    pub replies: Option<&'a Replies>,
}

impl<'a> Situation<'a> {
    /// A situation without the application's groups and without replies of the store.
    #[must_use]
    pub fn new<R>(
        settings: &'a Settings,
        readings: &'a R,
        accounts: &'a [Account],
        memory: &'a Memory,
    ) -> Self
    where
        R: AsRef<[Reading]> + ?Sized,
    {
        Self { settings, readings: readings.as_ref(), accounts, groups: None, memory, replies: None }
    }

    /// This situation with the application's groups.
    #[must_use]
    pub fn with_groups(self, groups: Option<&'a Groups>) -> Self {
        Self { groups, ..self }
    }

    /// This situation with the store's replies.
    #[must_use]
    pub fn with_replies(self, replies: &'a Replies) -> Self {
        Self { replies: Some(replies).filter(|replies| !replies.is_empty()), ..self }
    }

    /// Each intake's selection, in order.
    pub(super) fn selections(self) -> Vec<Selection<'a>> {
        let mut all = Selection::all(self.settings, self.readings);
        for (selection, intake) in all.iter_mut().zip(&self.settings.intakes) {
            selection.keep_present(intake, self.accounts);
            if let Some(replies) = self.replies {
                selection.fit(intake, replies);
            }
        }
        all
    }

    /// Each intake with its reading and its selection, in order.
    pub(super) fn selected<'s>(self, selections: &'s [Selection<'a>]) -> impl Iterator<Item = Selected<'s>>
    where
        'a: 's,
    {
        let read = self.readings.iter().zip(selections);
        self.settings.intakes.iter().zip(read).map(|(intake, (reading, selection))| Selected {
            intake,
            reading,
            selection,
        })
    }
}

/// One intake, its reading, and its selection.
#[derive(Clone, Copy)]
pub(super) struct Selected<'a> {
    pub(super) intake: &'a Intake,
    pub(super) reading: &'a Reading,
    pub(super) selection: &'a Selection<'a>,
}

impl Selected<'_> {
    /// The footprint to remember, by intake; `None` unless everything was read.
    pub(super) fn footprint(&self) -> Option<(String, Footprint)> {
        let is_read = self.reading.gaps().iter().all(|gap| gap.is_fall);
        let footprint = self.reading.footprint().filter(|_| is_read)?;
        Some((self.intake.name.clone(), footprint.clone()))
    }
}

/// A candidate, and the selecting intake.
pub(super) type Chosen<'a> = (Selected<'a>, &'a Candidate<'a>);

/// The value that the intake's rules draw for a field; empty if it has no rule for it.
pub(super) fn drawn<'c>(part: Selected<'_>, candidate: &'c Candidate<'_>, field: &str) -> &'c str {
    part.intake.fields.get_index_of(field).map_or("", |rule| candidate.proposal.value(rule))
}
