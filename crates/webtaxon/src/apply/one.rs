//! Carrying out what a sign-in does to one account: journalled like any apply, with neither a copy of the list nor a new
//! memory of people.

use super::prepare::settings_digest;
use super::run::{as_made, begin, learned};
use super::steps::{Carried, carry_out, unrecorded};
use super::take_up::take_up;
use super::{Applied, Consent, GroupWork, Origin, Work, consider, secrets, terms};
use crate::error::Error;
use crate::setup::Setup;
use crate::state::{Ending, Journal, Remembered};
use crate::store::{AccountStore as _, KnownHabits, Terms};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use webtaxon_core::apply::{Edit, Untouchable};
use webtaxon_core::preview::{Origins, Preview};

/// The work of one edit, with what the preview knows of its person.
pub(crate) fn one_work(setup: &Setup, preview: &Preview, edit: Edit) -> Work {
    Work {
        origin: Origin::Preview,
        edits: Arc::from([edit]),
        groups: GroupWork::default(),
        brakes: Vec::new(),
        store: setup.store().place(),
        settings: settings_digest(setup),
        seats: None,
        selecting: None,
        missed: None,
        footprints: BTreeMap::new(),
        fresh: preview.fresh.clone(),
        origins: Origins::default(),
        latest: 0,
        original: None,
        or_suspended: BTreeSet::new(),
        notes: Vec::new(),
    }
}

/// Carries out the work of one edit.
pub(crate) async fn apply_one(setup: &Setup, work: &Work, consent: &Consent) -> Result<Applied, Error> {
    let store = setup.store();
    consider(setup, &*store, work, consent)?;
    let store = &setup.linked(&*store).applying();
    let known = KnownHabits::default();
    let terms =
        Terms { secrets: secrets(setup, work).await?, habits: known.clone(), ..terms(setup, work, consent) };
    let mut journal = Journal::write(&*setup.state(), &consent.who)?;
    let habits = journal.habits(&store.place())?;
    known.add(|known| *known = habits.clone());
    let untouchable = Untouchable::new(&setup.settings.accounts.protected);
    let interrupted = take_up(&mut journal, store, &terms, &untouchable).await?;
    let mut applied = Applied { interrupted, ..Applied::default() };
    let is_import = work.edits.iter().any(|edit| edit.before.is_none());
    let run = begin(&mut journal, work, consent)?;
    applied.run = Some(run);
    let Carried { mut journal, is_known, are_new_told } =
        carry_out(setup, store, work, &terms, journal, &mut applied).await?;
    applied.dropped = learned(&mut journal, &store.place(), &habits, known.now())?;
    if !is_known {
        return Ok(applied);
    }
    if is_import
        && !are_new_told
        && let Ok(accounts) = store.accounts(Arc::clone(&terms.fields)).await
    {
        journal.made(run, &as_made(work, &applied, &accounts)).map_err(unrecorded)?;
    }
    let ending = if applied.stopped.is_some() { Ending::Stopped } else { Ending::Done };
    let fresh_too = if is_import { work.fresh.clone() } else { BTreeMap::new() };
    let remembered = Remembered { fresh_too, ..Remembered::default() };
    journal.end(Some((run, ending)), &remembered).map_err(unrecorded)?;
    Ok(applied)
}
