//! The list of accounts, in a table of the application's; all edits of an apply in one transaction.

use sqlite::{Connection, Value};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio::task::spawn_blocking;
use webtaxon::model::account::{Account, State};
use webtaxon::model::apply::{Edit, Outcome, Plan, Step};
use webtaxon::model::ldap::identity::Identity;
use webtaxon::store::{AccountStore, Recorder, StoreError, StoreErrorKind, StoreFuture, Terms};

/// What the field rules fill, beside login, link and state.
const FIELDS: [&str; 5] = ["name", "email", "department", "room", "roles"];

const TABLE: &str = "CREATE TABLE IF NOT EXISTS account (
    id INTEGER PRIMARY KEY, login TEXT UNIQUE NOT NULL, link TEXT UNIQUE, is_active INTEGER NOT NULL,
    name TEXT, email TEXT, department TEXT, room TEXT, roles TEXT)";

/// The table of accounts in a database file.
#[derive(Clone, Debug)]
pub struct Accounts {
    file: PathBuf,
}

impl Accounts {
    /// Makes the table, if there is none.
    pub fn open(file: &Path) -> sqlite::Result<Self> {
        let own = Self { file: file.to_owned() };
        own.connect()?.execute(TABLE)?;
        Ok(own)
    }

    fn connect(&self) -> sqlite::Result<Connection> {
        let mut db = sqlite::open(&self.file)?;
        db.set_busy_timeout(10_000)?;
        Ok(db)
    }

    fn failed(&self, error: sqlite::Error) -> StoreError {
        StoreErrorKind::Own { store: self.describe(), source: error.into() }.into()
    }

    /// Makes all edits that can still be made, or none.
    fn make(&self, edits: &[Edit], unique: &[String]) -> sqlite::Result<Vec<(usize, Outcome)>> {
        let db = self.connect()?;
        db.execute("BEGIN IMMEDIATE")?;
        let (ids, list): (Vec<i64>, Vec<Account>) = rows(&db)?.into_iter().unzip();
        let plan = Plan::of(edits, &list, unique);
        let id = |at: usize| ids.get(at).copied().unwrap_or_default().into();
        for step in plan.units().flat_map(|unit| unit.steps) {
            match step {
                Step::Insert { account } => insert(&db, account)?,
                Step::Delete { at } => run(&db, "DELETE FROM account WHERE id = ?1", [id(at)])?,
                Step::PutAside { at, field: "login" } => {
                    run(&db, "UPDATE account SET login = 'aside ' || id WHERE id = ?1", [id(at)])?;
                }
                Step::PutAside { at, field } => set(&db, id(at), field, None)?,
                Step::Update { at, set: fields } => {
                    for (field, value) in fields {
                        set(&db, id(at), field, value)?;
                    }
                }
            }
        }
        db.execute("COMMIT")?;
        Ok(plan.outcomes().collect())
    }

    /// Does work on another thread, since SQLite blocks.
    fn work<T: Send + 'static>(
        &self,
        work: impl FnOnce(&Self) -> Result<T, StoreError> + Send + 'static,
    ) -> StoreFuture<'_, T> {
        let own = self.clone();
        let failed = |error| StoreErrorKind::Own { store: self.describe(), source: Box::new(error) };
        Box::pin(async move { spawn_blocking(move || work(&own)).await.map_err(failed)? })
    }
}

impl AccountStore for Accounts {
    fn describe(&self) -> String {
        format!("the accounts in {}", self.file.display())
    }

    fn accounts(&self, fields: Arc<[String]>) -> StoreFuture<'_, Vec<Account>> {
        self.work(move |own| {
            if let Some(other) = fields.iter().find(|field| *field != "login" && column(field).is_none()) {
                let source = format!("there is no column for the field {other}").into();
                return Err(StoreErrorKind::Own { store: own.describe(), source }.into());
            }
            let rows = own.connect().and_then(|db| rows(&db)).map_err(|error| own.failed(error))?;
            Ok(rows.into_iter().map(|(_, account)| account).collect())
        })
    }

    fn carry_out(&self, edits: Arc<[Edit]>, terms: Terms, mut record: Recorder) -> StoreFuture<'_, ()> {
        self.work(move |own| {
            let outcomes = own.make(&edits, &terms.unique).map_err(|error| own.failed(error))?;
            // Recorded once it is durable, and not before.
            for (at, outcome) in outcomes {
                if record(at, outcome).is_break() {
                    break;
                }
            }
            Ok(())
        })
    }
}

/// The column of a field.
fn column(field: &str) -> Option<&'static str> {
    match field {
        "login" => Some("login"),
        "link" => Some("link"),
        "state" => Some("is_active"),
        other => FIELDS.into_iter().find(|name| *name == other),
    }
}

fn set(db: &Connection, id: Value, field: &str, value: Option<&str>) -> sqlite::Result<()> {
    let Some(column) = column(field) else { return Ok(()) };
    let value = match field {
        "state" => i64::from(value == Some("active")).into(),
        _ => text(value),
    };
    run(db, &format!("UPDATE account SET {column} = ?1 WHERE id = ?2"), [value, id])
}

fn insert(db: &Connection, account: &Account) -> sqlite::Result<()> {
    let own = [text(account.get("login")), i64::from(account.state == State::Active).into()];
    run(db, "INSERT INTO account (login, is_active) VALUES (?1, ?2)", own)?;
    let mut id = db.prepare("SELECT last_insert_rowid()")?.into_iter();
    let id = id.next().transpose()?.map_or(0, |row| row.read::<i64, _>(0));
    for field in ["link"].into_iter().chain(FIELDS) {
        set(db, id.into(), field, account.get(field))?;
    }
    Ok(())
}

fn rows(db: &Connection) -> sqlite::Result<Vec<(i64, Account)>> {
    let sql = "SELECT id, login, link, is_active, name, email, department, room, roles FROM account";
    let mut rows = Vec::new();
    for row in db.prepare(sql)? {
        let row = row?;
        let said = |at: usize| row.read::<Option<&str>, _>(at);
        let fields =
            FIELDS.iter().enumerate().filter_map(|(at, name)| Some(((*name).into(), said(at + 4)?.into())));
        let is_active = row.read::<i64, _>(3) != 0;
        let account = Account {
            login: said(1).unwrap_or_default().to_owned(),
            link: said(2).and_then(Identity::from_link),
            state: if is_active { State::Active } else { State::Suspended },
            fields: fields.collect(),
        };
        rows.push((row.read::<i64, _>(0), account));
    }
    Ok(rows)
}

/// A text, or nothing.
fn text(text: Option<&str>) -> Value {
    text.map_or(Value::Null, |text| Value::String(text.to_owned()))
}

fn run<const N: usize>(db: &Connection, sql: &str, values: [Value; N]) -> sqlite::Result<()> {
    let mut statement = db.prepare(sql)?;
    statement
        .bind(&values.into_iter().enumerate().map(|(at, value)| (at + 1, value)).collect::<Vec<_>>()[..])?;
    while statement.next()? == sqlite::State::Row {}
    Ok(())
}
