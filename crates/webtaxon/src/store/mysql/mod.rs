//! Accounts in a table of a MySQL or MariaDB database: read row by row, changed in one transaction.
//!
//! The session is strict: the database never cuts, rounds or invents a value.

mod catalog;
mod forms;
mod made;
mod session;

use super::groups::group;
use super::sql::{ASSUMES, Kind, Made, RowEdits, Rows, Sides, Which, Writer, complete, plain};
use super::{AccountStore, GroupStore, Recorder, ScriptWork, StoreError, StoreErrorKind, StoreFuture, Terms};
use crate::crash;
use catalog::Described;
use futures_util::StreamExt as _;
use made::Begun;
use mysql_async::Row;
use mysql_async::prelude::Queryable as _;
use session::{SCRIPT, Session};
use std::borrow::Cow;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use webtaxon_core::account::{Account, Form, Groups, Inquiry, Replies};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome, Plan};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::settings::{DatabaseServer, SqlTable, States};

/// Maximum logins in one query; beyond that the whole list is read.
const LOGINS: usize = 5000;

/// A table of a MySQL or MariaDB database.
#[derive(Debug)]
pub struct MysqlStore {
    server: DatabaseServer,
    table: SqlTable,
    folder: PathBuf,
}

/// The rows of a query, and whether they are locked against other programs.
#[derive(Clone, Copy)]
struct Asked<'a> {
    which: Which,
    /// The logins or links that are passed together.
    passed: &'a [&'a str],
    is_locked: bool,
}

impl Asked<'_> {
    const ALL: Self = Asked { which: Which::All, passed: &[], is_locked: false };
}

impl MysqlStore {
    /// The list in `table` of a database; paths in `server` start from `folder`.
    #[must_use]
    pub fn new(server: DatabaseServer, table: SqlTable, folder: &Path) -> Self {
        Self { server, table, folder: folder.to_owned() }
    }

    async fn connect(&self) -> Result<Session, StoreError> {
        session::connect(&self.server, &self.folder, self.describe()).await
    }

    /// Connects, and describes the table.
    async fn open(&self) -> Result<(Session, Described), StoreError> {
        let mut session = self.connect().await?;
        let described = catalog::describe(&mut session, &self.table, &self.server.database).await?;
        Ok((session, described))
    }

    /// The table of the application's groups as a list.
    fn of_groups(&self) -> Result<Self, StoreError> {
        let none = || StoreErrorKind::NoGroups { store: self.describe() };
        let (server, table) = (self.server.clone(), self.table.of_groups().ok_or_else(none)?);
        Ok(Self { server, table, folder: self.folder.clone() })
    }

    fn refused(&self, error: mysql_async::Error) -> StoreError {
        session::refused(&self.describe(), error)
    }

    /// The words of the state column as the database prints them.
    fn states(&self, described: &Described) -> Result<Option<States>, StoreError> {
        let column = described.columns.iter().find(|column| column.field == "state");
        let Some((mut states, column)) = self.table.states.clone().zip(column) else { return Ok(None) };
        let kind = Kind::of_mysql(&column.declared);
        for word in states.active.iter_mut().chain(&mut states.suspended) {
            match kind.form(word, &column.declared) {
                None => {}
                Some(Form::As(kept)) => *word = kept.to_string(),
                Some(Form::Unfit(why)) => {
                    let (store, column, word) = (self.describe(), column.name.clone(), word.clone());
                    return Err(StoreErrorKind::BadState { store, column, word, why }.into());
                }
                Some(Form::Own) => {}
            }
        }
        Ok(Some(states))
    }

    /// The accounts of a query, one row at a time.
    async fn read(
        &self,
        session: &mut Session,
        described: &Described,
        fields: &[String],
        asked: Asked<'_>,
    ) -> Result<Vec<Account>, StoreError> {
        let Described { columns, dialect, .. } = described;
        complete(&self.describe(), &self.table, columns, fields)?;
        let mut dialect = dialect.clone();
        dialect.of_logins = catalog::one_of(asked.passed);
        dialect.of_links = catalog::one_of(asked.passed);
        let states = self.states(described)?;
        let mut sides = Sides::new();
        for (field, side) in &self.table.sides {
            let Some(form) = dialect.sides.get(field) else { continue };
            let as_text = |name: &str| format!("CAST({name} AS CHAR)");
            let sql = dialect.select_side(&self.table, (side, form), asked.which, as_text);
            let rows: Vec<(Option<String>, Option<String>)> = session.rows(&sql, ()).await?;
            let all = sides.entry(field.clone()).or_default();
            for (key, value) in rows.into_iter().filter_map(|(key, value)| Some((key?, value?))) {
                all.entry(key).or_default().push(value);
            }
        }
        let lock = if asked.is_locked { " FOR UPDATE" } else { "" };
        let sql = format!("{}{lock}", dialect.select(&self.table, columns, asked.which));
        let mut accounts = Rows::new(self.describe(), &self.table, columns, sides, states);
        let mut rows = session.conn.exec_iter(sql, ()).await.map_err(|error| self.refused(error))?;
        if let Some(mut stream) = rows.stream::<Row>().await.map_err(|error| self.refused(error))? {
            while let Some(row) = stream.next().await {
                let row = row.map_err(|error| self.refused(error))?;
                let text = |at: usize| match row.as_ref(at) {
                    Some(mysql_async::Value::Bytes(bytes)) => Some(String::from_utf8_lossy(bytes)),
                    _ => None,
                };
                accounts.add(|at| text(at).map(Cow::into_owned).map(Cow::Owned))?;
            }
        }
        rows.drop_result().await.map_err(|error| self.refused(error))?;
        Ok(if asked.which == Which::Removed { accounts.all() } else { accounts.finish()? })
    }

    /// The rows that are marked as removed, if an edit may bring one back.
    async fn removed(
        &self,
        session: &mut Session,
        described: &Described,
        edits: &[Edit],
    ) -> Result<Vec<Account>, StoreError> {
        let is_needed = self.table.removed.is_some() && edits.iter().any(|edit| edit.before.is_none());
        let removed = Asked { which: Which::Removed, ..Asked::ALL };
        if is_needed { self.read(session, described, &[], removed).await } else { Ok(Vec::new()) }
    }

    /// Makes the edits that are ready, in one transaction; returns their outcomes.
    async fn change(&self, edits: &RowEdits, terms: &Terms) -> Result<Vec<(usize, Outcome)>, StoreError> {
        let (mut session, described) = self.open().await?;
        // Nobody else can write the rows that are read from here on, nor add any to a list read as a whole.
        session.run("START TRANSACTION").await?;
        let fields = &terms.fields;
        let logins = edits.logins(terms).filter(|logins| logins.len() <= LOGINS);
        let whole = Asked { is_locked: true, ..Asked::ALL };
        let asked = match &logins {
            Some(logins) => Asked { which: Which::OfLogins, passed: logins, is_locked: true },
            None => whole,
        };
        let mut accounts = self.read(&mut session, &described, fields, asked).await?;
        if logins.is_some() && !edits.are_of(&accounts) {
            accounts = self.read(&mut session, &described, fields, whole).await?;
        }
        let (edits, standings) = edits.standings(&accounts, terms);
        let plan = Plan::of_standings(&edits, &accounts, standings, &terms.unique);
        let removed = self.removed(&mut session, &described, &edits).await?;
        let mut made = Made::new(Begun(&mut session.conn), terms.stop_after);
        let mut writer =
            Writer::new(&self.table, &described.columns, &described.dialect, terms).with_removed(removed);
        for (edits, statements) in writer.units(&plan) {
            made.add(edits, statements).await.map_err(|error| self.refused(error))?;
            if made.is_over() {
                break;
            }
        }
        made.flush().await.map_err(|error| self.refused(error))?;
        let mut outcomes = std::mem::take(&mut made.outcomes);
        drop(made);
        outcomes.extend(plan.left_out());
        let new = terms.made.logins(&edits);
        if !new.is_empty() {
            let asked = match new.len() <= LOGINS {
                true => Asked { which: Which::OfLogins, passed: &new, is_locked: false },
                false => Asked::ALL,
            };
            let list = self.read(&mut session, &described, fields, asked).await?;
            if terms.made.tell(&edits, &outcomes, list).is_break() {
                return Ok(Vec::new());
            }
        }
        session.run("COMMIT").await?;
        crash::point();
        session.end().await;
        Ok(outcomes)
    }

    /// The statements that make the edits.
    async fn script(&self, edits: &RowEdits, terms: &Terms) -> Result<String, StoreError> {
        let (mut session, described) = self.open().await?;
        let accounts = self.read(&mut session, &described, &terms.fields, Asked::ALL).await?;
        let (edits, standings) = edits.standings(&accounts, terms);
        let plan = Plan::of_standings(&edits, &accounts, standings, &terms.unique);
        let removed = self.removed(&mut session, &described, &edits).await?;
        session.end().await;
        let writer = Writer::new(&self.table, &described.columns, &described.dialect, terms);
        Ok(writer.with_removed(removed).script(&plan))
    }

    /// Every row.
    async fn rows(&self, fields: &[String]) -> Result<Vec<Account>, StoreError> {
        let (mut session, described) = self.open().await?;
        let accounts = self.read(&mut session, &described, fields, Asked::ALL).await?;
        session.end().await;
        Ok(accounts)
    }
}

impl AccountStore for MysqlStore {
    fn describe(&self) -> String {
        format!("{} at {} ({})", self.server.database, self.server.host, self.table.name)
    }

    fn place(&self) -> String {
        let DatabaseServer { host, port, database, .. } = &self.server;
        format!("mysql {host}:{port} {database} ({})", self.table.name)
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
            let (mut session, described) = self.open().await?;
            let links = [link.as_str()];
            let asked = Asked { which: Which::OfLinks, passed: &links, is_locked: false };
            let found = self.read(&mut session, &described, &fields, asked).await;
            session.end().await;
            // The list tells the fault.
            Ok(found.ok())
        })
    }

    fn is_writable(&self) -> StoreFuture<'_, bool> {
        Box::pin(async {
            let (mut session, described) = self.open().await?;
            let (table, login) =
                (&described.dialect.table, crate::sql_names::quoted(self.table.column("login")));
            // The plan of a change needs the right to make it.
            for sql in [
                format!("EXPLAIN UPDATE {table} SET {login} = {login} WHERE 1 = 0"),
                format!("EXPLAIN DELETE FROM {table} WHERE 1 = 0"),
                format!("EXPLAIN INSERT INTO {table} ({login}) VALUES (NULL)"),
            ] {
                match session.conn.query_drop(&sql).await {
                    Ok(()) => {}
                    // ER_TABLEACCESS_DENIED_ERROR, ER_COLUMNACCESS_DENIED_ERROR, ER_NON_UPDATABLE_TABLE, ER_NON_INSERTABLE_TABLE.
                    Err(mysql_async::Error::Server(said))
                        if [1142, 1143, 1288, 1471].contains(&said.code) =>
                    {
                        return Ok(false);
                    }
                    Err(mysql_async::Error::Server(_)) => {}
                    Err(error) => return Err(self.refused(error)),
                }
            }
            let readonly: Vec<u64> = session.rows("SELECT @@global.read_only", ()).await?;
            session.end().await;
            Ok(readonly.first() == Some(&0))
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
            Ok(Some(format!("-- {}\n{ASSUMES}{SCRIPT}{}COMMIT;\n", plain(&self.describe()), parts.concat())))
        })
    }

    fn is_asked(&self) -> bool {
        true
    }

    fn may_create(&self, fields: Arc<[String]>) -> StoreFuture<'_, ()> {
        Box::pin(async move {
            let (mut session, described) = self.open().await?;
            catalog::may_create(&mut session, &described, &self.table, &fields).await
        })
    }

    fn replies(&self, inquiry: Inquiry) -> StoreFuture<'_, Replies> {
        Box::pin(async move {
            let (mut session, described) = self.open().await?;
            let mut replies = forms::forms(&mut session, &described, &inquiry).await?;
            replies.dependents = catalog::dependents(&mut session, &described, &self.table, &inquiry).await?;
            session.end().await;
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

impl GroupStore for MysqlStore {
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
