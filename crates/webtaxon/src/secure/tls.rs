//! The trusted certificates: the system's authorities, an authority file, or pinned ones.
//!
//! Checks cannot be turned off. The server's certificate is kept whatever the result, so that a message can show it.

use crate::box_error::BoxError;
use crate::secure::SecureError;
use crate::secure::certificate::{Certificate, fingerprint};
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::CryptoProvider;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use std::path::Path;
use std::sync::{Arc, Mutex};
use webtaxon_core::settings::{ClientCertificate, Directory, Fingerprint, Trust};

/// The rules of one TLS connection, and the certificate that the server presented.
pub(crate) struct TlsRules {
    pub(crate) config: Arc<ClientConfig>,
    verifier: Arc<Witness>,
}

impl TlsRules {
    /// The rules of a directory.
    pub(crate) fn new(directory: &Directory, folder: &Path) -> Result<Self, SecureError> {
        Self::of(&directory.name, &directory.trust, directory.certificate.as_ref(), folder)
    }

    /// The rules for a server in the settings: trusted certificates and client certificate.
    pub(crate) fn of(
        name: &str,
        trust: &Trust,
        certificate: Option<&ClientCertificate>,
        folder: &Path,
    ) -> Result<Self, SecureError> {
        let tls = |source: BoxError| SecureError::Tls { server: name.to_owned(), source };
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let judge = match trust {
            Trust::System => {
                let system = rustls_platform_verifier::Verifier::new(Arc::clone(&provider));
                Judge::Authorities(Arc::new(system.map_err(|error| tls(error.into()))?))
            }
            Trust::Authority(file) => Judge::Authorities(authority(&folder.join(file), &provider)?),
            Trust::Pinned(list) => Judge::Pinned(list.clone()),
        };
        let verifier = Arc::new(Witness { judge, provider: Arc::clone(&provider), seen: Mutex::new(None) });
        let builder = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(|error| tls(error.into()))?
            .dangerous()
            .with_custom_certificate_verifier(Arc::clone(&verifier) as Arc<dyn ServerCertVerifier>);
        let config = match certificate {
            None => builder.with_no_client_auth(),
            Some(own) => {
                client_certificate(own, folder, |chain, key| builder.with_client_auth_cert(chain, key))?
            }
        };
        Ok(Self { config: Arc::new(config), verifier })
    }

    /// The certificate that the server presented, if any.
    pub(crate) fn shown(&self) -> Option<Certificate> {
        let seen = self.verifier.seen.lock().ok()?;
        seen.as_ref().and_then(Certificate::read)
    }
}

fn authority(
    file: &Path,
    provider: &Arc<CryptoProvider>,
) -> Result<Arc<dyn ServerCertVerifier>, SecureError> {
    let unusable = |source: BoxError| SecureError::AuthorityFile { file: file.to_owned(), source };
    let text = std::fs::read(file).map_err(|error| unusable(error.into()))?;
    let mut roots = RootCertStore::empty();
    for certificate in CertificateDer::pem_slice_iter(&text) {
        let certificate = certificate.map_err(|error| unusable(error.into()))?;
        roots.add(certificate).map_err(|error| unusable(error.into()))?;
    }
    if roots.is_empty() {
        return Err(unusable("it contains no certificate".into()));
    }
    let built = WebPkiServerVerifier::builder_with_provider(Arc::new(roots), Arc::clone(provider)).build();
    Ok(built.map_err(|error| unusable(error.into()))?)
}

/// Passes the client certificate and its key to `take`.
fn client_certificate(
    own: &ClientCertificate,
    folder: &Path,
    take: impl FnOnce(Vec<CertificateDer<'static>>, PrivateKeyDer<'static>) -> Result<ClientConfig, rustls::Error>,
) -> Result<ClientConfig, SecureError> {
    let (chain_file, key_file) = (folder.join(&own.chain), folder.join(&own.key));
    let unusable =
        |file: &Path, source: BoxError| SecureError::ClientCertificate { file: file.to_owned(), source };
    let chain = CertificateDer::pem_file_iter(&chain_file)
        .and_then(Iterator::collect::<Result<Vec<_>, _>>)
        .map_err(|error| unusable(&chain_file, error.into()))?;
    if chain.is_empty() {
        return Err(unusable(&chain_file, "it contains no certificate".into()));
    }
    let key = PrivateKeyDer::from_pem_file(&key_file).map_err(|error| unusable(&key_file, error.into()))?;
    take(chain, key).map_err(|error| unusable(&key_file, error.into()))
}

/// Which certificates are trusted.
#[derive(Debug)]
enum Judge {
    /// Those that an authority signed for the host.
    Authorities(Arc<dyn ServerCertVerifier>),
    /// Exactly these: not their issuers, and whatever hosts they name. They must be valid now.
    Pinned(Vec<Fingerprint>),
}

/// Leaves the decision to `judge`, and keeps the certificate presented. The server must hold its key.
#[derive(Debug)]
struct Witness {
    judge: Judge,
    provider: Arc<CryptoProvider>,
    seen: Mutex<Option<CertificateDer<'static>>>,
}

impl ServerCertVerifier for Witness {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        if let Ok(mut seen) = self.seen.lock() {
            *seen = Some(end_entity.clone().into_owned());
        }
        match &self.judge {
            Judge::Authorities(judge) => {
                judge.verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now)
            }
            Judge::Pinned(list) => is_pinned(list, end_entity, now),
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let known = &self.provider.signature_verification_algorithms;
        rustls::crypto::verify_tls12_signature(message, cert, dss, known)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        dss: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let known = &self.provider.signature_verification_algorithms;
        rustls::crypto::verify_tls13_signature(message, cert, dss, known)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

/// Accepts a certificate that is pinned and valid now.
fn is_pinned(
    list: &[Fingerprint],
    end_entity: &CertificateDer<'_>,
    now: UnixTime,
) -> Result<ServerCertVerified, rustls::Error> {
    if !list.contains(&fingerprint(end_entity)) {
        return Err(CertificateError::UnknownIssuer.into());
    }
    let certificate = Certificate::read(end_entity).ok_or(CertificateError::BadEncoding)?;
    let now = i64::try_from(now.as_secs()).unwrap_or(i64::MAX);
    if now > certificate.not_after.as_second() {
        return Err(CertificateError::Expired.into());
    }
    if now < certificate.not_before.as_second() {
        return Err(CertificateError::NotValidYet.into());
    }
    Ok(ServerCertVerified::assertion())
}
