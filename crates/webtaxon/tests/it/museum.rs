//! The museum's workspace in a folder of its own, with its simulated directory.

use std::path::Path;
use std::sync::Arc;
use tempfile::TempDir;
use webtaxon::{Error, Workspace};
use webtaxon_standin::{Directory, Options, Standin};

pub(crate) const DIRECTORY: &str = include_str!("../../../../demo/directory.ldif");
pub(crate) const SETTINGS: &str = include_str!("../../../../demo/webtaxon.toml");
pub(crate) const ACCOUNTS: &str = include_str!("../../../../demo/accounts.csv");

/// A folder with settings, accounts, password and authority, and the directory they name.
pub(crate) struct Museum {
    folder: TempDir,
    standin: Option<Standin>,
}

impl Museum {
    pub(crate) async fn with(ldif: &str, options: Options) -> Self {
        Self::of(&Arc::new(Directory::from_ldif(ldif.as_bytes()).unwrap()), options).await
    }

    pub(crate) async fn of(directory: &Arc<Directory>, options: Options) -> Self {
        let directory = Arc::clone(directory);
        let standin = Standin::start(directory, options).await.unwrap();
        let museum = Self { folder: tempfile::tempdir().unwrap(), standin: Some(standin) };
        museum.write("webtaxon.toml", museum.settings());
        museum.write("accounts.csv", ACCOUNTS);
        museum.write("museum-password.txt", "botanical-garden-42\n");
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt as _;
            let secret = museum.path().join("museum-password.txt");
            std::fs::set_permissions(secret, std::fs::Permissions::from_mode(0o600)).unwrap();
        }
        museum.write("museum-ca.pem", museum.standin().authority_pem());
        museum
    }

    /// Another simulated directory with the same entries, at this port.
    pub(crate) async fn twin(&self, port: u16) -> Standin {
        let directory = Arc::new(Directory::from_ldif(DIRECTORY.as_bytes()).unwrap());
        let listen = ([127, 0, 0, 1], port).into();
        let twin = Standin::start(directory, Options { listen, ..Options::default() }).await.unwrap();
        self.write("museum-ca.pem", twin.authority_pem());
        twin
    }

    pub(crate) async fn open() -> Self {
        Self::with(DIRECTORY, Options::default()).await
    }

    /// The demo's settings, at this directory's address.
    pub(crate) fn settings(&self) -> String {
        SETTINGS.replace("ldaps://localhost:6360", &self.standin().url())
    }

    pub(crate) fn standin(&self) -> &Standin {
        self.standin.as_ref().unwrap()
    }

    pub(crate) fn path(&self) -> &Path {
        self.folder.path()
    }

    pub(crate) fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        std::fs::write(self.folder.path().join(name), text).unwrap();
    }

    /// Writes the settings with one text changed.
    pub(crate) fn change(&self, from: &str, to: &str) {
        let settings = self.settings();
        assert!(settings.contains(from), "{from}");
        self.write("webtaxon.toml", settings.replace(from, to));
    }

    pub(crate) fn workspace(&self) -> Result<Workspace, Error> {
        Workspace::open(self.folder.path().join("webtaxon.toml"))
    }

    pub(crate) async fn preview(&self) -> Result<webtaxon::model::preview::Preview, Error> {
        self.workspace()?.preview().await
    }
}

/// The message, the code and the way out of a failure.
pub(crate) fn told(error: &Error) -> (String, String, String) {
    use miette::Diagnostic;
    let text =
        |part: Option<Box<dyn std::fmt::Display + '_>>| part.map(|part| part.to_string()).unwrap_or_default();
    (error.to_string(), text(error.code()), text(error.help()))
}

/// A preview fails with this message, this code and this way out.
pub(crate) async fn fails(museum: &Museum, message: &str, code: &str, help: &str) {
    let error = museum.preview().await.expect_err(message);
    let (said, its_code, way_out) = told(&error);
    assert!(said.contains(message), "{said}");
    assert_eq!(its_code, code, "{said}");
    assert!(way_out.contains(help), "{way_out}");
}
