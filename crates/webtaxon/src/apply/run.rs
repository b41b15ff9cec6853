//! One apply: interrupted runs, journal, copy, edits, memory.

use super::copy::copy;
use super::steps::{Carried, carry_out, unrecorded};
use super::take_up::{links, take_up};
use super::{Applied, Consent, Origin, Work, consider, secrets, terms};
use crate::error::{ApplyError, Error};
use crate::links::Linked;
use crate::setup::Setup;
use crate::state::{Begun, Ending, Journal, Remembered};
use crate::store::{AccountStore as _, KnownHabits, Terms};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::Path;
use std::sync::Arc;
use webtaxon_core::account::{Account, Habits};
use webtaxon_core::apply::{Edit, Outcome, Untouchable};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::preview::{ChangeKind, Fresh, Memory};

/// Carries out exactly the edits in `work`.
pub(crate) async fn apply(setup: &Setup, work: &Work, consent: &Consent) -> Result<Applied, Error> {
    let store = setup.store();
    consider(setup, &*store, work, consent)?;
    let store = &setup.linked(&*store).applying();
    let known = KnownHabits::default();
    let terms =
        Terms { secrets: secrets(setup, work).await?, habits: known.clone(), ..terms(setup, work, consent) };
    let fields = &terms.fields;
    let list = || store.accounts(Arc::clone(fields));
    let mut journal = Journal::write(&*setup.state(), &consent.who)?;
    let habits = journal.habits(&store.place())?;
    known.add(|known| *known = habits.clone());
    let untouchable = Untouchable::new(&setup.settings.accounts.protected);
    let interrupted = take_up(&mut journal, store, &terms, &untouchable).await?;
    let mut applied = Applied { interrupted, ..Applied::default() };
    let memory = journal.memory()?;
    let mut remembered = to_remember(work, journal.latest()?, &memory);
    if work.is_empty() {
        if work.origin == Origin::Preview {
            let links = links(&list().await?);
            remember_origins(&mut remembered, &links, &memory, work);
            store.remember(&mut remembered, links);
            journal.end(None, &remembered)?;
        }
        return Ok(applied);
    }
    if store.is_apart() {
        // From here on, links are those of existing accounts.
        let mut kept = Remembered::default();
        store.remember(&mut kept, links(&list().await?));
        journal.end(None, &Remembered { known: None, ..kept })?;
    }
    let run = begin(&mut journal, work, consent)?;
    applied.run = Some(run);
    make_copy(setup, store, (fields, run, work), &mut journal, &mut applied).await?;
    let Carried { mut journal, is_known, are_new_told } =
        carry_out(setup, store, work, &terms, journal, &mut applied).await?;
    applied.dropped = learned(&mut journal, &store.place(), &habits, known.now())?;
    if !is_known {
        // The outcome is unknown. The run stays open in the journal, and the next apply finds out.
        return Ok(applied);
    }
    let ending = if applied.stopped.is_some() { Ending::Stopped } else { Ending::Done };
    if let Ok(accounts) = list().await {
        if !are_new_told {
            journal.made(run, &as_made(work, &applied, &accounts)).map_err(unrecorded)?;
        }
        let links = links(&accounts);
        remember_origins(&mut remembered, &links, &memory, work);
        remember_links(store, &mut remembered, links, &memory, (work, &applied));
    }
    if ending == Ending::Stopped {
        remembered.applied = None;
        remembered.footprints.clear();
    }
    journal.end(Some((run, ending)), &remembered).map_err(unrecorded)?;
    Ok(applied)
}

/// Copies the accounts, and records the copy; without one, the run ends.
async fn make_copy(
    setup: &Setup,
    store: &Linked<'_>,
    (fields, run, work): (&Arc<[String]>, i64, &Work),
    journal: &mut Journal,
    applied: &mut Applied,
) -> Result<(), Error> {
    let copied = copy(setup, store, fields, run, work).await;
    let beside = |file: &Path| file.strip_prefix(&setup.folder).unwrap_or(file).to_owned();
    match copied.and_then(|file| Ok(journal.backed_up(run, &beside(&file)).map(|()| file)?)) {
        Ok(file) => applied.backup = Some(file),
        Err(error) => {
            give_up(journal, run, work)?;
            return Err(error);
        }
    }
    Ok(())
}

/// Keeps what was found of the store's habits; returns the places newly found to keep nothing.
pub(super) fn learned(
    journal: &mut Journal,
    list: &str,
    known: &Habits,
    now: Habits,
) -> Result<Vec<String>, ApplyError> {
    if now == *known {
        return Ok(Vec::new());
    }
    journal.set_habits(list, &now).map_err(unrecorded)?;
    Ok(now.drops.into_keys().filter(|place| !known.drops.contains_key(place)).collect())
}

/// Imports whose accounts have more than was asked for, such as values of the database's own: as they are, so that an
/// undoing knows what was added later.
pub(super) fn as_made(work: &Work, applied: &Applied, accounts: &[Account]) -> Vec<(usize, Edit)> {
    let is_import = |edit: &Edit| edit.kind == ChangeKind::Import && edit.before.is_none();
    if !work.edits.iter().any(is_import) {
        return Vec::new();
    }
    let by_link: HashMap<&Identity, &Account> =
        accounts.iter().filter_map(|account| Some((account.link.as_ref()?, account))).collect();
    let made = |(place, (edit, outcome)): (usize, (&Edit, &Option<Outcome>))| {
        let link = edit.after.as_ref().filter(|_| is_import(edit) && *outcome == Some(Outcome::Done))?;
        let there = *by_link.get(link.link.as_ref()?)?;
        Some((place, edit.with_added(there)?))
    };
    work.edits.iter().zip(&applied.outcomes).enumerate().filter_map(made).collect()
}

/// What the next run must remember from this one's preview.
fn to_remember(work: &Work, latest: i64, memory: &Memory) -> Remembered {
    // Another apply since then has newer counts.
    let is_newest = work.latest == latest;
    Remembered {
        applied: work.selecting.clone(),
        footprints: if is_newest { work.footprints.clone() } else { BTreeMap::new() },
        fresh: (work.origin == Origin::Preview).then(|| fresh(work, memory)),
        // A run since then has newer knowledge of missing people.
        missed: work.missed.clone().filter(|_| is_newest),
        ..Remembered::default()
    }
}

/// The people who came in a short while ago: by this preview, and by an apply since then.
fn fresh(work: &Work, memory: &Memory) -> BTreeMap<Identity, Fresh> {
    let meant: HashSet<&Identity> =
        work.edits.iter().filter_map(|edit| edit.after.as_ref()?.link.as_ref()).collect();
    let is_meant =
        |(link, fresh): &(&Identity, &Fresh)| meant.contains(link) || memory.fresh.get(*link) == Some(fresh);
    let ours = work.fresh.iter().filter(is_meant);
    let since = memory.fresh.iter().filter(|(_, fresh)| fresh.since >= memory.today);
    since.chain(ours).map(|(link, fresh)| (link.clone(), fresh.clone())).collect()
}

/// Remembers the directory that each link comes from: as known, or else the one that showed it.
fn remember_origins(
    remembered: &mut Remembered,
    links: &BTreeMap<Identity, String>,
    memory: &Memory,
    work: &Work,
) {
    if work.origin != Origin::Preview {
        return;
    }
    let edited: HashSet<&Identity> =
        work.edits.iter().filter_map(|edit| edit.after.as_ref()?.link.as_ref()).collect();
    let origin = |link: &Identity| {
        let known = memory.origins.get(link).map(String::as_str);
        // An edit that another directory makes rests on somebody's word in `whose`.
        let edited = edited.contains(link);
        let shown = work.origins.directory(link);
        Some((link.clone(), if edited { shown.or(known) } else { known.or(shown) }?.to_owned()))
    };
    let origins: BTreeMap<Identity, String> = links.keys().filter_map(origin).collect();
    remembered.origins = (origins != memory.origins).then_some(origins);
}

pub(super) fn begin(journal: &mut Journal, work: &Work, consent: &Consent) -> Result<i64, Error> {
    let begun = Begun {
        who: &consent.who,
        undoes: match work.origin {
            Origin::Undo(run) => Some(run),
            Origin::Preview => None,
        },
        settings: &work.settings,
        store: &work.store,
        released: &consent.release,
    };
    Ok(journal.begin(&begun, &work.edits, &work.groups.first)?)
}

/// Ends a run without any edit, since no copy could be made.
fn give_up(journal: &mut Journal, run: i64, work: &Work) -> Result<(), Error> {
    let nothing: Vec<_> = (0..work.edits.len() + work.groups.first.len())
        .map(|at| (at, Outcome::Left("no copy could be made first".to_owned())))
        .collect();
    journal.record(run, &nothing, None)?;
    Ok(journal.end(Some((run, Ending::Stopped)), &Remembered::default())?)
}

/// Remembers the current links, and those of accounts that were to be imported again and were not.
fn remember_links(
    store: &Linked<'_>,
    remembered: &mut Remembered,
    links: BTreeMap<Identity, String>,
    memory: &Memory,
    (work, applied): (&Work, &Applied),
) {
    store.remember(remembered, links);
    let known = remembered.known.get_or_insert_default();
    for (edit, outcome) in work.edits.iter().zip(&applied.outcomes) {
        let link = edit.after.as_ref().and_then(|account| account.link.as_ref());
        if edit.kind == ChangeKind::Import
            && !matches!(outcome, Some(Outcome::Done | Outcome::Made))
            && let Some((link, login)) = link.and_then(|link| memory.known.get_key_value(link))
        {
            known.insert(link.clone(), login.clone());
        }
    }
}
