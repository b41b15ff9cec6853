//! An authority and a server certificate, made at start.

use crate::{StandinError, StandinErrorKind};
use rcgen::{
    BasicConstraints, CertificateParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair,
    KeyUsagePurpose,
};
use rustls::ServerConfig;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use std::sync::Arc;
use tokio_rustls::TlsAcceptor;

pub(crate) struct Certificate {
    authority: String,
    chain: Vec<CertificateDer<'static>>,
    key: PrivateKeyDer<'static>,
}

fn failed(error: impl std::fmt::Display) -> StandinError {
    StandinErrorKind::Certificate(error.to_string()).into()
}

impl Certificate {
    pub(crate) fn new(names: &[String]) -> Result<Self, StandinError> {
        let mut params = CertificateParams::default();
        params.distinguished_name.push(DnType::CommonName, "Quillmere Museum test authority");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
        let authority_key = KeyPair::generate().map_err(failed)?;
        let authority = params.self_signed(&authority_key).map_err(failed)?.pem();
        let issuer = Issuer::new(params, authority_key);

        let mut params = CertificateParams::new(names.to_vec()).map_err(failed)?;
        params.distinguished_name.push(DnType::CommonName, "simulated directory");
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        let key = KeyPair::generate().map_err(failed)?;
        let server = params.signed_by(&key, &issuer).map_err(failed)?;
        let key = PrivateKeyDer::try_from(key.serialize_der()).map_err(failed)?;
        Ok(Self { authority, chain: vec![server.der().clone()], key })
    }

    pub(crate) fn authority_pem(&self) -> &str {
        &self.authority
    }

    pub(crate) fn acceptor(self) -> Result<TlsAcceptor, StandinError> {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(failed)?
            .with_no_client_auth()
            .with_single_cert(self.chain, self.key)
            .map_err(failed)?;
        Ok(TlsAcceptor::from(Arc::new(config)))
    }
}
