//! The simulated application: a SCIM service (RFC 7643, 7644) on loopback that holds its list in memory.
//!
//! For the demo, for tests and for benches. It keeps to the letter of the standard, so that a client which
//! does not is refused, and does wrong what a test asks for.
//!
//! * [`List`]: users and groups, and what the standard says of a change to them;
//! * [`Application`]: the service; [`ApplicationOptions`]: what it offers, and its faults.

mod list;
mod patch;
mod schema;
mod service;
mod trouble;

pub use list::List;
pub use trouble::{Trouble, TroubleKind};

use crate::{StandinError, StandinErrorKind};
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

/// What the simulated application offers.
#[derive(Clone, Debug)]
pub struct ApplicationOptions {
    /// Where it listens; port 0 takes a free one.
    pub listen: SocketAddr,
    /// The bearer token (RFC 6750) that every request must show; none for anybody.
    pub token: Option<String>,
    /// A name and password in place of a token (RFC 7617).
    pub basic: Option<(String, String)>,
    /// Whether it knows PATCH (RFC 7644 §3.5.2).
    pub patch: bool,
    /// The most operations of a bulk request (RFC 7644 §3.7); none for no bulk requests.
    pub bulk: Option<usize>,
    /// Whether it gives versions of resources, and holds changes to them (RFC 7644 §3.14).
    pub etag: bool,
    /// Whether it knows filters (RFC 7644 §3.4.2.2).
    pub filter: bool,
    /// Whether it tells its schemas (RFC 7644 §4).
    pub schemas: bool,
    /// Whether it gives each address a `display` of its own, which nobody wrote.
    pub adorns: bool,
    /// The most resources in one answer.
    pub page: usize,
    /// How long each answer takes.
    pub latency: Duration,
    /// What goes wrong, for tests.
    pub trouble: Option<Trouble>,
}

impl Default for ApplicationOptions {
    fn default() -> Self {
        Self {
            listen: SocketAddr::from(([127, 0, 0, 1], 0)),
            token: None,
            basic: None,
            patch: true,
            bulk: Some(1000),
            etag: true,
            filter: true,
            schemas: true,
            adorns: false,
            page: 1000,
            latency: Duration::ZERO,
            trouble: None,
        }
    }
}

/// A simulated application that is running. Dropping it stops it.
#[derive(Debug)]
pub struct Application {
    address: SocketAddr,
    shared: Arc<Shared>,
    serving: JoinHandle<()>,
}

/// What every request has to do with.
#[derive(Debug)]
struct Shared {
    options: ApplicationOptions,
    list: Mutex<List>,
    counts: Mutex<Counts>,
}

/// Requests so far.
#[derive(Clone, Copy, Debug, Default)]
struct Counts {
    requests: u64,
    writes: u64,
}

impl Shared {
    fn list(&self) -> MutexGuard<'_, List> {
        self.list.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn counts(&self) -> MutexGuard<'_, Counts> {
        self.counts.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Application {
    /// Starts the service over a list.
    ///
    /// # Errors
    /// The address is taken or is not on loopback.
    pub async fn start(list: List, options: ApplicationOptions) -> Result<Self, StandinError> {
        if !options.listen.ip().is_loopback() {
            return Err(StandinErrorKind::NotLoopback(options.listen).into());
        }
        let cannot_listen = |error| StandinErrorKind::Listen(options.listen, error);
        let listener = TcpListener::bind(options.listen).await.map_err(cannot_listen)?;
        let address = listener.local_addr().map_err(cannot_listen)?;
        let mut list = list;
        list.adorns = options.adorns;
        let shared = Arc::new(Shared { options, list: Mutex::new(list), counts: Mutex::default() });
        let router = service::router(Arc::clone(&shared));
        let serving = tokio::spawn(async move {
            // It serves until it is dropped.
            let _ = axum::serve(listener, router).await;
        });
        Ok(Self { address, shared, serving })
    }

    /// The base of its addresses.
    #[must_use]
    pub fn url(&self) -> String {
        format!("http://{}{}", self.address, service::BASE)
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// A copy of the list as it is now.
    #[must_use]
    pub fn list(&self) -> List {
        self.shared.list().clone()
    }

    /// Puts another list in place, as if somebody had changed it by hand.
    pub fn set_list(&self, list: List) {
        *self.shared.list() = list;
    }

    /// How many requests were answered so far, and how many of them were to change something.
    #[must_use]
    pub fn requests(&self) -> (u64, u64) {
        let counts = *self.shared.counts();
        (counts.requests, counts.writes)
    }
}

impl Drop for Application {
    fn drop(&mut self) {
        self.serving.abort();
    }
}
