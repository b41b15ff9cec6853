//! Accounts in a table of an SQLite database: read as they are, changed in one transaction.

use super::groups::{MEMBERS, as_edits, group};
use super::sql::{Bound, Column, Dialect, Rows, Statement, Writer, are_all, complete, concerned, marked};
use super::{AccountStore, GroupStore, Recorder, StoreError, StoreErrorKind, StoreFuture, Terms};
use crate::crash;
use crate::sql_names::quoted;
use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::{Connection, OpenFlags, Row, ToSql, TransactionBehavior, params_from_iter};
use std::borrow::Cow;
use std::collections::HashMap;
use std::path::PathBuf;
use std::time::Duration;
use webtaxon_core::account::{Account, Groups};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome, Standing, standings};
use webtaxon_core::settings::SqlTable;

/// Maximum edits under one savepoint.
const BATCH: usize = 1000;

/// A table of an SQLite database.
#[derive(Debug)]
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
        fields: &[&str],
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
    fn change(&self, edits: &[Edit], terms: &Terms<'_>) -> Result<Vec<(usize, Outcome)>, StoreError> {
        let plan = |accounts: &[Account]| (Cow::Borrowed(edits), standings(edits, accounts, terms.unique));
        self.change_by(plan, concerned(edits, terms.unique).map(|logins| (logins, edits)), terms)
    }

    /// Makes the edits that `plan` finds ready, in one transaction; it sees the rows with these logins, or all.
    fn change_by<'e>(
        &self,
        plan: impl FnOnce(&[Account]) -> (Cow<'e, [Edit]>, Vec<Standing>),
        alone: Option<(Vec<&str>, &[Edit])>,
        terms: &Terms<'_>,
    ) -> Result<Vec<(usize, Outcome)>, StoreError> {
        let fields = if self.table.states.is_some() { terms.fields } else { &[MEMBERS] };
        let mut db = self.open()?;
        // Nobody else can write from here on, so that the rows seen are the rows changed.
        let change = db.transaction_with_behavior(TransactionBehavior::Immediate);
        let change = change.map_err(|error| self.refused(error))?;
        let columns = self.columns(&change)?;
        let logins = alone.as_ref().map(|(logins, _)| logins.as_slice());
        let mut accounts = self.read(&change, &columns, fields, logins)?;
        if alone.is_some_and(|(_, edits)| !are_all(&accounts, edits)) {
            accounts = self.read(&change, &columns, fields, None)?;
        }
        let dialect = self.dialect();
        let mut writer = Writer::new(&self.table, &columns, &dialect);
        let (edits, standings) = plan(&accounts);
        let mut made = Made { db: &change, waiting: Vec::new(), outcomes: Vec::new(), failed: 0, terms };
        for planned in writer.in_order(&edits, &standings, &accounts) {
            made.waiting.push(planned);
            if made.waiting.len() >= BATCH {
                made.flush().map_err(|error| self.refused(error))?;
            }
            if made.is_over() {
                break;
            }
        }
        made.flush().map_err(|error| self.refused(error))?;
        let mut outcomes = made.outcomes;
        let not_ready = standings.into_iter().enumerate().filter(|(_, standing)| !standing.is_ready());
        outcomes.extend(not_ready.map(|(place, standing)| (place, Outcome::from(standing))));
        change.commit().map_err(|error| self.refused(error))?;
        crash::point();
        Ok(outcomes)
    }
}

/// The edits of a transaction, many under one savepoint. If the database refuses one, the others are repeated one by
/// one, so that only that one is left out.
struct Made<'d> {
    db: &'d Connection,
    /// Groups of edits, by index, with their pending statements.
    waiting: Vec<(Vec<usize>, Vec<Statement>)>,
    outcomes: Vec<(usize, Outcome)>,
    failed: usize,
    terms: &'d Terms<'d>,
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

    fn accounts<'a>(&'a self, fields: &'a [&'a str]) -> StoreFuture<'a, Vec<Account>> {
        Box::pin(async {
            let db = self.open()?;
            self.read(&db, &self.columns(&db)?, fields, None)
        })
    }

    fn is_writable(&self) -> StoreFuture<'_, bool> {
        Box::pin(async {
            let db = self.open()?;
            Ok(!db.is_readonly("main").map_err(|error| self.refused(error))?)
        })
    }

    fn statements<'a>(&'a self, edits: &'a [Edit], terms: &'a Terms<'a>) -> StoreFuture<'a, Option<String>> {
        Box::pin(async {
            let db = self.open()?;
            let (columns, dialect) = (self.columns(&db)?, self.dialect());
            let accounts = self.read(&db, &columns, terms.fields, None)?;
            let writer = Writer::new(&self.table, &columns, &dialect);
            let standings = standings(edits, &accounts, terms.unique);
            Ok(Some(writer.script(edits, &standings, &accounts)))
        })
    }

    fn carry_out<'a>(
        &'a self,
        edits: &'a [Edit],
        terms: &'a Terms<'a>,
        record: Recorder<'a>,
    ) -> StoreFuture<'a, ()> {
        Box::pin(async move {
            for (at, outcome) in self.change(edits, terms)? {
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
        Box::pin(async {
            let (db, table) = (self.open()?, self.of_groups()?);
            let rows = table.read(&db, &table.columns(&db)?, &[MEMBERS], None)?;
            Ok(Groups { list: rows.iter().map(group).collect(), by_login: false })
        })
    }

    fn group_statements<'a>(&'a self, edits: &'a [GroupEdit]) -> StoreFuture<'a, Option<String>> {
        Box::pin(async {
            let (db, table) = (self.open()?, self.of_groups()?);
            let (columns, dialect) = (table.columns(&db)?, table.dialect());
            let rows = table.read(&db, &columns, &[MEMBERS], None)?;
            let (edits, standings) = as_edits(edits, &rows);
            Ok(Some(Writer::new(&table.table, &columns, &dialect).script(&edits, &standings, &rows)))
        })
    }

    fn carry_out_groups<'a>(
        &'a self,
        edits: &'a [GroupEdit],
        terms: &'a Terms<'a>,
        record: Recorder<'a>,
    ) -> StoreFuture<'a, ()> {
        Box::pin(async move {
            let plan = |rows: &[Account]| {
                let (edits, standings) = as_edits(edits, rows);
                (Cow::Owned(edits), standings)
            };
            for (at, outcome) in self.of_groups()?.change_by(plan, None, terms)? {
                let _ = record(at, outcome);
            }
            Ok(())
        })
    }
}
