//! The face of the library: settings, and everything that can be done with them.

mod applying;
mod inspecting;
mod signing;

use crate::check::{self, CheckStep};
use crate::directory::{Access, Connection, take_snapshot};
use crate::error::Error;
use crate::progress::Watch;
use crate::settle::Clashes;
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

/// Checked settings, with the folder for their relative paths.
///
/// Cheap to clone for each request of a service.
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
    /// Reads and checks a settings file, without connecting to anything.
    ///
    /// # Errors
    /// The file cannot be read, or the settings are wrong.
    pub fn open(file: impl AsRef<Path>) -> Result<Self, Error> {
        let file = file.as_ref();
        let bytes =
            std::fs::read(file).map_err(|source| Error::NoSettings { file: file.to_owned(), source })?;
        let settings = Settings::parse(&file.display().to_string(), &bytes)?;
        let folder = file.parent().map(Path::to_owned).unwrap_or_default();
        Ok(Self::of(settings, file.to_owned(), folder))
    }

    /// A workspace for settings made by a program ([`Settings::from_value`], [`Settings::parse`]).
    ///
    /// Relative paths in them start from `folder`. The state between runs is kept there as well, in
    /// `webtaxon.state.sqlite`, unless `[state]` or [`Workspace::with_state`] gives another place; copies of the
    /// accounts, made before each apply, are kept in the folder `webtaxon.backups`.
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

    /// Sets the prompt for passwords with `password = { ask = true }` in the settings.
    #[must_use]
    pub fn with_prompt(
        self,
        ask: impl Fn(&str) -> std::io::Result<SecretString> + Send + Sync + 'static,
    ) -> Self {
        self.changed(|setup| setup.prompt = Some(Arc::new(ask)))
    }

    /// Sets the receiver of progress events.
    #[must_use]
    pub fn watched(self, watch: Watch) -> Self {
        self.changed(|setup| setup.watch = watch)
    }

    /// Replaces the store in the settings by the application's own, for everything that this workspace does.
    #[must_use]
    pub fn with_store(self, store: Arc<dyn AccountStore>) -> Self {
        self.changed(|setup| setup.store = Some(store))
    }

    /// Keeps the journal and the memory of runs in the application's own place, instead of a file beside the settings
    /// or the database in `[state]`.
    #[must_use]
    pub fn with_state(self, state: Arc<dyn StateStore>) -> Self {
        self.changed(|setup| setup.state = Some(state))
    }

    /// Reads a snapshot that answers in place of the directory from here on.
    ///
    /// # Errors
    /// The file cannot be read, or is not LDIF.
    pub fn with_snapshot(self, file: &Path) -> Result<Self, Error> {
        let snapshot = read_snapshot(file)?;
        Ok(self.changed(|setup| setup.snapshot = Some(Arc::new(snapshot))))
    }

    /// The snapshot that answers in place of the directory, if any.
    #[must_use]
    pub fn snapshot(&self) -> Option<&Snapshot> {
        self.setup.snapshot.as_deref()
    }

    fn intake_names(&self) -> Vec<String> {
        self.setup.settings.intakes.iter().map(|intake| intake.name.clone()).collect()
    }

    /// The intake for operations on a single one: the first.
    fn intake(&self) -> &Intake {
        &self.setup.settings.intakes.first
    }

    /// This workspace with one of the intakes only, to inspect what it reads. Never apply a preview of it: that would
    /// remove everybody whom the other intakes select.
    ///
    /// # Errors
    /// The settings have no intake of this name.
    pub fn for_intake(&self, name: &str) -> Result<Self, Error> {
        let intake = self.setup.settings.intakes.iter().find(|intake| intake.name == name);
        let intake =
            intake.ok_or_else(|| Error::NoIntake { name: name.to_owned(), known: self.intake_names() })?;
        Ok(Self { setup: Arc::new(self.setup.with_intake(intake)) })
    }

    /// Reads the intake into a snapshot. With `mask`, its people are unrecognisable: the mask's key is made for this
    /// snapshot and discarded.
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

    /// The folder for relative paths in the settings.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.setup.folder
    }

    /// The account store.
    #[must_use]
    pub fn store(&self) -> Arc<dyn AccountStore> {
        self.setup.store()
    }

    /// Every account of the application, with its link.
    ///
    /// # Errors
    /// The accounts cannot be read, or the state that holds their links.
    pub async fn accounts(&self) -> Result<Vec<Account>, Error> {
        self.setup.accounts().await
    }

    /// Warnings for the administrator that apply to every run.
    #[must_use]
    pub fn warnings(&self) -> Vec<String> {
        self.setup.warnings()
    }

    /// Access to the first intake's directory. The password is fetched once for the run.
    ///
    /// # Errors
    /// The password's source is missing or empty.
    pub async fn access(&self) -> Result<Access, Error> {
        Ok(self.setup.access(self.intake()).await?)
    }

    /// Connects to the first intake's directory, and binds.
    ///
    /// # Errors
    /// No server could be reached and trusted, or the bind was refused.
    pub async fn connect(&self) -> Result<Connection, Error> {
        Ok(self.setup.connect(self.intake()).await?)
    }

    /// Reads the directory and the accounts, and works out the changes.
    ///
    /// A reading that was cut short is not an error: the preview says what is missing, and takes no account away.
    ///
    /// # Errors
    /// The accounts cannot be read, no server could be reached, or the bind was refused.
    pub async fn preview(&self) -> Result<Preview, Error> {
        let memory = self.setup.memory().await?;
        let mut found = self.setup.find(&[], &memory).await?;
        found.preview(self.settings(), &memory, &*self.store()).await
    }

    /// The clashes of a preview as questions, with both sides.
    ///
    /// # Errors
    /// As [`Workspace::preview`].
    pub async fn clashes(&self) -> Result<Clashes, Error> {
        let memory = self.setup.memory().await?;
        let mut found = self.setup.find(&[], &memory).await?;
        let preview = found.preview(self.settings(), &memory, &*self.store()).await?;
        Ok(Clashes::of(self.settings(), preview, found, memory))
    }

    /// The settings file.
    #[must_use]
    pub fn file(&self) -> &Path {
        &self.setup.file
    }

    /// Tries everything that a run needs, in order, and reports each step at its end. A server that cannot be reached
    /// is tried again for up to `wait`.
    pub async fn check(&self, wait: Duration, report: impl FnMut(&CheckStep) + Send) -> Vec<CheckStep> {
        check::check(&self.setup, wait, report).await
    }

    /// Tries the account store on behalf of `who` with a scratch account of this login: creates, changes, suspends and
    /// removes it, and keeps in the state what the store does otherwise than it says. Reports each result.
    pub async fn try_scratch(
        &self,
        login: &str,
        who: &str,
        report: impl FnMut(&CheckStep) + Send,
    ) -> Vec<CheckStep> {
        check::try_scratch(&self.setup, login, who, report).await
    }
}
