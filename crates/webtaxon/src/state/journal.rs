//! The journal: the edits of each apply, recorded beforehand, and their outcomes, recorded afterwards.

use super::database::{Cell, NEWEST, StateDatabase, StateStore, Statement};
use super::run::{Ending, Recorded, Run};
use super::{StateError, StateErrorKind};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use webtaxon_core::account::{Account, Habits};
use webtaxon_core::apply::{Edit, GroupEdit, Outcome};
use webtaxon_core::ldap::identity::Identity;
use webtaxon_core::preview::{Fresh, GroupChangeKind, Memory};
use webtaxon_core::reading::Footprint;

/// The data recorded at the start of a run.
pub(crate) struct Begun<'a> {
    pub(crate) who: &'a str,
    pub(crate) undoes: Option<i64>,
    pub(crate) settings: &'a str,
    pub(crate) store: &'a str,
    pub(crate) released: &'a [String],
}

/// The memory for the next run; `None` for parts that do not change.
#[derive(Default)]
pub(crate) struct Remembered {
    pub(crate) missed: Option<BTreeMap<Identity, Date>>,
    pub(crate) known: Option<BTreeMap<Identity, String>>,
    pub(crate) applied: Option<BTreeMap<String, String>>,
    /// By intake, what was seen; other intakes keep theirs.
    pub(crate) footprints: BTreeMap<String, Footprint>,
    pub(crate) fresh: Option<BTreeMap<Identity, Fresh>>,
    /// More of them; others stay.
    pub(crate) fresh_too: BTreeMap<Identity, Fresh>,
    pub(crate) origins: Option<BTreeMap<Identity, String>>,
    /// The links kept for a list, and the identity of the list.
    pub(crate) kept: Option<(String, BTreeMap<Identity, String>)>,
}

/// Edits that also affect links kept in the state.
pub(crate) struct Ties {
    /// The identity of the list.
    pub(crate) list: String,
    /// All edits of the run, in order.
    pub(crate) edits: Arc<[Edit]>,
}

/// Records an edit.
const ADD: &str = "INSERT INTO edit (run, place, edit) VALUES (?1, ?2, ?3)";

/// Stores the link of an account.
const KEEP: &str = "INSERT INTO kept (list, link, login) VALUES (?1, ?2, ?3)";

/// The open journal.
#[derive(Debug)]
pub struct Journal {
    db: Box<dyn StateDatabase>,
}

impl Journal {
    /// Opens the journal for reading; `None` if there is none yet.
    pub(crate) fn read(place: &dyn StateStore) -> Result<Option<Self>, StateError> {
        let Some(db) = place.read()? else { return Ok(None) };
        let journal = Self { db };
        // A file that was created but not filled counts as none.
        Ok((journal.form()? > 0).then_some(journal))
    }

    /// Opens it for writing, creating it if needed; no other run can until it is closed.
    pub(crate) fn write(place: &dyn StateStore, who: &str) -> Result<Self, StateError> {
        let mut db = place.write(who)?;
        let form = known(&*db)?;
        if form < NEWEST {
            db.migrate(form)?;
        }
        Ok(Self { db })
    }

    fn form(&self) -> Result<usize, StateError> {
        known(&*self.db)
    }

    /// The rows of a query for two texts.
    fn pairs(&self, sql: &str) -> Result<Vec<(String, String)>, StateError> {
        let rows = self.db.all(sql, Vec::new())?.into_iter();
        Ok(rows
            .map(|row| text_cells(row).map(Option::unwrap_or_default))
            .map(|[key, value]| (key, value))
            .collect())
    }

    /// The error for a value that no version ever wrote.
    fn odd(&self, what: &str, said: &str) -> StateError {
        self.db.broken(format!("`{said}` is not a valid {what}").into())
    }

    fn link(&self, text: &str) -> Result<Identity, StateError> {
        Identity::from_link(text).ok_or_else(|| self.odd("link", text))
    }

    /// The memory of earlier runs, with today's date.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn memory(&self) -> Result<Memory, StateError> {
        self.memory_without("")
    }

    /// The same, without the links that come from one directory: where the settings have no other, they say nothing.
    fn memory_without(&self, directory: &str) -> Result<Memory, StateError> {
        let mut memory = Memory::on(today());
        let day = |text: &str| text.parse::<Date>().map_err(|_| self.odd("day", text));
        // Maps are made of all rows at once: that takes far less time for a hundred thousand.
        let missed = self.pairs("SELECT link, since FROM missed")?.into_iter();
        memory.missed = missed
            .map(|(link, since)| Ok((self.link(&link)?, day(&since)?)))
            .collect::<Result<_, StateError>>()?;
        memory.known = self.by_link("SELECT link, login FROM known", Vec::new())?;
        let applied = self.pairs("SELECT setting, says FROM applied")?;
        memory.applied = (!applied.is_empty()).then(|| applied.into_iter().collect());
        memory.interrupted = self.unfinished()?;
        if self.form()? < 3 {
            return Ok(memory);
        }
        for (intake, says) in self.pairs("SELECT intake, says FROM footprint")? {
            let footprint = serde_json::from_str(&says).map_err(|error| self.db.broken(error.into()))?;
            memory.footprints.insert(intake, footprint);
        }
        let fresh =
            self.db.all("SELECT link, server, since FROM fresh", Vec::new())?.into_iter().map(|row| {
                let [link, server, since] = text_cells(row).map(Option::unwrap_or_default);
                Ok((self.link(&link)?, Fresh { server, since: day(&since)? }))
            });
        memory.fresh = fresh.collect::<Result<_, StateError>>()?;
        let others = "SELECT link, directory FROM origin WHERE directory <> ?1";
        memory.origins = self.by_link(others, vec![directory.into()])?;
        Ok(memory)
    }

    /// Rows of a link and a text.
    fn by_link(&self, sql: &str, values: Vec<Cell>) -> Result<BTreeMap<Identity, String>, StateError> {
        let rows = self.db.all(sql, values)?.into_iter().map(|row| {
            let [link, text] = text_cells(row).map(Option::unwrap_or_default);
            Ok((self.link(&link)?, text))
        });
        rows.collect()
    }

    /// The key that seals saved previews; `None` if there is none yet.
    pub(crate) fn seal(&self) -> Result<Option<String>, StateError> {
        if self.form()? < 3 {
            return Ok(None);
        }
        let rows = self.db.all("SELECT key FROM seal", Vec::new())?;
        Ok(rows.into_iter().next().and_then(|row| row.into_iter().next()?.text()))
    }

    /// Stores the key that seals saved previews.
    pub(crate) fn set_seal(&mut self, key: &str) -> Result<(), StateError> {
        self.db.change(vec![Statement::once("INSERT INTO seal (key) VALUES (?1)", vec![key.into()])])
    }

    /// What a store was found to do otherwise than it says.
    pub(crate) fn habits(&self, list: &str) -> Result<Habits, StateError> {
        if self.form()? < 4 {
            return Ok(Habits::default());
        }
        let rows = self.db.all("SELECT says FROM habit WHERE list = ?1", vec![list.into()])?;
        let Some([Some(says)]) = rows.into_iter().next().map(text_cells) else {
            return Ok(Habits::default());
        };
        serde_json::from_str(&says).map_err(|error| self.db.broken(error.into()))
    }

    /// Stores what a store was found to do otherwise than it says.
    pub(crate) fn set_habits(&mut self, list: &str, habits: &Habits) -> Result<(), StateError> {
        let says = serde_json::to_string(habits).map_err(|error| self.db.broken(error.into()))?;
        let add = "INSERT INTO habit (list, says) VALUES (?1, ?2)";
        self.db.change(vec![
            Statement::once("DELETE FROM habit WHERE list = ?1", vec![list.into()]),
            Statement::once(add, vec![list.into(), says.into()]),
        ])
    }

    /// The links kept for a list, each with the login of its account in the form for comparison.
    pub(crate) fn kept(&self, list: &str) -> Result<Vec<(Identity, String)>, StateError> {
        if self.form()? < 2 {
            return Ok(Vec::new());
        }
        let rows = self.db.all("SELECT link, login FROM kept WHERE list = ?1", vec![list.into()])?;
        let row = |row| {
            let [link, login] = text_cells(row).map(Option::unwrap_or_default);
            Ok((self.link(&link)?, login))
        };
        rows.into_iter().map(row).collect()
    }

    /// All runs, latest first.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn runs(&self) -> Result<Vec<Run>, StateError> {
        let sql = "SELECT begun, ended, who, settings, store, released, backup, ending, run, undoes,
            (SELECT max(later.run) FROM run AS later WHERE later.undoes = run.run) FROM run ORDER BY run DESC";
        let mut runs = Vec::new();
        for row in self.db.all(sql, Vec::new())? {
            let numbers = [8, 9, 10].map(|at| row.get(at).and_then(Cell::int));
            let [begun, ended, who, settings, store, released, backup, ending] = text_cells(row);
            let time = |text: String| text.parse::<Timestamp>().map_err(|_| self.odd("time", &text));
            let [run, undoes, undone] = numbers;
            let ending = ending.map(|word| Ending::read(&word).ok_or_else(|| self.odd("ending", &word)));
            runs.push(Run {
                run: run.ok_or_else(|| self.odd("run", "nothing"))?,
                at: time(begun.unwrap_or_default())?,
                ended: ended.map(time).transpose()?,
                who: who.unwrap_or_default(),
                undoes,
                settings: settings.unwrap_or_default(),
                store: store.unwrap_or_default(),
                released: released.unwrap_or_default().split_whitespace().map(str::to_owned).collect(),
                backup: backup.map(PathBuf::from),
                ending: ending.transpose()?,
                undone,
                counts: BTreeMap::new(),
            });
        }
        let sql = format!(
            "SELECT CASE coalesce(outcome, 'open') WHEN 'done' THEN {} ELSE coalesce(outcome, 'open') END AS what,
            run, count(*) FROM edit GROUP BY run, what",
            self.db.kind_of_edit()
        );
        for row in self.db.all(&sql, Vec::new())? {
            let [number, count] = [1, 2].map(|at| row.get(at).and_then(Cell::int).unwrap_or_default());
            let [what] = text_cells(row);
            if let Some(run) = runs.iter_mut().find(|run| run.run == number) {
                let count = u64::try_from(count).unwrap_or_default();
                run.counts.insert(what.unwrap_or_default(), count);
            }
        }
        Ok(runs)
    }

    /// The edits of accounts of one run, in order.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn entries(&self, run: i64) -> Result<Vec<Recorded>, StateError> {
        self.entries_of(run, false)
    }

    /// The edits of groups of one run: members who leave first, members who join last.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn group_entries(&self, run: i64) -> Result<Vec<Recorded<GroupEdit>>, StateError> {
        self.entries_of(run, true)
    }

    fn entries_of<E: DeserializeOwned>(
        &self,
        run: i64,
        groups: bool,
    ) -> Result<Vec<Recorded<E>>, StateError> {
        // Edits of groups have kinds of their own. An edit without a kind is damaged, and reported as unreadable.
        let kinds: Vec<String> =
            GroupChangeKind::ALL.iter().map(|kind| format!("'{}'", kind.name())).collect();
        let (kind, is_in) = (self.db.kind_of_edit(), if groups { "IN" } else { "NOT IN" });
        let sql = format!(
            "SELECT edit, outcome, reason, place FROM edit WHERE run = ?1 AND coalesce({kind}, '') {is_in} ({}) ORDER BY place",
            kinds.join(", ")
        );
        let mut entries = Vec::new();
        for row in self.db.all(&sql, vec![run.into()])? {
            let place = row.get(3).and_then(Cell::int).and_then(|place| usize::try_from(place).ok());
            let place = place.ok_or_else(|| self.odd("place", "nothing"))?;
            let [edit, outcome, reason] = text_cells(row);
            let edit = edit.unwrap_or_default();
            let edit = serde_json::from_str(&edit).map_err(|error| self.db.broken(error.into()))?;
            let reason = reason.unwrap_or_default();
            let outcome = match outcome.as_deref() {
                Some("done") => Some(Outcome::Done),
                Some("made") => Some(Outcome::Made),
                Some("left") => Some(Outcome::Left(reason)),
                Some("failed") => Some(Outcome::Failed(reason)),
                None => None,
                Some(other) => return Err(self.odd("outcome", other)),
            };
            entries.push(Recorded { place, edit, outcome });
        }
        Ok(entries)
    }

    /// The number of the latest run; 0 if there is none.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn latest(&self) -> Result<i64, StateError> {
        Ok(self.number("SELECT max(run) FROM run")?.unwrap_or(0))
    }

    /// The number of the run that was interrupted, if any.
    pub(crate) fn unfinished(&self) -> Result<Option<i64>, StateError> {
        self.number("SELECT min(run) FROM run WHERE ending IS NULL")
    }

    fn number(&self, sql: &str) -> Result<Option<i64>, StateError> {
        let rows = self.db.all(sql, Vec::new())?;
        Ok(rows.first().and_then(|row| row.first()).and_then(Cell::int))
    }

    /// Records edits before they are made.
    pub(crate) fn begin(
        &mut self,
        begun: &Begun<'_>,
        edits: &[Edit],
        groups: &[GroupEdit],
    ) -> Result<i64, StateError> {
        // No other run can write meanwhile, so the number is free; the latest run is never deleted.
        let run = self.latest()? + 1;
        let mut rows = self.rows(run, 0, edits)?;
        rows.extend(self.rows(run, edits.len(), groups)?);
        let values = vec![
            run.into(),
            now().into(),
            begun.who.into(),
            begun.undoes.map_or(Cell::Null, Cell::Int),
            begun.settings.into(),
            begun.store.into(),
            begun.released.join(" ").into(),
        ];
        let sql = "INSERT INTO run (run, begun, who, undoes, settings, store, released) VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7)";
        self.db.change(vec![Statement::once(sql, values), Statement { sql: ADD, rows }])?;
        Ok(run)
    }

    /// Records the edits of groups after the first `from` edits, before they are made.
    pub(crate) fn add(&mut self, run: i64, from: usize, groups: &[GroupEdit]) -> Result<(), StateError> {
        let rows = self.rows(run, from, groups)?;
        self.db.change(vec![Statement { sql: ADD, rows }])
    }

    fn rows<E: Serialize>(&self, run: i64, from: usize, edits: &[E]) -> Result<Vec<Vec<Cell>>, StateError> {
        let row = |(at, edit)| {
            let text = serde_json::to_string(edit).map_err(|error| self.db.broken(error.into()))?;
            Ok(vec![run.into(), number(from + at), text.into()])
        };
        edits.iter().enumerate().map(row).collect()
    }

    /// Records edits as their accounts are after them.
    pub(crate) fn made(&mut self, run: i64, edits: &[(usize, Edit)]) -> Result<(), StateError> {
        self.put(run, edits, "UPDATE edit SET edit = ?1 WHERE run = ?2 AND place = ?3")
    }

    /// Replaces edits by others that are about to be made, whose outcome is open.
    pub(crate) fn replace(&mut self, run: i64, edits: &[(usize, Edit)]) -> Result<(), StateError> {
        let sql = "UPDATE edit SET edit = ?1, outcome = NULL, reason = NULL WHERE run = ?2 AND place = ?3";
        self.put(run, edits, sql)
    }

    fn put(&mut self, run: i64, edits: &[(usize, Edit)], sql: &'static str) -> Result<(), StateError> {
        if edits.is_empty() {
            return Ok(());
        }
        let row = |(place, edit): &(usize, Edit)| {
            let text = serde_json::to_string(edit).map_err(|error| self.db.broken(error.into()))?;
            Ok(vec![text.into(), run.into(), number(*place)])
        };
        let rows = edits.iter().map(row).collect::<Result<_, StateError>>()?;
        self.db.change(vec![Statement { sql, rows }])
    }

    /// Records the copy of the accounts.
    pub(crate) fn backed_up(&mut self, run: i64, backup: &Path) -> Result<(), StateError> {
        let values = vec![backup.display().to_string().into(), run.into()];
        self.db.change(vec![Statement::once("UPDATE run SET backup = ?1 WHERE run = ?2", values)])
    }

    /// Records outcomes of edits, together with their effect on links kept in the state: both or neither.
    pub(crate) fn record(
        &mut self,
        run: i64,
        outcomes: &[(usize, Outcome)],
        ties: Option<&Ties>,
    ) -> Result<(), StateError> {
        let is_made = |outcome: &Outcome| matches!(outcome, Outcome::Done | Outcome::Made);
        let made = outcomes.iter().filter(|(_, outcome)| is_made(outcome));
        let (mut gone, mut tied) = (Vec::new(), Vec::new());
        for edit in made.filter_map(|(place, _)| ties?.edits.get(*place)) {
            let names = |account: &Account| -> Vec<Cell> {
                let list = ties.map_or("", |ties| ties.list.as_str());
                let link = account.link.as_ref().map(ToString::to_string);
                vec![list.into(), link.into(), Account::login_key(&account.login).into()]
            };
            gone.extend([&edit.before, &edit.after].into_iter().flatten().map(names));
            tied.extend(edit.after.as_ref().filter(|account| account.link.is_some()).map(names));
        }
        // Neighbours with the same outcome, most often all, are one row.
        let ranges = outcomes.chunk_by(|(at, one), (next, other)| at + 1 == *next && one == other);
        let rows = ranges.filter_map(|range| {
            let ((first, outcome), (last, _)) = (range.first()?, range.last()?);
            let (word, reason) = match outcome {
                Outcome::Done => ("done", None),
                Outcome::Made => ("made", None),
                Outcome::Left(reason) => ("left", Some(reason.as_str())),
                Outcome::Failed(reason) => ("failed", Some(reason.as_str())),
            };
            Some(vec![word.into(), reason.into(), run.into(), number(*first), number(*last)])
        });
        let sql = "UPDATE edit SET outcome = ?1, reason = ?2 WHERE run = ?3 AND place BETWEEN ?4 AND ?5";
        // No login passes from one account to another within a run, so their order does not matter.
        self.db.change(vec![
            Statement { sql: "DELETE FROM kept WHERE list = ?1 AND (link = ?2 OR login = ?3)", rows: gone },
            Statement { sql: KEEP, rows: tied },
            Statement { sql, rows: rows.collect() },
        ])
    }

    /// Ends a run, if there was one, and stores the memory for the next one: both or neither.
    pub(crate) fn end(
        &mut self,
        run: Option<(i64, Ending)>,
        remembered: &Remembered,
    ) -> Result<(), StateError> {
        let mut all = Vec::new();
        if let Some((run, ending)) = run {
            let values = vec![now().into(), ending.name().into(), run.into()];
            all.push(Statement::once("UPDATE run SET ended = ?1, ending = ?2 WHERE run = ?3", values));
        }
        if let Some(missed) = &remembered.missed {
            let rows = missed.iter().map(|(link, day)| vec![link.to_string().into(), day.to_string().into()]);
            all.extend(put(
                "DELETE FROM missed",
                "INSERT INTO missed (link, since) VALUES (?1, ?2)",
                rows.collect(),
            ));
        }
        if let Some(known) = &remembered.known {
            let rows = known.iter().map(|(link, login)| vec![link.to_string().into(), login.as_str().into()]);
            all.extend(put(
                "DELETE FROM known",
                "INSERT INTO known (link, login) VALUES (?1, ?2)",
                rows.collect(),
            ));
        }
        if let Some((list, kept)) = &remembered.kept {
            let row = |(link, login): (&Identity, &String)| {
                vec![list.as_str().into(), link.to_string().into(), Account::login_key(login).into()]
            };
            all.push(Statement::once("DELETE FROM kept WHERE list = ?1", vec![list.as_str().into()]));
            all.push(Statement { sql: KEEP, rows: kept.iter().map(row).collect() });
        }
        all.extend(self.of_readings(remembered)?);
        if let Some(applied) = &remembered.applied {
            let rows = applied.iter().map(|(name, says)| vec![name.as_str().into(), says.as_str().into()]);
            all.extend(put(
                "DELETE FROM applied",
                "INSERT INTO applied (setting, says) VALUES (?1, ?2)",
                rows.collect(),
            ));
        }
        self.db.change(all)
    }

    /// The statements that remember what readings showed.
    fn of_readings(&self, remembered: &Remembered) -> Result<Vec<Statement>, StateError> {
        let mut all = Vec::new();
        for (intake, footprint) in &remembered.footprints {
            let says = serde_json::to_string(footprint).map_err(|error| self.db.broken(error.into()))?;
            all.push(Statement::once(
                "DELETE FROM footprint WHERE intake = ?1",
                vec![intake.as_str().into()],
            ));
            let values = vec![intake.as_str().into(), says.into()];
            all.push(Statement::once("INSERT INTO footprint (intake, says) VALUES (?1, ?2)", values));
        }
        let row = |(link, fresh): (&Identity, &Fresh)| {
            vec![link.to_string().into(), fresh.server.as_str().into(), fresh.since.to_string().into()]
        };
        let add = "INSERT INTO fresh (link, server, since) VALUES (?1, ?2, ?3)";
        if let Some(fresh) = &remembered.fresh {
            all.extend(put("DELETE FROM fresh", add, fresh.iter().map(row).collect()));
        }
        for one in &remembered.fresh_too {
            let link = one.0.to_string();
            all.push(Statement::once("DELETE FROM fresh WHERE link = ?1", vec![link.into()]));
            all.push(Statement::once(add, row(one)));
        }
        if let Some(origins) = &remembered.origins {
            let rows = origins.iter().map(|(link, from)| vec![link.to_string().into(), from.as_str().into()]);
            all.extend(put(
                "DELETE FROM origin",
                "INSERT INTO origin (link, directory) VALUES (?1, ?2)",
                rows.collect(),
            ));
        }
        Ok(all)
    }

    /// Deletes the records of runs before a day, except the latest. Returns the copies of the accounts, one for each
    /// run.
    pub(crate) fn forget_before(&mut self, day: Date) -> Result<Vec<Option<PathBuf>>, StateError> {
        let old = "SELECT backup, run FROM run WHERE begun < ?1 AND run < (SELECT max(run) FROM run)";
        let rows = self.db.all(old, vec![day.to_string().into()])?;
        let runs = rows.iter().filter_map(|row| Some(vec![row.get(1)?.clone()])).collect();
        self.db.change(vec![Statement { sql: "DELETE FROM run WHERE run = ?1", rows: runs }])?;
        let backup = |row| {
            let [backup] = text_cells(row);
            backup.map(PathBuf::from)
        };
        Ok(rows.into_iter().map(backup).collect())
    }
}

/// The statements that replace all rows of a table.
fn put(clear: &'static str, sql: &'static str, rows: Vec<Vec<Cell>>) -> [Statement; 2] {
    [Statement::once(clear, Vec::new()), Statement { sql, rows }]
}

/// Reads the memory; empty if there is none yet. Days are in UTC. `directory` is the settings' only one, if they have one
/// alone.
///
/// # Errors
/// It cannot be read, or was written by a newer version: losing it in silence would restart days of grace.
pub(crate) fn memory(place: &dyn StateStore, directory: Option<&str>) -> Result<Memory, StateError> {
    match Journal::read(place)? {
        Some(journal) => journal.memory_without(directory.unwrap_or_default()),
        None => Ok(Memory::on(today())),
    }
}

/// Today's date in UTC.
fn today() -> Date {
    Timestamp::now().to_zoned(TimeZone::UTC).date()
}

/// The form of a database's tables, if this version supports it.
fn known(db: &dyn StateDatabase) -> Result<usize, StateError> {
    match db.form()? {
        form if form <= NEWEST => Ok(form),
        found => Err(StateErrorKind::Newer { place: db.place(), found, known: NEWEST }.into()),
    }
}

/// The first cells of a row as text.
fn text_cells<const N: usize>(row: Vec<Cell>) -> [Option<String>; N] {
    let mut cells = row.into_iter();
    std::array::from_fn(|_| cells.next().and_then(Cell::text))
}

fn number(place: usize) -> Cell {
    Cell::Int(i64::try_from(place).unwrap_or(i64::MAX))
}

fn now() -> String {
    format!("{:.3}", Timestamp::now())
}
