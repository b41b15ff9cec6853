//! The statements of one transaction.

use super::super::sql::{Bound, Many, Statement, Transaction};
use crate::postgres::in_words;
use indexmap::IndexMap;
use std::collections::HashMap;
use std::sync::Arc;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Client, Error};

/// The statements of a transaction, each prepared once.
pub(super) struct Prepared<'c> {
    client: &'c Client,
    prepared: HashMap<Arc<str>, tokio_postgres::Statement>,
}

impl<'c> Prepared<'c> {
    pub(super) fn new(client: &'c Client) -> Self {
        Self { client, prepared: HashMap::new() }
    }
}

impl Transaction for Prepared<'_> {
    type Error = Error;

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
}

impl Prepared<'_> {
    /// Runs statements: inserted rows together, others one by one, in order.
    async fn run(&mut self, statements: &[&Statement]) -> Result<Result<(), String>, Error> {
        let mut kinds: IndexMap<&Arc<str>, Vec<&Statement>> = IndexMap::new();
        for statement in statements {
            if statements.len() > 1
                && let Some(Many::Arrays(many)) = &statement.text.many
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
