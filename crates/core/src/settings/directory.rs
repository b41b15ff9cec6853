//! The settings of one directory: servers, trust, bind, limits.

use super::Fingerprint;
use crate::ldap::url::Server;
use serde::Serialize;
use std::path::PathBuf;
use std::time::Duration;

/// One LDAP service.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Directory {
    /// Its name in the settings.
    pub name: String,
    /// How its servers are found.
    pub servers: Servers,
    /// Whose certificates are good.
    pub trust: Trust,
    /// The certificate by which this side shows who it is.
    pub certificate: Option<ClientCertificate>,
    /// Who asks.
    pub bind: Bind,
    /// What becomes of parts of the tree that other servers keep.
    pub references: References,
    /// Entries in a page (RFC 2696); 500 unless said otherwise.
    pub page: u32,
    /// The longest wait for a connection, TLS included; 10 seconds unless said otherwise.
    pub connect_timeout: Duration,
    /// The longest wait for the server's next answer; 30 seconds unless said otherwise.
    pub timeout: Duration,
    /// The longest time for a whole reading; 10 minutes unless said otherwise.
    pub deadline: Duration,
    /// Whether `ldap://` may go without encryption.
    pub plain: bool,
}

impl Directory {
    /// A directory of which nothing is said but its servers: asked anonymously, certificates checked by
    /// the system's own list.
    #[must_use]
    pub fn new(name: impl Into<String>, servers: Servers) -> Self {
        Self {
            name: name.into(),
            servers,
            trust: Trust::System,
            certificate: None,
            bind: Bind::Anonymous,
            references: References::default(),
            page: 500,
            connect_timeout: Duration::from_secs(10),
            timeout: Duration::from_secs(30),
            deadline: Duration::from_secs(600),
            plain: false,
        }
    }

    /// The same directory, asked by nobody in particular: without a bind account or a certificate.
    #[must_use]
    pub fn anonymous(&self) -> Self {
        Self { bind: Bind::Anonymous, certificate: None, ..self.clone() }
    }

    /// Whether the same servers are asked by the same name, so that one reading does for both.
    #[must_use]
    pub fn is_same(&self, other: &Self) -> bool {
        (&self.servers, &self.bind, &self.certificate, self.references)
            == (&other.servers, &other.bind, &other.certificate, other.references)
    }
}

/// How a directory's servers are found. Exhaustive on purpose: whoever connects must know every kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Servers {
    /// By name, tried in this order.
    Named(Vec<Server>),
    /// By asking the name servers who serves this domain: `_ldap._tcp.DOMAIN` (RFC 2782).
    Domain(String),
}

/// Whose certificates are good. Exhaustive on purpose: whoever opens one must know every kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Trust {
    /// The system's own list of authorities.
    System,
    /// The authorities in a PEM file, beside the settings unless the path is absolute.
    Authority(PathBuf),
    /// Certificates that the administrator has verified by another way, one for each server.
    Pinned(Vec<Fingerprint>),
}

/// A certificate of this side's own: who asks is shown by the key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ClientCertificate {
    /// A PEM file with the certificate, and those of the authorities between it and the root.
    pub chain: PathBuf,
    /// A PEM file with the key.
    pub key: PathBuf,
}

/// Who asks, and how that is shown (RFC 4513 §5). Exhaustive on purpose: whoever binds must know every kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Bind {
    /// Nobody in particular.
    Anonymous,
    /// A name and a password.
    Simple {
        /// A DN, `user@domain` or `DOMAIN\user`.
        name: String,
        /// Where the password comes from; without one there is no bind.
        password: Option<PasswordSource>,
    },
    /// Whoever the connection itself shows: the client certificate, or the user at a local socket
    /// (SASL EXTERNAL, RFC 4422 appendix A).
    External,
}

impl Bind {
    /// The name that is shown to the server, if it is shown one.
    #[must_use]
    pub fn name(&self) -> Option<&str> {
        match self {
            Self::Simple { name, .. } => Some(name),
            Self::Anonymous | Self::External => None,
        }
    }
}

/// What becomes of a part of the tree that another server keeps (RFC 4511 §4.5.3).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum References {
    /// It is read there. The bind's credentials go only to servers that the settings name.
    Follow,
    /// It is left out; the reading is not whole.
    #[default]
    Ignore,
    /// The reading ends there, and is not whole.
    Refuse,
}

/// Where a password comes from; never the settings themselves. Exhaustive on purpose: whoever opens one must know every kind.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum PasswordSource {
    /// An environment variable of this name.
    Env(String),
    /// The first line of a file, beside the settings unless the path is absolute.
    File(PathBuf),
    /// The first line that a program writes; it is started without a shell.
    Command(Vec<String>),
    /// A file of this name in the folder that the service manager gives to this program.
    Credential(String),
    /// A question at the terminal.
    Ask,
}
