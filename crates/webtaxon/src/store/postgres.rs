//! Accounts in a table of a PostgreSQL database: read row by row, changed in one transaction.
//!
//! Every value is sent as text and cast by the database to its column's type, so that numbers, dates and the
//! application's own types are parsed by the database.

use super::groups::group;
use super::sql::{Bound, Column, Dialect, RowEdits, Rows, Statement, Writer, complete};
use super::{AccountStore, GroupStore, Recorder, StoreError, StoreErrorKind, StoreFuture, Terms};
use crate::crash;
use crate::postgres::{Unconnected, WAIT, connect, in_words};
use crate::sql_names::quoted;
use futures_util::TryStreamExt as _;
use indexmap::IndexMap;
use std::borrow::Cow;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Client, Error};
use webtaxon_core::account::{Account, Groups};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome, Plan};
use webtaxon_core::settings::{Postgres, SqlTable};

/// Maximum edits under one savepoint.
const BATCH: usize = 1000;

/// A table of a PostgreSQL database.
#[derive(Debug)]
pub struct PostgresStore {
    server: Postgres,
    table: SqlTable,
    folder: PathBuf,
}

/// The database's description of the table.
struct Described {
    columns: Vec<Column>,
    dialect: Dialect,
}

impl PostgresStore {
    /// The list in `table` of a database; paths in `server` start from `folder`.
    #[must_use]
    pub fn new(server: Postgres, table: SqlTable, folder: &Path) -> Self {
        Self { server, table, folder: folder.to_owned() }
    }

    /// The table's name, with its schema if the settings give one.
    fn name(&self) -> String {
        name_of(&self.table.name)
    }

    /// The table of the application's groups as a list.
    fn of_groups(&self) -> Result<Self, StoreError> {
        let none = || StoreErrorKind::NoGroups { store: self.describe() };
        let (server, table) = (self.server.clone(), self.table.of_groups().ok_or_else(none)?);
        Ok(Self { server, table, folder: self.folder.clone() })
    }

    fn refused(&self, error: &Error) -> StoreError {
        StoreErrorKind::Database { store: self.describe(), source: in_words(error).into() }.into()
    }

    async fn connect(&self) -> Result<Client, StoreError> {
        let store = self.describe();
        connect(&self.server, &self.folder).await.map_err(|error| {
            match error {
                Unconnected::NoSecret(reason) => StoreErrorKind::NoSecret { store, reason },
                Unconnected::Refused(reason) => StoreErrorKind::Database { store, source: reason.into() },
            }
            .into()
        })
    }

    async fn describe_table(&self, client: &Client) -> Result<Described, StoreError> {
        let columns = self.columns_of(client, &self.name()).await?;
        if columns.is_empty() {
            let sql = "SELECT quote_ident(schemaname) || '.' || quote_ident(tablename) FROM pg_tables
                WHERE schemaname NOT IN ('pg_catalog', 'information_schema') ORDER BY 1 LIMIT 20";
            let names = client.query(sql, &[]).await.map_err(|error| self.refused(&error))?;
            let names: Vec<String> = names.iter().map(|row| row.get(0)).collect();
            let help = match names.is_empty() {
                true => "the database has no tables; is it the right one?".to_owned(),
                false => {
                    format!("`table` in {} names it; there are {}", self.table.place(), names.join(", "))
                }
            };
            let (store, table) = (self.describe(), self.table.name.clone());
            return Err(StoreErrorKind::NoTable { store, table, help }.into());
        }
        let cast = |columns: &[Column], name: &str| {
            columns
                .iter()
                .find(|column| column.name == name)
                .map(|column| column.cast.clone())
                .unwrap_or_default()
        };
        let mut dialect = Dialect { takes_arrays: true, ..Dialect::new(&self.table.name, '$', name_of) };
        dialect.login_cast = cast(&columns, self.table.column("login"));
        if let Some(roles) = &self.table.roles {
            let (table, column) = match &roles.of {
                None => (quoted(&roles.name), &roles.role),
                Some(of) => (name_of(&of.table), &of.name),
            };
            dialect.role_cast = cast(&self.columns_of(client, &table).await?, column);
        }
        Ok(Described { columns, dialect })
    }

    async fn columns_of(&self, client: &Client, table: &str) -> Result<Vec<Column>, StoreError> {
        let sql = "SELECT attname::text, format_type(atttypid, atttypmod), attnotnull,
                atthasdef OR attidentity <> '' FROM pg_attribute
            WHERE attrelid = to_regclass($1) AND attnum > 0 AND NOT attisdropped AND attgenerated = ''
            ORDER BY attnum";
        let rows = client.query(sql, &[&table]).await.map_err(|error| self.refused(&error))?;
        let column = |row: &tokio_postgres::Row| Column {
            cast: format!("::text::{}", row.get::<_, String>(1)),
            may_be_null: !row.get::<_, bool>(2),
            has_default: row.get(3),
            ..Column::new(&self.table, row.get(0))
        };
        Ok(rows.iter().map(column).collect())
    }

    /// All accounts, or those with these logins, one row at a time.
    async fn read(
        &self,
        client: &Client,
        described: &Described,
        fields: &[String],
        logins: Option<&[&str]>,
    ) -> Result<Vec<Account>, StoreError> {
        let columns = described.columns.as_slice();
        complete(&self.describe(), &self.table, columns, fields)?;
        let refused = |error: tokio_postgres::Error| self.refused(&error);
        let bound = || logins.as_ref().map(|logins| logins as &(dyn ToSql + Sync));
        let of_logins = |_: &&[&str]| {
            let (login, cast) = (quoted(self.table.column("login")), &described.dialect.login_cast);
            format!(" WHERE {login} = ANY(ARRAY(SELECT one{cast} FROM unnest($1::text[]) AS all_of (one)))")
        };
        let of_logins = logins.as_ref().map(of_logins).unwrap_or_default();
        let mut roles: Option<HashMap<String, Vec<String>>> = None;
        if let Some(table) = &self.table.roles {
            let [account, role] = [&table.account, &table.role].map(|name| quoted(name));
            let keys = format!("SELECT {} FROM {}{of_logins}", quoted(&table.key), self.name());
            let of = logins.map(|_| format!(" WHERE {account} IN ({keys})")).unwrap_or_default();
            let (role, join) = match &table.of {
                None => (role, String::new()),
                Some(of) => {
                    let [key, name] = [&of.key, &of.name].map(|name| quoted(name));
                    let table = name_of(&of.table);
                    let join = format!(" AS listed JOIN {table} AS whose ON whose.{key} = listed.{role}");
                    (format!("whose.{name}"), join)
                }
            };
            let account = if table.of.is_some() { format!("listed.{account}") } else { account };
            let from = quoted(&table.name);
            let sql = format!("SELECT {account}::text, {role}::text FROM {from}{join}{of}");
            let all = roles.insert(HashMap::new());
            let mut rows = Box::pin(client.query_raw(&sql, bound()).await.map_err(refused)?);
            while let Some(row) = rows.try_next().await.map_err(refused)? {
                if let (Some(key), Some(role)) = (
                    row.try_get::<_, Option<String>>(0).map_err(refused)?,
                    row.try_get::<_, Option<String>>(1).map_err(refused)?,
                ) {
                    all.entry(key).or_default().push(role);
                }
            }
        }
        let names: Vec<String> =
            columns.iter().map(|column| format!("{}::text", quoted(&column.name))).collect();
        let sql = format!("SELECT {} FROM {}{of_logins}", names.join(", "), self.name());
        let mut rows = Box::pin(client.query_raw(&sql, bound()).await.map_err(refused)?);
        let mut accounts = Rows::new(self.describe(), &self.table, columns, roles);
        while let Some(row) = rows.try_next().await.map_err(refused)? {
            // A database without an encoding may contain bytes that are not text.
            let values = (0..columns.len()).map(|at| row.try_get(at));
            let values = values.collect::<Result<Vec<Option<&str>>, Error>>().map_err(refused)?;
            accounts.add(|at| values.get(at).copied().flatten().map(Cow::Borrowed))?;
        }
        Ok(accounts.finish()?)
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
            self.name()
        );
        change.batch_execute(&lock).await.map_err(refused)?;
        let logins = edits.logins(terms);
        let mut accounts = self.read(change.client(), &described, &terms.fields, logins.as_deref()).await?;
        if logins.is_some() && !edits.are_of(&accounts) {
            accounts = self.read(change.client(), &described, &terms.fields, None).await?;
        }
        let (edits, standings) = edits.standings(&accounts, terms);
        let plan = Plan::of_standings(&edits, &accounts, standings, &terms.unique);
        let mut made = Made::new(change.client(), terms.stop_after);
        let mut writer = Writer::new(&self.table, &described.columns, &described.dialect);
        for (edits, statements) in writer.units(&plan) {
            made.add(edits, statements).await.map_err(refused)?;
            if made.is_over() {
                break;
            }
        }
        made.flush().await.map_err(refused)?;
        let mut outcomes = made.outcomes;
        outcomes.extend(plan.left_out());
        change.commit().await.map_err(refused)?;
        crash::point();
        Ok(outcomes)
    }

    /// The statements that make the edits, as a script.
    async fn script(&self, edits: &RowEdits, terms: &Terms) -> Result<String, StoreError> {
        let client = self.connect().await?;
        let described = self.describe_table(&client).await?;
        let accounts = self.read(&client, &described, &terms.fields, None).await?;
        let (edits, standings) = edits.standings(&accounts, terms);
        let plan = Plan::of_standings(&edits, &accounts, standings, &terms.unique);
        Ok(Writer::new(&self.table, &described.columns, &described.dialect).script(&plan))
    }

    /// Every row.
    async fn rows(&self, fields: &[String]) -> Result<Vec<Account>, StoreError> {
        let client = self.connect().await?;
        let described = self.describe_table(&client).await?;
        self.read(&client, &described, fields, None).await
    }
}

/// A table's name in a statement, with its schema if there is one.
fn name_of(table: &str) -> String {
    table.split('.').map(quoted).collect::<Vec<_>>().join(".")
}

/// The edits of a transaction, many under one savepoint. If the database refuses one, the others are repeated one by
/// one, so that only that one is left out.
struct Made<'c> {
    client: &'c Client,
    prepared: HashMap<Arc<str>, tokio_postgres::Statement>,
    /// The edits of each unit, with their pending statements.
    waiting: Vec<(Vec<usize>, Vec<Statement>)>,
    outcomes: Vec<(usize, Outcome)>,
    failed: usize,
    stop_after: Option<usize>,
}

impl<'c> Made<'c> {
    fn new(client: &'c Client, stop_after: Option<usize>) -> Self {
        let (prepared, waiting, outcomes) = (HashMap::new(), Vec::new(), Vec::new());
        Self { client, prepared, waiting, outcomes, failed: 0, stop_after }
    }

    fn is_over(&self) -> bool {
        self.stop_after.is_some_and(|most| self.failed >= most)
    }

    /// Queues a unit; inserted rows queue together, as does everything else.
    async fn add(&mut self, places: Vec<usize>, statements: Vec<Statement>) -> Result<(), Error> {
        let is_adding = |statements: &[Statement]| statements.iter().all(|one| one.text.many.is_some());
        let is_other = self.waiting.last().is_some_and(|(_, last)| is_adding(last) != is_adding(&statements));
        if is_other || self.waiting.len() >= BATCH {
            self.flush().await?;
        }
        self.waiting.push((places, statements));
        Ok(())
    }

    /// Runs everything queued.
    async fn flush(&mut self) -> Result<(), Error> {
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
            Err(error) => Err(error.as_db_error().map(|said| said.message().to_owned()).unwrap_or_default()),
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

impl AccountStore for PostgresStore {
    fn describe(&self) -> String {
        format!("{} at {} ({})", self.server.database, self.server.host, self.table.name)
    }

    fn place(&self) -> String {
        let Postgres { host, port, database, .. } = &self.server;
        format!("postgres {host}:{port} {database} ({})", self.table.name)
    }

    fn accounts(&self, fields: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        Box::pin(async move { self.rows(&fields).await })
    }

    fn is_writable(&self) -> StoreFuture<'_, bool> {
        Box::pin(async {
            let client = self.connect().await?;
            let sql = "SELECT has_table_privilege(to_regclass($1), 'INSERT')
                AND has_table_privilege(to_regclass($1), 'UPDATE') AND has_table_privilege(to_regclass($1), 'DELETE')
                AND NOT pg_is_in_recovery()";
            let rows = client.query(sql, &[&self.name()]).await.map_err(|error| self.refused(&error))?;
            Ok(rows.first().and_then(|row| row.get::<_, Option<bool>>(0)).unwrap_or(false))
        })
    }

    fn statements(&self, edits: Arc<[Edit]>, terms: Terms) -> StoreFuture<'_, Option<String>> {
        Box::pin(async move { self.script(&RowEdits::Accounts(edits), &terms).await.map(Some) })
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

    fn group_statements(&self, edits: Arc<[GroupEdit]>) -> StoreFuture<'_, Option<String>> {
        Box::pin(async move {
            self.of_groups()?.script(&RowEdits::Groups(edits), &Terms::default()).await.map(Some)
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
