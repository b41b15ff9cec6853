//! Accounts in a table of an SQLite database: read as they are, changed in one transaction.

use super::groups::group;
use super::sql::{Bound, Column, Dialect, RowEdits, Rows, Statement, Writer, complete, marked};
use super::{AccountStore, GroupStore, Recorder, StoreError, StoreErrorKind, StoreFuture, Terms};
use crate::sql_names::quoted;
use crate::{background, crash};
use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::{Connection, OpenFlags, Row, ToSql, TransactionBehavior, params_from_iter};
use std::borrow::Cow;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use webtaxon_core::account::{Account, Groups};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome, Plan};
use webtaxon_core::settings::SqlTable;

/// Maximum edits under one savepoint.
const BATCH: usize = 1000;

/// A table of an SQLite database.
#[derive(Clone, Debug)]
pub struct SqliteStore {
    file: PathBuf,
    table: SqlTable,
}

impl ToSql for Bound {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(match self {
            Bound::Null => ToSqlOutput::Owned(Value::Null),
            Bound::Text(text) => ToSqlOutput::Borrowed(ValueRef::Text(text.as_bytes())),
            Bound::Bytes(bytes) => ToSqlOutput::Borrowed(ValueRef::Blob(bytes)),
        })
    }
}

impl SqliteStore {
    /// The list in `table` of the database in `file`.
    #[must_use]
    pub fn new(file: PathBuf, table: SqlTable) -> Self {
        Self { file, table }
    }

    fn refused(&self, source: rusqlite::Error) -> StoreError {
        StoreErrorKind::Database { store: self.describe(), source: source.into() }.into()
    }

    /// Opens the database; nothing is written before a change, except that SQLite rolls back another program's
    /// interrupted transaction.
    fn open(&self) -> Result<Connection, StoreError> {
        // Checked first, since SQLite would only say that it cannot open the file.
        if let Err(source) = std::fs::File::open(&self.file) {
            return Err(StoreErrorKind::Unreadable { file: self.file.clone(), source }.into());
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let opened = Connection::open_with_flags(&self.file, flags).and_then(|db| {
            db.busy_timeout(Duration::from_secs(10))?;
            db.execute_batch("PRAGMA foreign_keys = ON; PRAGMA synchronous = FULL;")?;
            Ok(db)
        });
        opened.map_err(|error| self.refused(error))
    }

    fn columns(&self, db: &Connection) -> Result<Vec<Column>, StoreError> {
        let describe = || -> rusqlite::Result<Vec<Column>> {
            let sql = "SELECT name, type, \"notnull\", dflt_value, pk FROM pragma_table_info(?)";
            let mut query = db.prepare(sql)?;
            let rows = query.query_map([&self.table.name], |row| {
                let (kind, not_null): (String, bool) = (row.get(1)?, row.get(2)?);
                let (default, key): (Option<String>, i64) = (row.get(3)?, row.get(4)?);
                Ok(Column {
                    is_binary: kind.to_uppercase().contains("BLOB"),
                    may_be_null: !not_null,
                    has_default: default.is_some() || key > 0,
                    ..Column::new(&self.table, row.get(0)?)
                })
            })?;
            rows.collect()
        };
        let columns = describe().map_err(|error| self.refused(error))?;
        if columns.is_empty() {
            return Err(self.no_table(db));
        }
        Ok(columns)
    }

    fn no_table(&self, db: &Connection) -> StoreError {
        let names = || -> rusqlite::Result<Vec<String>> {
            let sql = "SELECT name FROM sqlite_schema WHERE type IN ('table', 'view') ORDER BY name";
            db.prepare(sql)?.query_map([], |row| row.get(0))?.collect()
        };
        let names = names().unwrap_or_default();
        let help = match names.is_empty() {
            true => "the database has no tables; is it the right file?".to_owned(),
            false => format!("`table` in {} names it; there are {}", self.table.place(), names.join(", ")),
        };
        StoreErrorKind::NoTable { store: self.describe(), table: self.table.name.clone(), help }.into()
    }

    /// All accounts, or those with these logins, one row at a time.
    fn read(
        &self,
        db: &Connection,
        columns: &[Column],
        fields: &[String],
        logins: Option<&[&str]>,
    ) -> Result<Vec<Account>, StoreError> {
        complete(&self.describe(), &self.table, columns, fields)?;
        let logins = logins.map(|logins| serde_json::Value::from(logins).to_string());
        let roles = self.roles(db, logins.as_deref()).map_err(|error| self.refused(error))?;
        let names: Vec<String> = columns.iter().map(|column| quoted(&column.name)).collect();
        let of = logins.as_ref().map(|_| self.of_logins()).unwrap_or_default();
        let sql = format!("SELECT {} FROM {}{of}", names.join(", "), quoted(&self.table.name));
        let mut query = db.prepare(&sql).map_err(|error| self.refused(error))?;
        let mut rows = query.query(params_from_iter(logins)).map_err(|error| self.refused(error))?;
        let mut accounts = Rows::new(self.describe(), &self.table, columns, roles);
        while let Some(row) = rows.next().map_err(|error| self.refused(error))? {
            accounts.add(|at| shown(row, at))?;
        }
        Ok(accounts.finish()?)
    }

    /// The condition for accounts whose logins are in a JSON list.
    fn of_logins(&self) -> String {
        format!(" WHERE {} IN (SELECT value FROM json_each(?1))", quoted(self.table.column("login")))
    }

    /// The roles by the key of their account, in the order of insertion.
    fn roles(
        &self,
        db: &Connection,
        logins: Option<&str>,
    ) -> rusqlite::Result<Option<HashMap<String, Vec<String>>>> {
        let Some(table) = &self.table.roles else { return Ok(None) };
        let [account, role] = [&table.account, &table.role].map(|name| quoted(name));
        let (role, join) = match &table.of {
            None => (role, String::new()),
            Some(of) => {
                let [table, key, name] = [&of.table, &of.key, &of.name].map(|name| quoted(name));
                let join = format!(" AS listed JOIN {table} AS whose ON whose.{key} = listed.{role}");
                (format!("whose.{name}"), join)
            }
        };
        let account = if table.of.is_some() { format!("listed.{account}") } else { account };
        let own = quoted(&self.table.name);
        let of = logins.map(|_| {
            let keys = format!("SELECT {} FROM {own}{}", quoted(&table.key), self.of_logins());
            format!(" WHERE {account} IN ({keys})")
        });
        let from = quoted(&table.name);
        let sql = format!("SELECT {account}, {role} FROM {from}{join}{}", of.unwrap_or_default());
        let mut query = db.prepare(&sql)?;
        let mut rows = query.query(params_from_iter(logins))?;
        let mut roles: HashMap<String, Vec<String>> = HashMap::new();
        while let Some(row) = rows.next()? {
            if let (Some(key), Some(role)) = (shown(row, 0), shown(row, 1)) {
                roles.entry(key.into_owned()).or_default().push(role.into_owned());
            }
        }
        Ok(Some(roles))
    }

    fn dialect(&self) -> Dialect {
        Dialect::new(&self.table.name, '?', quoted)
    }

    /// The table of the application's groups as a list.
    fn of_groups(&self) -> Result<Self, StoreError> {
        let none = || StoreErrorKind::NoGroups { store: self.describe() };
        Ok(Self { file: self.file.clone(), table: self.table.of_groups().ok_or_else(none)? })
    }

    /// Makes the edits that are ready, in one transaction; returns their outcomes.
    fn change(&self, edits: &RowEdits, terms: &Terms) -> Result<Vec<(usize, Outcome)>, StoreError> {
        let mut db = self.open()?;
        // Nobody else can write from here on, so that the rows seen are the rows changed.
        let change = db.transaction_with_behavior(TransactionBehavior::Immediate);
        let change = change.map_err(|error| self.refused(error))?;
        let columns = self.columns(&change)?;
        let logins = edits.logins(terms);
        let mut accounts = self.read(&change, &columns, &terms.fields, logins.as_deref())?;
        if logins.is_some() && !edits.are_of(&accounts) {
            accounts = self.read(&change, &columns, &terms.fields, None)?;
        }
        let dialect = self.dialect();
        let mut writer = Writer::new(&self.table, &columns, &dialect);
        let (edits, standings) = edits.standings(&accounts, terms);
        let plan = Plan::of_standings(&edits, &accounts, standings, &terms.unique);
        let mut made = Made { db: &change, waiting: Vec::new(), outcomes: Vec::new(), failed: 0, terms };
        for unit in writer.units(&plan) {
            made.waiting.push(unit);
            if made.waiting.len() >= BATCH {
                made.flush().map_err(|error| self.refused(error))?;
            }
            if made.is_over() {
                break;
            }
        }
        made.flush().map_err(|error| self.refused(error))?;
        let mut outcomes = made.outcomes;
        outcomes.extend(plan.left_out());
        change.commit().map_err(|error| self.refused(error))?;
        crash::point();
        Ok(outcomes)
    }

    /// The statements that make the edits, as a script.
    fn script(&self, edits: &RowEdits, terms: &Terms) -> Result<String, StoreError> {
        let db = self.open()?;
        let (columns, dialect) = (self.columns(&db)?, self.dialect());
        let accounts = self.read(&db, &columns, &terms.fields, None)?;
        let (edits, standings) = edits.standings(&accounts, terms);
        let plan = Plan::of_standings(&edits, &accounts, standings, &terms.unique);
        Ok(Writer::new(&self.table, &columns, &dialect).script(&plan))
    }

    /// Every row.
    fn rows(&self, fields: &[String]) -> Result<Vec<Account>, StoreError> {
        let db = self.open()?;
        self.read(&db, &self.columns(&db)?, fields, None)
    }

    /// Does work on another thread, since SQLite blocks.
    fn work<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Self) -> Result<T, StoreError> + Send + 'static,
    ) -> StoreFuture<'_, T> {
        let own = self.clone();
        Box::pin(background::run(move || work(&own)))
    }
}

/// The edits of a transaction, many under one savepoint. If the database refuses one, the others are repeated one by
/// one, so that only that one is left out.
struct Made<'d> {
    db: &'d Connection,
    /// The edits of each unit, with their pending statements.
    waiting: Vec<(Vec<usize>, Vec<Statement>)>,
    outcomes: Vec<(usize, Outcome)>,
    failed: usize,
    terms: &'d Terms,
}

impl Made<'_> {
    fn is_over(&self) -> bool {
        self.terms.stop_after.is_some_and(|most| self.failed >= most)
    }

    /// Runs everything queued.
    fn flush(&mut self) -> rusqlite::Result<()> {
        let waiting = std::mem::take(&mut self.waiting);
        if waiting.is_empty() || self.is_over() {
            return Ok(());
        }
        if self.within(waiting.iter().flat_map(|(_, statements)| statements))?.is_ok() {
            let done = waiting.iter().flat_map(|(places, _)| places);
            self.outcomes.extend(done.map(|place| (*place, Outcome::Done)));
            return Ok(());
        }
        for (places, statements) in waiting {
            let made = self.within(statements.iter())?;
            let outcome = made.map_or_else(Outcome::Failed, |()| Outcome::Done);
            self.failed += if matches!(outcome, Outcome::Failed(_)) { places.len() } else { 0 };
            self.outcomes.extend(places.into_iter().map(|place| (place, outcome.clone())));
            if self.is_over() {
                break;
            }
        }
        Ok(())
    }

    /// Runs statements completely or not at all; returns the database's message if not.
    fn within<'s>(
        &self,
        mut statements: impl Iterator<Item = &'s Statement>,
    ) -> rusqlite::Result<Result<(), String>> {
        self.db.execute_batch("SAVEPOINT edit")?;
        let refused = statements.find_map(|statement| {
            let run =
                || self.db.prepare_cached(&statement.text.one)?.execute(params_from_iter(&statement.values));
            crash::point();
            match run() {
                Ok(rows) if rows == 1 || !statement.is_one => None,
                Ok(rows) => Some(format!("{rows} rows would change in place of one")),
                Err(error) => Some(error.to_string()),
            }
        });
        self.db.execute_batch(match &refused {
            None => "RELEASE edit",
            Some(_) => "ROLLBACK TO edit; RELEASE edit",
        })?;
        Ok(refused.map_or(Ok(()), Err))
    }
}

/// A value as text, without loss; `None` for null, and for an unread column.
fn shown<'r>(row: &'r Row<'_>, at: usize) -> Option<Cow<'r, str>> {
    match row.get_ref(at).ok()? {
        ValueRef::Null => None,
        ValueRef::Integer(number) => Some(number.to_string().into()),
        ValueRef::Real(number) => Some(number.to_string().into()),
        ValueRef::Text(text) => Some(String::from_utf8_lossy(text)),
        ValueRef::Blob(bytes) => Some(marked(bytes).into()),
    }
}

impl AccountStore for SqliteStore {
    fn describe(&self) -> String {
        format!("{} ({})", self.file.display(), self.table.name)
    }

    fn place(&self) -> String {
        let file = self.file.canonicalize().unwrap_or_else(|_| self.file.clone());
        format!("{} ({})", file.display(), self.table.name)
    }

    fn accounts(&self, fields: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        self.work(move |own| own.rows(&fields))
    }

    fn is_writable(&self) -> StoreFuture<'_, bool> {
        self.work(|own| Ok(!own.open()?.is_readonly("main").map_err(|error| own.refused(error))?))
    }

    fn statements(&self, edits: Arc<[Edit]>, terms: Terms) -> StoreFuture<'_, Option<String>> {
        self.work(move |own| own.script(&RowEdits::Accounts(edits), &terms).map(Some))
    }

    fn carry_out(&self, edits: Arc<[Edit]>, terms: Terms, mut record: Recorder) -> StoreFuture<'_, ()> {
        self.work(move |own| {
            for (at, outcome) in own.change(&RowEdits::Accounts(edits), &terms)? {
                let _ = record(at, outcome);
            }
            Ok(())
        })
    }

    fn groups(&self) -> Option<&dyn GroupStore> {
        self.table.groups.is_some().then_some(self)
    }
}

impl GroupStore for SqliteStore {
    fn all_groups(&self) -> StoreFuture<'_, Groups> {
        self.work(|own| {
            let rows = own.of_groups()?.rows(&[])?;
            Ok(Groups { list: rows.iter().map(group).collect(), by_login: false })
        })
    }

    fn group_statements(&self, edits: Arc<[GroupEdit]>) -> StoreFuture<'_, Option<String>> {
        self.work(move |own| own.of_groups()?.script(&RowEdits::Groups(edits), &Terms::default()).map(Some))
    }

    fn carry_out_groups(
        &self,
        edits: Arc<[GroupEdit]>,
        terms: Terms,
        mut record: Recorder,
    ) -> StoreFuture<'_, ()> {
        self.work(move |own| {
            for (at, outcome) in own.of_groups()?.change(&RowEdits::Groups(edits), &terms)? {
                let _ = record(at, outcome);
            }
            Ok(())
        })
    }
}
