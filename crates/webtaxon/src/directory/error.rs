//! Why a directory could not be asked, and what to do about it.

use crate::secure::{RefusedCertificate, SecureError};
use miette::Diagnostic;
use std::time::Duration;
use thiserror::Error;
use webtaxon_wire::ProtocolError;
use webtaxon_wire::message::{LdapResult, ResultCode};

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
            "is the port right (636 for ldaps://, 389 for ldap://)? does a firewall stand between, and does the server run?"
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
    /// The server's certificate is not good.
    #[error(transparent)]
    #[diagnostic(transparent)]
    Certificate(#[from] RefusedCertificate),
    /// A certificate, a password or TLS itself is of no use.
    #[error(transparent)]
    #[diagnostic(transparent)]
    Secure(#[from] SecureError),
    /// StartTLS was refused.
    #[error("{server}: the server does not go over to a secure connection: {}", evidence(result))]
    #[diagnostic(
        code(WX0317),
        help(
            "the password was not sent. Try ldaps:// (port 636), or ask the directory's administrators to set up a certificate"
        )
    )]
    NoStartTls {
        /// The server.
        server: String,
        /// What it answered.
        result: Box<LdapResult>,
    },
    /// Something was sent in plain text behind the answer to StartTLS.
    #[error("{server}: something was slipped in before the connection was secure")]
    #[diagnostic(
        code(WX0318),
        help(
            "somebody on the way may be tampering: nothing was sent; tell the directory's administrators, and use ldaps://"
        )
    )]
    Injected {
        /// The server.
        server: String,
    },
    /// The name servers know no servers of the domain.
    #[error("the servers of {domain} cannot be found: {reason}")]
    #[diagnostic(
        code(WX0319),
        help(
            "check `domain`, and whether this machine asks the company's name servers; or name the servers: servers = [\"ldaps://…\"]"
        )
    )]
    Domain {
        /// The domain.
        domain: String,
        /// The reason.
        reason: String,
    },
    /// Several servers, and none of them can be used.
    #[error("none of the {} servers can be used. {}", failed.len(), each(failed))]
    #[diagnostic(code(WX0320), help("`webtaxon check` tries each of them, step by step"))]
    AllFailed {
        /// Why each of them cannot, in the order in which they were tried.
        failed: Vec<DirectoryError>,
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
    /// The bind was refused.
    #[error("{server}: the bind as {name} was refused: {meaning}{result}")]
    #[diagnostic(code(WX0316), help("{help}"))]
    BindRefused {
        /// The server.
        server: String,
        /// Who asked.
        name: String,
        /// The result code.
        code: ResultCode,
        /// What the server's sub-code means, with a colon behind it; or nothing.
        meaning: String,
        /// The result code and the server's own words.
        result: String,
        /// The way out.
        help: &'static str,
    },
    /// The server gave no more entries than its limit.
    #[error("{base}: the server does not give everything: {limit}")]
    #[diagnostic(code(WX0407), help("choose narrower bases, or ask for a higher limit for the bind account"))]
    Unfinished {
        /// Where the search began.
        base: String,
        /// The server's words.
        limit: String,
    },
    /// No random numbers for a mask.
    #[error("this machine gives no random numbers, so that nobody can be made unrecognisable")]
    #[diagnostic(code(WX0406), help("take the snapshot on another machine"))]
    NoRandom,
    /// Nobody is there, as far as the bind account sees.
    #[error("{server}: the directory shows no people")]
    #[diagnostic(
        code(WX0404),
        help(
            "the bind account may not read them: ask the directory's administrators for read access, or try another account"
        )
    )]
    Nobody {
        /// The server.
        server: String,
    },
    /// Page after page without an entry, and never an end.
    #[error("{base}: the server sends empty pages without end")]
    #[diagnostic(
        code(WX0402),
        help(
            "tell the directory's administrators: the server breaks the protocol of paged results (RFC 2696)"
        )
    )]
    EndlessPages {
        /// Where the search began.
        base: String,
    },
    /// A part of the tree is kept elsewhere, and the settings say to stop there.
    #[error("{base}: a part of it is kept by another server: {}", urls.join(" or "))]
    #[diagnostic(
        code(WX0403),
        help(
            "references = \"refuse\" ends the reading here; \"follow\" reads that server, too, \"ignore\" leaves its part out"
        )
    )]
    Referred {
        /// Where the search began.
        base: String,
        /// The servers that keep it.
        urls: Vec<String>,
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

impl From<SecureError> for DirectoryError {
    fn from(error: SecureError) -> Self {
        DirectoryErrorKind::from(error).into()
    }
}

impl DirectoryError {
    /// What went wrong.
    #[must_use]
    pub fn kind(&self) -> &DirectoryErrorKind {
        &self.0
    }

    /// Whether the connection is of no use any more: it broke, or the server stays busy.
    pub(crate) fn is_fatal(&self) -> bool {
        match &self.0 {
            DirectoryErrorKind::Search { result, .. } => {
                matches!(result.code, ResultCode::BUSY | ResultCode::UNAVAILABLE)
            }
            DirectoryErrorKind::EndlessPages { .. } | DirectoryErrorKind::Nobody { .. } => false,
            _ => true,
        }
    }

    /// Whether the server gave less than was asked for, since it gives no more at once.
    pub(crate) fn is_limit(&self) -> bool {
        use ResultCode as Code;
        matches!(&self.0, DirectoryErrorKind::Search { result, .. }
            if [Code::SIZE_LIMIT_EXCEEDED, Code::ADMIN_LIMIT_EXCEEDED, Code::TIME_LIMIT_EXCEEDED].contains(&result.code))
    }

    /// Where else to ask, if the server says that it does not keep the base (RFC 4511 §4.1.10).
    pub(crate) fn referral(&self) -> Option<Vec<String>> {
        match &self.0 {
            DirectoryErrorKind::Search { result, .. } if result.code == ResultCode::REFERRAL => {
                let urls = result.referral.iter().flatten();
                Some(urls.map(|url| String::from_utf8_lossy(url).into_owned()).collect())
            }
            _ => None,
        }
    }

    /// Whether another server of the directory may answer where this one did not. A refused bind
    /// would be refused everywhere, unless the server was only busy.
    pub(crate) fn is_servers_own(&self) -> bool {
        use DirectoryErrorKind as Kind;
        match &self.0 {
            Kind::BindRefused { code, .. } => matches!(*code, ResultCode::BUSY | ResultCode::UNAVAILABLE),
            Kind::Deadline { .. } | Kind::Secure(SecureError::NoPassword { .. }) | Kind::Referred { .. } => {
                false
            }
            _ => self.is_fatal(),
        }
    }

    pub(crate) fn protocol(server: &str, error: ProtocolError) -> Self {
        DirectoryErrorKind::Protocol(BrokenProtocol { server: server.to_owned(), error }).into()
    }
}

fn seconds(span: Duration) -> String {
    if span.subsec_millis() == 0 {
        format!("{} s", span.as_secs())
    } else {
        format!("{} ms", span.as_millis())
    }
}

fn each(failed: &[DirectoryError]) -> String {
    failed.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")
}

/// A result's code, and the server's own words if there are any.
fn evidence(result: &LdapResult) -> String {
    let words = result.words();
    if words.is_empty() {
        result.code.to_string()
    } else {
        format!("{}, the server says: {words}", result.code)
    }
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
        10 => {
            "this part of the tree is kept by another server: references = \"follow\" reads it there; or name that server in `servers`"
        }
        12 => "the server does not know paged results: tell its administrators",
        32 => "check the spelling; people and groups often sit under different bases",
        34 => "check the spelling: the server does not take this as a distinguished name",
        51 | 52 => "the server is busy or going down: try again later, or name another one in `servers`",
        _ => "ask the directory's administrators, and give them the result code",
    }
}
