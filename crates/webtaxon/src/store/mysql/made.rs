//! The statements of one transaction.

use super::super::sql::{Bound, Many, Statement, Transaction};
use indexmap::IndexMap;
use mysql_async::prelude::Queryable as _;
use mysql_async::{Conn, Error, Params, Value};

/// Maximum values of one statement.
const VALUES: usize = 10_000;

/// A transaction that was begun.
pub(super) struct Begun<'c>(pub(super) &'c mut Conn);

impl Transaction for Begun<'_> {
    type Error = Error;

    async fn within(&mut self, statements: &[&Statement]) -> Result<Result<(), String>, Error> {
        self.0.query_drop("SAVEPOINT edit").await?;
        let made = match self.all(statements).await {
            Ok(made) => made,
            // After a deadlock, nothing is left of the whole transaction.
            Err(Error::Server(said)) if said.code != 1213 => Err(said.message),
            Err(error) => return Err(error),
        };
        if made.is_err() {
            self.0.query_drop("ROLLBACK TO SAVEPOINT edit").await?;
        }
        self.0.query_drop("RELEASE SAVEPOINT edit").await?;
        Ok(made)
    }
}

impl Begun<'_> {
    /// Runs statements: inserted rows together, others one by one, in order.
    async fn all(&mut self, statements: &[&Statement]) -> Result<Result<(), String>, Error> {
        let mut kinds: IndexMap<(&str, &str), Vec<&Statement>> = IndexMap::new();
        for statement in statements {
            if let Some(Many::Rows(into, row)) = &statement.text.many {
                kinds.entry((into, row)).or_default().push(statement);
            }
        }
        let odd = |rows: u64, wanted: usize| format!("{rows} rows would change in place of {wanted}");
        if statements.len() > 1 && kinds.values().map(Vec::len).sum::<usize>() == statements.len() {
            kinds.sort_by_key(|_, rows| rows.iter().any(|row| row.comes_after));
            for ((into, row), rows) in kinds {
                let width = rows.first().map_or(1, |one| one.values.len().max(1));
                for rows in rows.chunks((VALUES / width).max(1)) {
                    // The client keeps prepared statements: those of a full batch are all alike.
                    let text = format!("{into}{}", vec![row; rows.len()].join(", "));
                    let values = rows.iter().flat_map(|row| row.values.iter().map(value)).collect();
                    let changed = self.one(&text, values).await?;
                    if changed != rows.len() as u64 {
                        return Ok(Err(odd(changed, rows.len())));
                    }
                }
            }
            return Ok(Ok(()));
        }
        for statement in statements {
            let values = statement.values.iter().map(value).collect();
            let changed = self.one(&statement.text.one, values).await?;
            if statement.is_one && changed != 1 {
                return Ok(Err(odd(changed, 1)));
            }
        }
        Ok(Ok(()))
    }

    /// Runs one statement; returns the number of rows that it changed.
    async fn one(&mut self, text: &str, values: Vec<Value>) -> Result<u64, Error> {
        let values = if values.is_empty() { Params::Empty } else { Params::Positional(values) };
        self.0.exec_drop(text, values).await?;
        Ok(self.0.affected_rows())
    }
}

fn value(bound: &Bound) -> Value {
    match bound {
        Bound::Null => Value::NULL,
        Bound::Text(text) => Value::Bytes(text.clone().into_bytes()),
        Bound::Bytes(bytes) => Value::Bytes(bytes.clone()),
    }
}
