//! The simulated directory as a server on loopback.

use crate::directory::Directory;
use crate::error::{StandinError, StandinErrorKind};
use crate::options::Options;
use crate::{session, tls};
use std::net::SocketAddr;
use std::sync::atomic::AtomicU64;
use std::sync::{Arc, Mutex, PoisonError};
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

/// A running simulated directory. Dropping it stops it.
#[derive(Debug)]
pub struct Standin {
    address: SocketAddr,
    tls: bool,
    authority: String,
    own: String,
    client: (String, String),
    served: Arc<Mutex<Served>>,
    accepting: JoinHandle<()>,
}

/// What a connection gets.
#[derive(Clone, Debug)]
struct Served {
    directory: Arc<Directory>,
    options: Arc<Options>,
    /// Number of searches so far, of all connections.
    searched: Arc<AtomicU64>,
}

impl Served {
    fn new(directory: Arc<Directory>, options: Options) -> Self {
        Self { directory, options: Arc::new(options), searched: Arc::new(AtomicU64::new(0)) }
    }
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
        let served = Arc::new(Mutex::new(Served::new(directory, options)));
        let current = Arc::clone(&served);
        let accepting = tokio::spawn(async move {
            let mut sessions = tokio::task::JoinSet::new();
            while let Ok((stream, _)) = listener.accept().await {
                while sessions.try_join_next().is_some() {}
                let _ = stream.set_nodelay(true);
                let served = current.lock().unwrap_or_else(PoisonError::into_inner).clone();
                let Served { directory, options, searched } = served;
                sessions.spawn(session::accept(stream, acceptor.clone(), directory, options, searched));
            }
        });
        Ok(Self { address, tls, authority, own, client, served, accepting })
    }

    /// Gives every later connection these entries, under these options; address, certificates and TLS stay.
    pub fn answer_with(&self, directory: Arc<Directory>, options: Options) {
        let mut served = self.served.lock().unwrap_or_else(PoisonError::into_inner);
        *served = Served::new(directory, options);
    }

    /// Its address.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// Its address as a URL for the settings.
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

    /// A client certificate signed by the authority, and its key, as PEM.
    #[must_use]
    pub fn client_pem(&self) -> (&str, &str) {
        (&self.client.0, &self.client.1)
    }

    /// The certificate of the authority, as PEM.
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
