//! Why a directory could not be asked, and what to do about it.

use miette::Diagnostic;
use std::path::PathBuf;
use std::time::Duration;
use thiserror::Error;
use webtaxon_wire::message::LdapResult;
use webtaxon_wire::{ProtocolError, ProtocolErrorKind};

/// Why a directory could not be asked.
#[derive(Debug, Error, Diagnostic)]
#[error(transparent)]
#[diagnostic(transparent)]
pub struct DirectoryError(#[from] DirectoryErrorKind);

/// What went wrong between here and the directory.
#[derive(Debug, Error, Diagnostic)]
#[non_exhaustive]
pub enum DirectoryErrorKind {
    /// The settings name no server.
    #[error("the settings name no server")]
    #[diagnostic(code(WX0301), help("write servers = [\"ldaps://dc1.quillmere.example\"]"))]
    NoServer,
    /// The host's name means nothing here.
    #[error("{server}: the host name cannot be resolved: {reason}")]
    #[diagnostic(
        code(WX0302),
        help(
            "check the spelling of the host in `servers`, and whether this machine asks the company's name servers"
        )
    )]
    Resolve {
        /// The server.
        server: String,
        /// The system's reason.
        reason: std::io::Error,
    },
    /// Nobody listens there.
    #[error("{server}: no connection: {reason}")]
    #[diagnostic(
        code(WX0303),
        help(
            "is the port right (636 for ldaps://)? does a firewall stand between, and does the server run?"
        )
    )]
    Connect {
        /// The server.
        server: String,
        /// The system's reason.
        reason: std::io::Error,
    },
    /// Nobody answers there.
    #[error("{server}: no answer within {}", seconds(*waited))]
    #[diagnostic(
        code(WX0304),
        help("a firewall that swallows packets looks like this; or the server is busy: raise `timeout`")
    )]
    NoAnswer {
        /// The server.
        server: String,
        /// How long it was waited for.
        waited: Duration,
    },
    /// The whole run took too long.
    #[error("{server}: the reading took longer than its deadline of {}", seconds(*deadline))]
    #[diagnostic(
        code(WX0305),
        help("raise `deadline` in [directory.…], or read less: narrower bases, a narrower filter")
    )]
    Deadline {
        /// The server.
        server: String,
        /// How long the run may take.
        deadline: Duration,
    },
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
    /// The certificate's authority is not trusted.
    #[error("{server}: the server's certificate is not signed by an authority that is trusted here")]
    #[diagnostic(
        code(WX0307),
        help(
            "ask the directory's administrators for their authority's certificate, and name its file: trust = {{ authority = \"museum-ca.pem\" }}"
        )
    )]
    Untrusted {
        /// The server.
        server: String,
    },
    /// The certificate is another host's.
    #[error("{server}: the server's certificate is not valid for this host name{}", listed(names))]
    #[diagnostic(code(WX0308), help("write a name that the certificate has into `servers`"))]
    WrongName {
        /// The server.
        server: String,
        /// The names in the certificate.
        names: Vec<String>,
    },
    /// The certificate's time is not now.
    #[error("{server}: the server's certificate {what}")]
    #[diagnostic(
        code(WX0309),
        help("tell the directory's administrators; if theirs is in order, this machine's clock is wrong")
    )]
    NotNow {
        /// The server.
        server: String,
        /// Expired, or not valid yet.
        what: &'static str,
    },
    /// TLS failed in another way.
    #[error("{server}: no secure connection: {reason}")]
    #[diagnostic(
        code(WX0310),
        help("is this a port that begins with TLS (636)? a port without TLS (389) answers like this")
    )]
    Tls {
        /// The server.
        server: String,
        /// The reason.
        reason: String,
    },
    /// The server breaks the protocol, or hangs up with a notice.
    #[error(transparent)]
    #[diagnostic(transparent)]
    Protocol(#[from] BrokenProtocol),
    /// The connection ended in the middle.
    #[error("{server}: the connection was cut")]
    #[diagnostic(
        code(WX0314),
        help(
            "try again; if it happens every time at the same place, a device on the way or the server's limits end it"
        )
    )]
    Cut {
        /// The server.
        server: String,
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
    /// The bind was refused.
    #[error("{server}: the bind as {name} was refused: {result}")]
    #[diagnostic(code(WX0316), help("{help}"))]
    BindRefused {
        /// The server.
        server: String,
        /// Who asked.
        name: String,
        /// The result code and the server's own words.
        result: String,
        /// The way out.
        help: &'static str,
    },
    /// A search ended with another result than success.
    #[error("{}", in_words(base, result))]
    #[diagnostic(code(WX0401), help("{}", search_remedy(result.code.0)))]
    Search {
        /// Where it began.
        base: String,
        /// What came of it.
        result: Box<LdapResult>,
    },
}

/// What a server did against the protocol.
#[derive(Debug, Error)]
#[error("{server}: {error}")]
pub struct BrokenProtocol {
    server: String,
    error: ProtocolError,
}

impl Diagnostic for BrokenProtocol {
    fn code<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.error.code()
    }

    fn help<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.error.help()
    }
}

impl DirectoryError {
    /// What went wrong.
    #[must_use]
    pub fn kind(&self) -> &DirectoryErrorKind {
        &self.0
    }

    /// Whether the connection is of no use any more.
    pub(crate) fn is_fatal(&self) -> bool {
        !matches!(self.0, DirectoryErrorKind::Search { .. })
    }

    pub(crate) fn protocol(server: &str, error: ProtocolError) -> Self {
        DirectoryErrorKind::Protocol(BrokenProtocol { server: server.to_owned(), error }).into()
    }

    pub(crate) fn unwritable(server: &str) -> Self {
        Self::protocol(server, ProtocolErrorKind::Unwritable.into())
    }
}

fn seconds(span: Duration) -> String {
    if span.subsec_millis() == 0 {
        format!("{} s", span.as_secs())
    } else {
        format!("{} ms", span.as_millis())
    }
}

fn listed(names: &[String]) -> String {
    if names.is_empty() { String::new() } else { format!("; it is valid for {}", names.join(", ")) }
}

/// A search's result in words that say where.
fn in_words(base: &str, result: &LdapResult) -> String {
    let words = result.words();
    let words = if words.is_empty() { String::new() } else { format!(", the server says: {words}") };
    let matched = String::from_utf8_lossy(&result.matched_dn).into_owned();
    let base = if base.is_empty() { "the root DSE" } else { base };
    match result.code.0 {
        32 if matched.is_empty() => format!("{base} does not exist{words}"),
        32 => format!("{base} does not exist; the part of it that does is {matched}{words}"),
        _ => format!("{base}: {}{words}", result.code),
    }
}

pub(crate) fn search_remedy(code: u32) -> &'static str {
    match code {
        1 | 50 => "the bind account may not read this: ask the directory's administrators for read access",
        3 => "the server's time limit is too short for this search: choose a narrower base or filter",
        4 | 11 => {
            "the server gives no more entries than its limit: choose narrower bases, or ask for a higher limit for the bind account"
        }
        10 => "this part of the tree is kept by another server: name that server in `servers`",
        12 => "the server does not know paged results: tell its administrators",
        32 => "check the spelling; people and groups often sit under different bases",
        34 => "check the spelling: the server does not take this as a distinguished name",
        51 | 52 => "the server is busy or going down: try again later, or name another one in `servers`",
        _ => "ask the directory's administrators, and give them the result code",
    }
}
