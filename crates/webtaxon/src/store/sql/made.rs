//! The edits of one transaction of a server.

use super::Statement;
use crate::crash;
use webtaxon_core::apply::Outcome;

/// Maximum edits under one savepoint.
const BATCH: usize = 1000;

/// A transaction.
pub(in super::super) trait Transaction: Send {
    type Error: Send;

    /// Runs statements completely or not at all; returns the database's message if not.
    fn within(
        &mut self,
        statements: &[&Statement],
    ) -> impl Future<Output = Result<Result<(), String>, Self::Error>> + Send;
}

/// The edits of a transaction, many under one savepoint. If the database refuses one, the others are repeated one by
/// one, so that only that one is left out.
pub(in super::super) struct Made<T> {
    transaction: T,
    /// The edits of each unit, with their pending statements.
    waiting: Vec<(Vec<usize>, Vec<Statement>)>,
    pub(in super::super) outcomes: Vec<(usize, Outcome)>,
    failed: usize,
    stop_after: Option<usize>,
}

impl<T: Transaction> Made<T> {
    pub(in super::super) fn new(transaction: T, stop_after: Option<usize>) -> Self {
        Self { transaction, waiting: Vec::new(), outcomes: Vec::new(), failed: 0, stop_after }
    }

    pub(in super::super) fn is_over(&self) -> bool {
        self.stop_after.is_some_and(|most| self.failed >= most)
    }

    /// Queues a unit; inserted rows queue together, as does everything else.
    pub(in super::super) async fn add(
        &mut self,
        places: Vec<usize>,
        statements: Vec<Statement>,
    ) -> Result<(), T::Error> {
        let is_adding = |statements: &[Statement]| statements.iter().all(|one| one.text.many.is_some());
        let is_other = self.waiting.last().is_some_and(|(_, last)| is_adding(last) != is_adding(&statements));
        if is_other || self.waiting.len() >= BATCH {
            self.flush().await?;
        }
        self.waiting.push((places, statements));
        Ok(())
    }

    /// Runs everything queued.
    pub(in super::super) async fn flush(&mut self) -> Result<(), T::Error> {
        let waiting = std::mem::take(&mut self.waiting);
        if waiting.is_empty() || self.is_over() {
            return Ok(());
        }
        let statements: Vec<&Statement> = waiting.iter().flat_map(|(_, statements)| statements).collect();
        if self.transaction.within(&statements).await?.is_ok() {
            let done = waiting.iter().flat_map(|(places, _)| places);
            self.outcomes.extend(done.map(|place| (*place, Outcome::Done)));
            crash::point();
            return Ok(());
        }
        for (places, statements) in waiting {
            let made = self.transaction.within(&statements.iter().collect::<Vec<_>>()).await?;
            let outcome = made.map_or_else(Outcome::Failed, |()| Outcome::Done);
            self.failed += if matches!(outcome, Outcome::Failed(_)) { places.len() } else { 0 };
            self.outcomes.extend(places.into_iter().map(|place| (place, outcome.clone())));
            crash::point();
            if self.is_over() {
                break;
            }
        }
        Ok(())
    }
}
