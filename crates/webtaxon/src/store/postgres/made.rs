//! The edits of one transaction.

use super::super::sql::{Bound, Statement};
use crate::crash;
use crate::postgres::in_words;
use indexmap::IndexMap;
use std::collections::HashMap;
use std::sync::Arc;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Client, Error};
use webtaxon_core::apply::Outcome;

/// Maximum edits under one savepoint.
const BATCH: usize = 1000;

/// The edits of a transaction, many under one savepoint. If the database refuses one, the others are repeated one by
/// one, so that only that one is left out.
pub(super) struct Made<'c> {
    client: &'c Client,
    prepared: HashMap<Arc<str>, tokio_postgres::Statement>,
    /// The edits of each unit, with their pending statements.
    waiting: Vec<(Vec<usize>, Vec<Statement>)>,
    pub(super) outcomes: Vec<(usize, Outcome)>,
    failed: usize,
    stop_after: Option<usize>,
}

impl<'c> Made<'c> {
    pub(super) fn new(client: &'c Client, stop_after: Option<usize>) -> Self {
        let (prepared, waiting, outcomes) = (HashMap::new(), Vec::new(), Vec::new());
        Self { client, prepared, waiting, outcomes, failed: 0, stop_after }
    }

    pub(super) fn is_over(&self) -> bool {
        self.stop_after.is_some_and(|most| self.failed >= most)
    }

    /// Queues a unit; inserted rows queue together, as does everything else.
    pub(super) async fn add(&mut self, places: Vec<usize>, statements: Vec<Statement>) -> Result<(), Error> {
        let is_adding = |statements: &[Statement]| statements.iter().all(|one| one.text.many.is_some());
        let is_other = self.waiting.last().is_some_and(|(_, last)| is_adding(last) != is_adding(&statements));
        if is_other || self.waiting.len() >= BATCH {
            self.flush().await?;
        }
        self.waiting.push((places, statements));
        Ok(())
    }

    /// Runs everything queued.
    pub(super) async fn flush(&mut self) -> Result<(), Error> {
        let waiting = std::mem::take(&mut self.waiting);
        if waiting.is_empty() || self.is_over() {
            return Ok(());
        }
        let statements: Vec<&Statement> = waiting.iter().flat_map(|(_, statements)| statements).collect();
        if self.within(&statements).await?.is_ok() {
            let done = waiting.iter().flat_map(|(places, _)| places);
            self.outcomes.extend(done.map(|place| (*place, Outcome::Done)));
            crash::point();
            return Ok(());
        }
        for (places, statements) in waiting {
            let made = self.within(&statements.iter().collect::<Vec<_>>()).await?;
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

    /// Runs statements completely or not at all; returns the database's message if not.
    async fn within(&mut self, statements: &[&Statement]) -> Result<Result<(), String>, Error> {
        self.client.batch_execute("SAVEPOINT edit").await?;
        let made = match self.run(statements).await {
            Ok(made) => made,
            // Not a refusal: the connection is lost, or the whole transaction.
            Err(error) if error.as_db_error().is_none() => return Err(error),
            Err(error) => Err(in_words(&error)),
        };
        let end = match &made {
            Ok(()) => "RELEASE SAVEPOINT edit",
            Err(_) => "ROLLBACK TO SAVEPOINT edit; RELEASE SAVEPOINT edit",
        };
        self.client.batch_execute(end).await?;
        Ok(made)
    }

    /// Runs statements: inserted rows together, others one by one, in order.
    async fn run(&mut self, statements: &[&Statement]) -> Result<Result<(), String>, Error> {
        let mut kinds: IndexMap<&Arc<str>, Vec<&Statement>> = IndexMap::new();
        for statement in statements {
            if statements.len() > 1
                && let Some(many) = &statement.text.many
            {
                kinds.entry(many).or_default().push(statement);
            }
        }
        let are_added = kinds.values().map(Vec::len).sum::<usize>() == statements.len();
        let odd = |rows: u64, wanted: usize| format!("{rows} rows would change in place of {wanted}");
        if are_added && !kinds.is_empty() {
            kinds.sort_by_key(|_, rows| rows.iter().any(|row| row.comes_after));
            for (text, rows) in kinds {
                let statement = self.prepared(text).await?;
                let column = |at: usize| -> Vec<Option<&str>> {
                    rows.iter().map(|row| row.values.get(at).and_then(Bound::text)).collect()
                };
                let columns: Vec<_> = (0..statement.params().len()).map(column).collect();
                let values: Vec<&(dyn ToSql + Sync)> =
                    columns.iter().map(|column| column as &(dyn ToSql + Sync)).collect();
                let changed = self.client.execute(&statement, &values).await?;
                if changed != rows.len() as u64 {
                    return Ok(Err(odd(changed, rows.len())));
                }
            }
            return Ok(Ok(()));
        }
        let mut ready = Vec::with_capacity(statements.len());
        for statement in statements {
            let texts: Vec<Option<&str>> = statement.values.iter().map(Bound::text).collect();
            ready.push((self.prepared(&statement.text.one).await?, texts));
        }
        // All are sent at once: the server executes them in order.
        let client = self.client;
        let under_way = ready.iter().map(|(statement, texts)| async move {
            let values: Vec<&(dyn ToSql + Sync)> =
                texts.iter().map(|text| text as &(dyn ToSql + Sync)).collect();
            client.execute(statement, &values).await
        });
        let changed = futures_util::future::join_all(under_way).await;
        for (statement, rows) in statements.iter().zip(changed) {
            let rows = rows?;
            if statement.is_one && rows != 1 {
                return Ok(Err(odd(rows, 1)));
            }
        }
        Ok(Ok(()))
    }

    async fn prepared(&mut self, text: &Arc<str>) -> Result<tokio_postgres::Statement, Error> {
        if let Some(known) = self.prepared.get(text) {
            return Ok(known.clone());
        }
        let statement = self.client.prepare(text).await?;
        self.prepared.insert(Arc::clone(text), statement.clone());
        Ok(statement)
    }
}
