//! The journal: what each apply was to do, written before, and what became of it, written after.

use super::lock::{self, Lock};
use super::{StateError, StateErrorKind, file_of, schema, today};
use crate::crash;
use crate::store::Outcome;
use jiff::Timestamp;
use jiff::civil::Date;
use rusqlite::{Connection, OpenFlags, OptionalExtension as _, Row, params};
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;
use webtaxon_core::account::Account;
use webtaxon_core::apply::Edit;
use webtaxon_core::identity::Identity;
use webtaxon_core::preview::Memory;

/// How a run ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Ending {
    /// Every edit was looked at.
    Done,
    /// It stopped early: the store could not be written, or too many edits failed.
    Stopped,
    /// The program was cut off; a later one looked what had been done.
    Interrupted,
}

impl Ending {
    /// The word for it.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::Stopped => "stopped",
            Self::Interrupted => "interrupted",
        }
    }

    fn read(text: &str) -> Option<Self> {
        [Self::Done, Self::Stopped, Self::Interrupted].into_iter().find(|ending| ending.name() == text)
    }
}

/// One apply, as the journal has it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Run {
    /// Its number.
    pub run: i64,
    /// When it began.
    pub at: Timestamp,
    /// When it ended; none while it goes on, or if it was cut off and nobody has looked yet.
    pub ended: Option<Timestamp>,
    /// Who began it.
    pub who: String,
    /// The run that it took back, if it took one back.
    pub undoes: Option<i64>,
    /// The run that took this one back, if one did.
    pub undone: Option<i64>,
    /// The digest of its settings.
    pub settings: String,
    /// The list that it changed.
    pub store: String,
    /// The brakes that were released for it.
    pub released: Vec<String>,
    /// Where the accounts stand as they were before it.
    pub backup: Option<PathBuf>,
    /// How it ended.
    pub ending: Option<Ending>,
    /// How many edits there are of each kind, and of those that were not done, of each outcome.
    pub counts: BTreeMap<String, u64>,
}

/// One edit of a run, and what became of it; no outcome while that is not known.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Recorded {
    /// Its place in the run.
    pub place: usize,
    /// What was to be done.
    pub edit: Edit,
    /// What became of it.
    pub outcome: Option<Outcome>,
}

/// What a run begins with.
pub(crate) struct Begun<'a> {
    pub(crate) who: &'a str,
    pub(crate) undoes: Option<i64>,
    pub(crate) settings: &'a str,
    pub(crate) store: &'a str,
    pub(crate) released: &'a [String],
}

/// What is remembered for the next run; none for what stays as it was.
#[derive(Default)]
pub(crate) struct Remembered {
    pub(crate) missed: Option<BTreeMap<Identity, Date>>,
    pub(crate) known: Option<BTreeMap<Identity, String>>,
    pub(crate) applied: Option<BTreeMap<String, String>>,
    /// The links that are kept apart from the list.
    pub(crate) kept: Option<BTreeMap<Identity, String>>,
}

/// The file, open.
#[derive(Debug)]
pub struct Journal {
    db: Connection,
    file: PathBuf,
    _lock: Option<Lock>,
}

impl Journal {
    /// Opens the journal that belongs to a settings file, to be read; none if there is none yet.
    ///
    /// # Errors
    /// The file is there and cannot be read, is another program's, or of a newer version.
    pub fn read(settings: &Path) -> Result<Option<Self>, StateError> {
        let file = file_of(settings);
        if !file.exists() {
            return Ok(None);
        }
        // Not for reading alone: what a run that was cut off had begun to write is taken back first.
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let journal = Self::open(file, flags, None)?;
        // A file that was made and not yet filled is as good as none.
        Ok((journal.form()? > 0).then_some(journal))
    }

    /// Opens it to be written, and makes it if need be; nobody else can until it is closed.
    ///
    /// # Errors
    /// As [`Journal::read`]; it cannot be written; another apply has it.
    pub(crate) fn write(settings: &Path, who: &str) -> Result<Self, StateError> {
        let file = file_of(settings);
        let lock = lock::take(&file, who)?;
        #[cfg(unix)]
        {
            use std::os::unix::fs::OpenOptionsExt as _;
            // The accounts in it are for its owner's eyes only, from the first byte on.
            let mut options = std::fs::OpenOptions::new();
            let made = options.append(true).create(true).mode(0o600).open(&file);
            made.map_err(|error| broken(&file, &error))?;
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let mut journal = Self::open(file, flags, Some(lock))?;
        let form = journal.form()?;
        if form < schema::NEWEST {
            schema::migrate(&mut journal.db, form).map_err(|error| broken(&journal.file, &error))?;
        }
        Ok(journal)
    }

    fn open(file: PathBuf, flags: OpenFlags, lock: Option<Lock>) -> Result<Self, StateError> {
        let opened = Connection::open_with_flags(&file, flags).and_then(|db| {
            db.busy_timeout(Duration::from_secs(10))?;
            db.execute_batch("PRAGMA synchronous = FULL; PRAGMA foreign_keys = ON;")?;
            let ours = schema::is_ours(&db)?;
            Ok((db, ours))
        });
        let (db, ours) = opened.map_err(|error| broken(&file, &error))?;
        if !ours {
            return Err(broken(&file, &"it is another program's file").into());
        }
        Ok(Self { db, file, _lock: lock })
    }

    fn form(&self) -> Result<usize, StateError> {
        let found = schema::form(&self.db).map_err(|error| broken(&self.file, &error))?;
        match usize::try_from(found) {
            Ok(form) if form <= schema::NEWEST => Ok(form),
            _ => {
                let known = i64::try_from(schema::NEWEST).unwrap_or(i64::MAX);
                Err(StateErrorKind::Newer { file: self.file.clone(), found, known }.into())
            }
        }
    }

    fn all<T>(
        &self,
        sql: &str,
        by: impl rusqlite::Params,
        read: impl FnMut(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, StateError> {
        let rows = || -> rusqlite::Result<Vec<T>> { self.db.prepare(sql)?.query_map(by, read)?.collect() };
        rows().map_err(|error| broken(&self.file, &error).into())
    }

    fn change<T>(
        &mut self,
        work: impl FnOnce(&rusqlite::Transaction<'_>) -> rusqlite::Result<T>,
    ) -> Result<T, StateError> {
        let done = self.db.transaction().and_then(|change| {
            let made = work(&change)?;
            crash::point();
            change.commit()?;
            Ok(made)
        });
        crash::point();
        done.map_err(|error| broken(&self.file, &error).into())
    }

    /// What earlier runs left behind, on the day that it is.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn memory(&self) -> Result<Memory, StateError> {
        let pair = |row: &Row<'_>| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?));
        let missed = self.all("SELECT link, since FROM missed", [], pair)?;
        let known = self.all("SELECT link, login FROM known", [], pair)?;
        let applied = self.all("SELECT setting, says FROM applied", [], pair)?;
        let mut memory = Memory::on(today());
        for (link, since) in missed {
            let day = since.parse::<Date>().map_err(|error| broken(&self.file, &error))?;
            memory.missed.extend(Identity::from_link(&link).map(|link| (link, day)));
        }
        memory.known = known
            .into_iter()
            .filter_map(|(link, login)| Some((Identity::from_link(&link)?, login)))
            .collect();
        memory.applied = (!applied.is_empty()).then(|| applied.into_iter().collect());
        Ok(memory)
    }

    /// The links that are kept apart from the list, each with the login of its account as it is compared.
    ///
    /// # Errors
    /// It cannot be read.
    pub(crate) fn kept(&self) -> Result<Vec<(Identity, String)>, StateError> {
        if self.form()? < 2 {
            return Ok(Vec::new());
        }
        let rows = self.all("SELECT link, login FROM kept", [], |row| Ok((row.get(0)?, row.get(1)?)))?;
        let pair = |(link, login): (String, String)| Some((Identity::from_link(&link)?, login));
        Ok(rows.into_iter().filter_map(pair).collect())
    }

    /// Every run, the latest first.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn runs(&self) -> Result<Vec<Run>, StateError> {
        let sql = "SELECT run, begun, ended, who, undoes, settings, store, released, backup, ending,
            (SELECT max(later.run) FROM run AS later WHERE later.undoes = run.run) FROM run ORDER BY run DESC";
        let mut runs = self.all(sql, [], |row| {
            let time = |text: Option<String>| text.and_then(|text| text.parse::<Timestamp>().ok());
            let released: String = row.get(7)?;
            Ok(Run {
                run: row.get(0)?,
                at: time(row.get(1)?).unwrap_or_default(),
                ended: time(row.get(2)?),
                who: row.get(3)?,
                undoes: row.get(4)?,
                settings: row.get(5)?,
                store: row.get(6)?,
                released: released.split_whitespace().map(str::to_owned).collect(),
                backup: row.get::<_, Option<String>>(8)?.map(PathBuf::from),
                ending: row.get::<_, Option<String>>(9)?.and_then(|text| Ending::read(&text)),
                undone: row.get(10)?,
                counts: BTreeMap::new(),
            })
        })?;
        let sql = "SELECT run, CASE coalesce(outcome, 'open') WHEN 'done' THEN json_extract(edit, '$.kind')
            ELSE coalesce(outcome, 'open') END AS what, count(*) FROM edit GROUP BY run, what";
        let counts =
            self.all(sql, [], |row| Ok((row.get::<_, i64>(0)?, row.get::<_, String>(1)?, row.get(2)?)))?;
        for (number, what, count) in counts {
            if let Some(run) = runs.iter_mut().find(|run| run.run == number) {
                run.counts.insert(what, count);
            }
        }
        Ok(runs)
    }

    /// The edits of one run, in their order.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn entries(&self, run: i64) -> Result<Vec<Recorded>, StateError> {
        let sql = "SELECT place, edit, outcome, reason FROM edit WHERE run = ? ORDER BY place";
        let rows = self.all(sql, [run], |row| {
            let (outcome, reason): (Option<String>, Option<String>) = (row.get(2)?, row.get(3)?);
            Ok((row.get::<_, usize>(0)?, row.get::<_, String>(1)?, outcome, reason.unwrap_or_default()))
        })?;
        rows.into_iter()
            .map(|(place, edit, outcome, reason)| {
                let edit = serde_json::from_str(&edit).map_err(|error| broken(&self.file, &error))?;
                let outcome = match outcome.as_deref() {
                    Some("done") => Some(Outcome::Done),
                    Some("made") => Some(Outcome::Made),
                    Some("left") => Some(Outcome::Left(reason)),
                    Some("failed") => Some(Outcome::Failed(reason)),
                    _ => None,
                };
                Ok(Recorded { place, edit, outcome })
            })
            .collect()
    }

    /// The number of the latest run; 0 if there was none.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn latest(&self) -> Result<i64, StateError> {
        let sql = "SELECT coalesce(max(run), 0) FROM run";
        self.db.query_row(sql, [], |row| row.get(0)).map_err(|error| broken(&self.file, &error).into())
    }

    /// The run that was cut off, if one was.
    pub(crate) fn unfinished(&self) -> Result<Option<i64>, StateError> {
        let sql = "SELECT run FROM run WHERE ending IS NULL ORDER BY run LIMIT 1";
        let found = self.db.query_row(sql, [], |row| row.get(0)).optional();
        found.map_err(|error| broken(&self.file, &error).into())
    }

    /// Writes down what will be done, before it is.
    pub(crate) fn begin(&mut self, begun: &Begun<'_>, edits: &[Edit]) -> Result<i64, StateError> {
        let texts: Result<Vec<String>, _> = edits.iter().map(serde_json::to_string).collect();
        let texts = texts.map_err(|error| broken(&self.file, &error))?;
        self.change(|change| {
            let released = begun.released.join(" ");
            change.execute(
                "INSERT INTO run (begun, who, undoes, settings, store, released) VALUES (?, ?, ?, ?, ?, ?)",
                params![now(), begun.who, begun.undoes, begun.settings, begun.store, released],
            )?;
            let run = change.last_insert_rowid();
            let mut insert = change.prepare("INSERT INTO edit (run, place, edit) VALUES (?, ?, ?)")?;
            for (place, text) in texts.iter().enumerate() {
                insert.execute(params![run, place, text])?;
            }
            Ok(run)
        })
    }

    /// Says where the accounts stand as they were before.
    pub(crate) fn backed_up(&mut self, run: i64, backup: &Path) -> Result<(), StateError> {
        let backup = backup.display().to_string();
        self.change(|change| {
            change.execute("UPDATE run SET backup = ? WHERE run = ?", params![backup, run])?;
            Ok(())
        })
    }

    /// Writes down what became of edits. Where the links are kept here, `kept` has all edits of the run, and
    /// what was done to the links is written with it: both or neither.
    pub(crate) fn record(
        &mut self,
        run: i64,
        outcomes: &[(usize, Outcome)],
        kept: Option<&[Edit]>,
    ) -> Result<(), StateError> {
        self.change(|change| {
            let is_made = |outcome: &Outcome| matches!(outcome, Outcome::Done | Outcome::Made);
            let made = outcomes.iter().filter(|(_, outcome)| is_made(outcome));
            if let Some(edits) = kept {
                let mut take = change.prepare("DELETE FROM kept WHERE link = ? OR login = ?")?;
                let mut put = change.prepare("INSERT INTO kept (link, login) VALUES (?, ?)")?;
                let names = |account: &Account| {
                    let link = account.link.as_ref().map(ToString::to_string);
                    (link, Account::login_key(&account.login))
                };
                for edit in made.filter_map(|(place, _)| edits.get(*place)) {
                    for (link, login) in [&edit.before, &edit.after].into_iter().flatten().map(names) {
                        take.execute(params![link, login])?;
                    }
                    if let Some((link @ Some(_), login)) = edit.after.as_ref().map(names) {
                        put.execute(params![link, login])?;
                    }
                }
            }
            let sql = "UPDATE edit SET outcome = ?, reason = ? WHERE run = ? AND place = ?";
            let mut update = change.prepare(sql)?;
            for (place, outcome) in outcomes {
                let (word, reason) = match outcome {
                    Outcome::Done => ("done", None),
                    Outcome::Made => ("made", None),
                    Outcome::Left(reason) => ("left", Some(reason)),
                    Outcome::Failed(reason) => ("failed", Some(reason)),
                };
                update.execute(params![word, reason, run, place])?;
            }
            Ok(())
        })
    }

    /// Ends a run, if there was one, and remembers what the next must know: both or neither.
    pub(crate) fn end(
        &mut self,
        run: Option<(i64, Ending)>,
        remembered: &Remembered,
    ) -> Result<(), StateError> {
        self.change(|change| {
            if let Some((run, ending)) = run {
                let sql = "UPDATE run SET ended = ?, ending = ? WHERE run = ?";
                change.execute(sql, params![now(), ending.name(), run])?;
            }
            let put = |table: &str,
                       columns: &str,
                       mut rows: Box<dyn Iterator<Item = (String, String)> + '_>| {
                change.execute(&format!("DELETE FROM {table}"), [])?;
                let mut insert = change.prepare(&format!("INSERT INTO {table} ({columns}) VALUES (?, ?)"))?;
                rows.try_for_each(|(key, value)| insert.execute(params![key, value]).map(drop))
            };
            if let Some(missed) = &remembered.missed {
                let rows = missed.iter().map(|(link, day)| (link.to_string(), day.to_string()));
                put("missed", "link, since", Box::new(rows))?;
            }
            if let Some(known) = &remembered.known {
                let rows = known.iter().map(|(link, login)| (link.to_string(), login.clone()));
                put("known", "link, login", Box::new(rows))?;
            }
            if let Some(kept) = &remembered.kept {
                let rows = kept.iter().map(|(link, login)| (link.to_string(), Account::login_key(login)));
                put("kept", "link, login", Box::new(rows))?;
            }
            if let Some(applied) = &remembered.applied {
                put("applied", "setting, says", Box::new(applied.clone().into_iter()))?;
            }
            Ok(())
        })
    }

    /// Forgets the runs that began before a day, but the latest. How many, and their backups.
    pub(crate) fn forget_before(&mut self, day: Date) -> Result<Vec<Option<PathBuf>>, StateError> {
        self.change(|change| {
            let sql = "DELETE FROM run WHERE begun < ? AND run < (SELECT max(run) FROM run) RETURNING backup";
            let mut delete = change.prepare(sql)?;
            let rows = delete.query_map([day.to_string()], |row| row.get::<_, Option<String>>(0))?;
            rows.map(|row| Ok(row?.map(PathBuf::from))).collect()
        })
    }
}

fn now() -> String {
    format!("{:.3}", Timestamp::now())
}

fn broken(file: &Path, reason: &dyn std::fmt::Display) -> StateErrorKind {
    StateErrorKind::Broken { file: file.to_owned(), reason: reason.to_string() }
}
