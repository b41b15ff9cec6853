//! Accounts in a table of a PostgreSQL database: read row by row, changed in one transaction.
//!
//! Every value is sent as text and parsed by the database as its column's type. It is never cut or rounded to fit: what
//! a column would keep is asked before ([`forms`]).

mod catalog;
mod dependents;
mod forms;
mod made;
mod session;

use super::groups::group;
use super::sql::{ASSUMES, Column, Dialect, Made, RowEdits, Rows, Sides, Which, Writer, complete, plain};
use super::{AccountStore, GroupStore, Recorder, ScriptWork, StoreError, StoreErrorKind, StoreFuture, Terms};
use crate::crash;
use crate::postgres::{Unconnected, WAIT, connect};
use catalog::Described;
use futures_util::TryStreamExt as _;
use made::Prepared;
use session::{Session, name_of};
use std::borrow::Cow;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Client, Error};
use webtaxon_core::account::{Account, Groups, Inquiry, Replies};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome, Plan};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::settings::{DatabaseServer, SqlTable, States};

/// A table of a PostgreSQL database.
#[derive(Debug)]
pub struct PostgresStore {
    server: DatabaseServer,
    table: SqlTable,
    folder: PathBuf,
}

/// The table as described, and the words of its state column as the database prints them.
struct Known {
    columns: Vec<Column>,
    dialect: Dialect,
    states: Option<States>,
}

/// The session: half a list is an error, values print the same everywhere, and dates are never guessed.
const SESSION: &str = "SET row_security = off; SET standard_conforming_strings = on; SET DateStyle = 'ISO, YMD';
    SET IntervalStyle = 'postgres'; SET TimeZone = 'UTC'; SET extra_float_digits = 1; SET bytea_output = 'hex'";

impl PostgresStore {
    /// The list in `table` of a database; paths in `server` start from `folder`.
    #[must_use]
    pub fn new(server: DatabaseServer, table: SqlTable, folder: &Path) -> Self {
        Self { server, table, folder: folder.to_owned() }
    }

    /// The table of the application's groups as a list.
    fn of_groups(&self) -> Result<Self, StoreError> {
        let none = || StoreErrorKind::NoGroups { store: self.describe() };
        let (server, table) = (self.server.clone(), self.table.of_groups().ok_or_else(none)?);
        Ok(Self { server, table, folder: self.folder.clone() })
    }

    fn refused(&self, error: &Error) -> StoreError {
        session::refused(&self.describe(), error)
    }

    fn session<'s>(&'s self, client: &'s Client) -> Session<'s> {
        Session { client, table: &self.table, store: self.describe() }
    }

    async fn connect(&self) -> Result<Client, StoreError> {
        let store = self.describe();
        let client = connect(&self.server, &self.folder).await.map_err(|error| match error {
            Unconnected::NoSecret(reason) => StoreErrorKind::NoSecret { store, reason },
            Unconnected::Refused(reason) => StoreErrorKind::Database { store, source: reason.into() },
        })?;
        client.batch_execute(SESSION).await.map_err(|error| self.refused(&error))?;
        Ok(client)
    }

    async fn describe_table(&self, client: &Client) -> Result<Known, StoreError> {
        let session = self.session(client);
        let Described { columns, dialect } = catalog::describe(&session).await?;
        let states = match &self.table.states {
            None => None,
            Some(states) => Some(forms::states(&session, &columns, states).await?),
        };
        Ok(Known { columns, dialect, states })
    }

    /// The accounts of a query, one row at a time.
    async fn read(
        &self,
        client: &Client,
        described: &Known,
        fields: &[String],
        which: Which,
        passed: &[&str],
    ) -> Result<Vec<Account>, StoreError> {
        let Known { columns, dialect, states } = described;
        complete(&self.describe(), &self.table, columns, fields)?;
        let refused = |error: tokio_postgres::Error| self.refused(&error);
        let bound = || which.is_passed().then_some(&passed as &(dyn ToSql + Sync));
        let mut sides = Sides::new();
        for (field, side) in &self.table.sides {
            let Some(form) = dialect.sides.get(field) else { continue };
            let sql = dialect.select_side(&self.table, (side, form), which, |one| format!("{one}::text"));
            let all = sides.entry(field.clone()).or_default();
            let mut rows = Box::pin(client.query_raw(&sql, bound()).await.map_err(refused)?);
            while let Some(row) = rows.try_next().await.map_err(refused)? {
                if let (Some(key), Some(value)) = (
                    row.try_get::<_, Option<String>>(0).map_err(refused)?,
                    row.try_get::<_, Option<String>>(1).map_err(refused)?,
                ) {
                    all.entry(key).or_default().push(value);
                }
            }
        }
        let sql = dialect.select(&self.table, columns, which);
        let mut rows = Box::pin(client.query_raw(&sql, bound()).await.map_err(refused)?);
        let mut accounts = Rows::new(self.describe(), &self.table, columns, sides, states.clone());
        while let Some(row) = rows.try_next().await.map_err(refused)? {
            // A database without an encoding may contain bytes that are not text.
            let values = (0..columns.len()).map(|at| row.try_get(at));
            let values = values.collect::<Result<Vec<Option<&str>>, Error>>().map_err(refused)?;
            accounts.add(|at| values.get(at).copied().flatten().map(Cow::Borrowed))?;
        }
        Ok(if which == Which::Removed { accounts.all() } else { accounts.finish()? })
    }

    /// The rows that are marked as removed, if an edit may bring one back.
    async fn removed(
        &self,
        client: &Client,
        described: &Known,
        edits: &[Edit],
    ) -> Result<Vec<Account>, StoreError> {
        let is_needed = self.table.removed.is_some() && edits.iter().any(|edit| edit.before.is_none());
        if !is_needed { Ok(Vec::new()) } else { self.read(client, described, &[], Which::Removed, &[]).await }
    }

    /// Makes the edits that are ready, in one transaction; returns their outcomes.
    async fn change(&self, edits: &RowEdits, terms: &Terms) -> Result<Vec<(usize, Outcome)>, StoreError> {
        let mut client = self.connect().await?;
        let described = self.describe_table(&client).await?;
        let refused = |error: tokio_postgres::Error| self.refused(&error);
        let change = client.transaction().await.map_err(refused)?;
        // Nobody else can write from here on, so that the rows seen are the rows changed.
        let wait = WAIT.as_millis();
        let lock = format!(
            "SET LOCAL lock_timeout = '{wait}ms'; LOCK TABLE {} IN SHARE ROW EXCLUSIVE MODE",
            described.dialect.table
        );
        change.batch_execute(&lock).await.map_err(refused)?;
        let (client, fields) = (change.client(), &terms.fields);
        let logins = edits.logins(terms);
        let which = if logins.is_some() { Which::OfLogins } else { Which::All };
        let of_logins = logins.as_deref().unwrap_or_default();
        let mut accounts = self.read(client, &described, fields, which, of_logins).await?;
        if logins.is_some() && !edits.are_of(&accounts) {
            accounts = self.read(client, &described, fields, Which::All, &[]).await?;
        }
        let (edits, standings) = edits.standings(&accounts, terms);
        let plan = Plan::of_standings(&edits, &accounts, standings, &terms.unique);
        let removed = self.removed(client, &described, &edits).await?;
        let mut made = Made::new(Prepared::new(client), terms.stop_after);
        let mut writer = self.writer(&described, terms).with_removed(removed);
        for (edits, statements) in writer.units(&plan) {
            made.add(edits, statements).await.map_err(refused)?;
            if made.is_over() {
                break;
            }
        }
        made.flush().await.map_err(refused)?;
        let mut outcomes = made.outcomes;
        outcomes.extend(plan.left_out());
        let new = terms.made.logins(&edits);
        if !new.is_empty() {
            let list = self.read(client, &described, fields, Which::OfLogins, &new).await?;
            if terms.made.tell(&edits, &outcomes, list).is_break() {
                return Ok(Vec::new());
            }
        }
        change.commit().await.map_err(refused)?;
        crash::point();
        Ok(outcomes)
    }

    fn writer<'w>(&'w self, described: &'w Known, terms: &'w Terms) -> Writer<'w> {
        Writer::new(&self.table, &described.columns, &described.dialect, terms)
    }

    /// The statements that make the edits.
    async fn script(&self, edits: &RowEdits, terms: &Terms) -> Result<String, StoreError> {
        let client = self.connect().await?;
        let described = self.describe_table(&client).await?;
        let accounts = self.read(&client, &described, &terms.fields, Which::All, &[]).await?;
        let (edits, standings) = edits.standings(&accounts, terms);
        let plan = Plan::of_standings(&edits, &accounts, standings, &terms.unique);
        let removed = self.removed(&client, &described, &edits).await?;
        Ok(self.writer(&described, terms).with_removed(removed).script(&plan))
    }

    /// Every row.
    async fn rows(&self, fields: &[String]) -> Result<Vec<Account>, StoreError> {
        let client = self.connect().await?;
        let described = self.describe_table(&client).await?;
        self.read(&client, &described, fields, Which::All, &[]).await
    }
}

impl AccountStore for PostgresStore {
    fn describe(&self) -> String {
        format!("{} at {} ({})", self.server.database, self.server.host, self.table.name)
    }

    fn place(&self) -> String {
        let DatabaseServer { host, port, database, .. } = &self.server;
        format!("postgres {host}:{port} {database} ({})", self.table.name)
    }

    fn accounts(&self, fields: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        Box::pin(async move { self.rows(&fields).await })
    }

    fn accounts_with_link(
        &self,
        fields: Arc<[String]>,
        link: Identity,
    ) -> StoreFuture<'_, Option<Vec<Account>>> {
        Box::pin(async move {
            let client = self.connect().await?;
            let described = self.describe_table(&client).await?;
            let found = self.read(&client, &described, &fields, Which::OfLinks, &[link.as_str()]).await;
            // The link may be no value of the column's type. The list tells the fault of a row.
            Ok(found.ok())
        })
    }

    fn is_writable(&self) -> StoreFuture<'_, bool> {
        Box::pin(async {
            let client = self.connect().await?;
            // A view is writable if it is simple, or has triggers for all three.
            let sql = "SELECT has_table_privilege(to_regclass($1), 'INSERT')
                AND has_table_privilege(to_regclass($1), 'UPDATE') AND has_table_privilege(to_regclass($1), 'DELETE')
                AND pg_relation_is_updatable(to_regclass($1), true) & 28 = 28 AND NOT pg_is_in_recovery()";
            let rows = client
                .query(sql, &[&name_of(&self.table.name)])
                .await
                .map_err(|error| self.refused(&error))?;
            Ok(rows.first().and_then(|row| row.get::<_, Option<bool>>(0)).unwrap_or(false))
        })
    }

    fn statements(&self, work: ScriptWork, terms: Terms) -> StoreFuture<'_, Option<String>> {
        Box::pin(async move {
            let mut parts = Vec::new();
            if !work.first.is_empty() {
                parts.push(self.of_groups()?.script(&RowEdits::Groups(work.first), &Terms::default()).await?);
            }
            parts.push(self.script(&RowEdits::Accounts(work.edits), &terms).await?);
            if !work.last.is_empty() {
                parts.push(self.of_groups()?.script(&RowEdits::Groups(work.last), &Terms::default()).await?);
            }
            let script = format!(
                "-- {}\n{ASSUMES}BEGIN;\nSET LOCAL standard_conforming_strings = on;\nSET LOCAL TimeZone = 'UTC';\nSET LOCAL DateStyle = 'ISO, YMD';\n{}COMMIT;\n",
                plain(&self.describe()),
                parts.concat()
            );
            Ok(Some(script))
        })
    }

    fn is_asked(&self) -> bool {
        true
    }

    fn may_create(&self, fields: Arc<[String]>) -> StoreFuture<'_, ()> {
        Box::pin(async move {
            let client = self.connect().await?;
            let session = self.session(&client);
            catalog::may_create(&session, &catalog::describe(&session).await?, &fields).await
        })
    }

    fn replies(&self, inquiry: Inquiry) -> StoreFuture<'_, Replies> {
        Box::pin(async move {
            let client = self.connect().await?;
            let session = self.session(&client);
            let described = catalog::describe(&session).await?;
            let mut replies = forms::forms(&session, &described, &inquiry).await?;
            replies.dependents = dependents::dependents(&session, &described, &inquiry).await?;
            Ok(replies)
        })
    }

    fn carry_out(&self, edits: Arc<[Edit]>, terms: Terms, mut record: Recorder) -> StoreFuture<'_, ()> {
        Box::pin(async move {
            for (at, outcome) in self.change(&RowEdits::Accounts(edits), &terms).await? {
                let _ = record(at, outcome);
            }
            Ok(())
        })
    }

    fn groups(&self) -> Option<&dyn GroupStore> {
        self.table.groups.is_some().then_some(self)
    }
}

impl GroupStore for PostgresStore {
    fn all_groups(&self) -> StoreFuture<'_, Groups> {
        Box::pin(async {
            let rows = self.of_groups()?.rows(&[]).await?;
            Ok(Groups { list: rows.iter().map(group).collect(), by_login: false })
        })
    }

    fn carry_out_groups(
        &self,
        edits: Arc<[GroupEdit]>,
        terms: Terms,
        mut record: Recorder,
    ) -> StoreFuture<'_, ()> {
        Box::pin(async move {
            for (at, outcome) in self.of_groups()?.change(&RowEdits::Groups(edits), &terms).await? {
                let _ = record(at, outcome);
            }
            Ok(())
        })
    }
}
