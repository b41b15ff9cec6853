//! From a server's address to a stream of bytes: name, TCP, TLS with the certificate checked.

use super::{DirectoryError, DirectoryErrorKind};
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, ServerName};
use rustls::{CertificateError, ClientConfig, RootCertStore};
use rustls_platform_verifier::BuilderVerifierExt as _;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use webtaxon_core::settings::{Directory, Scheme, Server, Trust};

/// Bytes to and from a server.
pub(super) trait Stream: AsyncRead + AsyncWrite + Send + Unpin {}
impl<S: AsyncRead + AsyncWrite + Send + Unpin> Stream for S {}

/// The rules by which certificates are checked. There is no way to check none.
pub(super) fn tls_config(trust: &Trust, folder: &Path) -> Result<Arc<ClientConfig>, DirectoryError> {
    let tls = |reason: String| DirectoryErrorKind::Tls { server: "TLS".to_owned(), reason };
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| tls(error.to_string()))?;
    let config = match trust {
        Trust::System => {
            builder.with_platform_verifier().map_err(|error| tls(error.to_string()))?.with_no_client_auth()
        }
        Trust::Authority(file) => {
            let file = folder.join(file);
            let unusable = |reason: String| DirectoryErrorKind::AuthorityFile { file: file.clone(), reason };
            let text = std::fs::read(&file).map_err(|error| unusable(error.to_string()))?;
            let mut roots = RootCertStore::empty();
            for certificate in CertificateDer::pem_slice_iter(&text) {
                let certificate = certificate.map_err(|error| unusable(error.to_string()))?;
                roots.add(certificate).map_err(|error| unusable(error.to_string()))?;
            }
            if roots.is_empty() {
                return Err(unusable("it holds no certificate".to_owned()).into());
            }
            builder.with_root_certificates(roots).with_no_client_auth()
        }
    };
    Ok(Arc::new(config))
}

/// Connects to one server.
pub(super) async fn open(
    server: &Server,
    directory: &Directory,
    folder: &Path,
    wait: Duration,
) -> Result<Box<dyn Stream>, DirectoryError> {
    let shown = server.to_string();
    let config = match server.scheme {
        Scheme::Ldaps => Some(tls_config(&directory.trust, folder)?),
        Scheme::Ldap => None,
    };
    let no_answer = || DirectoryErrorKind::NoAnswer { server: shown.clone(), waited: wait };
    let connecting = async {
        let addresses = tokio::net::lookup_host((server.host.as_str(), server.port))
            .await
            .map_err(|reason| DirectoryErrorKind::Resolve { server: shown.clone(), reason })?;
        let mut last = std::io::Error::new(std::io::ErrorKind::NotFound, "the name has no address");
        for address in addresses {
            match TcpStream::connect(address).await {
                Ok(stream) => return Ok(stream),
                Err(reason) => last = reason,
            }
        }
        Err(DirectoryErrorKind::Connect { server: shown.clone(), reason: last })
    };
    let stream = timeout(wait, connecting).await.map_err(|_| no_answer())??;
    let _ = stream.set_nodelay(true);
    let Some(config) = config else { return Ok(Box::new(stream)) };
    let name = ServerName::try_from(server.host.clone()).map_err(|_| DirectoryErrorKind::Tls {
        server: shown.clone(),
        reason: "the host is neither a name nor an address".to_owned(),
    })?;
    let secured =
        timeout(wait, TlsConnector::from(config).connect(name, stream)).await.map_err(|_| no_answer())?;
    Ok(Box::new(secured.map_err(|error| refused(shown.clone(), &error))?))
}

/// Why TLS failed, told apart where the administrator can do something about it.
fn refused(server: String, error: &std::io::Error) -> DirectoryErrorKind {
    let inner = error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>());
    match inner {
        Some(rustls::Error::InvalidCertificate(fault)) => match fault {
            // A bad signature is an authority of the same name with another key: one that was
            // replaced, or an impostor.
            CertificateError::UnknownIssuer | CertificateError::BadSignature => {
                DirectoryErrorKind::Untrusted { server }
            }
            CertificateError::NotValidForNameContext { presented, .. } => DirectoryErrorKind::WrongName {
                server,
                names: presented.iter().map(|name| plain_name(name)).collect(),
            },
            CertificateError::NotValidForName => DirectoryErrorKind::WrongName { server, names: Vec::new() },
            CertificateError::Expired | CertificateError::ExpiredContext { .. } => {
                DirectoryErrorKind::NotNow { server, what: "has expired" }
            }
            CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
                DirectoryErrorKind::NotNow { server, what: "is not valid yet" }
            }
            other => {
                DirectoryErrorKind::Tls { server, reason: format!("the certificate is not good: {other:?}") }
            }
        },
        Some(other) => DirectoryErrorKind::Tls { server, reason: other.to_string() },
        None if error.kind() == std::io::ErrorKind::UnexpectedEof => {
            DirectoryErrorKind::Tls { server, reason: "the server hung up".to_owned() }
        }
        None => DirectoryErrorKind::Tls { server, reason: error.to_string() },
    }
}

/// `DnsName("dc1.quillmere.example")` as the verifier writes it, without the wrapping.
fn plain_name(text: &str) -> String {
    match (text.find('"'), text.rfind('"')) {
        (Some(from), Some(to)) if from < to => text.get(from + 1..to).unwrap_or(text).to_owned(),
        _ => text.to_owned(),
    }
}
