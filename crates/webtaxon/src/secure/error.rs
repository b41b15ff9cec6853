//! Why a connection cannot be made safe, or a password be had, and what to do about it.

use super::Certificate;
use miette::Diagnostic;
use std::path::PathBuf;
use thiserror::Error;

/// Why a certificate, a password or TLS itself is of no use.
#[derive(Debug, Error, Diagnostic)]
#[non_exhaustive]
pub enum SecureError {
    /// The authority's file cannot be used.
    #[error("the authority file {} cannot be used: {reason}", file.display())]
    #[diagnostic(
        code(WX0306),
        help(
            "it holds one or more certificates in PEM form (-----BEGIN CERTIFICATE-----); a relative path starts beside the settings"
        )
    )]
    AuthorityFile {
        /// The file.
        file: PathBuf,
        /// The reason.
        reason: String,
    },
    /// This side's own certificate cannot be used.
    #[error("the client certificate in {} cannot be used: {reason}", file.display())]
    #[diagnostic(
        code(WX0322),
        help(
            "certificate = {{ chain = \"loansdesk.pem\", key = \"loansdesk.key\" }} names a certificate and its key in PEM form; a relative path starts beside the settings"
        )
    )]
    ClientCertificate {
        /// The file.
        file: PathBuf,
        /// The reason.
        reason: String,
    },
    /// TLS failed in another way.
    #[error("{server}: no secure connection: {reason}")]
    #[diagnostic(
        code(WX0310),
        help(
            "is this a port that begins with TLS (636)? a port without TLS (389) answers like this; or the server wants something of this side"
        )
    )]
    Tls {
        /// The server.
        server: String,
        /// The reason.
        reason: String,
    },
    /// No password where there should be one.
    #[error("{reason}")]
    #[diagnostic(code(WX0315), help("{help}"))]
    NoPassword {
        /// What is missing.
        reason: String,
        /// The way out.
        help: String,
    },
}

/// A server's certificate that is not good, and what it says of itself.
#[derive(Debug, Error)]
#[error("{server}: {fault}{}", shown(certificate))]
pub struct RefusedCertificate {
    server: String,
    fault: CertificateFault,
    certificate: Option<Box<Certificate>>,
}

/// What is wrong with a certificate.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum CertificateFault {
    /// Nobody who is trusted here signed it.
    #[error("the server's certificate is not signed by an authority that is trusted here")]
    Untrusted,
    /// It is another one than those that the settings name.
    #[error("the server's certificate is none of those that the settings trust by fingerprint")]
    NotPinned,
    /// It is another host's.
    #[error("the server's certificate is not valid for this host name")]
    WrongName,
    /// It names no host at all.
    #[error("the server's certificate is valid for no host name: it has no subjectAltName")]
    Nameless,
    /// Its time is over.
    #[error("the server's certificate has expired")]
    Expired,
    /// Its time has not come.
    #[error("the server's certificate is not valid yet")]
    NotYet,
    /// It is an authority's, not a server's.
    #[error("the server's certificate is an authority's own, which is not good for a server")]
    Authority,
    /// Something else.
    #[error("the server's certificate is not good: {0}")]
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

    /// What is wrong with it.
    #[must_use]
    pub fn fault(&self) -> &CertificateFault {
        &self.fault
    }

    /// What it says of itself, if it could be read.
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
                "if you have verified the fingerprint by another way (on the server itself, by telephone), write trust = {{ fingerprint = \"{}\" }}",
                certificate.fingerprint.compact()
            ),
            None => "ask the directory's administrators".to_owned(),
        };
        Some(Box::new(match self.fault {
            CertificateFault::Untrusted => format!(
                "ask the directory's administrators for their authority's certificate, and name its file: trust = {{ authority = \"museum-ca.pem\" }}; or, {}",
                pin()
            ),
            CertificateFault::NotPinned => format!(
                "it was replaced, or this is another server: ask the directory's administrators; {}",
                pin()
            ),
            CertificateFault::WrongName => {
                "write a name that the certificate has into `servers`, one that leads to this server"
                    .to_owned()
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
