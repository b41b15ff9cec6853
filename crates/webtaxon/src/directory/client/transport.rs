//! From a server's address to a stream of bytes: DNS, TCP, StartTLS, TLS with the certificate checked.

use crate::directory::{DirectoryError, DirectoryErrorKind};
use crate::secure::{Certificate, CertificateFault, RefusedCertificate, SecureError, TlsRules};
use rustls::pki_types::ServerName;
use rustls::{AlertDescription, CertificateError, ProtocolVersion};
use std::io;
use std::net::SocketAddr;
use std::path::Path;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::net::TcpStream;
use tokio::task::JoinSet;
use tokio::time::{Instant, timeout_at};
use tokio_rustls::TlsConnector;
use webtaxon_core::ldap::url::{Scheme, Server};
use webtaxon_core::settings::{Directory, Trust};
use webtaxon_wire::control::START_TLS;
use webtaxon_wire::message::ResultCode;
use webtaxon_wire::{Conversation, Event};

/// Head start of each address before the next one is tried in parallel (RFC 8305 §5).
const HEAD_START: Duration = Duration::from_millis(250);
/// Idle time after which TCP keep-alive begins.
const KEEP_ALIVE: Duration = Duration::from_secs(60);

/// Bytes to and from a server. An application may move the waiting task to another thread.
pub(crate) trait Stream: AsyncRead + AsyncWrite + Send + Sync + Unpin {}
impl<S: AsyncRead + AsyncWrite + Send + Sync + Unpin> Stream for S {}

/// A step in setting up a connection.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum Milestone {
    /// The host name was resolved.
    Resolved(Vec<SocketAddr>),
    /// TCP is connected; `None` for a local socket.
    Connected(Option<SocketAddr>),
    /// TLS is established.
    Secured {
        /// The protocol, like `TLS 1.3`.
        protocol: &'static str,
        /// The accepted certificate.
        certificate: Option<Box<Certificate>>,
        /// Whether StartTLS was used.
        start_tls: bool,
    },
    /// The connection remains in plain text, as the settings allow.
    Plain,
}

/// Connects to one server, and reports each step.
pub(crate) async fn open(
    server: &Server,
    directory: &Directory,
    folder: &Path,
    told: &mut (dyn FnMut(Milestone) + Send),
) -> Result<Box<dyn Stream>, DirectoryError> {
    let shown = server.to_string();
    let until = Instant::now() + directory.connect_timeout;
    let silent = |is_unheard| DirectoryErrorKind::NoAnswer {
        server: shown.clone(),
        is_unheard,
        waited: directory.connect_timeout,
    };
    let no_answer = || silent(false);
    let (scheme, host, port) = match server {
        Server::Socket(path) => {
            let stream = local(path, &shown).await?;
            told(Milestone::Connected(None));
            return Ok(stream);
        }
        Server::Host { scheme, host, port } => (*scheme, host.as_str(), *port),
    };
    // Unreadable files are reported before a server is contacted.
    let rules = match (scheme, directory.plain) {
        (Scheme::Ldap, true) => None,
        _ => Some(TlsRules::new(directory, folder)?),
    };
    let resolving =
        timeout_at(until, tokio::net::lookup_host((host, port))).await.map_err(|_| no_answer())?;
    let addresses: Vec<SocketAddr> =
        resolving.map_err(|source| DirectoryErrorKind::Resolve { server: shown.clone(), source })?.collect();
    told(Milestone::Resolved(addresses.clone()));
    let connecting = timeout_at(until, connect(&addresses)).await.map_err(|_| no_answer())?;
    let mut stream =
        connecting.map_err(|source| DirectoryErrorKind::Connect { server: shown.clone(), source })?;
    let _ = stream.set_nodelay(true);
    let keep_alive = socket2::TcpKeepalive::new().with_time(KEEP_ALIVE).with_interval(KEEP_ALIVE / 4);
    let _ = socket2::SockRef::from(&stream).set_tcp_keepalive(&keep_alive);
    told(Milestone::Connected(stream.peer_addr().ok()));
    let Some(rules) = rules else {
        told(Milestone::Plain);
        return Ok(Box::new(stream));
    };
    if scheme == Scheme::Ldap {
        timeout_at(until, start_tls(&mut stream, &shown)).await.map_err(|_| silent(true))??;
    }
    let name = ServerName::try_from(host.to_owned()).map_err(|_| SecureError::Tls {
        server: shown.clone(),
        source: "the host is neither a name nor an address".into(),
    })?;
    let connector = TlsConnector::from(std::sync::Arc::clone(&rules.config));
    let secured = timeout_at(until, connector.connect(name, stream)).await.map_err(|_| silent(true))?;
    let secured = secured.map_err(|error| refused(shown, directory, &rules, &error))?;
    let protocol = match secured.get_ref().1.protocol_version() {
        Some(ProtocolVersion::TLSv1_3) => "TLS 1.3",
        Some(ProtocolVersion::TLSv1_2) => "TLS 1.2",
        _ => "TLS",
    };
    let certificate = rules.shown().map(Box::new);
    told(Milestone::Secured { protocol, certificate, start_tls: scheme == Scheme::Ldap });
    Ok(Box::new(secured))
}

#[cfg(unix)]
async fn local(path: &Path, shown: &str) -> Result<Box<dyn Stream>, DirectoryError> {
    let stream = tokio::net::UnixStream::connect(path).await;
    let stream = stream.map_err(|source| DirectoryErrorKind::Connect { server: shown.to_owned(), source })?;
    Ok(Box::new(stream))
}

#[cfg(not(unix))]
async fn local(_: &Path, shown: &str) -> Result<Box<dyn Stream>, DirectoryError> {
    let source = io::Error::new(io::ErrorKind::Unsupported, "this system does not support such sockets");
    Err(DirectoryErrorKind::Connect { server: shown.to_owned(), source }.into())
}

/// The first address that accepts; each has a head start before the next one is tried in parallel (RFC 8305).
async fn connect(addresses: &[SocketAddr]) -> io::Result<TcpStream> {
    let mut under_way = JoinSet::new();
    let mut waiting = addresses.iter().copied();
    let mut last = io::Error::new(io::ErrorKind::NotFound, "the name has no address");
    loop {
        if let Some(address) = waiting.next() {
            under_way.spawn(TcpStream::connect(address));
        } else if under_way.is_empty() {
            return Err(last);
        }
        let more = waiting.len() > 0;
        tokio::select! {
            Some(ended) = under_way.join_next() => match ended {
                Ok(Ok(stream)) => return Ok(stream),
                Ok(Err(reason)) => last = reason,
                Err(panicked) => last = io::Error::other(panicked),
            },
            () = tokio::time::sleep(HEAD_START), if more => {}
        }
    }
}

/// Starts TLS (RFC 4511 §4.14). Anything but success is an error: there is no fallback to plain text.
async fn start_tls(stream: &mut TcpStream, server: &str) -> Result<(), DirectoryError> {
    let broken = |error| DirectoryError::protocol(server, error);
    let cut = || DirectoryErrorKind::Cut { server: server.to_owned(), is_unheard: true };
    let mut conversation = Conversation::default();
    conversation.extended(START_TLS).map_err(broken)?;
    stream.write_all(&conversation.outgoing()).await.map_err(|_| cut())?;
    let mut buffer = [0; 1 << 12];
    let result = loop {
        match conversation.next_event().map_err(broken)? {
            Some(Event::Extended(_, result, _)) => break result,
            Some(_) => {} // nothing else was asked for; the conversation lets nothing else through
            None => match stream.read(&mut buffer).await {
                Ok(count @ 1..) => conversation.feed(buffer.get(..count).unwrap_or(&[])),
                _ => return Err(cut().into()),
            },
        }
    };
    if result.code != ResultCode::SUCCESS {
        let server = server.to_owned();
        return Err(DirectoryErrorKind::NoStartTls { server, result: Box::new(result) }.into());
    }
    if conversation.has_unread() {
        return Err(DirectoryErrorKind::Injected { server: server.to_owned() }.into());
    }
    Ok(())
}

/// Why TLS failed, with the cases distinguished that an administrator can fix.
fn refused(server: String, directory: &Directory, rules: &TlsRules, error: &io::Error) -> DirectoryErrorKind {
    use CertificateError as Bad;
    let inner = error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>());
    let reason = match inner {
        Some(rustls::Error::InvalidCertificate(fault)) => {
            let certificate = rules.shown();
            let nameless = certificate.as_ref().is_some_and(|certificate| certificate.names.is_empty());
            let fault = match fault {
                Bad::UnknownIssuer if matches!(directory.trust, Trust::Pinned(_)) => {
                    CertificateFault::NotPinned
                }
                // A bad signature means an authority with the same name and another key: replaced, or an impostor.
                Bad::UnknownIssuer | Bad::BadSignature => CertificateFault::Untrusted,
                Bad::NotValidForName | Bad::NotValidForNameContext { .. } if nameless => {
                    CertificateFault::Nameless
                }
                Bad::NotValidForName | Bad::NotValidForNameContext { .. } => CertificateFault::WrongName,
                Bad::Expired | Bad::ExpiredContext { .. } => CertificateFault::Expired,
                Bad::NotValidYet | Bad::NotValidYetContext { .. } => CertificateFault::NotYet,
                Bad::Other(other) if format!("{other:?}").contains("CaUsedAsEndEntity") => {
                    CertificateFault::Authority
                }
                other => CertificateFault::Other(format!("{other:?}")),
            };
            let certificate = certificate.map(Box::new);
            return DirectoryErrorKind::Certificate(RefusedCertificate::new(server, fault, certificate));
        }
        Some(rustls::Error::AlertReceived(alert)) => alerted(*alert, directory),
        Some(other) => other.to_string(),
        None if error.kind() == io::ErrorKind::UnexpectedEof => "the server hung up".to_owned(),
        None => error.to_string(),
    };
    SecureError::Tls { server, source: reason.into() }.into()
}

/// The server's TLS alert, in words.
fn alerted(alert: AlertDescription, directory: &Directory) -> String {
    let wants = matches!(alert, AlertDescription::CertificateRequired | AlertDescription::HandshakeFailure);
    match &directory.certificate {
        None if wants => {
            "the server refuses; it may require a client certificate (`certificate` in the settings)"
                .to_owned()
        }
        Some(_) => format!("the server refuses ({alert:?}); it may not trust the client certificate"),
        None => format!("the server refuses ({alert:?})"),
    }
}

/// Why TLS ended after the handshake: with TLS 1.3, only then a server reports that it wants another certificate.
/// `None` for other ends of a connection.
pub(crate) fn ended(error: &io::Error, directory: &Directory) -> Option<String> {
    match error.get_ref()?.downcast_ref::<rustls::Error>()? {
        rustls::Error::AlertReceived(alert) => Some(alerted(*alert, directory)),
        _ => None,
    }
}
