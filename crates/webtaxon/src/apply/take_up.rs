//! Completing the record of an interrupted run by comparing its edits with the lists.

use super::Interrupted;
use crate::error::{ApplyError, ApplyErrorKind, Error};
use crate::links::Linked;
use crate::state::{Ending, Journal, Remembered, StateError};
use crate::store::{AccountStore as _, Terms};
use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::{Arc, Mutex, PoisonError};
use webtaxon_core::account::{Account, Group};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome, Standing, Untouchable, group_standings, half_made};
use webtaxon_core::ldap::identity::Identity;

/// Finds out what an interrupted run had done, and ends it.
pub(super) async fn take_up(
    journal: &mut Journal,
    store: &Linked<'_>,
    terms: &Terms,
    untouchable: &Untouchable,
) -> Result<Option<Interrupted>, Error> {
    let Some(run) = journal.unfinished()? else { return Ok(None) };
    let of = journal.runs()?.into_iter().find(|one| one.run == run).map(|one| one.store).unwrap_or_default();
    if of != store.place() {
        return Err(ApplyError::from(ApplyErrorKind::CutOffElsewhere { run, store: of }).into());
    }
    complete(journal, run, store, (terms, untouchable)).await?;
    let accounts = store.accounts(Arc::clone(&terms.fields)).await?;
    let groups = match journal.group_entries(run)?.iter().any(|entry| entry.outcome.is_none()) {
        true => match store.groups() {
            Some(groups) => groups.all_groups().await?.list,
            // The settings no longer import groups.
            None => Vec::new(),
        },
        false => Vec::new(),
    };
    look(journal, run, store, &accounts, &groups)?;
    let (entries, of_groups) = (journal.entries(run)?, journal.group_entries(run)?);
    let outcomes = entries.iter().map(|one| &one.outcome).chain(of_groups.iter().map(|one| &one.outcome));
    let done = outcomes.filter(|outcome| **outcome == Some(Outcome::Done)).count();
    // Its memory is found again by the next preview, except for the links.
    let mut remembered = Remembered::default();
    let accounts = if store.is_apart() { store.accounts(Arc::clone(&terms.fields)).await? } else { accounts };
    store.remember(&mut remembered, links(&accounts));
    journal.end(Some((run, Ending::Interrupted)), &remembered)?;
    Ok(Some(Interrupted { run, done, open: entries.len() + of_groups.len() - done }))
}

/// Completes units that the run had begun, so that it can be undone as a whole: people who take each other's values,
/// in a store that changes one account after the other.
async fn complete(
    journal: &mut Journal,
    run: i64,
    store: &Linked<'_>,
    (terms, untouchable): (&Terms, &Untouchable),
) -> Result<(), Error> {
    if store.is_apart() {
        return Ok(());
    }
    let entries = journal.entries(run)?;
    let edits: Vec<Edit> = entries.iter().map(|entry| entry.edit.clone()).collect();
    let accounts = store.accounts(Arc::clone(&terms.fields)).await?;
    let half = half_made(&edits, &accounts, &terms.unique);
    let half: Vec<_> = half.into_iter().filter(|(_, edit)| untouchable.forbids(edit).is_none()).collect();
    if half.is_empty() {
        return Ok(());
    }
    let (at, edits): (Vec<usize>, Vec<Edit>) = half.into_iter().unzip();
    let made: Arc<Mutex<Vec<(usize, Outcome)>>> = Arc::default();
    let recorder = {
        let (made, places) = (Arc::clone(&made), entries.iter().map(|entry| entry.place).collect::<Vec<_>>());
        let of = move |index: usize| places.get(*at.get(index)?).copied();
        Box::new(move |index, outcome| {
            let mut made = made.lock().unwrap_or_else(PoisonError::into_inner);
            made.extend(
                of(index).map(|place| (place, outcome)).filter(|(_, outcome)| *outcome == Outcome::Done),
            );
            ControlFlow::Continue(())
        })
    };
    // An account whose edit the store refuses stays as it is, and the next preview shows it.
    let ended = store.carry_out(edits.into(), terms.clone(), recorder).await;
    let made = std::mem::take(&mut *made.lock().unwrap_or_else(PoisonError::into_inner));
    journal.record(run, &made, None)?;
    Ok(ended?)
}

/// Finds edits of a run that were made without a record, and records them.
pub(super) fn look(
    journal: &mut Journal,
    run: i64,
    store: &Linked<'_>,
    accounts: &[Account],
    groups: &[Group],
) -> Result<Vec<(usize, Outcome)>, StateError> {
    let outcome = |standing| match standing {
        Standing::Made => Outcome::Done,
        Standing::Stale(words) => Outcome::Left(words),
        _ => Outcome::Left("it was not made: the run ended before".to_owned()),
    };
    let entries = journal.entries(run)?;
    let open = entries.iter().filter(|entry| entry.outcome.is_none());
    let (places, edits): (Vec<usize>, Vec<Edit>) =
        open.map(|entry| (entry.place, entry.edit.clone())).unzip();
    let of_accounts = places.into_iter().zip(store.standings(&edits, accounts));
    let open = journal.group_entries(run)?.into_iter().filter(|entry| entry.outcome.is_none());
    let (places, edits): (Vec<usize>, Vec<GroupEdit>) = open.map(|entry| (entry.place, entry.edit)).unzip();
    let of_groups = places.into_iter().zip(group_standings(&edits, groups));
    let found: Vec<_> =
        of_accounts.chain(of_groups).map(|(place, standing)| (place, outcome(standing))).collect();
    let all: Vec<Edit> = entries.into_iter().map(|entry| entry.edit).collect();
    journal.record(run, &found, store.ties(all.into()).as_ref())?;
    Ok(found)
}

/// The links of accounts, with their logins.
pub(super) fn links(accounts: &[Account]) -> BTreeMap<Identity, String> {
    accounts.iter().filter_map(|one| Some((one.link.clone()?, one.login.clone()))).collect()
}
