//! The simulated directory, a real LDAPv3 server on loopback that holds an LDIF file in memory; and the
//! simulated application, a SCIM service that holds its accounts there.
//!
//! For the demo, for tests and for benches; it is not a directory server to keep people in. It
//! answers over real sockets, with TLS from a certificate made at start, and evaluates filters
//! with the same core that the client uses.
//!
//! * [`Directory`]: the entries, and what a search finds in them;
//! * [`Standin`]: the server; [`Options`]: its limits and the faults that tests ask for;
//! * [`Application`]: the simulated application.

mod application;
mod controller;
mod directory;
mod error;
mod fault;
mod manner;
mod root;
pub mod scenario;
mod search;
mod session;
mod tls;

pub use application::{Application, ApplicationOptions, List, Trouble, TroubleKind};
pub use directory::Directory;
pub use error::{StandinError, StandinErrorKind};
pub use fault::{Fault, FaultKind};
pub use manner::Manner;
pub use tls::CertificateKind;

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

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

/// A simulated directory that is running. Dropping it stops it.
#[derive(Debug)]
pub struct Standin {
    address: SocketAddr,
    tls: bool,
    authority: String,
    own: String,
    client: (String, String),
    accepting: JoinHandle<()>,
}

impl Standin {
    /// Starts a server for `directory`.
    ///
    /// # Errors
    /// The address is taken or is not on loopback, or no certificate can be made.
    pub async fn start(directory: Arc<Directory>, options: Options) -> Result<Self, StandinError> {
        if !options.listen.ip().is_loopback() {
            return Err(StandinErrorKind::NotLoopback(options.listen).into());
        }
        let cannot_listen = |error| StandinErrorKind::Listen(options.listen, error);
        let listener = TcpListener::bind(options.listen).await.map_err(cannot_listen)?;
        let address = listener.local_addr().map_err(cannot_listen)?;
        let certificate = tls::Certificate::new(&options.names, options.certificate)?;
        let authority = certificate.authority_pem().to_owned();
        let own = certificate.pem();
        let client = certificate.client();
        let acceptor = certificate.acceptor(options.client.is_some())?;
        let tls = options.tls;
        let options = Arc::new(options);
        let accepting = tokio::spawn(async move {
            let mut sessions = tokio::task::JoinSet::new();
            while let Ok((stream, _)) = listener.accept().await {
                while sessions.try_join_next().is_some() {}
                let _ = stream.set_nodelay(true);
                let (directory, options) = (Arc::clone(&directory), Arc::clone(&options));
                sessions.spawn(session::accept(stream, acceptor.clone(), directory, options));
            }
        });
        Ok(Self { address, tls, authority, own, client, accepting })
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Where it listens, as settings write it.
    #[must_use]
    pub fn url(&self) -> String {
        let (scheme, host) = if self.tls { ("ldaps", "localhost") } else { ("ldap", "localhost") };
        format!("{scheme}://{host}:{}", self.address.port())
    }

    /// The server's own certificate, as PEM.
    #[must_use]
    pub fn certificate_pem(&self) -> &str {
        &self.own
    }

    /// A client certificate of the authority's, and its key, as PEM.
    #[must_use]
    pub fn client_pem(&self) -> (&str, &str) {
        (&self.client.0, &self.client.1)
    }

    /// The certificate of the authority that signed the server's, as PEM.
    #[must_use]
    pub fn authority_pem(&self) -> &str {
        &self.authority
    }
}

impl Drop for Standin {
    fn drop(&mut self) {
        self.accepting.abort();
    }
}
