//! The list of accounts, in a table of the application's; all edits of an apply in one transaction.

use sqlite::{Connection, Value};
use std::path::{Path, PathBuf};
use webtaxon::model::account::{Account, State};
use webtaxon::model::apply::{Edit, Outcome, Standing, standings};
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

    /// All edits that still hold, or none.
    fn make(&self, edits: &[Edit], unique: &[&str]) -> sqlite::Result<Vec<Standing>> {
        let db = self.connect()?;
        db.execute("BEGIN IMMEDIATE")?;
        let (ids, list): (Vec<i64>, Vec<Account>) = rows(&db)?.into_iter().unzip();
        let standings = standings(edits, &list, unique);
        let ready = || {
            edits.iter().zip(&standings).filter_map(|(edit, standing)| match standing {
                Standing::Ready(at) => Some((edit, at.and_then(|at| ids.get(at).copied()))),
                _ => None,
            })
        };
        // Two accounts may exchange their logins: whoever changes gives the old one back first.
        for (edit, id) in ready() {
            match (id, &edit.after) {
                (Some(id), None) => run(&db, "DELETE FROM account WHERE id = ?1", [id.into()])?,
                (Some(id), Some(_)) => {
                    run(
                        &db,
                        "UPDATE account SET login = 'aside ' || id, link = NULL WHERE id = ?1",
                        [id.into()],
                    )?;
                }
                (None, _) => {}
            }
        }
        for (edit, id) in ready() {
            let Some(after) = &edit.after else { continue };
            let link = after.link.as_ref().map(ToString::to_string);
            let own = [
                text(Some(&after.login)),
                text(link.as_deref()),
                i64::from(after.state == State::Active).into(),
            ];
            let id = match id {
                Some(id) => id,
                None => {
                    let [login, link, is_active] = own.clone();
                    run(
                        &db,
                        "INSERT INTO account (login, link, is_active) VALUES (?1, ?2, ?3)",
                        [login, link, is_active],
                    )?;
                    let id = "SELECT id FROM account WHERE login = ?1";
                    let mut found = db.prepare(id)?.into_iter().bind((1, after.login.as_str()))?;
                    found.next().transpose()?.map_or(0, |row| row.read::<i64, _>(0))
                }
            };
            let [login, link, is_active] = own;
            let sql = "UPDATE account SET login = ?1, link = ?2, is_active = ?3 WHERE id = ?4";
            run(&db, sql, [login, link, is_active, id.into()])?;
            for field in edit.fields().keys().filter_map(|name| FIELDS.iter().find(|field| *field == name)) {
                let sql = format!("UPDATE account SET {field} = ?1 WHERE id = ?2");
                run(&db, &sql, [text(after.fields.get(field).map(|value| &**value)), id.into()])?;
            }
        }
        db.execute("COMMIT")?;
        Ok(standings)
    }
}

impl AccountStore for Accounts {
    fn describe(&self) -> String {
        format!("the accounts in {}", self.file.display())
    }

    fn accounts<'a>(&'a self, fields: &'a [&'a str]) -> StoreFuture<'a, Vec<Account>> {
        Box::pin(async move {
            if let Some(other) = fields.iter().find(|field| **field != "login" && !FIELDS.contains(field)) {
                let source = format!("there is no column for the field {other}").into();
                return Err(StoreErrorKind::Own { store: self.describe(), source }.into());
            }
            let rows = self.connect().and_then(|db| rows(&db)).map_err(|error| self.failed(error))?;
            Ok(rows.into_iter().map(|(_, account)| account).collect())
        })
    }

    fn carry_out<'a>(
        &'a self,
        edits: &'a [Edit],
        terms: &'a Terms<'a>,
        record: Recorder<'a>,
    ) -> StoreFuture<'a, ()> {
        Box::pin(async move {
            let standings = self.make(edits, terms.unique).map_err(|error| self.failed(error))?;
            // Told once it is lasting, and not before.
            for (at, standing) in standings.into_iter().enumerate() {
                if record(at, Outcome::from(standing)).is_break() {
                    break;
                }
            }
            Ok(())
        })
    }
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
