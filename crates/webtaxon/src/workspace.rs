//! One settings file and the files beside it: where every run begins.

use crate::Error;
use crate::directory::{self, CheckStep, Connection, DirectoryError, DirectoryErrorKind};
use crate::store::{self, AccountStore};
use std::path::{Path, PathBuf};
use webtaxon_core::preview::Preview;
use webtaxon_core::settings::{Directory, Scheme, Settings};

/// Settings that were read and checked, and the folder that their paths start from.
#[derive(Debug)]
pub struct Workspace {
    settings: Settings,
    folder: PathBuf,
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
        Ok(Self { settings, folder })
    }

    /// The settings.
    #[must_use]
    pub fn settings(&self) -> &Settings {
        &self.settings
    }

    /// The folder that paths in the settings start from.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// The directory that the intake reads.
    pub(crate) fn directory(&self) -> Result<&Directory, DirectoryError> {
        self.settings.directory().ok_or_else(|| DirectoryErrorKind::NoServer.into())
    }

    /// The application's own list.
    #[must_use]
    pub fn store(&self) -> Box<dyn AccountStore> {
        store::open(&self.settings.accounts.store, &self.folder)
    }

    /// What an administrator should hear at every run, whatever its outcome.
    #[must_use]
    pub fn warnings(&self) -> Vec<String> {
        let plain = |directory: &&Directory| {
            directory.plain && directory.servers.iter().any(|server| server.scheme == Scheme::Ldap)
        };
        let directories = self.settings.directories.values().filter(plain);
        directories
            .map(|directory| {
                format!(
                    "directory {} is asked in plain text (plain = true): anybody on the way can read the password and the answers",
                    directory.name
                )
            })
            .collect()
    }

    /// Connects to the directory and says who asks.
    ///
    /// # Errors
    /// No server could be reached and trusted, or the bind was refused.
    pub async fn connect(&self) -> Result<Connection, Error> {
        let directory = self.directory()?;
        let password = directory::password(directory, &self.folder)?;
        let mut connection = Connection::open(directory, &self.folder).await?;
        connection.bind(directory, password.as_ref()).await?;
        Ok(connection)
    }

    /// Reads the directory and the application's list, and works out what would change.
    ///
    /// A reading that was cut short is no error: the preview says what is missing, and takes
    /// nobody's account away.
    ///
    /// # Errors
    /// The list cannot be read, no server could be reached, or the bind was refused.
    pub async fn preview(&self) -> Result<Preview, Error> {
        self.preview_with(&*self.store()).await
    }

    /// As [`Workspace::preview`], over a list that the application keeps in a place of its own.
    ///
    /// # Errors
    /// As [`Workspace::preview`].
    pub async fn preview_with(&self, store: &dyn AccountStore) -> Result<Preview, Error> {
        let fields: Vec<&str> = self.settings.intake.fields.keys().map(String::as_str).collect();
        let accounts = store.accounts(&fields).await?;
        let mut connection = self.connect().await?;
        let links = accounts.iter().filter_map(|account| account.link.clone());
        let reading = directory::read(&mut connection, &self.settings, links).await;
        connection.close().await;
        Ok(Preview::new(&self.settings, &reading, &accounts))
    }

    /// Tries everything that a run needs, one after the other, and reports each step as it ends.
    pub async fn check(&self, report: impl FnMut(&CheckStep)) -> Vec<CheckStep> {
        directory::check(self, report).await
    }
}
