//! Connections for sign-ins: some for searches, bound as the service account, and some for binds as people, which are
//! never used for anything else. Both are kept for later, within a limit. Servers are tried in order.

use super::servers::{Named, Servers};
use crate::directory::{Access, Connection, DirectoryError, DirectoryErrorKind};
use std::future::Future;
use std::pin::Pin;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use tokio::sync::{Semaphore, SemaphorePermit};
use tokio::time::Instant;

/// Connections of one kind to one directory.
const MOST: usize = 64;
/// Time for which an unused connection is kept: shorter than servers and firewalls allow.
const KEPT: Duration = Duration::from_secs(60);

/// The purpose of a connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Purpose {
    /// Searches, as the service account.
    Searches,
    /// Binds as people.
    Binds,
}

/// The connections of one directory.
pub(super) struct Pool {
    access: Access,
    servers: Arc<Servers>,
    searches: Kept,
    binds: Kept,
}

/// The connections of one kind that nobody uses.
struct Kept {
    idle: Mutex<Vec<(Connection, Instant)>>,
    permits: Semaphore,
}

/// A future of an operation, which gives the connection back if it can be used again.
pub(super) type Operation<'a, T> =
    Pin<Box<dyn Future<Output = (Option<Connection>, Result<T, DirectoryError>)> + Send + 'a>>;

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Kept {
    fn new() -> Self {
        Self { idle: Mutex::default(), permits: Semaphore::new(MOST) }
    }

    /// A connection that was kept, to one of these servers.
    fn take(&self, servers: &[Named]) -> Option<Connection> {
        let mut idle = locked(&self.idle);
        idle.retain(|(_, since)| since.elapsed() < KEPT);
        let is_usable =
            |(one, _): &(Connection, Instant)| servers.iter().any(|server| &*server.name == one.server());
        let at = idle.iter().rposition(is_usable)?;
        Some(idle.swap_remove(at).0)
    }

    fn keep(&self, connection: Connection) {
        let mut idle = locked(&self.idle);
        if idle.len() < MOST {
            idle.push((connection, Instant::now()));
        }
    }

    fn forget(&self, server: &str) {
        locked(&self.idle).retain(|(one, _)| one.server() != server);
    }
}

impl Pool {
    pub(super) fn new(access: Access) -> Self {
        Self { access, servers: Arc::default(), searches: Kept::new(), binds: Kept::new() }
    }

    pub(super) fn access(&self) -> &Access {
        &self.access
    }

    fn kept(&self, purpose: Purpose) -> &Kept {
        match purpose {
            Purpose::Searches => &self.searches,
            Purpose::Binds => &self.binds,
        }
    }

    /// Runs an operation on a connection of its kind: on one that was kept, on a new one if that has ended meanwhile, and
    /// at the next server if this one fails. An answer of any kind ends it.
    ///
    /// # Errors
    /// The failure of each server that was tried; or there was no connection in time.
    pub(super) async fn run<'a, T>(
        &self,
        purpose: Purpose,
        operation: &(dyn Fn(Connection) -> Operation<'a, T> + Sync),
    ) -> Result<T, DirectoryError> {
        let _permit = self.permit(purpose).await?;
        let all = self.servers.all(Instant::now(), self.access.servers()).await?;
        let mut servers = self.servers.usable(&all, &self.access);
        if let Some(mut connection) = self.kept(purpose).take(&servers) {
            connection.renew();
            match operation(connection).await {
                (back, Ok(done)) => {
                    back.into_iter().for_each(|connection| self.kept(purpose).keep(connection));
                    return Ok(done);
                }
                // It may have ended long ago: then its server has not seen the request.
                (_, Err(error)) if error.is_cut() => {}
                (_, Err(error)) if !error.is_servers_own() => return Err(error),
                (_, Err(_)) => {}
            }
        }
        let mut failed = Vec::new();
        while !servers.is_empty() {
            let server = servers.remove(0);
            let error = match self.open(purpose, &server).await {
                Ok(connection) => match operation(connection).await {
                    (back, Ok(done)) => {
                        back.into_iter().for_each(|connection| self.kept(purpose).keep(connection));
                        return Ok(done);
                    }
                    (_, Err(error)) => error,
                },
                Err(error) => error,
            };
            if !error.is_servers_own() {
                return Err(error);
            }
            tracing::debug!(server = %server.name, %error, "this server is left out for a while");
            self.searches.forget(&server.name);
            self.binds.forget(&server.name);
            self.servers.leave_out(server.name);
            failed.push(error);
        }
        Err(DirectoryError::of_all(failed))
    }

    async fn permit(&self, purpose: Purpose) -> Result<SemaphorePermit<'_>, DirectoryError> {
        let waited = self.access.directory().timeout;
        let permit = tokio::time::timeout(waited, self.kept(purpose).permits.acquire()).await;
        match permit {
            Ok(Ok(permit)) => Ok(permit),
            _ => Err(DirectoryErrorKind::NoAnswer {
                server: self.access.directory().name.clone(),
                is_unheard: false,
                waited,
            }
            .into()),
        }
    }

    async fn open(&self, purpose: Purpose, one: &Named) -> Result<Connection, DirectoryError> {
        let access = self.access.renewed();
        match purpose {
            Purpose::Searches => access.open_first(std::slice::from_ref(&one.server)).await,
            Purpose::Binds => access.connect_for_people(&one.server).await,
        }
    }
}
