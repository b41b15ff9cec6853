//! An authority and a server certificate, made at start: a valid one, or one that must be refused.

use crate::{StandinError, StandinErrorKind};
use rcgen::{
    BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair,
    KeyUsagePurpose,
};
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::WebPkiClientVerifier;
use rustls::{RootCertStore, ServerConfig};
use std::sync::Arc;
use std::time::{Duration, SystemTime};
use tokio_rustls::TlsAcceptor;

const DAY: Duration = Duration::from_secs(24 * 60 * 60);

/// The kind of server certificate.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum CertificateKind {
    /// Signed by the authority, with the right names, valid for a year.
    #[default]
    Good,
    /// Expired.
    Expired,
    /// Not yet valid.
    NotYet,
    /// Self-signed.
    SelfSigned,
    /// Without subjectAltName: the host is only in the subject.
    Nameless,
}

pub(crate) struct Certificate {
    authority: CertificateDer<'static>,
    authority_pem: String,
    own: String,
    chain: Vec<CertificateDer<'static>>,
    key: PrivateKeyDer<'static>,
    /// A certificate and its key for a client, as PEM.
    client: (String, String),
}

fn failed(error: impl std::fmt::Display) -> StandinError {
    StandinErrorKind::Certificate(error.to_string()).into()
}

/// Sets the validity, in days from now.
fn valid(params: &mut CertificateParams, from: i32, until: i32) {
    let now = SystemTime::now();
    let at =
        |days: i32| if days < 0 { now - DAY * days.unsigned_abs() } else { now + DAY * days.unsigned_abs() };
    params.not_before = at(from).into();
    params.not_after = at(until).into();
}

impl Certificate {
    pub(crate) fn new(names: &[String], kind: CertificateKind) -> Result<Self, StandinError> {
        let mut params = CertificateParams::default();
        params.distinguished_name.push(DnType::CommonName, "Quillmere Museum test authority");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        valid(&mut params, -1, 3650);
        let authority_key = KeyPair::generate().map_err(failed)?;
        let authority = params.self_signed(&authority_key).map_err(failed)?;
        let issuer = Issuer::new(params, authority_key);

        let names = if kind == CertificateKind::Nameless { &[] } else { names };
        let mut params = CertificateParams::new(names.to_vec()).map_err(failed)?;
        params.distinguished_name.push(DnType::CommonName, "simulated directory");
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        let (from, until) = match kind {
            CertificateKind::Expired => (-30, -1),
            CertificateKind::NotYet => (1, 30),
            _ => (-1, 365),
        };
        valid(&mut params, from, until);
        let key = KeyPair::generate().map_err(failed)?;
        let server = match kind {
            CertificateKind::SelfSigned => params.self_signed(&key),
            _ => params.signed_by(&key, &issuer),
        };
        let server = server.map_err(failed)?;
        let key = PrivateKeyDer::try_from(key.serialize_der()).map_err(failed)?;
        let mut params = CertificateParams::default();
        params.distinguished_name.push(DnType::CommonName, "client");
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
        valid(&mut params, -1, 365);
        let client_key = KeyPair::generate().map_err(failed)?;
        let client = params.signed_by(&client_key, &issuer).map_err(failed)?;
        Ok(Self {
            authority: authority.der().clone(),
            authority_pem: authority.pem(),
            own: server.pem(),
            chain: vec![server.der().clone()],
            key,
            client: (client.pem(), client_key.serialize_pem()),
        })
    }

    pub(crate) fn client(&self) -> (String, String) {
        self.client.clone()
    }

    pub(crate) fn authority_pem(&self) -> &str {
        &self.authority_pem
    }

    pub(crate) fn pem(&self) -> String {
        self.own.clone()
    }

    /// Accepts connections; with `wants_client`, only from clients with a certificate of the authority.
    pub(crate) fn acceptor(self, wants_client: bool) -> Result<TlsAcceptor, StandinError> {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let builder = ServerConfig::builder_with_provider(Arc::clone(&provider))
            .with_safe_default_protocol_versions()
            .map_err(failed)?;
        let builder = if wants_client {
            let mut roots = RootCertStore::empty();
            roots.add(self.authority).map_err(failed)?;
            let verifier = WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider).build();
            builder.with_client_cert_verifier(verifier.map_err(failed)?)
        } else {
            builder.with_no_client_auth()
        };
        let config = builder.with_single_cert(self.chain, self.key).map_err(failed)?;
        Ok(TlsAcceptor::from(Arc::new(config)))
    }
}
