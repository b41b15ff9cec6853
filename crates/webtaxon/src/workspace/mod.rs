//! One settings file and the files beside it: where every run begins.

mod applying;
mod inspecting;

pub use inspecting::Answer;

use crate::check::{self, CheckStep};
use crate::directory::{Access, Connection, take_snapshot};
use crate::error::Error;
use crate::progress::Watch;
use crate::setup::{Setup, read_snapshot};
use crate::state::StateStore;
use crate::store::AccountStore;
use secrecy::SecretString;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use webtaxon_core::account::Account;
use webtaxon_core::preview::Preview;
use webtaxon_core::reading::snapshot::Snapshot;
use webtaxon_core::settings::{Intake, Settings};

/// Settings that were read and checked, and the folder that their paths start from.
///
/// Cheap enough to clone for each request of a service.
#[derive(Clone)]
pub struct Workspace {
    setup: Arc<Setup>,
}

impl std::fmt::Debug for Workspace {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Workspace").field("folder", &self.setup.folder).finish_non_exhaustive()
    }
}

impl Workspace {
    /// Reads and checks a settings file. Nothing is connected yet.
    ///
    /// # Errors
    /// The file cannot be read, or the settings are wrong.
    pub fn open(file: impl AsRef<Path>) -> Result<Self, Error> {
        let file = file.as_ref();
        let bytes =
            std::fs::read(file).map_err(|reason| Error::NoSettings { file: file.to_owned(), reason })?;
        let settings = Settings::parse(&file.display().to_string(), &bytes)?;
        let folder = file.parent().map(Path::to_owned).unwrap_or_default();
        Ok(Self::of(settings, file.to_owned(), folder))
    }

    /// A workspace of settings that a program put together ([`Settings::from_value`], [`Settings::parse`]).
    ///
    /// Relative paths in them start from `folder`. What is remembered from run to run is kept there, in
    /// `webtaxon.state.sqlite`, unless `[state]` or [`Workspace::with_state`] gives it another place; copies
    /// of the accounts, made before each apply, in the folder `webtaxon.backups`.
    #[must_use]
    pub fn new(settings: Settings, folder: impl Into<PathBuf>) -> Self {
        let folder = folder.into();
        Self::of(settings, folder.join("webtaxon.toml"), folder)
    }

    fn of(settings: Settings, file: PathBuf, folder: PathBuf) -> Self {
        let setup = Setup {
            settings,
            file,
            folder,
            store: None,
            state: None,
            prompt: None,
            snapshot: None,
            watch: Watch::default(),
        };
        Self { setup: Arc::new(setup) }
    }

    fn changed(mut self, change: impl FnOnce(&mut Setup)) -> Self {
        change(Arc::make_mut(&mut self.setup));
        self
    }

    /// Says how somebody is asked for a password, where the settings say `password = { ask = true }`.
    #[must_use]
    pub fn with_prompt(
        self,
        ask: impl Fn(&str) -> std::io::Result<SecretString> + Send + Sync + 'static,
    ) -> Self {
        self.changed(|setup| setup.prompt = Some(Arc::new(ask)))
    }

    /// Says who is told how far a reading has come, while it goes on.
    #[must_use]
    pub fn watched(self, watch: Watch) -> Self {
        self.changed(|setup| setup.watch = watch)
    }

    /// Puts the application's own store in place of the one that the settings name, for everything that
    /// this workspace does.
    #[must_use]
    pub fn with_store(self, store: Arc<dyn AccountStore>) -> Self {
        self.changed(|setup| setup.store = Some(store))
    }

    /// Keeps what is remembered from run to run, and the journal, in a place of the application's own: not
    /// in a file beside the settings, nor in the database that `[state]` names.
    #[must_use]
    pub fn with_state(self, state: Arc<dyn StateStore>) -> Self {
        self.changed(|setup| setup.state = Some(state))
    }

    /// Reads a snapshot, which answers in place of the directory from here on.
    ///
    /// # Errors
    /// The file cannot be read, or is not LDIF.
    pub fn with_snapshot(self, file: &Path) -> Result<Self, Error> {
        let snapshot = read_snapshot(file)?;
        Ok(self.changed(|setup| setup.snapshot = Some(Arc::new(snapshot))))
    }

    /// The snapshot that answers in place of the directory, if one does.
    #[must_use]
    pub fn snapshot(&self) -> Option<&Snapshot> {
        self.setup.snapshot.as_deref()
    }

    fn intake_names(&self) -> Vec<String> {
        self.setup.settings.intakes.iter().map(|intake| intake.name.clone()).collect()
    }

    /// The intake that reading a directory by itself is about: the first.
    fn intake(&self) -> &Intake {
        &self.setup.settings.intakes.first
    }

    /// The same with one of the intakes alone, to look at what it reads. Never apply a preview of it: it
    /// would take away everybody whom the other intakes bring in.
    ///
    /// # Errors
    /// The settings have no intake of this name.
    pub fn for_intake(&self, name: &str) -> Result<Self, Error> {
        let intake = self.setup.settings.intakes.iter().find(|intake| intake.name == name);
        let intake =
            intake.ok_or_else(|| Error::NoIntake { name: name.to_owned(), known: self.intake_names() })?;
        Ok(Self { setup: Arc::new(self.setup.with_intake(intake)) })
    }

    /// Reads what the intake needs into a snapshot. With `mask`, the people in it cannot be
    /// recognised: the mask's key is made for this snapshot alone and forgotten.
    ///
    /// # Errors
    /// As [`Workspace::preview`].
    pub async fn take_snapshot(&self, mask: bool) -> Result<Snapshot, Error> {
        if !self.setup.settings.intakes.is_single() {
            return Err(Error::SeveralIntakes(self.intake_names()));
        }
        let accounts = self.accounts().await?;
        let links: Vec<_> = accounts.iter().filter_map(|account| account.link.clone()).collect();
        Ok(take_snapshot(&self.access().await?, self.intake(), &links, mask).await?)
    }

    /// The settings.
    #[must_use]
    pub fn settings(&self) -> &Settings {
        &self.setup.settings
    }

    /// The folder that paths in the settings start from.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.setup.folder
    }

    /// The application's account store.
    #[must_use]
    pub fn store(&self) -> Arc<dyn AccountStore> {
        self.setup.store()
    }

    /// Every account of the application, with its link, wherever that is kept.
    ///
    /// # Errors
    /// The accounts cannot be read, or the state that has the links.
    pub async fn accounts(&self) -> Result<Vec<Account>, Error> {
        self.setup.accounts().await
    }

    /// What an administrator should hear at every run, whatever its outcome.
    #[must_use]
    pub fn warnings(&self) -> Vec<String> {
        self.setup.warnings()
    }

    /// The key to the directory that the first intake reads. The password is fetched once, for a whole run.
    ///
    /// # Errors
    /// The password's source is missing or empty.
    pub async fn access(&self) -> Result<Access, Error> {
        Ok(self.setup.access(self.intake()).await?)
    }

    /// Connects to the directory that the first intake reads, and binds.
    ///
    /// # Errors
    /// No server could be reached and trusted, or the bind was refused.
    pub async fn connect(&self) -> Result<Connection, Error> {
        Ok(self.setup.connect(self.intake()).await?)
    }

    /// Reads the directory and the application's accounts, and works out what would change.
    ///
    /// A reading that was cut short is no error: the preview says what is missing, and takes
    /// nobody's account away.
    ///
    /// # Errors
    /// The accounts cannot be read, no server could be reached, or the bind was refused.
    pub async fn preview(&self) -> Result<Preview, Error> {
        let memory = self.setup.memory().await?;
        let found = self.setup.find(&[]).await?;
        Ok(Preview::of(found.situation(self.settings(), &memory)))
    }

    /// Tries everything that a run needs, one after the other, and reports each step as it ends.
    /// A server that cannot be reached is tried again until `wait` is over.
    pub async fn check(&self, wait: Duration, report: impl FnMut(&CheckStep) + Send) -> Vec<CheckStep> {
        check::check(&self.setup, wait, report).await
    }
}
