//! Applying: the work of an apply, the apply itself, and the journal.

use super::Workspace;
use crate::apply::{self, Applied, Consent, Work};
use crate::background;
use crate::error::Error;
use crate::state::Journal;
use jiff::Timestamp;
use jiff::civil::Date;
use std::path::Path;
use std::sync::Arc;
use webtaxon_core::preview::Preview;

impl Workspace {
    /// Makes a preview, with the work of an apply.
    ///
    /// # Errors
    /// As [`Workspace::preview`].
    pub async fn work(&self) -> Result<(Preview, Work), Error> {
        apply::prepare(&self.setup).await
    }

    /// The work that undoes a run, as far as it was carried out; the last edit first.
    ///
    /// # Errors
    /// The journal cannot be read, or has no such run.
    pub async fn way_back(&self, run: i64) -> Result<Work, Error> {
        apply::way_back(&self.setup, run).await
    }

    /// Saves work to a new file that only its owner can read, to be approved and applied later. It is sealed with a key
    /// that is kept in the state, made if there is none on behalf of `who`.
    ///
    /// # Errors
    /// The file exists or cannot be written, or the state cannot be read or written.
    pub async fn save(&self, work: &Work, file: &Path, who: &str) -> Result<(), Error> {
        let (setup, work, file, who) =
            (Arc::clone(&self.setup), work.clone(), file.to_owned(), who.to_owned());
        background::run(move || apply::save(&setup, &work, &file, &who)).await
    }

    /// Reads saved work, with the time of saving.
    ///
    /// # Errors
    /// The file cannot be read, has another format or version, was edited, or was made with another state.
    pub async fn read_saved(&self, file: &Path) -> Result<(Work, Timestamp), Error> {
        let (setup, file) = (Arc::clone(&self.setup), file.to_owned());
        background::run(move || apply::read_saved(&setup, &file)).await
    }

    /// Whether the work may begin; to be called before asking for approval.
    ///
    /// # Errors
    /// Those of [`Workspace::apply`] before anything is written.
    pub fn may_apply(&self, work: &Work, consent: &Consent) -> Result<(), Error> {
        Ok(apply::consider(&self.setup, &*self.setup.store(), work, consent)?)
    }

    /// Carries out exactly the edits in `work`. Each account is checked once more, and left out if it was changed
    /// meanwhile.
    ///
    /// Once begun, the apply is finished and recorded by a task of its own, under the lock, even if this future is
    /// dropped. If the runtime ends in the middle, or the store panics, the effect is that of a killed program: the
    /// next apply finds out what was done.
    ///
    /// # Errors
    /// A brake is in force, another apply is running, the settings or the list differ from those of the work, or the
    /// journal or the copy cannot be written; then nothing was changed. Later failures are part of the result.
    pub async fn apply(&self, work: &Work, consent: &Consent) -> Result<Applied, Error> {
        let (setup, work, consent) = (Arc::clone(&self.setup), work.clone(), consent.clone());
        background::drive(move || async move { apply::apply(&setup, &work, &consent).await }).await
    }

    /// The work as SQL statements for an administrator to run, if the accounts are in a table. Nothing is changed or
    /// recorded.
    ///
    /// # Errors
    /// Those of [`Workspace::apply`] before anything is written; or the accounts are not in a table.
    pub async fn statements(&self, work: &Work, consent: &Consent) -> Result<String, Error> {
        apply::statements(&self.setup, work, consent).await
    }

    /// Deletes the records of runs before a day, except the latest, and their copies of the accounts; memory of
    /// people is kept. Returns the number of runs.
    ///
    /// # Errors
    /// The journal cannot be written, or another apply is using it.
    pub async fn forget_before(&self, day: Date, who: &str) -> Result<usize, Error> {
        let (setup, who) = (Arc::clone(&self.setup), who.to_owned());
        background::run(move || apply::forget_before(&setup, day, &who)).await
    }

    /// The journal for reading; `None` before the first apply. Its methods block until they have their answer.
    ///
    /// # Errors
    /// It cannot be read, or was written by a newer version.
    pub async fn journal(&self) -> Result<Option<Journal>, Error> {
        self.setup.journal().await
    }
}
