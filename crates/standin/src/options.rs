//! What the simulated directory offers, its limits, and the faults that tests ask for.

use crate::fault::Fault;
use crate::tls::CertificateKind;
use std::net::SocketAddr;
use std::time::Duration;

/// How the simulated directory behaves.
#[derive(Clone, Debug)]
pub struct Options {
    /// Where it listens; port 0 takes a free one.
    pub listen: SocketAddr,
    /// Whether connections begin with TLS.
    pub tls: bool,
    /// Whether a connection in plain text may go over to TLS (RFC 4511 §4.14).
    pub start_tls: bool,
    /// Whether a password is refused on a connection in plain text.
    pub secure_bind: bool,
    /// Whom a client certificate stands for (SASL EXTERNAL); a client without one is refused.
    pub client: Option<String>,
    /// Names in the certificate; `localhost`, `127.0.0.1` and `::1` unless said otherwise.
    pub names: Vec<String>,
    /// The most entries that a search without paging gets (RFC 4511 §4.5.1.4); then result 4. What
    /// this kind of server has unless said otherwise.
    pub size_limit: Option<usize>,
    /// The largest page that is given; a larger one is refused with result 11, as some servers do.
    pub largest_page: Option<u32>,
    /// Whether the server knows paged results (RFC 2696).
    pub paging: bool,
    /// The most entries that a search with paging gets over all its pages; then result 4.
    pub paged_limit: Option<usize>,
    /// Whether anybody may search without a bind.
    pub anonymous: bool,
    /// Whether the server refuses even to speak of itself before a bind, as hardened ones do.
    pub shy: bool,
    /// Attributes that can be searched for but are never shown, as by an access rule.
    pub hidden: Vec<String>,
    /// URLs of parts that other servers keep: every search of a subtree meets them at its end.
    pub references: Vec<String>,
    /// How long each answer takes on the way, as over a long line: requests that are under way
    /// together wait together.
    pub latency: Duration,
    /// An entry that comes into sight only when so many searches were asked on a connection, as one
    /// that is moved while others are read; the number of the last change grows with each search.
    pub late: Option<(String, u64)>,
    /// What goes wrong, for tests.
    pub fault: Option<Fault>,
    /// The certificate in place of a good one, for tests.
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
            paged_limit: None,
            anonymous: false,
            shy: false,
            hidden: Vec::new(),
            references: Vec::new(),
            latency: Duration::ZERO,
            late: None,
            fault: None,
            certificate: CertificateKind::Good,
        }
    }
}
