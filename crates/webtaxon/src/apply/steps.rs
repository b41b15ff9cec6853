//! The steps of one run: members leave groups, accounts change, members join groups. Each outcome is recorded as it
//! happens.

use super::take_up::look;
use super::{Applied, Work};
use crate::error::{ApplyError, ApplyErrorKind, Error};
use crate::links::Linked;
use crate::progress::{EVERY, Progress, Watch};
use crate::setup::Setup;
use crate::state::{Journal, StateError, Ties};
use crate::store::{
    AccountStore as _, NewAccounts, Recorder, Secrets, StoreError, Terms, group_store, lists,
};
use std::borrow::Cow;
use std::collections::HashSet;
use std::ops::ControlFlow;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use webtaxon_core::account::{Account, folded};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome, Untouchable};

/// Maximum outcomes that wait to be written to the journal, and the time for which they may. What a crash loses, the
/// next apply finds out from the lists.
const BATCH: usize = 200_000;
const WAIT: Duration = Duration::from_millis(500);

/// The recorder of outcomes. Edits of accounts come first in its numbering, then those of groups.
struct Told {
    watch: Watch,
    journal: Journal,
    run: i64,
    ties: Option<Ties>,
    outcomes: Vec<Option<Outcome>>,
    waiting: Vec<(usize, Outcome)>,
    /// Since when the first of them waits.
    since: Instant,
    unwritten: Option<StateError>,
    failed: usize,
    done: usize,
    /// True if the store told of the new accounts before it committed them.
    are_new_told: bool,
}

impl Told {
    /// Records one outcome; breaks if no further edit may begin.
    fn take(&mut self, at: usize, outcome: Outcome) -> ControlFlow<()> {
        self.failed += usize::from(matches!(outcome, Outcome::Failed(_)));
        self.done += 1;
        let (edits, of) = (self.done, self.outcomes.len());
        if edits.is_multiple_of(EVERY) || edits == of {
            self.watch.tell(|| Progress::CarriedOut { edits, of });
        }
        if let Some(slot) = self.outcomes.get_mut(at) {
            *slot = Some(outcome.clone());
        }
        if self.waiting.is_empty() {
            self.since = Instant::now();
        }
        self.waiting.push((at, outcome));
        if self.waiting.len() >= BATCH || self.since.elapsed() >= WAIT {
            self.write();
        }
        self.flow()
    }

    /// Writes pending outcomes. After a failure none is written: the next apply finds them out.
    fn write(&mut self) {
        if self.unwritten.is_none() && !self.waiting.is_empty() {
            let waiting = std::mem::take(&mut self.waiting);
            self.unwritten = self.journal.record(self.run, &waiting, self.ties.as_ref()).err();
        }
    }

    /// The suspensions in place of removals that were refused, written to the journal as begun.
    fn refused_removals(&mut self, work: &Work) -> Vec<(usize, Edit)> {
        let is_refused = |outcome: &Option<Outcome>| matches!(outcome, Some(Outcome::Failed(_)));
        let outcomes = work.edits.iter().zip(&self.outcomes).enumerate();
        let refused = outcomes
            .filter(|(_, (edit, outcome))| is_refused(outcome) && work.or_suspended.contains(edit.login()));
        let begun = refused.filter_map(|(place, (edit, _))| Some((place, edit.suspension()?)));
        let begun: Vec<(usize, Edit)> = begun.collect();
        if !begun.is_empty() {
            self.write();
            self.unwritten = self.unwritten.take().or_else(|| self.journal.replace(self.run, &begun).err());
        }
        if self.unwritten.is_some() { Vec::new() } else { begun }
    }

    /// Records the outcome of a suspension in place of a removal that was refused.
    fn take_instead(&mut self, place: usize, outcome: Outcome) -> ControlFlow<()> {
        self.unwritten = self.journal.record(self.run, &[(place, outcome.clone())], None).err();
        if let Some(Some(Outcome::Failed(words))) = self.outcomes.get_mut(place) {
            words.push_str(&match outcome {
                Outcome::Done | Outcome::Made => "; it is suspended instead".to_owned(),
                Outcome::Left(why) | Outcome::Failed(why) => format!("; nor could it be suspended: {why}"),
            });
        }
        self.flow()
    }

    /// Records new accounts as their store made them.
    fn take_new(&mut self, made: &[(usize, Edit)]) -> ControlFlow<()> {
        self.are_new_told = true;
        self.unwritten = self.unwritten.take().or_else(|| self.journal.made(self.run, made).err());
        self.flow()
    }

    fn flow(&self) -> ControlFlow<()> {
        match self.unwritten {
            None => ControlFlow::Continue(()),
            Some(_) => ControlFlow::Break(()),
        }
    }

    /// Ends a step; returns the terms of the next, if there is one.
    fn goes_on(&mut self, terms: &Terms) -> Option<Terms> {
        self.write();
        let left = terms.stop_after.map(|most| most.saturating_sub(self.failed));
        (self.unwritten.is_none() && left != Some(0)).then(|| Terms { stop_after: left, ..terms.clone() })
    }

    /// Records edits of groups before they are made; false if they could not be recorded.
    fn add(&mut self, from: usize, edits: &[GroupEdit]) -> bool {
        self.unwritten = self.journal.add(self.run, from, edits).err();
        self.unwritten.is_none()
    }
}

/// The recorder while a store has it, which may be on another thread. After its end it takes no outcome.
#[derive(Clone)]
struct Shared(Arc<Mutex<Option<Told>>>);

impl Shared {
    fn new(setup: &Setup, store: &Linked<'_>, work: &Work, journal: Journal, run: i64) -> Self {
        Self(Arc::new(Mutex::new(Some(Told {
            watch: setup.watch.clone(),
            journal,
            run,
            ties: store.ties(Arc::clone(&work.edits)),
            outcomes: vec![None; work.edits.len() + work.groups.len()],
            waiting: Vec::new(),
            since: Instant::now(),
            unwritten: None,
            failed: 0,
            done: 0,
            are_new_told: false,
        }))))
    }

    fn with<T>(&self, work: impl FnOnce(&mut Told) -> T) -> Option<T> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).as_mut().map(work)
    }

    /// A recorder for edits whose numbers in the run `number` tells.
    fn recorder(&self, number: impl Fn(usize) -> Option<usize> + Send + 'static) -> Recorder {
        let own = self.clone();
        Box::new(move |at, outcome| {
            let told = number(at).and_then(|at| own.with(|told| told.take(at, outcome)));
            told.unwrap_or(ControlFlow::Break(()))
        })
    }

    /// The receiver of new accounts, by the index of their edits.
    fn new_accounts(&self, edits: Arc<[Edit]>) -> NewAccounts {
        let own = self.clone();
        NewAccounts::new(move |accounts| {
            let edit = |(at, account): &(usize, Account)| Some((*at, edits.get(*at)?.with_added(account)?));
            let made: Vec<(usize, Edit)> = accounts.iter().filter_map(edit).collect();
            own.with(|told| told.take_new(&made)).unwrap_or(ControlFlow::Break(()))
        })
    }

    fn end(self) -> Option<Told> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

/// How far a run came.
pub(super) struct Carried {
    pub(super) journal: Journal,
    /// True if every outcome is known.
    pub(super) is_known: bool,
    /// True if the journal has new accounts as their store made them.
    pub(super) are_new_told: bool,
}

/// Makes the edits.
pub(super) async fn carry_out(
    setup: &Setup,
    store: &Linked<'_>,
    work: &Work,
    terms: &Terms,
    journal: Journal,
    applied: &mut Applied,
) -> Result<Carried, Error> {
    let Some(run) = applied.run else {
        return Ok(Carried { journal, is_known: true, are_new_told: true });
    };
    let accounts = work.edits.len();
    let told = Shared::new(setup, store, work, journal, run);
    let untouchable = Untouchable::new(&setup.settings.accounts.protected);
    let ended = steps(store, (work, &untouchable), terms, &told).await;
    let Some(mut told) = told.end() else {
        return Err(Error::from(ApplyError::from(ApplyErrorKind::CutOff(run))));
    };
    told.write();
    let Told { mut journal, mut outcomes, unwritten, failed, are_new_told, .. } = told;
    let mut put = |outcomes: &mut Vec<Option<Outcome>>| {
        applied.groups = outcomes.split_off(accounts.min(outcomes.len()));
        applied.outcomes = std::mem::take(outcomes);
    };
    if let Some(error) = unwritten {
        put(&mut outcomes);
        return Err(unrecorded(error).into());
    }
    if let Err(error) = ended {
        applied.stopped = Some(terms.secrets.all_starred(error.to_string()));
        // Some edits may have been made without a report: compare with the lists.
        let Ok((list, groups)) = lists(store, Arc::clone(&terms.fields), !work.groups.is_empty()).await
        else {
            put(&mut outcomes);
            return Ok(Carried { journal, is_known: false, are_new_told });
        };
        let groups = groups.map(|groups| groups.list).unwrap_or_default();
        for (at, outcome) in look(&mut journal, run, store, &list, &groups).map_err(unrecorded)? {
            // A refused removal stays one, whatever became of the suspension in its place.
            if let Some(slot) = outcomes.get_mut(at) {
                slot.get_or_insert(outcome);
            }
        }
    }
    let open = outcomes.iter_mut().enumerate().filter(|(_, outcome)| outcome.is_none());
    let why = match applied.stopped {
        Some(_) => "it was not made: the run ended before",
        None => "not started, since too many were refused",
    };
    let left: Vec<(usize, Outcome)> =
        open.map(|(at, slot)| (at, slot.insert(Outcome::Left(why.to_owned())).clone())).collect();
    put(&mut outcomes);
    if !left.is_empty() {
        journal.record(run, &left, None).map_err(unrecorded)?;
        applied.stopped.get_or_insert_with(|| format!("{failed} changes were refused"));
    }
    Ok(Carried { journal, is_known: true, are_new_told })
}

/// The steps in order, while each may begin.
async fn steps(
    store: &Linked<'_>,
    (work, untouchable): (&Work, &Untouchable),
    terms: &Terms,
    told: &Shared,
) -> Result<(), StoreError> {
    let (first, last) = (work.edits.len(), work.edits.len() + work.groups.first.len());
    if !work.groups.first.is_empty() {
        let record = told.recorder(move |at| Some(first + at));
        group_store(store)?
            .carry_out_groups(work.groups.first.as_slice().into(), terms.clone(), record)
            .await?;
    }
    let goes_on = |terms: &Terms| told.with(|told| told.goes_on(terms)).flatten();
    let Some(terms) = goes_on(terms) else { return Ok(()) };
    let (allowed, numbers) = allowed(work, (untouchable, &terms.secrets), told);
    if !allowed.is_empty() {
        let places = numbers.clone();
        let made = told.new_accounts(Arc::clone(&work.edits)).of_part(move |at| places.get(at).copied());
        let record = told.recorder(move |at| numbers.get(at).copied());
        let record = without_secrets(record, &allowed, &terms.secrets);
        store.carry_out(allowed, Terms { made, ..terms.clone() }, record).await?;
    }
    let Some(terms) = goes_on(&terms) else { return Ok(()) };
    suspend_instead(store, work, &terms, told).await?;
    if work.groups.last.is_empty() {
        return Ok(());
    }
    let accounts = store.accounts(Arc::clone(&terms.fields)).await?;
    let logins: HashSet<Cow<'_, str>> = accounts.iter().map(|account| folded(&account.login)).collect();
    let edits: Vec<GroupEdit> = work.groups.last.iter().map(|edit| with_accounts(edit, &logins)).collect();
    if told.with(|told| told.add(last, &edits)) != Some(true) {
        return Ok(());
    }
    let (mut ready, mut numbers) = (Vec::new(), Vec::new());
    for (at, edit) in edits.into_iter().enumerate() {
        if edit.before == edit.after {
            let left = Outcome::Left("the people to be added have no account".to_owned());
            told.with(|told| told.take(last + at, left));
        } else {
            ready.push(edit);
            numbers.push(last + at);
        }
    }
    let record = told.recorder(move |at| numbers.get(at).copied());
    group_store(store)?.carry_out_groups(ready.into(), terms, record).await
}

/// Suspends the accounts whose removal was refused, where the settings say so. The journal has the suspension in place
/// of the removal, so that an undo ends it.
async fn suspend_instead(
    store: &Linked<'_>,
    work: &Work,
    terms: &Terms,
    told: &Shared,
) -> Result<(), StoreError> {
    if work.or_suspended.is_empty() {
        return Ok(());
    }
    let begun = told.with(|told| told.refused_removals(work)).unwrap_or_default();
    if begun.is_empty() {
        return Ok(());
    }
    let (places, edits): (Vec<usize>, Vec<Edit>) = begun.into_iter().unzip();
    let own = told.clone();
    let record: Recorder = Box::new(move |at, outcome| {
        let told = places.get(at).and_then(|place| own.with(|told| told.take_instead(*place, outcome)));
        told.unwrap_or(ControlFlow::Break(()))
    });
    store.carry_out(edits.into(), Terms { stop_after: None, ..terms.clone() }, record).await
}

/// The edits that break no promise and lack nothing, with their numbers; the others are recorded as left out.
fn allowed(
    work: &Work,
    (untouchable, secrets): (&Untouchable, &Secrets),
    told: &Shared,
) -> (Arc<[Edit]>, Vec<usize>) {
    let lack = |edit: &Edit| match (&edit.before, &edit.after) {
        (None, Some(after)) => secrets.lack(after).map(str::to_owned),
        _ => None,
    };
    let forbidden = |edit: &Edit| untouchable.forbids(edit).or_else(|| lack(edit));
    if work.edits.iter().all(|edit| forbidden(edit).is_none()) {
        return (Arc::clone(&work.edits), (0..work.edits.len()).collect());
    }
    let (mut edits, mut numbers) = (Vec::new(), Vec::new());
    for (at, edit) in work.edits.iter().enumerate() {
        match forbidden(edit) {
            Some(why) => drop(told.with(|told| told.take(at, Outcome::Left(why)))),
            None => {
                edits.push(edit.clone());
                numbers.push(at);
            }
        }
    }
    (edits.into(), numbers)
}

/// A recorder that stars out secrets in the store's words.
fn without_secrets(mut record: Recorder, edits: &Arc<[Edit]>, secrets: &Secrets) -> Recorder {
    if secrets.is_empty() {
        return record;
    }
    let (edits, secrets) = (Arc::clone(edits), secrets.clone());
    Box::new(move |at, outcome| {
        let account = edits.get(at).and_then(|edit| edit.after.as_ref());
        let outcome = match (outcome, account) {
            (Outcome::Failed(words), Some(account)) => Outcome::Failed(secrets.starred(account, words)),
            (Outcome::Left(words), Some(account)) => Outcome::Left(secrets.starred(account, words)),
            (outcome, _) => outcome,
        };
        record(at, outcome)
    })
}

/// The edit without members whose account was not created.
fn with_accounts(edit: &GroupEdit, logins: &HashSet<Cow<'_, str>>) -> GroupEdit {
    let mut edit = edit.clone();
    if let Some(after) = &mut edit.after {
        after.members.retain(|login| logins.contains(&folded(login)));
    }
    edit
}

/// The error for an outcome that could not be recorded.
pub(super) fn unrecorded(error: StateError) -> ApplyError {
    ApplyErrorKind::Unrecorded { source: error }.into()
}
