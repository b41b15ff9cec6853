//! A certificate in words: subject, issuer, validity (RFC 5280).

use jiff::Timestamp;
use rustls::pki_types::CertificateDer;
use serde::Serialize;
use std::fmt;
use webtaxon_core::settings::Fingerprint;
use x509_parser::extensions::GeneralName;
use x509_parser::prelude::{FromDer as _, X509Certificate};

/// The contents of a certificate. Reading them proves nothing.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Certificate {
    /// The subject.
    pub subject: String,
    /// The hosts in subjectAltName: names and addresses.
    pub names: Vec<String>,
    /// The issuer.
    pub issuer: String,
    /// Start of its validity.
    pub not_before: Timestamp,
    /// End of its validity.
    pub not_after: Timestamp,
    /// The SHA-256 of its bytes, in the notation of the settings.
    #[serde(serialize_with = "as_text")]
    pub fingerprint: Fingerprint,
}

fn as_text<S: serde::Serializer>(value: &Fingerprint, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(value)
}

/// The SHA-256 of a certificate's bytes.
pub(crate) fn fingerprint(certificate: &CertificateDer<'_>) -> Fingerprint {
    let digest = ring::digest::digest(&ring::digest::SHA256, certificate);
    let mut bytes = [0; 32];
    bytes.copy_from_slice(digest.as_ref());
    Fingerprint(bytes)
}

impl Certificate {
    /// Parses a certificate's DER form; `None` if it is not one.
    pub(crate) fn read(der: &CertificateDer<'_>) -> Option<Self> {
        let (_, parsed) = X509Certificate::from_der(der).ok()?;
        let names = parsed.subject_alternative_name().ok().flatten();
        let names = names.map(|names| names.value.general_names.iter().filter_map(host).collect());
        let at = |time: x509_parser::time::ASN1Time| Timestamp::from_second(time.timestamp()).ok();
        Some(Self {
            subject: parsed.subject().to_string(),
            names: names.unwrap_or_default(),
            issuer: parsed.issuer().to_string(),
            not_before: at(parsed.validity().not_before)?,
            not_after: at(parsed.validity().not_after)?,
            fingerprint: fingerprint(der),
        })
    }

    /// Whole days of validity left at `now`; negative once it has expired.
    #[must_use]
    pub fn days_left(&self, now: Timestamp) -> i64 {
        (self.not_after.as_second() - now.as_second()).div_euclid(24 * 60 * 60)
    }
}

fn host(name: &GeneralName<'_>) -> Option<String> {
    match name {
        GeneralName::DNSName(name) => Some((*name).to_owned()),
        GeneralName::IPAddress(bytes) => match *bytes {
            [a, b, c, d] => Some(std::net::Ipv4Addr::new(*a, *b, *c, *d).to_string()),
            _ => <[u8; 16]>::try_from(*bytes).ok().map(|bytes| std::net::Ipv6Addr::from(bytes).to_string()),
        },
        _ => None,
    }
}

impl fmt::Display for Certificate {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let day = |time: Timestamp| time.strftime("%Y-%m-%d").to_string();
        let subject = if self.subject.is_empty() { "no name" } else { &self.subject };
        write!(out, "subject {subject}; ")?;
        match self.names.as_slice() {
            [] => out.write_str("for no host (it has no subjectAltName); ")?,
            names => write!(out, "for {}; ", names.join(", "))?,
        }
        write!(
            out,
            "issued by {}; valid from {} to {}; fingerprint {}",
            self.issuer,
            day(self.not_before),
            day(self.not_after),
            self.fingerprint
        )
    }
}
