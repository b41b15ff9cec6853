//! The state in a schema of a PostgreSQL database, for several hosts.
//!
//! The journal is written by synchronous callbacks of a store, so a thread of its own talks to the server, and
//! callers block until it answers.

use super::database::{Cell, NEWEST, StateDatabase, StateStore, Statement};
use super::{StateError, StateErrorKind};
use crate::box_error::BoxError;
use crate::crash;
use crate::postgres::{Unconnected, connect, in_words};
use crate::sql_names::quoted;
use futures_util::future::try_join_all;
use std::path::{Path, PathBuf};
use std::sync::mpsc;
use std::thread::JoinHandle;
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};
use tokio_postgres::types::{FromSql, IsNull, ToSql, Type, private::BytesMut, to_sql_checked};
use tokio_postgres::{Client, Error, Row};
use webtaxon_core::settings::StateDatabase as StateSettings;

/// Each step produces the next form.
const STEPS: [&str; NEWEST] = [
    r#"
CREATE TABLE form (number bigint NOT NULL);
INSERT INTO form VALUES (0);
CREATE TABLE holder (words text NOT NULL);
CREATE TABLE missed (link text COLLATE "C" PRIMARY KEY, since text NOT NULL);
CREATE TABLE known (link text COLLATE "C" PRIMARY KEY, login text NOT NULL);
CREATE TABLE applied (setting text COLLATE "C" PRIMARY KEY, says text NOT NULL);
CREATE TABLE run (
  run bigint PRIMARY KEY,
  begun text COLLATE "C" NOT NULL,
  ended text,
  who text NOT NULL,
  undoes bigint,
  settings text NOT NULL,
  store text NOT NULL,
  released text NOT NULL,
  backup text,
  ending text
);
CREATE TABLE edit (
  run bigint NOT NULL REFERENCES run ON DELETE CASCADE,
  place bigint NOT NULL,
  edit text NOT NULL,
  outcome text,
  reason text,
  PRIMARY KEY (run, place)
);
"#,
    r#"
CREATE TABLE kept (
  list text NOT NULL,
  link text COLLATE "C" NOT NULL,
  login text COLLATE "C" NOT NULL,
  PRIMARY KEY (list, link),
  UNIQUE (list, login)
);
"#,
    r#"
CREATE TABLE footprint (intake text COLLATE "C" PRIMARY KEY, says text NOT NULL);
CREATE TABLE fresh (link text COLLATE "C" PRIMARY KEY, server text NOT NULL, since text NOT NULL);
CREATE TABLE origin (link text COLLATE "C" PRIMARY KEY, directory text NOT NULL);
CREATE TABLE seal (key text COLLATE "C" PRIMARY KEY);
"#,
    r#"
CREATE TABLE habit (list text COLLATE "C" PRIMARY KEY, says text NOT NULL);
"#,
];

/// Rows sent to the server at once.
const BATCH: usize = 1000;

/// A request to the thread, with the sender for its answer.
enum Job {
    All(String, Vec<Cell>, mpsc::Sender<Result<Vec<Vec<Cell>>, String>>),
    Change(Vec<Statement>, mpsc::Sender<Result<(), String>>),
    Script(String, mpsc::Sender<Result<(), String>>),
}

/// The schema, which may not exist yet.
#[derive(Debug)]
pub(super) struct StateServer {
    pub(super) settings: StateSettings,
    /// The folder for relative paths in the settings.
    pub(super) folder: PathBuf,
}

impl StateStore for StateServer {
    fn describe(&self) -> String {
        super::database::in_words(&self.settings)
    }

    fn read(&self) -> Result<Option<Box<dyn StateDatabase>>, StateError> {
        Ok(Some(Box::new(OpenSchema::read(&self.settings, &self.folder)?)))
    }

    fn write(&self, who: &str) -> Result<Box<dyn StateDatabase>, StateError> {
        Ok(Box::new(OpenSchema::write(&self.settings, &self.folder, who)?))
    }
}

/// The open schema.
#[derive(Debug)]
struct OpenSchema {
    place: String,
    schema: String,
    jobs: Option<UnboundedSender<Job>>,
    thread: Option<JoinHandle<()>>,
}

impl OpenSchema {
    /// Connects for reading.
    fn read(state: &StateSettings, folder: &Path) -> Result<Self, StateError> {
        let place = super::database::in_words(state);
        let (jobs, asked) = unbounded_channel();
        let (opened, answer) = mpsc::channel();
        let (state, folder) = (state.clone(), folder.to_owned());
        let schema = state.schema.clone();
        let thread = std::thread::spawn(move || serve(&state, &folder, asked, &opened));
        let own = Self { place, schema, jobs: Some(jobs), thread: Some(thread) };
        match answer.recv() {
            Ok(Ok(())) => Ok(own),
            Ok(Err(Unconnected::NoSecret(reason))) => {
                let help = "`password` in [state] gives its source";
                Err(StateErrorKind::Server { place: own.place.clone(), source: reason.into(), help }.into())
            }
            Ok(Err(Unconnected::Refused(reason))) => Err(own.broken(reason.into())),
            Err(_) => Err(own.broken("the thread that talks to it has ended".into())),
        }
    }

    /// Connects for writing, creating the schema if needed; no other run can until it is closed.
    fn write(state: &StateSettings, folder: &Path, who: &str) -> Result<Self, StateError> {
        let own = Self::read(state, folder)?;
        if own
            .all("SELECT 1 FROM pg_namespace WHERE nspname = ?1", vec![own.schema.as_str().into()])?
            .is_empty()
        {
            own.script(format!("CREATE SCHEMA IF NOT EXISTS {}", quoted(&own.schema)))?;
        }
        // "Wtxn" with the schema's number. The lock ends with the connection, however that ends.
        let lock = "SELECT pg_try_advisory_lock((1467256942::bigint << 32) | oid::bigint)::int::bigint FROM pg_namespace WHERE nspname = ?1";
        let locked = own.all(lock, vec![own.schema.as_str().into()])?;
        if locked.first().and_then(|row| row.first()).and_then(Cell::int) != Some(1) {
            let words =
                if own.form()? > 0 { own.all("SELECT words FROM holder", Vec::new())? } else { Vec::new() };
            let holder = words.into_iter().next().and_then(|row| row.into_iter().next()?.text());
            let holder = holder.unwrap_or_else(|| "holder unknown".to_owned());
            return Err(StateErrorKind::Busy { holder }.into());
        }
        let mut own = own;
        if own.form()? == 0 {
            own.migrate(0)?;
        }
        let words = format!("{who}, process {}, since {:.0}", std::process::id(), jiff::Timestamp::now());
        own.change(vec![
            Statement::once("DELETE FROM holder", Vec::new()),
            Statement::once("INSERT INTO holder (words) VALUES (?1)", vec![words.into()]),
        ])?;
        Ok(own)
    }

    fn script(&self, text: String) -> Result<(), StateError> {
        self.ask(|answer| Job::Script(text, answer))
    }

    fn ask<T>(&self, job: impl FnOnce(mpsc::Sender<Result<T, String>>) -> Job) -> Result<T, StateError> {
        let (answer, answered) = mpsc::channel();
        let sent = self.jobs.as_ref().is_some_and(|jobs| jobs.send(job(answer)).is_ok());
        let ended = || Err("the connection has ended".to_owned());
        let answered = if sent { answered.recv().unwrap_or_else(|_| ended()) } else { ended() };
        answered.map_err(|reason| self.broken(reason.into()))
    }
}

impl Drop for OpenSchema {
    fn drop(&mut self) {
        // The lock is released before the caller continues.
        drop(self.jobs.take());
        let _ = self.thread.take().map(JoinHandle::join);
    }
}

impl StateDatabase for OpenSchema {
    fn place(&self) -> String {
        self.place.clone()
    }

    fn form(&self) -> Result<usize, StateError> {
        let tables = "SELECT tablename::text FROM pg_tables WHERE schemaname = ?1";
        let tables = self.all(tables, vec![self.schema.as_str().into()])?;
        if tables.is_empty() {
            return Ok(0);
        }
        if !tables.contains(&vec!["form".into()]) {
            return Err(self.broken("it has another program's tables".into()));
        }
        let form = self.all("SELECT number FROM form", Vec::new())?;
        let form = form.first().and_then(|row| row.first()).and_then(Cell::int);
        Ok(form.and_then(|form| usize::try_from(form).ok()).unwrap_or(usize::MAX))
    }

    fn migrate(&mut self, from: usize) -> Result<(), StateError> {
        let steps: String = STEPS.iter().skip(from).copied().collect();
        self.script(format!("BEGIN; {steps} UPDATE form SET number = {NEWEST}; COMMIT;"))
    }

    fn kind_of_edit(&self) -> &'static str {
        "edit::json ->> 'kind'"
    }

    fn all(&self, sql: &str, values: Vec<Cell>) -> Result<Vec<Vec<Cell>>, StateError> {
        self.ask(|answer| Job::All(numbered(sql), values, answer))
    }

    fn change(&mut self, statements: Vec<Statement>) -> Result<(), StateError> {
        self.ask(|answer| Job::Change(statements, answer))
    }

    fn broken(&self, source: BoxError) -> StateError {
        let help = "check that [state] gives the right database, that the server is running, and that the user may use and create tables in the schema, which no other program may use; nothing was changed";
        StateErrorKind::Server { place: self.place.clone(), source, help }.into()
    }
}

/// The thread: connects, reports success or failure, and answers until there are no more callers.
fn serve(
    state: &StateSettings,
    folder: &Path,
    mut asked: UnboundedReceiver<Job>,
    opened: &mpsc::Sender<Result<(), Unconnected>>,
) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = match runtime {
        Ok(runtime) => runtime,
        Err(error) => return drop(opened.send(Err(Unconnected::Refused(error.to_string())))),
    };
    runtime.block_on(async {
        let client = async {
            let client = connect(&state.server, folder).await?;
            // A host that lost power holds the lock for a minute, not for the system's default of hours.
            let ours = format!(
                "SET search_path TO {}; SET tcp_keepalives_idle = 30; SET tcp_keepalives_interval = 10; SET tcp_keepalives_count = 3",
                quoted(&state.schema)
            );
            client.batch_execute(&ours).await.map_err(|error| Unconnected::Refused(in_words(&error)))?;
            Ok(client)
        };
        let mut client = match client.await {
            Ok(client) => client,
            Err(error) => return drop(opened.send(Err(error))),
        };
        let _ = opened.send(Ok(()));
        while let Some(job) = asked.recv().await {
            let told = |error: Error| in_words(&error);
            match job {
                Job::All(sql, values, answer) => {
                    drop(answer.send(all(&client, &sql, &values).await.map_err(told)));
                }
                Job::Change(statements, answer) => {
                    drop(answer.send(change(&mut client, &statements).await.map_err(told)));
                }
                Job::Script(text, answer) => {
                    drop(answer.send(client.batch_execute(&text).await.map_err(told)));
                }
            }
        }
        let _ = client.batch_execute("SELECT pg_advisory_unlock_all()").await;
    });
}

async fn all(client: &Client, sql: &str, values: &[Cell]) -> Result<Vec<Vec<Cell>>, Error> {
    let rows = client.query(sql, &bound(values)).await?;
    let cells = |row: &Row| (0..row.len()).map(|at| row.try_get(at)).collect::<Result<Vec<Cell>, Error>>();
    rows.iter().map(cells).collect()
}

async fn change(client: &mut Client, statements: &[Statement]) -> Result<(), Error> {
    let change = client.transaction().await?;
    for statement in statements.iter().filter(|statement| !statement.rows.is_empty()) {
        let prepared = change.prepare(&numbered(statement.sql)).await?;
        for rows in statement.rows.chunks(BATCH) {
            let run = rows.iter().map(async |row| change.execute(&prepared, &bound(row)).await);
            try_join_all(run).await?;
        }
    }
    crash::point();
    let ended = change.commit().await;
    crash::point();
    ended
}

fn bound(values: &[Cell]) -> Vec<&(dyn ToSql + Sync)> {
    values.iter().map(|value| value as &(dyn ToSql + Sync)).collect()
}

/// A statement with PostgreSQL's placeholders.
fn numbered(sql: &str) -> String {
    sql.replace('?', "$")
}

impl ToSql for Cell {
    fn to_sql(
        &self,
        kind: &Type,
        out: &mut BytesMut,
    ) -> Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        match self {
            Self::Null => Ok(IsNull::Yes),
            Self::Int(number) => number.to_sql(kind, out),
            Self::Text(text) => text.to_sql(kind, out),
        }
    }

    fn accepts(_: &Type) -> bool {
        true
    }

    to_sql_checked!();
}

impl<'a> FromSql<'a> for Cell {
    fn from_sql(kind: &Type, raw: &'a [u8]) -> Result<Self, Box<dyn std::error::Error + Sync + Send>> {
        match *kind {
            Type::INT8 => i64::from_sql(kind, raw).map(Self::Int),
            Type::INT4 => i32::from_sql(kind, raw).map(|number| Self::Int(number.into())),
            _ => <&str>::from_sql(kind, raw).map(Self::from),
        }
    }

    fn from_sql_null(_: &Type) -> Result<Self, Box<dyn std::error::Error + Sync + Send>> {
        Ok(Self::Null)
    }

    fn accepts(_: &Type) -> bool {
        true
    }
}
