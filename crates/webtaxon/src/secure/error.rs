//! Why a connection cannot be secured, or a password is not available, and what to do about it.

use super::Certificate;
use crate::box_error::BoxError;
use miette::Diagnostic;
use std::path::PathBuf;
use thiserror::Error;

/// Why TLS or a password failed.
#[derive(Debug, Error, Diagnostic)]
#[non_exhaustive]
pub enum SecureError {
    /// The authority's file cannot be used.
    #[error("the authority file {} cannot be used: {source}", file.display())]
    #[diagnostic(
        code(WX0306),
        help(
            "it must contain certificates in PEM form (-----BEGIN CERTIFICATE-----); its path is relative to the settings file"
        )
    )]
    AuthorityFile {
        /// The file.
        file: PathBuf,
        /// The reason.
        source: BoxError,
    },
    /// The client certificate cannot be used.
    #[error("the client certificate in {} cannot be used: {source}", file.display())]
    #[diagnostic(
        code(WX0322),
        help(
            "certificate = {{ chain = \"loansdesk.pem\", key = \"loansdesk.key\" }} gives a certificate and its key in PEM form; paths are relative to the settings file"
        )
    )]
    ClientCertificate {
        /// The file.
        file: PathBuf,
        /// The reason.
        source: BoxError,
    },
    /// TLS failed for another reason.
    #[error("{server}: no secure connection: {source}")]
    #[diagnostic(
        code(WX0310),
        help(
            "is this a port with TLS (636)? a port without TLS (389) answers like this; or the server requires something of the client"
        )
    )]
    Tls {
        /// The server.
        server: String,
        /// The reason.
        source: BoxError,
    },
    /// The password is not available.
    #[error("{reason}")]
    #[diagnostic(code(WX0315), help("{help}"))]
    NoPassword {
        /// The fault.
        reason: String,
        /// The remedy.
        help: String,
    },
}

/// A server's certificate that was refused, with its contents.
#[derive(Debug, Error)]
#[error("{server}: {fault}{}", shown(certificate))]
pub struct RefusedCertificate {
    server: String,
    fault: CertificateFault,
    certificate: Option<Box<Certificate>>,
}

/// The fault of a certificate.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum CertificateFault {
    /// Its issuer is not trusted.
    #[error("the server's certificate is not signed by an authority that is trusted here")]
    Untrusted,
    /// It is not one of those pinned in the settings.
    #[error("the server's certificate is not one of those pinned in the settings")]
    NotPinned,
    /// It is for another host.
    #[error("the server's certificate is not valid for this host name")]
    WrongName,
    /// It names no host.
    #[error("the server's certificate is valid for no host name: it has no subjectAltName")]
    Nameless,
    /// It has expired.
    #[error("the server's certificate has expired")]
    Expired,
    /// It is not valid yet.
    #[error("the server's certificate is not valid yet")]
    NotYet,
    /// It belongs to an authority, not a server.
    #[error("the server's certificate belongs to an authority, not to a server")]
    Authority,
    /// Another fault.
    #[error("the server's certificate is invalid: {0}")]
    Other(String),
}

impl RefusedCertificate {
    pub(crate) fn new(
        server: String,
        fault: CertificateFault,
        certificate: Option<Box<Certificate>>,
    ) -> Self {
        Self { server, fault, certificate }
    }

    /// The fault.
    #[must_use]
    pub fn fault(&self) -> &CertificateFault {
        &self.fault
    }

    /// Its contents, if it could be parsed.
    #[must_use]
    pub fn certificate(&self) -> Option<&Certificate> {
        self.certificate.as_deref()
    }
}

fn shown(certificate: &Option<Box<Certificate>>) -> String {
    certificate.as_ref().map_or_else(String::new, |certificate| format!(". It says: {certificate}"))
}

impl Diagnostic for RefusedCertificate {
    fn code<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        Some(Box::new(match self.fault {
            CertificateFault::Untrusted => "WX0307",
            CertificateFault::WrongName | CertificateFault::Nameless => "WX0308",
            CertificateFault::Expired | CertificateFault::NotYet => "WX0309",
            CertificateFault::NotPinned => "WX0321",
            CertificateFault::Authority | CertificateFault::Other(_) => "WX0310",
        }))
    }

    fn help<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        let pin = || match &self.certificate {
            Some(certificate) => format!(
                "if you have verified the fingerprint out of band (on the server itself, by telephone), write trust = {{ fingerprint = \"{}\" }}",
                certificate.fingerprint.compact()
            ),
            None => "ask the directory's administrators".to_owned(),
        };
        Some(Box::new(match self.fault {
            CertificateFault::Untrusted => format!(
                "ask the directory's administrators for their authority's certificate, and give its file: trust = {{ authority = \"museum-ca.pem\" }}; or, {}",
                pin()
            ),
            CertificateFault::NotPinned => format!(
                "it was replaced, or this is another server: ask the directory's administrators; {}",
                pin()
            ),
            CertificateFault::WrongName => {
                "use one of the certificate's names in `servers`, one that leads to this server".to_owned()
            }
            CertificateFault::Nameless | CertificateFault::Authority | CertificateFault::Other(_) => format!(
                "ask the directory's administrators for a server certificate with the host's name as subjectAltName; or, {}",
                pin()
            ),
            CertificateFault::Expired | CertificateFault::NotYet => {
                "tell the directory's administrators; if theirs is in order, this machine's clock is wrong"
                    .to_owned()
            }
        }))
    }
}
