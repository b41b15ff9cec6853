//! What the simulated application offers, and what every request shares.

use super::list::List;
use super::trouble::Trouble;
use std::net::SocketAddr;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

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

/// What every request has to do with.
#[derive(Debug)]
pub(super) struct Shared {
    pub(super) options: ApplicationOptions,
    pub(super) list: Mutex<List>,
    pub(super) counts: Mutex<Counts>,
}

/// Requests so far.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Counts {
    pub(super) requests: u64,
    pub(super) writes: u64,
}

impl Shared {
    pub(super) fn list(&self) -> MutexGuard<'_, List> {
        self.list.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn counts(&self) -> MutexGuard<'_, Counts> {
        self.counts.lock().unwrap_or_else(PoisonError::into_inner)
    }
}
