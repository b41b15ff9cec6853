//! Settings with everything else that a run needs: the folder for relative paths, the account store, the password
//! prompt, a snapshot, the receiver of progress events.

use crate::background;
use crate::box_error::BoxError;
use crate::directory::{Access, Connection, DirectoryError, DirectoryErrorKind, KnownLinks, read_for};
use crate::error::Error;
use crate::links::Linked;
use crate::progress::Watch;
use crate::secure::{Prompt, password, password_warning};
use crate::state::{self, Journal, StateStore};
use crate::store::{self, AccountStore, names};
use secrecy::SecretString;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use webtaxon_core::account::{Account, Groups, Habits, Inquiry, Replies};
use webtaxon_core::ldap::url::Server;
use webtaxon_core::preview::{Memory, Preview, Situation};
use webtaxon_core::reading::snapshot::Snapshot;
use webtaxon_core::reading::{Reading, Request};
use webtaxon_core::settings::{Directory, Intake, Intakes, Servers, Settings, StoreSettings};

/// Settings with everything else that a run needs.
#[derive(Clone)]
pub(crate) struct Setup {
    pub(crate) settings: Settings,
    /// The settings file; the state is beside it.
    pub(crate) file: PathBuf,
    /// The folder for relative paths in the settings.
    pub(crate) folder: PathBuf,
    /// The application's own store; `None` for the one in the settings.
    pub(crate) store: Option<Arc<dyn AccountStore>>,
    /// The application's own place for the state; `None` for the one in the settings.
    pub(crate) state: Option<Arc<dyn StateStore>>,
    pub(crate) prompt: Option<Arc<Prompt>>,
    /// The snapshot that answers in place of the directory, if any.
    pub(crate) snapshot: Option<Arc<Snapshot>>,
    pub(crate) watch: Watch,
}

/// The accounts, the groups if the settings import any, and the reading of each intake.
pub(crate) struct Lists {
    pub(crate) accounts: Vec<Account>,
    pub(crate) groups: Option<Groups>,
    pub(crate) readings: Vec<Reading>,
    /// The store's replies.
    pub(crate) replies: Replies,
}

/// Maximum rounds of questions to a store: each reply may change what is to be written.
const ROUNDS: usize = 8;

impl Lists {
    /// The input of a preview.
    pub(crate) fn situation<'f>(&'f self, settings: &'f Settings, memory: &'f Memory) -> Situation<'f> {
        let situation = Situation::new(settings, &self.readings, &self.accounts, memory);
        situation.with_groups(self.groups.as_ref()).with_replies(&self.replies)
    }

    /// The preview, after the store was asked about everything that would be written or removed.
    pub(crate) async fn preview(
        &mut self,
        settings: &Settings,
        memory: &Memory,
        store: &dyn AccountStore,
    ) -> Result<Preview, Error> {
        let is_of_one = self.readings.iter().any(Reading::is_of_one);
        if store.is_asked() && !is_of_one && settings.intakes.iter().any(|intake| intake.new) {
            store.may_create(names(settings.account_fields())).await?;
        }
        for _ in 0..ROUNDS {
            let preview = Preview::of(self.situation(settings, memory));
            let inquiry = match store.is_asked() {
                true => self.replies.unasked(inquiry(&preview, store)),
                false => Inquiry::default(),
            };
            if inquiry.is_empty() {
                return Ok(preview);
            }
            let replies = store.replies(inquiry.clone()).await?;
            let is_all_as_drawn = replies.is_empty();
            self.replies.add(inquiry, replies);
            if is_all_as_drawn {
                return Ok(preview);
            }
        }
        Ok(Preview::of(self.situation(settings, memory)))
    }
}

/// The questions to a store about a preview.
fn inquiry(preview: &Preview, store: &dyn AccountStore) -> Inquiry {
    let mut inquiry = preview.inquiry();
    if !store.judges_values() {
        inquiry.values.clear();
    }
    inquiry
}

impl Setup {
    /// This setup with one of the intakes only.
    pub(crate) fn with_intake(&self, intake: &Intake) -> Self {
        let mut setup = self.clone();
        setup.settings.intakes = Intakes::from(intake.clone());
        setup
    }

    /// The directory that an intake reads.
    pub(crate) fn directory(&self, intake: &Intake) -> Result<&Directory, DirectoryError> {
        self.settings.directory(intake).ok_or_else(|| DirectoryErrorKind::NoServer.into())
    }

    /// The password of a directory's bind account; `None` for a bind without one.
    pub(crate) async fn password(
        &self,
        directory: &Directory,
    ) -> Result<Option<SecretString>, DirectoryError> {
        Ok(password(directory, &self.folder, self.prompt.as_deref()).await?)
    }

    /// Access to an intake's directory. The password is fetched once for the run.
    pub(crate) async fn access(&self, intake: &Intake) -> Result<Access, DirectoryError> {
        let directory = self.directory(intake)?;
        if self.snapshot.is_some() {
            return Ok(Access::new(directory, &self.folder, None).from_snapshot(self.snapshot.clone()));
        }
        let access = Access::new(directory, &self.folder, self.password(directory).await?);
        Ok(access.watched(self.watch.clone()))
    }

    /// Access to each intake's directory, in order. Each password is fetched once.
    pub(crate) async fn accesses(&self) -> Result<Vec<Access>, DirectoryError> {
        let mut known: HashMap<&str, Access> = HashMap::new();
        let mut accesses = Vec::new();
        for intake in &self.settings.intakes {
            let access = match known.get(intake.directory.as_str()) {
                Some(access) => access.clone(),
                None => self.access(intake).await?,
            };
            accesses.push(access.clone());
            known.insert(&intake.directory, access);
        }
        Ok(accesses)
    }

    /// Connects to an intake's directory and binds.
    pub(crate) async fn connect(&self, intake: &Intake) -> Result<Connection, DirectoryError> {
        let access = self.access(intake).await?;
        access.open_first(&access.servers().await?).await
    }

    /// The account store.
    pub(crate) fn store(&self) -> Arc<dyn AccountStore> {
        match &self.store {
            Some(own) => Arc::clone(own),
            None => Arc::from(store::open(&self.settings.accounts.store, &self.folder)),
        }
    }

    /// A store whose accounts have their links, wherever the settings keep those.
    pub(crate) fn linked<'s>(&'s self, store: &'s dyn AccountStore) -> Linked<'s> {
        self.linked_by(&self.settings.accounts.store, store)
    }

    /// Like [`Setup::linked`], for the store of other settings, with the links of these.
    pub(crate) fn linked_by<'s>(
        &'s self,
        settings: &StoreSettings,
        store: &'s dyn AccountStore,
    ) -> Linked<'s> {
        let apart = (!settings.has_links()).then(|| (self.state(), settings.list()));
        Linked::new(store, apart)
    }

    /// Every account, with its link.
    pub(crate) async fn accounts(&self) -> Result<Vec<Account>, Error> {
        let store = self.store();
        Ok(self.linked(&*store).accounts(names(self.settings.account_fields())).await?)
    }

    /// What the account store is known to do otherwise than it says.
    pub(crate) async fn habits(&self) -> Result<Habits, Error> {
        let (place, list) = (self.state(), self.store().place());
        let habits =
            background::run(move || Journal::read(&*place)?.map(|own| own.habits(&list)).transpose());
        Ok(habits.await?.unwrap_or_default())
    }

    /// Checks that no field is in a place whose values the store is known not to keep.
    pub(crate) async fn are_kept(&self, store: &dyn AccountStore, accounts: &[Account]) -> Result<(), Error> {
        if store.trial().is_none() {
            return Ok(());
        }
        let fields = names(self.settings.account_fields());
        Ok(store::are_kept(store, &self.habits().await?, &fields, accounts)?)
    }

    /// Reads each intake, in order.
    pub(crate) async fn readings(
        &self,
        accesses: &[Access],
        links: &KnownLinks,
        more: &[String],
    ) -> Result<Vec<Reading>, DirectoryError> {
        let mut readings = Vec::new();
        for (intake, access) in self.settings.intakes.iter().zip(accesses) {
            readings.push(read_for(access, &Request::of(intake).with(more), links).await?);
        }
        Ok(readings)
    }

    /// Reads the accounts and each intake side by side, with additional attributes of people, and holds the readings
    /// against what the last apply remembers.
    pub(crate) async fn find(&self, more: &[String], memory: &Memory) -> Result<Lists, Error> {
        let accesses = self.accesses().await?;
        let fields = names(self.settings.account_fields());
        let (tell, links) = KnownLinks::later();
        let store = self.store();
        let store = self.linked(&*store);
        let lists = async {
            let lists = store::lists(&store, fields, self.settings.brings_groups()).await?;
            tell.send_replace(Some(lists.0.iter().filter_map(|one| one.link.clone()).collect()));
            Ok(lists)
        };
        let readings = async { Ok::<_, Error>(self.readings(&accesses, &links, more).await?) };
        let ((accounts, groups), mut readings) = tokio::try_join!(lists, readings)?;
        self.are_kept(&store, &accounts).await?;
        for (intake, reading) in self.settings.intakes.iter().zip(&mut readings) {
            reading.hold_against(intake, memory.footprints.get(&intake.name));
        }
        Ok(Lists { accounts, groups, readings, replies: Replies::default() })
    }

    /// The place of the state.
    pub(crate) fn state(&self) -> Arc<dyn StateStore> {
        match &self.state {
            Some(own) => Arc::clone(own),
            None => state::open(&self.file, self.settings.state.as_ref(), &self.folder),
        }
    }

    /// The journal for reading; `None` before the first apply.
    pub(crate) async fn journal(&self) -> Result<Option<Journal>, Error> {
        let place = self.state();
        Ok(background::run(move || Journal::read(&*place)).await?)
    }

    /// What earlier runs remembered.
    pub(crate) async fn memory(&self) -> Result<Memory, Error> {
        let place = self.state();
        let only = self.settings.directories.keys().next().filter(|_| self.settings.directories.len() == 1);
        let only = only.cloned();
        let mut memory = background::run(move || state::memory(&*place, only.as_deref())).await?;
        if let Some(applied) = &mut memory.applied {
            self.settings.bring_up(applied);
        }
        Ok(memory)
    }

    /// The number of the latest run in the journal; zero before the first.
    pub(crate) async fn latest_run(&self) -> Result<i64, Error> {
        let place = self.state();
        let latest =
            background::run(move || Journal::read(&*place)?.map(|journal| journal.latest()).transpose());
        Ok(latest.await?.unwrap_or(0))
    }

    /// Warnings for the administrator that apply to every run.
    pub(crate) fn warnings(&self) -> Vec<String> {
        let mut warnings = Vec::new();
        for directory in self.settings.directories.values() {
            let goes_plain = match &directory.servers {
                Servers::Named(list) => list.iter().any(Server::begins_plain),
                Servers::Domain(_) => true,
            };
            if directory.plain && goes_plain {
                warnings.push(format!(
                    "directory {} is read without encryption (plain = true): anybody on the network path can read the password and the answers",
                    directory.name
                ));
            }
            warnings.extend(password_warning(directory, &self.folder));
        }
        let is_far = |host: &str| !host.starts_with('/');
        if let Some(state) = self.settings.state.as_ref().filter(|state| state.server.plain)
            && is_far(&state.server.host)
        {
            warnings.push(format!(
                "the state at {} is read without encryption (plain = true): anybody on the network path can read and change it",
                state.server.host
            ));
        }
        let plain = match &self.settings.accounts.store {
            StoreSettings::Postgres { server, .. } | StoreSettings::Mysql { server, .. }
                if server.plain && is_far(&server.host) =>
            {
                Some(&server.host)
            }
            StoreSettings::Scim(scim) if scim.service.starts_with("http://") => Some(&scim.service),
            _ => None,
        };
        if let Some(place) = plain {
            warnings.push(format!(
                "the accounts at {place} are read without encryption (plain = true): anybody on the network path can read and change them"
            ));
        }
        warnings
    }
}

/// Reads a snapshot from a file.
pub(crate) fn read_snapshot(file: &Path) -> Result<Snapshot, Error> {
    let failed = |source: BoxError| Error::NoSnapshot { file: file.to_owned(), source };
    let text = std::fs::read(file).map_err(|error| failed(error.into()))?;
    Snapshot::read(&text).map_err(|error| failed(error.into()))
}
