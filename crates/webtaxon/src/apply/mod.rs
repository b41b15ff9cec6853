//! Carrying out what was previewed: the journal first, then a copy of what is there, then the edits, and
//! what became of each. It may be cut off anywhere: the next apply looks what had been done.

mod apart;
mod error;
mod saved;

pub use error::{ApplyError, ApplyErrorKind};

use crate::directory::Progress;
use crate::state::{Begun, Ending, Journal, Remembered, Run, StateError, backups_of};
use crate::store::{AccountStore, Outcome, Terms};
use crate::{Error, Workspace, crash, state};
use apart::Linked;
use jiff::Timestamp;
use jiff::civil::Date;
use ring::digest::{SHA256, digest};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};
use std::io::Write as _;
use std::path::{Path, PathBuf};
use webtaxon_core::account::Account;
use webtaxon_core::apply::{Edit, Standing, standings};
use webtaxon_core::identity::Identity;
use webtaxon_core::preview::{BRAKES, Brake, ChangeKind, Preview};

/// Outcomes that are written to the journal at once.
const BATCH: usize = 200;

/// Where edits come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[non_exhaustive]
pub enum Origin {
    /// A preview.
    Preview,
    /// The way back of this run.
    Undo(i64),
}

/// What an apply is to do: the edits of a preview or of the way back, and what they were made with.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Work {
    /// Where the edits come from.
    pub origin: Origin,
    /// What is to be done, in order.
    pub edits: Vec<Edit>,
    /// Limits that are passed; each must be released.
    pub brakes: Vec<Brake>,
    /// The list, in the words of its store.
    store: String,
    /// The digest of the settings.
    settings: String,
    /// The settings that select people.
    selecting: BTreeMap<String, String>,
    /// Since when people have been missed.
    missed: BTreeMap<Identity, Date>,
    /// The latest run before this.
    latest: i64,
    /// The list as it was before the run that is taken back.
    original: Option<PathBuf>,
}

impl Work {
    /// How many edits there are of each kind that occurs.
    #[must_use]
    pub fn counts(&self) -> Vec<(ChangeKind, usize)> {
        let of = |kind| self.edits.iter().filter(|edit| edit.kind == kind).count();
        ChangeKind::ALL.into_iter().map(|kind| (kind, of(kind))).filter(|(_, count)| *count > 0).collect()
    }
}

/// Who wants it, and on which terms.
#[derive(Clone, Debug, Default)]
pub struct Consent {
    /// Who wants it, for the journal.
    pub who: String,
    /// The brakes that are released for this one time, by name.
    pub release: Vec<String>,
    /// After so many refusals of the store no further edit is begun.
    pub stop_after: Option<usize>,
}

/// What was done.
#[derive(Debug)]
pub struct Applied {
    /// The run's number in the journal; none where there was nothing to do.
    pub run: Option<i64>,
    /// What became of each edit, in the order of the work; none for one of which nobody knows.
    pub outcomes: Vec<Option<Outcome>>,
    /// Where the accounts stand as they were before.
    pub backup: Option<PathBuf>,
    /// What was found of a run that had been cut off.
    pub interrupted: Option<Interrupted>,
    /// Why the store could not go on, if it could not.
    pub stopped: Option<String>,
}

impl Applied {
    /// How many edits came to this.
    #[must_use]
    pub fn count(&self, what: impl Fn(&Outcome) -> bool) -> usize {
        self.outcomes.iter().flatten().filter(|outcome| what(outcome)).count()
    }

    /// Whether every edit was done, now or before.
    #[must_use]
    pub fn is_complete(&self) -> bool {
        let done = |outcome: &Option<Outcome>| matches!(outcome, Some(Outcome::Done | Outcome::Made));
        self.stopped.is_none() && self.outcomes.iter().all(done)
    }
}

/// A run that had been cut off, and what was found of it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Interrupted {
    /// Its number.
    pub run: i64,
    /// How many of its edits had been done.
    pub done: usize,
    /// How many had not.
    pub open: usize,
}

impl Workspace {
    /// Makes a preview, and what an apply would do of it.
    ///
    /// # Errors
    /// As [`Workspace::preview`].
    pub async fn work(&self) -> Result<(Preview, Work), Error> {
        self.work_with(&*self.store()).await
    }

    /// As [`Workspace::work`], over a list that the application keeps in a place of its own.
    ///
    /// # Errors
    /// As [`Workspace::preview`].
    pub async fn work_with(&self, store: &dyn AccountStore) -> Result<(Preview, Work), Error> {
        let latest = match Journal::read(self.state())? {
            Some(journal) => journal.latest()?,
            None => 0,
        };
        let (preview, accounts) = self.preview_and_accounts(store).await?;
        let by_login: HashMap<&str, &Account> =
            accounts.iter().map(|account| (account.login.as_str(), account)).collect();
        let edit = |change| Edit::of(change, by_login.get(change.login.as_str()).copied());
        let work = Work {
            origin: Origin::Preview,
            edits: preview.changes.iter().filter_map(edit).collect(),
            brakes: preview.brakes.clone(),
            store: store.place(),
            settings: self.digest(),
            selecting: self.settings().selecting(),
            missed: preview.missed.clone(),
            latest,
            original: None,
        };
        Ok((preview, work))
    }

    /// What takes a run back, as far as it was done: the last edit first.
    ///
    /// # Errors
    /// The journal cannot be read, or has no such run.
    pub fn way_back(&self, run: i64) -> Result<Work, Error> {
        let journal = Journal::read(self.state())?.ok_or_else(|| ApplyError::no_run(run))?;
        let of = journal.runs()?.into_iter().find(|one| one.run == run);
        let of: Run = of.ok_or_else(|| ApplyError::no_run(run))?;
        let mut edits: Vec<Edit> = Vec::new();
        for entry in journal.entries(run)? {
            match entry.outcome {
                Some(Outcome::Done) => edits.push(entry.edit.back()),
                None if of.ending.is_none() => {
                    return Err(ApplyError::from(ApplyErrorKind::CutOff(run)).into());
                }
                _ => {}
            }
        }
        edits.reverse();
        Ok(Work {
            origin: Origin::Undo(run),
            edits,
            brakes: Vec::new(),
            store: of.store,
            settings: self.digest(),
            selecting: BTreeMap::new(),
            missed: BTreeMap::new(),
            latest: journal.latest()?,
            original: of.backup.map(|file| self.folder().join(file)),
        })
    }

    /// Carries out exactly what is in `work`. Each account is looked at once more: what somebody changed
    /// meanwhile is left out.
    ///
    /// # Errors
    /// A brake holds it, another apply is going on, the settings or the list are others than the work was
    /// made with, or the journal or the copy cannot be written: then nothing was changed. Whatever happens
    /// later is told in what comes back.
    pub async fn apply(&self, work: &Work, consent: &Consent) -> Result<Applied, Error> {
        self.apply_with(&*self.store(), work, consent).await
    }

    /// As [`Workspace::apply`], to a list that the application keeps in a place of its own.
    ///
    /// # Errors
    /// As [`Workspace::apply`].
    pub async fn apply_with(
        &self,
        store: &dyn AccountStore,
        work: &Work,
        consent: &Consent,
    ) -> Result<Applied, Error> {
        self.consider(store, work, consent)?;
        let store = &self.linked(store).applying();
        let settings = self.settings();
        let (fields, unique) = (settings.account_fields(), settings.unique_fields());
        let mut journal = Journal::write(self.state(), &consent.who)?;
        let interrupted = take_up(&mut journal, store, &fields).await?;
        let memory = journal.memory()?;
        let latest = journal.latest()?;
        let is_preview = work.origin == Origin::Preview;
        let mut remembered = Remembered::default();
        if is_preview {
            remembered.applied = Some(work.selecting.clone());
            // Another run since has looked at who is missing, and knows better.
            remembered.missed = (work.latest == latest).then(|| work.missed.clone());
        }
        let mut applied =
            Applied { run: None, outcomes: Vec::new(), backup: None, interrupted, stopped: None };
        if work.edits.is_empty() {
            if is_preview {
                store.remember(&mut remembered, links(&store.accounts(&fields).await?));
                journal.end(None, &remembered)?;
            }
            return Ok(applied);
        }
        if store.is_apart() {
            // From here on the links are those of accounts that are there.
            let mut kept = Remembered::default();
            store.remember(&mut kept, links(&store.accounts(&fields).await?));
            journal.end(None, &Remembered { known: None, ..kept })?;
        }
        let begun = Begun {
            who: &consent.who,
            undoes: match work.origin {
                Origin::Undo(run) => Some(run),
                Origin::Preview => None,
            },
            settings: &work.settings,
            store: &work.store,
            released: &consent.release,
        };
        let run = journal.begin(&begun, &work.edits)?;
        applied.run = Some(run);
        let copied = self.copy(store, &fields, run, &work.edits).await;
        let beside = |file: &Path| file.strip_prefix(self.folder()).unwrap_or(file).to_owned();
        match copied.and_then(|file| Ok(journal.backed_up(run, &beside(&file)).map(|()| file)?)) {
            Ok(file) => applied.backup = Some(file),
            Err(error) => {
                let nothing: Vec<_> = (0..work.edits.len())
                    .map(|at| (at, Outcome::Left("no copy could be made first".to_owned())))
                    .collect();
                journal.record(run, &nothing, None)?;
                journal.end(Some((run, Ending::Stopped)), &Remembered::default())?;
                return Err(error);
            }
        }
        let terms = Terms {
            fields: &fields,
            unique: &unique,
            original: work.original.as_deref(),
            stop_after: consent.stop_after,
        };
        if !self.carry_out(store, work, &terms, &mut journal, &mut applied).await? {
            // Nobody knows what was done. The run stays open in the journal, and the next apply looks.
            return Ok(applied);
        }
        let ending = if applied.stopped.is_some() { Ending::Stopped } else { Ending::Done };
        if let Ok(accounts) = store.accounts(&fields).await {
            store.remember(&mut remembered, links(&accounts));
            let known = remembered.known.get_or_insert_default();
            for (edit, outcome) in work.edits.iter().zip(&applied.outcomes) {
                let link = edit.after.as_ref().and_then(|account| account.link.as_ref());
                if edit.kind == ChangeKind::Import
                    && !matches!(outcome, Some(Outcome::Done | Outcome::Made))
                    && let Some((link, login)) = link.and_then(|link| memory.known.get_key_value(link))
                {
                    known.insert(link.clone(), login.clone());
                }
            }
        }
        if ending == Ending::Stopped {
            remembered.applied = None;
        }
        journal.end(Some((run, ending)), &remembered).map_err(unrecorded)?;
        Ok(applied)
    }

    /// The SQL statements by which somebody may carry the work out themselves, where the accounts are in a
    /// table. Nothing is changed, and the journal knows nothing of it.
    ///
    /// # Errors
    /// As [`Workspace::apply`] before anything is written; the accounts are in no table.
    pub async fn statements(&self, work: &Work, consent: &Consent) -> Result<String, Error> {
        let store = self.store();
        self.consider(&*store, work, consent)?;
        if self.linked(&*store).is_apart() {
            return Err(ApplyError::from(ApplyErrorKind::LinksApart).into());
        }
        let settings = self.settings();
        let (fields, unique) = (settings.account_fields(), settings.unique_fields());
        let terms = Terms {
            fields: &fields,
            unique: &unique,
            original: work.original.as_deref(),
            stop_after: consent.stop_after,
        };
        let statements = store.statements(&work.edits, &terms).await?;
        Ok(statements.ok_or_else(|| ApplyError::from(ApplyErrorKind::NoTable(store.describe())))?)
    }

    /// Forgets the runs that began before a day, but the latest, and their copies of the accounts; what
    /// is remembered of people stays. How many runs.
    ///
    /// # Errors
    /// The journal cannot be written, or another apply has it.
    pub fn forget_before(&self, day: Date, who: &str) -> Result<usize, Error> {
        if Journal::read(self.state())?.is_none() {
            return Ok(0);
        }
        let forgotten = Journal::write(self.state(), who)?.forget_before(day)?;
        for backup in forgotten.iter().flatten() {
            // A copy that somebody took away already is gone as well.
            let _ = std::fs::remove_file(self.folder().join(backup));
        }
        Ok(forgotten.len())
    }

    /// The journal, to be read; none before the first apply.
    ///
    /// # Errors
    /// It cannot be read, or a newer version wrote it.
    pub fn journal(&self) -> Result<Option<Journal>, Error> {
        Ok(Journal::read(self.state())?)
    }

    /// Whether the work may be begun: before anybody is asked.
    ///
    /// # Errors
    /// As [`Workspace::apply`] before anything is written.
    pub fn may_apply(&self, work: &Work, consent: &Consent) -> Result<(), Error> {
        Ok(self.consider(&*self.store(), work, consent)?)
    }

    /// Whether the work may be begun at all.
    fn consider(&self, store: &dyn AccountStore, work: &Work, consent: &Consent) -> Result<(), ApplyError> {
        if let Some(name) = consent.release.iter().find(|name| !BRAKES.contains(&name.as_str())) {
            return Err(ApplyErrorKind::NoBrake(name.clone()).into());
        }
        let other = |what| Err(ApplyErrorKind::Other { what }.into());
        if work.store != store.place() {
            return other("for another list of accounts");
        }
        if work.origin == Origin::Preview && work.settings != self.digest() {
            return other("with other settings");
        }
        let held: Vec<Brake> = work
            .brakes
            .iter()
            .filter(|brake| !consent.release.iter().any(|name| *name == brake.name))
            .cloned()
            .collect();
        if held.is_empty() { Ok(()) } else { Err(ApplyErrorKind::Braked { brakes: held }.into()) }
    }

    /// Makes the edits, and says whether it is known what became of each.
    async fn carry_out(
        &self,
        store: &Linked<'_>,
        work: &Work,
        terms: &Terms<'_>,
        journal: &mut Journal,
        applied: &mut Applied,
    ) -> Result<bool, Error> {
        let Some(run) = applied.run else { return Ok(true) };
        let of = work.edits.len();
        applied.outcomes = vec![None; of];
        let (mut failed, mut done) = (0, 0);
        let mut waiting: Vec<(usize, Outcome)> = Vec::new();
        let mut unwritten = None;
        let ties = store.ties(&work.edits);
        let outcomes = &mut applied.outcomes;
        let ended = store
            .carry_out(&work.edits, terms, &mut |at, outcome| {
                failed += usize::from(matches!(outcome, Outcome::Failed(_)));
                done += 1;
                self.tell(|| Progress::CarriedOut { edits: done, of });
                if let Some(slot) = outcomes.get_mut(at) {
                    *slot = Some(outcome.clone());
                }
                waiting.push((at, outcome));
                // What follows a fault is not written: the next apply looks at it, with the rest.
                if waiting.len() >= BATCH && unwritten.is_none() {
                    unwritten = journal.record(run, &std::mem::take(&mut waiting), ties).err();
                }
                unwritten.is_none()
            })
            .await;
        let written = unwritten.map_or_else(|| journal.record(run, &waiting, ties), Err);
        written.map_err(unrecorded)?;
        if let Err(error) = ended {
            applied.stopped = Some(error.to_string());
            // Some may have been made without a word: the list is looked at.
            let Ok(accounts) = store.accounts(terms.fields).await else { return Ok(false) };
            for (at, outcome) in look(journal, run, store, &accounts).map_err(unrecorded)? {
                if let Some(slot) = applied.outcomes.get_mut(at) {
                    *slot = Some(outcome);
                }
            }
        } else {
            let open = applied.outcomes.iter_mut().enumerate().filter(|(_, outcome)| outcome.is_none());
            let left: Vec<(usize, Outcome)> = open
                .map(|(at, slot)| {
                    let outcome = Outcome::Left("not begun, since too many were refused".to_owned());
                    (at, slot.insert(outcome).clone())
                })
                .collect();
            if !left.is_empty() {
                journal.record(run, &left, None).map_err(unrecorded)?;
                applied.stopped = Some(format!("{failed} changes were refused"));
            }
        }
        Ok(true)
    }

    /// Copies the list, or the accounts concerned, to a new file.
    async fn copy(
        &self,
        store: &Linked<'_>,
        fields: &[&str],
        run: i64,
        edits: &[Edit],
    ) -> Result<PathBuf, Error> {
        let folder = backups_of(&self.file);
        let failed = |file: &Path, reason: &dyn std::fmt::Display| {
            ApplyError::from(ApplyErrorKind::NoCopy { file: file.to_owned(), reason: reason.to_string() })
        };
        make_private(&folder).map_err(|error| failed(&folder, &error))?;
        // A copy of an earlier journal's run may be there, where that journal was taken away.
        let is_taken = |stem: &PathBuf| ["csv", "jsonl"].iter().any(|end| stem.with_extension(end).exists());
        let plain = folder.join(format!("run-{run}"));
        let later = || folder.join(format!("run-{run}-{}", Timestamp::now().as_millisecond()));
        let stem = if is_taken(&plain) { later() } else { plain };
        if let Some(file) = store.copy(&stem).await.map_err(|error| failed(&stem, &error))? {
            return Ok(file);
        }
        let accounts = store.accounts(fields).await?;
        let file = stem.with_extension("jsonl");
        let standings = standings(edits, &accounts, &[]);
        let write = || -> std::io::Result<()> {
            let mut out = std::io::BufWriter::new(state::private(&file)?);
            for standing in &standings {
                if let Standing::Ready(Some(at)) = standing
                    && let Some(account) = accounts.get(*at)
                {
                    serde_json::to_writer(&mut out, account)?;
                    out.write_all(b"\n")?;
                }
            }
            out.into_inner().map_err(std::io::IntoInnerError::into_error)?.sync_all()
        };
        write().map_err(|error| failed(&file, &error))?;
        crash::point();
        Ok(file)
    }

    /// The digest of the settings: of what they say, not of how they are laid out.
    fn digest(&self) -> String {
        hex(format!("{:?}", self.settings()).as_bytes())
    }
}

/// Looks what a run that was cut off had done, and ends it.
async fn take_up(
    journal: &mut Journal,
    store: &Linked<'_>,
    fields: &[&str],
) -> Result<Option<Interrupted>, Error> {
    let Some(run) = journal.unfinished()? else { return Ok(None) };
    let accounts = store.accounts(fields).await?;
    look(journal, run, store, &accounts)?;
    let entries = journal.entries(run)?;
    let done = entries.iter().filter(|entry| entry.outcome == Some(Outcome::Done)).count();
    // What it would have remembered, the next preview finds again, but for the links.
    let mut remembered = Remembered::default();
    let accounts = if store.is_apart() { store.accounts(fields).await? } else { accounts };
    store.remember(&mut remembered, links(&accounts));
    journal.end(Some((run, Ending::Interrupted)), &remembered)?;
    Ok(Some(Interrupted { run, done, open: entries.len() - done }))
}

/// Looks in the list which edits of a run were made without a word in the journal, and writes it there.
fn look(
    journal: &mut Journal,
    run: i64,
    store: &Linked<'_>,
    accounts: &[Account],
) -> Result<Vec<(usize, Outcome)>, StateError> {
    let entries = journal.entries(run)?;
    let open = entries.iter().enumerate().filter(|(_, entry)| entry.outcome.is_none());
    let (places, edits): (Vec<usize>, Vec<Edit>) = open.map(|(at, entry)| (at, entry.edit.clone())).unzip();
    let outcome = |standing| match standing {
        Standing::Made => Outcome::Done,
        Standing::Stale(words) => Outcome::Left(words),
        _ => Outcome::Left("it was not done: the run ended before".to_owned()),
    };
    let found: Vec<_> =
        places.into_iter().zip(store.standings(&edits, accounts).into_iter().map(outcome)).collect();
    let all: Vec<Edit> = entries.into_iter().map(|entry| entry.edit).collect();
    journal.record(run, &found, store.ties(&all))?;
    Ok(found)
}

/// Something was done, and cannot be written down.
fn unrecorded(error: StateError) -> ApplyError {
    ApplyErrorKind::Unrecorded { reason: error.to_string() }.into()
}

fn links(accounts: &[Account]) -> BTreeMap<Identity, String> {
    accounts.iter().filter_map(|one| Some((one.link.clone()?, one.login.clone()))).collect()
}

fn make_private(folder: &Path) -> std::io::Result<()> {
    let mut builder = std::fs::DirBuilder::new();
    #[cfg(unix)]
    {
        use std::os::unix::fs::DirBuilderExt as _;
        builder.mode(0o700);
    }
    builder.recursive(true).create(folder)
}

fn hex(bytes: &[u8]) -> String {
    digest(&SHA256, bytes).as_ref().iter().map(|byte| format!("{byte:02x}")).collect()
}
