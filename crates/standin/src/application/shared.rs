//! The simulated application's options, and the data that requests share.

use super::list::List;
use super::trouble::Trouble;
use std::net::SocketAddr;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// Options of the simulated application.
#[derive(Clone, Debug)]
pub struct ApplicationOptions {
    /// The address to listen on; port 0 takes a free one.
    pub listen: SocketAddr,
    /// The bearer token (RFC 6750) that requests must present; `None` for open access.
    pub token: Option<String>,
    /// A name and a password instead of a token (RFC 7617).
    pub basic: Option<(String, String)>,
    /// Whether it supports PATCH (RFC 7644 §3.5.2).
    pub patch: bool,
    /// Whether only a half of PATCH is there: `remove` is refused, and attributes of extensions are ignored.
    pub half_patch: bool,
    /// An attribute of users that it accepts and does not keep.
    pub forgets: Option<String>,
    /// Whether groups may be read and written.
    pub groups: bool,
    /// Maximum operations in a bulk request (RFC 7644 §3.7); `None` for no bulk support.
    pub bulk: Option<usize>,
    /// Whether it supports versions of resources (RFC 7644 §3.14).
    pub etag: bool,
    /// Whether it supports filters (RFC 7644 §3.4.2.2).
    pub filter: bool,
    /// Whether it publishes its schemas (RFC 7644 §4).
    pub schemas: bool,
    /// Whether it adds a `display` of its own to each address.
    pub adorns: bool,
    /// Whether it refuses an address that another user has.
    pub unique_emails: bool,
    /// Maximum resources in one response.
    pub page: usize,
    /// True if pages follow each other by cursor (RFC 9865), and only so; then no list says how long it is.
    pub cursor: bool,
    /// Delay of each response.
    pub latency: Duration,
    /// A fault, for tests.
    pub trouble: Option<Trouble>,
}

impl Default for ApplicationOptions {
    fn default() -> Self {
        Self {
            listen: SocketAddr::from(([127, 0, 0, 1], 0)),
            token: None,
            basic: None,
            patch: true,
            half_patch: false,
            forgets: None,
            groups: true,
            bulk: Some(1000),
            etag: true,
            filter: true,
            schemas: true,
            adorns: false,
            unique_emails: false,
            page: 1000,
            cursor: false,
            latency: Duration::ZERO,
            trouble: None,
        }
    }
}

/// The data that all requests share.
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
