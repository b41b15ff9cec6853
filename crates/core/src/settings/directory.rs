//! The settings of one directory: servers, trust, bind, limits.

use super::Fingerprint;
use crate::ldap::name::Dn;
use crate::ldap::url::Server;
use serde::Serialize;
use std::path::PathBuf;
use std::time::Duration;

/// One directory service.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Directory {
    /// Its name in the settings.
    pub name: String,
    /// How to find its servers.
    pub servers: Servers,
    /// The trusted certificates.
    pub trust: Trust,
    /// The client certificate, if any.
    pub certificate: Option<ClientCertificate>,
    /// How to bind.
    pub bind: Bind,
    /// The naming contexts, instead of those that the server names; empty for its own.
    pub tops: Vec<Dn>,
    /// How to treat referrals to other servers.
    pub references: References,
    /// Entries on a page (RFC 2696); 500 by default.
    pub page: u32,
    /// Time limit for a connection, including TLS; 10 seconds by default.
    pub connect_timeout: Duration,
    /// Time limit for each answer of the server; 30 seconds by default.
    pub timeout: Duration,
    /// Time limit for a whole reading; 10 minutes by default.
    pub deadline: Duration,
    /// Whether `ldap://` without encryption is allowed.
    pub plain: bool,
}

impl Directory {
    /// A directory with default settings: anonymous bind, and certificates checked against the system's authorities.
    #[must_use]
    pub fn new(name: impl Into<String>, servers: Servers) -> Self {
        Self {
            name: name.into(),
            servers,
            trust: Trust::System,
            certificate: None,
            bind: Bind::Anonymous,
            tops: Vec::new(),
            references: References::default(),
            page: 500,
            connect_timeout: Duration::from_secs(10),
            timeout: Duration::from_secs(30),
            deadline: Duration::from_secs(600),
            plain: false,
        }
    }

    /// The same directory with an anonymous bind and no client certificate.
    #[must_use]
    pub fn anonymous(&self) -> Self {
        Self { bind: Bind::Anonymous, certificate: None, ..self.clone() }
    }

    /// Whether both ask the same servers with the same bind, so that one reading serves both.
    #[must_use]
    pub fn is_same(&self, other: &Self) -> bool {
        (&self.servers, &self.bind, &self.certificate, self.references)
            == (&other.servers, &other.bind, &other.certificate, other.references)
    }
}

/// How to find a directory's servers. Exhaustive on purpose: code that connects must handle every kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Servers {
    /// Addresses, tried in this order.
    Named(Vec<Server>),
    /// DNS: the servers of `_ldap._tcp.DOMAIN` (RFC 2782).
    Domain(String),
}

/// The trusted certificates. Exhaustive on purpose: code that connects must handle every kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Trust {
    /// Those of the system's authorities.
    System,
    /// Those of the authorities in a PEM file, relative to the settings file.
    Authority(PathBuf),
    /// Certificates that the administrator has verified out of band, one for each server.
    Pinned(Vec<Fingerprint>),
}

/// A client certificate with its key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ClientCertificate {
    /// A PEM file with the certificate and any intermediate authorities.
    pub chain: PathBuf,
    /// A PEM file with the key.
    pub key: PathBuf,
}

/// How to bind (RFC 4513 §5). Exhaustive on purpose: code that binds must handle every kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Bind {
    /// Anonymously.
    Anonymous,
    /// With a name and a password.
    Simple {
        /// A DN, `user@domain` or `DOMAIN\user`.
        name: String,
        /// The source of the password; a simple bind without one is refused.
        password: Option<PasswordSource>,
    },
    /// By the connection itself: with the client certificate, or as the user at a local socket (SASL EXTERNAL, RFC
    /// 4422 appendix A).
    External,
}

impl Bind {
    /// The bind name, if there is one.
    #[must_use]
    pub fn name(&self) -> Option<&str> {
        match self {
            Self::Simple { name, .. } => Some(name),
            Self::Anonymous | Self::External => None,
        }
    }
}

/// How to treat a referral or a search continuation reference (RFC 4511 §4.5.3).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum References {
    /// Follow it. Credentials are sent only to servers that the settings name.
    Follow,
    /// Leave that part out; the reading is not whole.
    #[default]
    Ignore,
    /// Leave that part out: what other servers hold is not part of the intake.
    Elsewhere,
    /// Stop there; the reading is not whole.
    Refuse,
}

/// The source of a password; never the settings themselves. Exhaustive on purpose: code that asks for one must handle
/// every kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum PasswordSource {
    /// An environment variable.
    Env(String),
    /// The first line of a file, relative to the settings file.
    File(PathBuf),
    /// The first line of a program's output; it is started without a shell.
    Command(Vec<String>),
    /// A file in the credentials folder of the service manager.
    Credential(String),
    /// A prompt on the terminal.
    Ask,
}
