//! Before anything is changed: the work of a preview, or of undoing a run, and whether it may begin.

use super::{Consent, GroupWork, Origin, Work};
use crate::background;
use crate::error::{ApplyError, ApplyErrorKind, Error};
use crate::setup::Setup;
use crate::state::backups_of;
use crate::state::{Journal, Run};
use crate::store::{AccountStore, Terms, groups_beside, names};
use jiff::civil::Date;
use ring::digest::{SHA256, digest};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
use webtaxon_core::account::{Account, Inquiry, Replies};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome, Seats, brakes_of_undo, taking_back};
use webtaxon_core::preview::{Action, Brake, BrakeKind, Change, ChangeKind, Origins, Preview};

/// Makes a preview, with the work of an apply.
pub(crate) async fn prepare(setup: &Setup) -> Result<(Preview, Work), Error> {
    let place = setup.state();
    let latest =
        background::run(move || Journal::read(&*place)?.map(|journal| journal.latest()).transpose()).await?;
    let memory = setup.memory().await?;
    let mut found = setup.find(&[], &memory).await?;
    let preview = found.preview(&setup.settings, &memory, &*setup.store()).await?;
    let by_login: HashMap<&str, &Account> =
        found.accounts.iter().map(|account| (account.login.as_str(), account)).collect();
    let edit = |change| Edit::of(change, by_login.get(change.login.as_str()).copied());
    let mut groups = GroupWork::default();
    for change in preview.groups.iter().flat_map(|groups| &groups.changes) {
        let [first, last] = GroupEdit::of(change);
        groups.first.extend(first);
        groups.last.extend(last);
    }
    let work = Work {
        origin: Origin::Preview,
        edits: preview.changes.iter().filter_map(edit).collect(),
        groups,
        brakes: preview.brakes.clone(),
        store: setup.store().place(),
        settings: settings_digest(setup),
        seats: seats(&preview),
        selecting: Some(setup.settings.selecting()),
        missed: Some(preview.missed.clone()),
        footprints: preview.footprints.clone(),
        fresh: preview.fresh.clone(),
        origins: preview.origins.clone(),
        latest: latest.unwrap_or(0),
        original: None,
        or_suspended: or_suspended(&preview),
        notes: Vec::new(),
    };
    Ok((preview, work))
}

/// The logins of accounts that are suspended if their removal is refused.
fn or_suspended(preview: &Preview) -> BTreeSet<String> {
    let is_meant =
        |change: &&Change| matches!(&change.action, Action::Remove(departure) if departure.or_suspended);
    preview.changes.iter().filter(is_meant).map(|change| change.login.clone()).collect()
}

fn seats(preview: &Preview) -> Option<Seats> {
    let taken = u64::try_from(preview.accounts.active_now).unwrap_or(u64::MAX);
    preview.accounts.seats.map(|limit| Seats { limit, taken })
}

/// The edits that undo a run, as far as it was carried out; the last edit first.
pub(crate) async fn way_back(setup: &Arc<Setup>, run: i64) -> Result<Work, Error> {
    let own = Arc::clone(setup);
    let mut work = background::run(move || of_run(&own, run)).await?;
    let accounts = setup.accounts().await?;
    take_back(setup, &mut work, &accounts).await?;
    (work.brakes, work.seats) = brakes_of_undo(&setup.settings, &accounts, &work.edits);
    Ok(work)
}

/// Removes only accounts that are as their import made them; suspends the others.
async fn take_back(setup: &Setup, work: &mut Work, accounts: &[Account]) -> Result<(), Error> {
    let by_link: HashMap<_, &Account> =
        accounts.iter().filter_map(|one| Some((one.link.as_ref()?, one))).collect();
    let there = |edit: &Edit| {
        let made = edit.before.as_ref().filter(|_| edit.kind == ChangeKind::Remove)?;
        by_link.get(made.link.as_ref()?).copied()
    };
    let removals = work.edits.iter().filter_map(there).map(|account| account.login.clone()).collect();
    let (store, inquiry) = (setup.store(), Inquiry { removals, ..Inquiry::default() });
    let replies = match store.is_asked() && !inquiry.is_empty() {
        true => store.replies(inquiry).await?,
        false => Replies::default(),
    };
    let mut notes = Vec::new();
    let edits = work.edits.iter().filter_map(|edit| match there(edit) {
        None => Some(edit.clone()),
        Some(there) => {
            let (edit, note) = taking_back(edit, there, replies.dependents(&there.login));
            notes.extend(note);
            edit
        }
    });
    work.edits = edits.collect();
    work.notes = notes;
    Ok(())
}

fn of_run(setup: &Setup, run: i64) -> Result<Work, Error> {
    let journal = Journal::read(&*setup.state())?.ok_or_else(|| ApplyError::no_run(run))?;
    let of = journal.runs()?.into_iter().find(|one| one.run == run);
    let of: Run = of.ok_or_else(|| ApplyError::no_run(run))?;
    let (entries, group_entries) = (journal.entries(run)?, journal.group_entries(run)?);
    let mut outcomes = entries.iter().map(|entry| &entry.outcome);
    let is_open = outcomes.any(Option::is_none) || group_entries.iter().any(|entry| entry.outcome.is_none());
    if is_open && of.ending.is_none() {
        return Err(ApplyError::from(ApplyErrorKind::CutOff(run)).into());
    }
    let is_done = |outcome: &Option<Outcome>| *outcome == Some(Outcome::Done);
    let done = entries.into_iter().filter(|entry| is_done(&entry.outcome));
    let mut edits: Vec<Edit> = done.map(|entry| entry.edit.back()).collect();
    edits.reverse();
    let mut groups = GroupWork::default();
    for entry in group_entries.into_iter().rev().filter(|entry| is_done(&entry.outcome)) {
        // Members who left first return last.
        let side = if entry.edit.lets_go() { &mut groups.last } else { &mut groups.first };
        side.push(entry.edit.back());
    }
    Ok(Work {
        origin: Origin::Undo(run),
        edits: edits.into(),
        groups,
        brakes: Vec::new(),
        store: of.store,
        settings: settings_digest(setup),
        seats: None,
        selecting: None,
        missed: None,
        footprints: BTreeMap::new(),
        fresh: BTreeMap::new(),
        origins: Origins::default(),
        latest: journal.latest()?,
        original: of.backup.map(|file| setup.folder.join(file)),
        or_suspended: BTreeSet::new(),
        notes: Vec::new(),
    })
}

/// Whether the work may begin.
pub(crate) fn consider(
    setup: &Setup,
    store: &dyn AccountStore,
    work: &Work,
    consent: &Consent,
) -> Result<(), ApplyError> {
    if let Some(name) = consent.release.iter().find(|name| name.parse::<BrakeKind>().is_err()) {
        return Err(ApplyErrorKind::NoBrake(name.clone()).into());
    }
    let other = |what| Err(ApplyErrorKind::Other { what }.into());
    if work.store != store.place() {
        return other("for another list of accounts");
    }
    if work.origin == Origin::Preview && work.settings != settings_digest(setup) {
        return other("with other settings");
    }
    let is_released = |brake: &Brake| consent.release.iter().any(|name| name == brake.kind.name());
    let held: Vec<Brake> = work.brakes.iter().filter(|brake| !is_released(brake)).cloned().collect();
    if held.is_empty() { Ok(()) } else { Err(ApplyErrorKind::Braked { brakes: held }.into()) }
}

/// The terms on which a store carries out work.
pub(super) fn terms(setup: &Setup, work: &Work, consent: &Consent) -> Terms {
    Terms {
        fields: names(setup.settings.account_fields()),
        unique: names(setup.settings.unique_fields()),
        original: work.original.clone(),
        stop_after: consent.stop_after,
        ..Terms::default()
    }
}

/// Deletes the records of runs before a day, except the latest, and their copies of the accounts; memory of people is
/// kept. Returns the number of runs.
pub(crate) fn forget_before(setup: &Setup, day: Date, who: &str) -> Result<usize, Error> {
    if Journal::read(&*setup.state())?.is_none() {
        return Ok(0);
    }
    let forgotten = Journal::write(&*setup.state(), who)?.forget_before(day)?;
    for backup in forgotten.iter().flatten() {
        // A copy is a plain name in the folder of copies, whatever the journal says.
        let Some(name) = backup.file_name().map(|name| backups_of(&setup.file).join(name)) else { continue };
        let file = setup.folder.join(backup);
        if file != name {
            continue;
        }
        // A copy that was already deleted is no error.
        let _ = std::fs::remove_file(&file);
        for end in ["csv", "jsonl"] {
            let _ = std::fs::remove_file(groups_beside(&file, end));
        }
    }
    Ok(forgotten.len())
}

/// The digest of the settings' meaning, not of their layout.
pub(super) fn settings_digest(setup: &Setup) -> String {
    hex_digest(&serde_json::to_vec(&setup.settings).unwrap_or_default())
}

/// The SHA-256 of some bytes, in hexadecimal.
pub(super) fn hex_digest(bytes: &[u8]) -> String {
    digest(&SHA256, bytes).as_ref().iter().map(|byte| format!("{byte:02x}")).collect()
}
