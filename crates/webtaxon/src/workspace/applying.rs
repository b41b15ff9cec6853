//! Changing: what an apply would do, the apply itself, and the journal.

use super::Workspace;
use crate::apply::{self, Applied, Consent, Work};
use crate::background;
use crate::error::Error;
use crate::state::Journal;
use jiff::civil::Date;
use std::sync::Arc;
use webtaxon_core::preview::Preview;

impl Workspace {
    /// Makes a preview, and what an apply would do of it.
    ///
    /// # Errors
    /// As [`Workspace::preview`].
    pub async fn work(&self) -> Result<(Preview, Work), Error> {
        apply::prepare(&self.setup).await
    }

    /// What takes a run back, as far as it was done: the last edit first.
    ///
    /// # Errors
    /// The journal cannot be read, or has no such run.
    pub async fn way_back(&self, run: i64) -> Result<Work, Error> {
        let setup = Arc::clone(&self.setup);
        background::run(move || apply::way_back(&setup, run)).await
    }

    /// Whether the work may be begun: before anybody is asked.
    ///
    /// # Errors
    /// As [`Workspace::apply`] before anything is written.
    pub fn may_apply(&self, work: &Work, consent: &Consent) -> Result<(), Error> {
        Ok(apply::consider(&self.setup, &*self.setup.store(), work, consent)?)
    }

    /// Carries out exactly what is in `work`. Each account is looked at once more: what somebody changed
    /// meanwhile is left out.
    ///
    /// What is begun is carried out and recorded to its end, under the lock, even if this future is
    /// dropped: a task of its own does it. Where the runtime ends in the middle, or the store panics, it
    /// is as if the program had been killed: the next apply looks what was done.
    ///
    /// # Errors
    /// A brake holds it, another apply is going on, the settings or the list are others than the work was
    /// made with, or the journal or the copy cannot be written: then nothing was changed. Whatever happens
    /// later is told in what comes back.
    pub async fn apply(&self, work: &Work, consent: &Consent) -> Result<Applied, Error> {
        let (setup, work, consent) = (Arc::clone(&self.setup), work.clone(), consent.clone());
        background::drive(move || async move { apply::apply(&setup, &work, &consent).await }).await
    }

    /// The SQL statements by which somebody may carry the work out themselves, where the accounts are in a
    /// table. Nothing is changed, and the journal knows nothing of it.
    ///
    /// # Errors
    /// As [`Workspace::apply`] before anything is written; the accounts are in no table.
    pub async fn statements(&self, work: &Work, consent: &Consent) -> Result<String, Error> {
        apply::statements(&self.setup, work, consent).await
    }

    /// Forgets the runs that began before a day, but the latest, and their copies of the accounts; what
    /// is remembered of people stays. Returns how many runs.
    ///
    /// # Errors
    /// The journal cannot be written, or another apply has it.
    pub async fn forget_before(&self, day: Date, who: &str) -> Result<usize, Error> {
        let (setup, who) = (Arc::clone(&self.setup), who.to_owned());
        background::run(move || apply::forget_before(&setup, day, &who)).await
    }

    /// The journal, to be read; none before the first apply. What is asked of it blocks until it answers.
    ///
    /// # Errors
    /// It cannot be read, or a newer version wrote it.
    pub async fn journal(&self) -> Result<Option<Journal>, Error> {
        self.setup.journal().await
    }
}
