//! The simulated application: a SCIM service (RFC 7643, 7644) on loopback that holds its list in memory.
//!
//! For the demo, for tests and for benches. It keeps to the letter of the standard, so that a client which
//! does not is refused, and does wrong what a test asks for.
//!
//! * [`List`]: users and groups, and what the standard says of a change to them;
//! * [`Application`]: the service; [`ApplicationOptions`]: what it offers, and its faults.

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

/// A simulated application that is running. Dropping it stops it.
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
        format!("http://{}{}", self.address, schema::BASE)
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
