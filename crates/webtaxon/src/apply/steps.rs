//! The steps of one run: members leave groups, accounts change, members join groups. Each outcome is recorded as it
//! happens.

use super::take_up::look;
use super::{Applied, Work};
use crate::error::{ApplyError, ApplyErrorKind, Error};
use crate::links::Linked;
use crate::progress::{Progress, Watch};
use crate::state::{Journal, StateError, Ties};
use crate::store::{AccountStore as _, StoreError, Terms, group_store, lists};
use std::borrow::Cow;
use std::collections::HashSet;
use std::ops::ControlFlow;
use webtaxon_core::account::folded;
use webtaxon_core::apply::{GroupEdit, Outcome};

/// Outcomes written to the journal at once.
const BATCH: usize = 200;

/// The recorder of outcomes. Edits of accounts come first in its numbering, then those of groups.
struct Told<'a> {
    watch: &'a Watch,
    journal: &'a mut Journal,
    run: i64,
    ties: Option<Ties<'a>>,
    outcomes: Vec<Option<Outcome>>,
    waiting: Vec<(usize, Outcome)>,
    unwritten: Option<StateError>,
    failed: usize,
    done: usize,
}

impl Told<'_> {
    /// Records one outcome; breaks if no further edit may begin.
    fn take(&mut self, at: usize, outcome: Outcome) -> ControlFlow<()> {
        self.failed += usize::from(matches!(outcome, Outcome::Failed(_)));
        self.done += 1;
        let (edits, of) = (self.done, self.outcomes.len());
        self.watch.tell(|| Progress::CarriedOut { edits, of });
        if let Some(slot) = self.outcomes.get_mut(at) {
            *slot = Some(outcome.clone());
        }
        self.waiting.push((at, outcome));
        if self.waiting.len() >= BATCH {
            self.write();
        }
        match self.unwritten {
            None => ControlFlow::Continue(()),
            Some(_) => ControlFlow::Break(()),
        }
    }

    /// Writes pending outcomes. After a failure none is written: the next apply finds them out.
    fn write(&mut self) {
        if self.unwritten.is_none() {
            let waiting = std::mem::take(&mut self.waiting);
            self.unwritten = self.journal.record(self.run, &waiting, self.ties).err();
        }
    }

    /// Ends a step; returns the terms of the next, if there is one.
    fn goes_on<'t>(&mut self, terms: &Terms<'t>) -> Option<Terms<'t>> {
        self.write();
        let left = terms.stop_after.map(|most| most.saturating_sub(self.failed));
        (self.unwritten.is_none() && left != Some(0)).then_some(Terms { stop_after: left, ..*terms })
    }
}

/// Makes the edits; returns whether every outcome is known.
pub(super) async fn carry_out(
    watch: &Watch,
    store: &Linked<'_>,
    work: &Work,
    terms: &Terms<'_>,
    journal: &mut Journal,
    applied: &mut Applied,
) -> Result<bool, Error> {
    let Some(run) = applied.run else { return Ok(true) };
    let accounts = work.edits.len();
    let mut told = Told {
        watch,
        journal,
        run,
        ties: store.ties(&work.edits),
        outcomes: vec![None; accounts + work.groups.len()],
        waiting: Vec::new(),
        unwritten: None,
        failed: 0,
        done: 0,
    };
    let ended = steps(store, work, terms, &mut told).await;
    told.write();
    let Told { mut outcomes, unwritten, failed, .. } = told;
    let mut put = |outcomes: &mut Vec<Option<Outcome>>| {
        applied.groups = outcomes.split_off(accounts.min(outcomes.len()));
        applied.outcomes = std::mem::take(outcomes);
    };
    if let Some(error) = unwritten {
        put(&mut outcomes);
        return Err(unrecorded(error).into());
    }
    if let Err(error) = ended {
        applied.stopped = Some(error.to_string());
        // Some edits may have been made without a report: compare with the lists.
        let Ok((list, groups)) = lists(store, terms.fields, !work.groups.is_empty()).await else {
            put(&mut outcomes);
            return Ok(false);
        };
        let groups = groups.map(|groups| groups.list).unwrap_or_default();
        for (at, outcome) in look(journal, run, store, &list, &groups).map_err(unrecorded)? {
            if let Some(slot) = outcomes.get_mut(at) {
                *slot = Some(outcome);
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
    Ok(true)
}

/// The steps in order, while each may begin.
async fn steps(
    store: &Linked<'_>,
    work: &Work,
    terms: &Terms<'_>,
    told: &mut Told<'_>,
) -> Result<(), StoreError> {
    let (first, last) = (work.edits.len(), work.edits.len() + work.groups.first.len());
    if !work.groups.first.is_empty() {
        let edits = &work.groups.first;
        group_store(store)?
            .carry_out_groups(edits, terms, &mut |at, outcome| told.take(first + at, outcome))
            .await?;
    }
    let Some(terms) = told.goes_on(terms) else { return Ok(()) };
    if !work.edits.is_empty() {
        store.carry_out(&work.edits, &terms, &mut |at, outcome| told.take(at, outcome)).await?;
    }
    let Some(terms) = told.goes_on(&terms) else { return Ok(()) };
    if work.groups.last.is_empty() {
        return Ok(());
    }
    let accounts = store.accounts(terms.fields).await?;
    let logins: HashSet<Cow<'_, str>> = accounts.iter().map(|account| folded(&account.login)).collect();
    let edits: Vec<GroupEdit> = work.groups.last.iter().map(|edit| with_accounts(edit, &logins)).collect();
    if let Err(error) = told.journal.add(told.run, last, &edits) {
        told.unwritten = Some(error);
        return Ok(());
    }
    let (idle, ready): (Vec<usize>, Vec<usize>) =
        (0..edits.len()).partition(|at| edits.get(*at).is_some_and(|edit| edit.before == edit.after));
    for at in idle {
        let _ = told.take(last + at, Outcome::Left("the people to be added have no account".to_owned()));
    }
    let edits: Vec<GroupEdit> = ready.iter().filter_map(|at| edits.get(*at).cloned()).collect();
    let mut record = |at: usize, outcome| match ready.get(at) {
        Some(at) => told.take(last + at, outcome),
        None => ControlFlow::Break(()),
    };
    group_store(store)?.carry_out_groups(&edits, &terms, &mut record).await
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
