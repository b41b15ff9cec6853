//! What a connection to a directory needs: settings, password, deadline. The password is fetched once for each run,
//! however many servers are asked.

use super::connection::{Connection, servers};
use super::root_dse::RootDse;
use super::transport::Milestone;
use crate::directory::DirectoryError;
use crate::progress::{Progress, Watch};
use secrecy::SecretString;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio::time::Instant;
use webtaxon_core::ldap::url::Server;
use webtaxon_core::reading::snapshot::Snapshot;
use webtaxon_core::settings::Directory;

/// Access to a directory for one run.
#[derive(Clone)]
pub struct Access {
    directory: Directory,
    folder: PathBuf,
    password: Option<SecretString>,
    deadline: Instant,
    /// The snapshot that answers in place of the servers, if any.
    snapshot: Option<Arc<Snapshot>>,
    /// The receiver of progress events.
    pub(crate) watch: Watch,
}

impl std::fmt::Debug for Access {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        out.debug_struct("Access").field("directory", &self.directory.name).finish_non_exhaustive()
    }
}

impl Access {
    /// Access for a run that begins now. Relative paths start from `folder`.
    #[must_use]
    pub fn new(directory: &Directory, folder: &Path, password: Option<SecretString>) -> Self {
        let deadline = Instant::now() + directory.deadline;
        Self {
            directory: directory.clone(),
            folder: folder.to_owned(),
            password,
            deadline,
            snapshot: None,
            watch: Watch::default(),
        }
    }

    /// This access for another run, which begins now and has time for an answer of each of two servers.
    pub(crate) fn renewed(&self) -> Self {
        Self { deadline: Instant::now() + self.directory.timeout * 2, ..self.clone() }
    }

    /// This access, with progress events sent to `watch`.
    #[must_use]
    pub fn watched(mut self, watch: Watch) -> Self {
        self.watch = watch;
        self
    }

    /// This access, with a snapshot that answers in place of the servers.
    #[must_use]
    pub fn from_snapshot(mut self, snapshot: Option<Arc<Snapshot>>) -> Self {
        self.snapshot = snapshot;
        self
    }

    /// The snapshot that answers in place of the servers, if any.
    #[must_use]
    pub fn snapshot(&self) -> Option<&Snapshot> {
        self.snapshot.as_deref()
    }

    /// The directory's settings.
    #[must_use]
    pub fn directory(&self) -> &Directory {
        &self.directory
    }

    /// The servers, in the order in which to try them.
    ///
    /// # Errors
    /// DNS has none for the domain.
    pub async fn servers(&self) -> Result<Vec<Server>, DirectoryError> {
        if self.snapshot.is_some() {
            return Ok(Vec::new());
        }
        servers(&self.directory).await
    }

    /// Connects to the first usable server of `list`, and binds.
    ///
    /// A refused bind ends the search: the password would be refused by every server, and each attempt may count
    /// towards a lockout.
    ///
    /// # Errors
    /// The failure of each server, if none was usable; or the reason for the refused bind.
    pub async fn open_first(&self, list: &[Server]) -> Result<Connection, DirectoryError> {
        if let Some(snapshot) = &self.snapshot {
            return Ok(Connection::offline(Arc::clone(snapshot), &self.directory, self.deadline));
        }
        let mut failed = Vec::new();
        for server in list {
            let error = match self.connect(server, &mut |_| {}).await {
                Ok(mut connection) => match self.bind(&mut connection, server).await {
                    Ok(()) => {
                        self.watch.tell(|| Progress::Connected { server: server.to_string() });
                        connection.watch = self.watch.clone();
                        return Ok(connection);
                    }
                    Err(error) if error.is_servers_own() => error,
                    Err(error) => return Err(error),
                },
                Err(error) => error,
            };
            tracing::debug!(%server, %error, "this server cannot be used");
            failed.push(error);
        }
        Err(DirectoryError::of_all(failed))
    }

    /// Binds a connection to this server. If the server ends it after each search, it has ended after that of the root
    /// DSE: then it is opened again, now and later.
    pub(crate) async fn bind(
        &self,
        connection: &mut Connection,
        server: &Server,
    ) -> Result<(), DirectoryError> {
        match connection.bind(&self.directory, self.password.as_ref()).await {
            Err(error) if connection.ended_after_one(&error) => {
                *connection = self.connect_again(server, connection.root().clone()).await?;
            }
            bound => bound?,
        }
        let (access, server) = (self.clone(), server.clone());
        connection.can_reopen(Arc::new(move |root, deadline| {
            let (access, server) = (Self { deadline, ..access.clone() }, server.clone());
            Box::pin(async move { access.connect_again(&server, root).await })
        }));
        Ok(())
    }

    /// Connects to one server whose root DSE is known, and binds.
    async fn connect_again(&self, server: &Server, root: RootDse) -> Result<Connection, DirectoryError> {
        let mut connection = self.open_again(server, root).await?;
        connection.bind(&self.directory, self.password.as_ref()).await?;
        Ok(connection)
    }

    /// Connects to one server whose root DSE is known.
    async fn open_again(&self, server: &Server, root: RootDse) -> Result<Connection, DirectoryError> {
        let told = &mut |_: Milestone| {};
        Connection::open_at(server, &self.directory, &self.folder, self.deadline, Some(root), told).await
    }

    /// Connects to one server for binds as people. If it ends connections after each search, as that of the root DSE, it is
    /// opened again.
    pub(crate) async fn connect_for_people(&self, server: &Server) -> Result<Connection, DirectoryError> {
        let mut connection = self.connect(server, &mut |_| {}).await?;
        let (access, server) = (self.clone(), server.clone());
        connection.can_reopen(Arc::new(move |root, deadline| {
            let (access, server) = (Self { deadline, ..access.clone() }, server.clone());
            Box::pin(async move { access.open_again(&server, root).await })
        }));
        Ok(connection)
    }

    /// Connects to one server without binding, and reports each step.
    pub(crate) async fn connect(
        &self,
        server: &Server,
        told: &mut (dyn FnMut(Milestone) + Send),
    ) -> Result<Connection, DirectoryError> {
        Connection::open_at(server, &self.directory, &self.folder, self.deadline, None, told).await
    }

    /// Connects to a server named in a referral (RFC 4511 §4.5.3). Credentials and client certificate are presented
    /// only to servers that the settings name.
    pub(crate) async fn open_referred(&self, server: &Server) -> Result<Connection, DirectoryError> {
        if self.servers().await?.contains(server) {
            return self.open_first(std::slice::from_ref(server)).await;
        }
        let (directory, told) = (self.directory.anonymous(), &mut |_: Milestone| {});
        Connection::open_at(server, &directory, &self.folder, self.deadline, None, told).await
    }

    /// This access with an anonymous bind.
    pub(crate) fn anonymous(&self) -> Self {
        Self {
            directory: self.directory.anonymous(),
            folder: self.folder.clone(),
            password: None,
            deadline: self.deadline,
            snapshot: None,
            watch: Watch::default(),
        }
    }
}
