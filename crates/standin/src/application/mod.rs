//! The simulated application: a SCIM service (RFC 7643, 7644) on loopback that holds its list in memory.
//!
//! For the demo, tests and benches. It is strict about the standard, so that faulty clients are refused, and can be
//! told to misbehave.
//!
//! * [`List`]: users and groups, and the rules for changing them;
//! * [`Application`]: the service; [`ApplicationOptions`]: its features and its faults.

mod exchange;
mod list;
mod patch;
mod schema;
mod service;
mod shared;
mod trouble;

pub use list::List;
pub use shared::ApplicationOptions;
pub use trouble::{Trouble, TroubleKind};

use crate::{StandinError, StandinErrorKind};
use shared::Shared;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

/// A running simulated application. Dropping it stops it.
#[derive(Debug)]
pub struct Application {
    address: SocketAddr,
    shared: Arc<Shared>,
    serving: JoinHandle<()>,
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
        list.unique_emails = options.unique_emails;
        let shared = Arc::new(Shared { options, list: Mutex::new(list), counts: Mutex::default() });
        let router = service::router(Arc::clone(&shared));
        let serving = tokio::spawn(async move {
            // It runs until dropped.
            let _ = axum::serve(listener, router).await;
        });
        Ok(Self { address, shared, serving })
    }

    /// The base URL.
    #[must_use]
    pub fn url(&self) -> String {
        format!("http://{}{}", self.address, schema::BASE)
    }

    /// Its address.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// A copy of the current list.
    #[must_use]
    pub fn list(&self) -> List {
        self.shared.list().clone()
    }

    /// Replaces the list, as if it had been changed by hand.
    pub fn set_list(&self, mut list: List) {
        let mut own = self.shared.list();
        (list.adorns, list.unique_emails) = (own.adorns, own.unique_emails);
        *own = list;
    }

    /// The number of requests answered, and the number of those that could change something.
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
