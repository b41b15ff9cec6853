//! The application's list as a table of an SQLite database: read as it is, changed in one transaction.

use super::sql::{Bound, Column, Dialect, Statement, account, complete, hex, in_turn, once, quoted};
use super::{AccountStore, Answer, Outcome, Record, StoreError, StoreErrorKind, Terms};
use crate::crash;
use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::{Connection, OpenFlags, Row, ToSql, TransactionBehavior, params_from_iter};
use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::time::Duration;
use webtaxon_core::account::Account;
use webtaxon_core::apply::{Edit, Standing, order, standings};
use webtaxon_core::settings::SqlTable;

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

    fn refused(&self, reason: &rusqlite::Error) -> StoreError {
        StoreErrorKind::Database { store: self.describe(), reason: reason.to_string() }.into()
    }

    /// Opens the database; nothing is written unless something is to be changed, but for what another
    /// program was cut off in, which SQLite takes back first.
    fn open(&self) -> Result<Connection, StoreError> {
        // Looked at first: SQLite would say of a missing file only that it cannot open it.
        if let Err(reason) = std::fs::File::open(&self.file) {
            return Err(StoreErrorKind::Unreadable { file: self.file.clone(), reason }.into());
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let opened = Connection::open_with_flags(&self.file, flags).and_then(|db| {
            db.busy_timeout(Duration::from_secs(10))?;
            db.execute_batch("PRAGMA foreign_keys = ON; PRAGMA synchronous = FULL;")?;
            Ok(db)
        });
        opened.map_err(|error| self.refused(&error))
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
        let columns = describe().map_err(|error| self.refused(&error))?;
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
            true => "the database has no table at all; is it the right file?".to_owned(),
            false => format!("`table` in [accounts] names it; there are {}", names.join(", ")),
        };
        StoreErrorKind::NoTable { store: self.describe(), table: self.table.name.clone(), help }.into()
    }

    /// Every account, one row at a time.
    fn read(&self, db: &Connection, columns: &[Column], fields: &[&str]) -> Result<Vec<Account>, StoreError> {
        complete(&self.describe(), &self.table, columns, fields)?;
        let roles = self.roles(db).map_err(|error| self.refused(&error))?;
        let names: Vec<String> = columns.iter().map(|column| quoted(&column.name)).collect();
        let sql = format!("SELECT {} FROM {}", names.join(", "), quoted(&self.table.name));
        let mut query = db.prepare(&sql).map_err(|error| self.refused(&error))?;
        let mut rows = query.query([]).map_err(|error| self.refused(&error))?;
        let mut accounts: Vec<Account> = Vec::new();
        let (mut logins, mut links) = (HashSet::new(), HashSet::new());
        while let Some(row) = rows.next().map_err(|error| self.refused(&error))? {
            let values = (0..columns.len()).map(|at| shown(row, at)).collect::<rusqlite::Result<_>>();
            let values = values.map_err(|error| self.refused(&error))?;
            let one = account(&self.describe(), &self.table, columns, values, roles.as_ref())?;
            once(&self.describe(), &one, &mut logins, &mut links)?;
            accounts.push(one);
        }
        Ok(accounts)
    }

    /// The roles by the key of their account, in the order in which they were given.
    fn roles(&self, db: &Connection) -> rusqlite::Result<Option<HashMap<String, Vec<String>>>> {
        let Some(table) = &self.table.roles else { return Ok(None) };
        let names = [&table.account, &table.role].map(|name| quoted(name));
        let sql = format!("SELECT {} FROM {}", names.join(", "), quoted(&table.name));
        let mut query = db.prepare(&sql)?;
        let mut rows = query.query([])?;
        let mut roles: HashMap<String, Vec<String>> = HashMap::new();
        while let Some(row) = rows.next()? {
            if let (Some(key), Some(role)) = (shown(row, 0)?, shown(row, 1)?) {
                roles.entry(key).or_default().push(role);
            }
        }
        Ok(Some(roles))
    }

    /// Makes the edits that hold, in one transaction; what became of each.
    fn change(&self, edits: &[Edit], terms: &Terms<'_>) -> Result<Vec<(usize, Outcome)>, StoreError> {
        let mut db = self.open()?;
        // Nobody else writes from here on, so that what is looked at is what is changed.
        let change = db.transaction_with_behavior(TransactionBehavior::Immediate);
        let change = change.map_err(|error| self.refused(&error))?;
        let columns = self.columns(&change)?;
        let accounts = self.read(&change, &columns, terms.fields)?;
        let dialect = Dialect { table: quoted(&self.table.name), mark: '?', ..Dialect::default() };
        let standings = standings(edits, &accounts, terms.unique);
        let mut outcomes: Vec<(usize, Outcome)> = Vec::with_capacity(edits.len());
        let mut failed = 0;
        for group in order(edits, &standings, &accounts) {
            let group: Vec<(usize, &Edit, Option<&Account>)> = group
                .into_iter()
                .filter_map(|place| match standings.get(place)? {
                    Standing::Ready(at) => {
                        Some((place, edits.get(place)?, at.and_then(|at| accounts.get(at))))
                    }
                    _ => None,
                })
                .collect();
            let list: Vec<_> = group.iter().map(|(_, edit, there)| (*edit, *there)).collect();
            let made = self.make(&change, &in_turn(&self.table, &columns, &dialect, &list));
            let made = made.map_err(|error| self.refused(&error))?;
            failed += if matches!(made, Outcome::Failed(_)) { group.len() } else { 0 };
            outcomes.extend(group.iter().map(|(place, ..)| (*place, made.clone())));
            crash::point();
            if terms.stop_after.is_some_and(|most| failed >= most) {
                break;
            }
        }
        let not_ready = standings.into_iter().enumerate().filter(|(_, standing)| !standing.is_ready());
        outcomes.extend(not_ready.map(|(place, standing)| (place, Outcome::from(standing))));
        change.commit().map_err(|error| self.refused(&error))?;
        crash::point();
        Ok(outcomes)
    }

    /// Makes one edit, or a ring of them, wholly or not at all.
    fn make(&self, db: &Connection, statements: &[Statement]) -> rusqlite::Result<Outcome> {
        db.execute_batch("SAVEPOINT edit")?;
        let refused = statements.iter().find_map(|statement| {
            let run = || db.prepare_cached(&statement.text)?.execute(params_from_iter(&statement.values));
            match run() {
                Ok(rows) if rows == 1 || !statement.is_one => None,
                Ok(rows) => Some(format!("{rows} rows would change in place of one")),
                Err(error) => Some(error.to_string()),
            }
        });
        match refused {
            None => db.execute_batch("RELEASE edit").map(|()| Outcome::Done),
            Some(reason) => {
                db.execute_batch("ROLLBACK TO edit; RELEASE edit").map(|()| Outcome::Failed(reason))
            }
        }
    }
}

/// A value as text, without loss; none for null.
fn shown(row: &Row<'_>, at: usize) -> rusqlite::Result<Option<String>> {
    Ok(match row.get_ref(at)? {
        ValueRef::Null => None,
        ValueRef::Integer(number) => Some(number.to_string()),
        ValueRef::Real(number) => Some(number.to_string()),
        ValueRef::Text(text) => Some(String::from_utf8_lossy(text).into_owned()),
        ValueRef::Blob(bytes) => Some(hex(bytes)),
    })
}

impl AccountStore for SqliteStore {
    fn describe(&self) -> String {
        format!("{} ({})", self.file.display(), self.table.name)
    }

    fn place(&self) -> String {
        let file = self.file.canonicalize().unwrap_or_else(|_| self.file.clone());
        format!("{} ({})", file.display(), self.table.name)
    }

    fn accounts<'a>(&'a self, fields: &'a [&'a str]) -> Answer<'a, Vec<Account>> {
        Box::pin(async {
            let db = self.open()?;
            self.read(&db, &self.columns(&db)?, fields)
        })
    }

    fn is_writable(&self) -> Answer<'_, bool> {
        Box::pin(async {
            let db = self.open()?;
            Ok(!db.is_readonly("main").map_err(|error| self.refused(&error))?)
        })
    }

    fn carry_out<'a>(
        &'a self,
        edits: &'a [Edit],
        terms: &'a Terms<'a>,
        record: Record<'a>,
    ) -> Answer<'a, ()> {
        Box::pin(async move {
            for (at, outcome) in self.change(edits, terms)? {
                record(at, outcome);
            }
            Ok(())
        })
    }
}
