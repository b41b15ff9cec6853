//! Accounts in a table of an SQLite database: read as they are, changed in one transaction.

mod describe;
mod forms;
mod value;

use super::groups::group;
use super::sql::{ASSUMES, RowEdits, Rows, Sides, Statement, Which, Writer, complete, plain};
use super::{AccountStore, GroupStore, Recorder, ScriptWork, StoreError, StoreErrorKind, StoreFuture, Terms};
use crate::{background, crash};
use describe::Described;
use rusqlite::{Connection, ErrorCode, OpenFlags, TransactionBehavior, params_from_iter};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use value::shown;
use webtaxon_core::account::{Account, Groups, Inquiry, Replies};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome, Plan};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::settings::SqlTable;

/// Maximum edits under one savepoint.
const BATCH: usize = 1000;

/// Time limit for a database locked by another program.
const BUSY: Duration = Duration::from_secs(10);

/// A table of an SQLite database.
#[derive(Clone, Debug)]
pub struct SqliteStore {
    file: PathBuf,
    table: SqlTable,
}

impl SqliteStore {
    /// The list in `table` of the database in `file`.
    #[must_use]
    pub fn new(file: PathBuf, table: SqlTable) -> Self {
        Self { file, table }
    }

    fn refused(&self, source: rusqlite::Error) -> StoreError {
        let store = self.describe();
        if matches!(source.sqlite_error_code(), Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked)) {
            return StoreErrorKind::Locked { store, seconds: BUSY.as_secs() }.into();
        }
        StoreErrorKind::Database { store, source: source.into() }.into()
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
            db.busy_timeout(BUSY)?;
            db.execute_batch("PRAGMA foreign_keys = ON; PRAGMA synchronous = FULL;")?;
            Ok(db)
        });
        opened.map_err(|error| self.refused(error))
    }

    fn describe_table(&self, db: &Connection) -> Result<Described, StoreError> {
        let described = describe::describe(db, &self.table).map_err(|error| self.refused(error))?;
        described.ok_or_else(|| self.no_table(db))
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

    /// The accounts of a query, one row at a time.
    fn read(
        &self,
        db: &Connection,
        described: &Described,
        fields: &[String],
        which: Which,
        passed: &[&str],
    ) -> Result<Vec<Account>, StoreError> {
        let Described { columns, dialect, .. } = described;
        complete(&self.describe(), &self.table, columns, fields)?;
        let refused = |error| self.refused(error);
        let passed = which.is_passed().then(|| serde_json::Value::from(passed).to_string());
        let mut sides = Sides::new();
        for (field, side) in &self.table.sides {
            let Some(form) = dialect.sides.get(field) else { continue };
            let sql = dialect.select_side(&self.table, (side, form), which, str::to_owned);
            let all = sides.entry(field.clone()).or_default();
            let mut query = db.prepare(&sql).map_err(refused)?;
            let mut rows = query.query(params_from_iter(&passed)).map_err(refused)?;
            while let Some(row) = rows.next().map_err(refused)? {
                if let (Some(key), Some(value)) = (shown(row, 0), shown(row, 1)) {
                    all.entry(key.into_owned()).or_default().push(value.into_owned());
                }
            }
        }
        let sql = dialect.select(&self.table, columns, which);
        let mut query = db.prepare(&sql).map_err(refused)?;
        let mut rows = query.query(params_from_iter(&passed)).map_err(refused)?;
        let mut accounts = Rows::new(self.describe(), &self.table, columns, sides, self.table.states.clone());
        while let Some(row) = rows.next().map_err(refused)? {
            accounts.add(|at| shown(row, at))?;
        }
        Ok(if which == Which::Removed { accounts.all() } else { accounts.finish()? })
    }

    /// The rows that are marked as removed, if an edit may bring one back.
    fn removed(
        &self,
        db: &Connection,
        described: &Described,
        edits: &[Edit],
    ) -> Result<Vec<Account>, StoreError> {
        let is_needed = self.table.removed.is_some() && edits.iter().any(|edit| edit.before.is_none());
        if is_needed { self.read(db, described, &[], Which::Removed, &[]) } else { Ok(Vec::new()) }
    }

    fn writer<'w>(&'w self, described: &'w Described, terms: &'w Terms) -> Writer<'w> {
        Writer::new(&self.table, &described.columns, &described.dialect, terms)
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
        let described = self.describe_table(&change)?;
        let logins = edits.logins(terms);
        let which = if logins.is_some() { Which::OfLogins } else { Which::All };
        let of_logins = logins.as_deref().unwrap_or_default();
        let mut accounts = self.read(&change, &described, &terms.fields, which, of_logins)?;
        if logins.is_some() && !edits.are_of(&accounts) {
            accounts = self.read(&change, &described, &terms.fields, Which::All, &[])?;
        }
        let (edits, standings) = edits.standings(&accounts, terms);
        let plan = Plan::of_standings(&edits, &accounts, standings, &terms.unique);
        let removed = self.removed(&change, &described, &edits)?;
        let mut writer = self.writer(&described, terms).with_removed(removed);
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
        let new = terms.made.logins(&edits);
        if !new.is_empty() {
            let list = self.read(&change, &described, &terms.fields, Which::OfLogins, &new)?;
            if terms.made.tell(&edits, &outcomes, list).is_break() {
                return Ok(Vec::new());
            }
        }
        change.commit().map_err(|error| self.refused(error))?;
        crash::point();
        Ok(outcomes)
    }

    /// The statements that make the edits.
    fn script(&self, edits: &RowEdits, terms: &Terms) -> Result<String, StoreError> {
        let db = self.open()?;
        let described = self.describe_table(&db)?;
        let accounts = self.read(&db, &described, &terms.fields, Which::All, &[])?;
        let (edits, standings) = edits.standings(&accounts, terms);
        let plan = Plan::of_standings(&edits, &accounts, standings, &terms.unique);
        let removed = self.removed(&db, &described, &edits)?;
        Ok(self.writer(&described, terms).with_removed(removed).script(&plan))
    }

    /// Every row.
    fn rows(&self, fields: &[String]) -> Result<Vec<Account>, StoreError> {
        let db = self.open()?;
        self.read(&db, &self.describe_table(&db)?, fields, Which::All, &[])
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

    fn accounts_with_link(
        &self,
        fields: Arc<[String]>,
        link: Identity,
    ) -> StoreFuture<'_, Option<Vec<Account>>> {
        self.work(move |own| {
            let db = own.open()?;
            let described = own.describe_table(&db)?;
            let found = own.read(&db, &described, &fields, Which::OfLinks, &[link.as_str()]);
            // The list tells the fault.
            Ok(found.ok())
        })
    }

    fn is_writable(&self) -> StoreFuture<'_, bool> {
        self.work(|own| {
            let db = own.open()?;
            let described = own.describe_table(&db)?;
            let is_readonly = db.is_readonly("main").map_err(|error| own.refused(error))?;
            Ok(!is_readonly && described.is_writable)
        })
    }

    fn statements(&self, work: ScriptWork, terms: Terms) -> StoreFuture<'_, Option<String>> {
        self.work(move |own| {
            let mut parts = Vec::new();
            if !work.first.is_empty() {
                parts.push(own.of_groups()?.script(&RowEdits::Groups(work.first), &Terms::default())?);
            }
            parts.push(own.script(&RowEdits::Accounts(work.edits), &terms)?);
            if !work.last.is_empty() {
                parts.push(own.of_groups()?.script(&RowEdits::Groups(work.last), &Terms::default())?);
            }
            let script = format!(
                "-- {}\n{ASSUMES}PRAGMA foreign_keys = ON;\nBEGIN;\n{}COMMIT;\n",
                plain(&own.describe()),
                parts.concat()
            );
            Ok(Some(script))
        })
    }

    fn is_asked(&self) -> bool {
        true
    }

    fn may_create(&self, fields: Arc<[String]>) -> StoreFuture<'_, ()> {
        self.work(move |own| {
            let described = own.describe_table(&own.open()?)?;
            match described.columns.iter().find(|column| column.is_needed(&own.table, &fields)) {
                None => Ok(()),
                Some(column) => Err(column.needs_value(own.describe()).into()),
            }
        })
    }

    fn replies(&self, inquiry: Inquiry) -> StoreFuture<'_, Replies> {
        self.work(move |own| {
            let db = own.open()?;
            let described = own.describe_table(&db)?;
            let replies = forms::forms(&described.columns, &described.create, &inquiry);
            let mut replies = replies.map_err(|error| own.refused(error))?;
            let dependents = describe::dependents(&db, &own.table, &described.dialect, &inquiry);
            replies.dependents = dependents.map_err(|error| own.refused(error))?;
            Ok(replies)
        })
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
