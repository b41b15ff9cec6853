//! Options of the simulated directory: features, limits and faults.

use crate::directory::Directory;
use crate::fault::Fault;
use crate::tls::CertificateKind;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

/// Filters that the simulated directory serves, in searches of entries.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ServedFilters {
    /// All.
    #[default]
    All,
    /// All but presence, `(attribute=*)`.
    NoPresence,
    /// One comparison for equality.
    EqualityAlone,
}

/// Options of the simulated directory.
#[derive(Clone, Debug)]
pub struct Options {
    /// The address to listen on; port 0 takes a free one.
    pub listen: SocketAddr,
    /// Whether connections start with TLS.
    pub tls: bool,
    /// Whether StartTLS is offered (RFC 4511 §4.14).
    pub start_tls: bool,
    /// Whether simple binds are refused without encryption.
    pub secure_bind: bool,
    /// The identity of client certificates (SASL EXTERNAL); a client without one is refused.
    pub client: Option<String>,
    /// Names in the server certificate; `localhost`, `127.0.0.1` and `::1` by default.
    pub names: Vec<String>,
    /// Maximum entries of a search without paging (RFC 4511 §4.5.1.4), beyond which it ends with result 4; by default
    /// that of the server kind.
    pub size_limit: Option<usize>,
    /// Maximum page size; larger ones are refused with result 11, as by some servers.
    pub largest_page: Option<u32>,
    /// Whether paged results are supported (RFC 2696).
    pub paging: bool,
    /// Paged results are advertised, and refused.
    pub refuses_pages: bool,
    /// Maximum entries of a paged search over all pages, beyond which it ends with result 4.
    pub paged_limit: Option<usize>,
    /// Whether anonymous searches are allowed.
    pub anonymous: bool,
    /// Whether even the root DSE is refused before a bind, as by hardened servers.
    pub shy: bool,
    /// Attributes that filters can test but that are never returned, as with an access rule.
    pub hidden: Vec<String>,
    /// Entries hidden with everything below them, as with an access rule: a search there answers that they do not exist,
    /// or, in the manner of 389 Directory Server, ends with success and finds nothing.
    pub hidden_below: Vec<String>,
    /// Entries of which only the name is shown, to searches for any entry, as by a domain controller that lets the bind
    /// account list a container and read nothing of the entry.
    pub bare: Vec<String>,
    /// The naming contexts that the root DSE names, in place of all.
    pub tops: Option<Vec<String>>,
    /// The connection ends after each search.
    pub one_search: bool,
    /// Filters that are served; others end with unwillingToPerform.
    pub filters: ServedFilters,
    /// Attributes that are returned but that filters cannot test, as if the server had no index or rule for them.
    pub unsearchable: Vec<String>,
    /// Continuation references returned at the end of every subtree search.
    pub references: Vec<String>,
    /// Latency of each response; requests in progress at the same time wait together.
    pub latency: Duration,
    /// Later states of the directory, each with the number of searches after which it takes the place of the one
    /// before, as if somebody changed the directory during a reading.
    pub moments: Vec<(u64, Arc<Directory>)>,
    /// A fault, for tests.
    pub fault: Option<Fault>,
    /// The kind of certificate, for tests.
    pub certificate: CertificateKind,
}

impl Default for Options {
    fn default() -> Self {
        Self {
            listen: SocketAddr::from(([127, 0, 0, 1], 0)),
            tls: true,
            start_tls: true,
            secure_bind: false,
            client: None,
            names: ["localhost", "127.0.0.1", "::1"].map(str::to_owned).to_vec(),
            size_limit: None,
            largest_page: None,
            paging: true,
            refuses_pages: false,
            paged_limit: None,
            anonymous: false,
            shy: false,
            hidden: Vec::new(),
            hidden_below: Vec::new(),
            bare: Vec::new(),
            tops: None,
            one_search: false,
            filters: ServedFilters::All,
            unsearchable: Vec::new(),
            references: Vec::new(),
            latency: Duration::ZERO,
            moments: Vec::new(),
            fault: None,
            certificate: CertificateKind::Good,
        }
    }
}
