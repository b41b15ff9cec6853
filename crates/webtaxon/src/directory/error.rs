//! Why a directory could not be read, and what to do about it.

use crate::box_error::BoxError;
use crate::secure::{RefusedCertificate, SecureError};
use miette::Diagnostic;
use std::time::Duration;
use thiserror::Error;
use webtaxon_wire::ProtocolError;
use webtaxon_wire::message::{LdapResult, ResultCode};

/// Why a directory could not be read.
#[derive(Debug, Error, Diagnostic)]
#[error(transparent)]
#[diagnostic(transparent)]
pub struct DirectoryError(#[from] DirectoryErrorKind);

/// The kinds of failure between here and the directory.
#[derive(Debug, Error, Diagnostic)]
#[non_exhaustive]
pub enum DirectoryErrorKind {
    /// The settings name no server.
    #[error("the settings give no server")]
    #[diagnostic(code(WX0301), help("write servers = [\"ldaps://dc1.quillmere.example\"]"))]
    NoServer,
    /// The host name cannot be resolved.
    #[error("{server}: the host name cannot be resolved: {source}")]
    #[diagnostic(
        code(WX0302),
        help("check the spelling of the host in `servers`, and whether this machine uses the company's DNS")
    )]
    Resolve {
        /// The server.
        server: String,
        /// The system's reason.
        source: std::io::Error,
    },
    /// The connection was refused.
    #[error("{server}: no connection: {source}")]
    #[diagnostic(
        code(WX0303),
        help(
            "is the port right (636 for ldaps://, 389 for ldap://)? is there a firewall in between, and is the server running?"
        )
    )]
    Connect {
        /// The server.
        server: String,
        /// The system's reason.
        source: std::io::Error,
    },
    /// The server did not answer.
    #[error("{server}: no answer within {}", seconds(*waited))]
    #[diagnostic(
        code(WX0304),
        help("{}", silence(server, *is_unheard))
    )]
    NoAnswer {
        /// The server.
        server: String,
        /// True if it accepted the connection, and has answered nothing since.
        is_unheard: bool,
        /// The time waited.
        waited: Duration,
    },
    /// The whole run exceeded its deadline.
    #[error("{server}: the reading took longer than its deadline of {}", seconds(*deadline))]
    #[diagnostic(
        code(WX0305),
        help("raise `deadline` in [directory.…], or read less: narrower bases, a narrower filter")
    )]
    Deadline {
        /// The server.
        server: String,
        /// The deadline.
        deadline: Duration,
    },
    /// The server's certificate was refused.
    #[error(transparent)]
    #[diagnostic(transparent)]
    Certificate(#[from] RefusedCertificate),
    /// A certificate or password cannot be used, or TLS failed.
    #[error(transparent)]
    #[diagnostic(transparent)]
    Secure(#[from] SecureError),
    /// StartTLS was refused.
    #[error("{server}: the server refuses StartTLS: {}", evidence(result))]
    #[diagnostic(
        code(WX0317),
        help(
            "the password was not sent. Try ldaps:// (port 636), or ask the directory's administrators to set up a certificate"
        )
    )]
    NoStartTls {
        /// The server.
        server: String,
        /// The server's result.
        result: Box<LdapResult>,
    },
    /// Plain text arrived after the response to StartTLS.
    #[error("{server}: data was injected before the connection was secure")]
    #[diagnostic(
        code(WX0318),
        help(
            "somebody on the network path may be tampering: nothing was sent; tell the directory's administrators, and use ldaps://"
        )
    )]
    Injected {
        /// The server.
        server: String,
    },
    /// A person's password would have been sent without encryption.
    #[error("{server}: the connection is not encrypted, so that no password of a person is sent")]
    #[diagnostic(
        code(WX0801),
        help(
            "use ldaps://, or ldap:// without `plain`: `plain` is for reading, and never for people's passwords"
        )
    )]
    Exposed {
        /// The server.
        server: String,
    },
    /// The server's answer to a person's bind says nothing of the password.
    #[error("{server}: the bind as {base} has no answer: {}", evidence(result))]
    #[diagnostic(
        code(WX0802),
        help(
            "ask the directory's administrators whether people may bind here with their passwords (simple bind)"
        )
    )]
    NoPasswordAnswer {
        /// The server.
        server: String,
        /// The person's entry.
        base: String,
        /// The server's result.
        result: Box<LdapResult>,
    },
    /// DNS has no servers for the domain.
    #[error("the servers of {domain} cannot be found: {source}")]
    #[diagnostic(
        code(WX0319),
        help(
            "check `domain`, and whether this machine uses the company's DNS; or give the servers: servers = [\"ldaps://…\"]"
        )
    )]
    Domain {
        /// The domain.
        domain: String,
        /// The reason.
        source: BoxError,
    },
    /// None of several servers is usable.
    #[error("none of the {} servers can be used. {}", failed.len(), each(failed))]
    #[diagnostic(code(WX0320), help("`webtaxon check` tries each of them, step by step"))]
    AllFailed {
        /// The failure of each server, in the order tried.
        failed: Vec<DirectoryError>,
    },
    /// The server broke the protocol, or disconnected with a notice.
    #[error(transparent)]
    #[diagnostic(transparent)]
    Protocol(#[from] BrokenProtocol),
    /// The connection was lost.
    #[error("{server}: the connection was lost")]
    #[diagnostic(
        code(WX0314),
        help("{}", end(server, *is_unheard))
    )]
    Cut {
        /// The server.
        server: String,
        /// True if it had answered nothing before.
        is_unheard: bool,
    },
    /// The bind was refused.
    #[error("{server}: the bind as {name} was refused: {meaning}{result}")]
    #[diagnostic(code(WX0316), help("{help}"))]
    BindRefused {
        /// The server.
        server: String,
        /// The bind name.
        name: String,
        /// The result code.
        code: ResultCode,
        /// The meaning of the server's sub-code, with a colon after it; or empty.
        meaning: String,
        /// The result code and the server's message.
        result: String,
        /// The remedy.
        help: &'static str,
    },
    /// The server's limit ended a search.
    #[error("{base}: the server does not return everything: {limit}")]
    #[diagnostic(code(WX0407), help("choose narrower bases, or ask for a higher limit for the bind account"))]
    Unfinished {
        /// The base.
        base: String,
        /// The server's result, in words.
        limit: String,
    },
    /// The system has no random numbers for a mask.
    #[error("this machine has no random numbers, which masking needs")]
    #[diagnostic(code(WX0406), help("take the snapshot on another machine"))]
    NoRandom,
    /// The bind account sees no people.
    #[error("{server}: the directory shows no people")]
    #[diagnostic(
        code(WX0404),
        help(
            "the bind account may not be allowed to read them: ask the directory's administrators for read access, or try another account"
        )
    )]
    Nobody {
        /// The server.
        server: String,
    },
    /// Page after page without an entry, and no end.
    #[error("{base}: the server sends empty pages without end")]
    #[diagnostic(
        code(WX0402),
        help(
            "tell the directory's administrators: the server breaks the protocol of paged results (RFC 2696)"
        )
    )]
    EndlessPages {
        /// The base.
        base: String,
    },
    /// Another server holds a part of the tree, and the settings refuse referrals.
    #[error("{base}: a part of it is held by another server: {}", urls.join(" or "))]
    #[diagnostic(
        code(WX0403),
        help(
            "references = \"refuse\" ends the reading here; \"follow\" also reads that server, \"ignore\" leaves its part out"
        )
    )]
    Referred {
        /// The base.
        base: String,
        /// The URLs of the other servers.
        urls: Vec<String>,
    },
    /// A search did not succeed.
    #[error("{}", in_words(base, result))]
    #[diagnostic(code(WX0401), help("{}", search_remedy(result.code.0)))]
    Search {
        /// The base.
        base: String,
        /// The result.
        result: Box<LdapResult>,
    },
}

/// A server's violation of the protocol.
#[derive(Debug, Error)]
#[error("{server}: {source}")]
pub struct BrokenProtocol {
    server: String,
    source: ProtocolError,
}

impl Diagnostic for BrokenProtocol {
    fn code<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.source.code()
    }

    fn help<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.source.help()
    }
}

impl From<SecureError> for DirectoryError {
    fn from(error: SecureError) -> Self {
        DirectoryErrorKind::from(error).into()
    }
}

impl DirectoryError {
    /// The kind of failure.
    #[must_use]
    pub fn kind(&self) -> &DirectoryErrorKind {
        &self.0
    }

    /// Whether the connection is unusable: it broke, or the server remains busy.
    pub(crate) fn is_fatal(&self) -> bool {
        match &self.0 {
            DirectoryErrorKind::Search { result, .. } => {
                matches!(result.code, ResultCode::BUSY | ResultCode::UNAVAILABLE)
            }
            DirectoryErrorKind::EndlessPages { .. } | DirectoryErrorKind::Nobody { .. } => false,
            _ => true,
        }
    }

    /// Whether the server's limit cut a search short.
    pub(crate) fn is_limit(&self) -> bool {
        use ResultCode as Code;
        matches!(&self.0, DirectoryErrorKind::Search { result, .. }
            if [Code::SIZE_LIMIT_EXCEEDED, Code::ADMIN_LIMIT_EXCEEDED, Code::TIME_LIMIT_EXCEEDED].contains(&result.code))
    }

    /// True if the server finds a search too much work.
    pub(crate) fn is_too_much_work(&self) -> bool {
        matches!(&self.0, DirectoryErrorKind::Search { result, .. } if result.code == ResultCode::ADMIN_LIMIT_EXCEEDED)
    }

    /// True if the connection ended.
    pub(crate) fn is_cut(&self) -> bool {
        matches!(&self.0, DirectoryErrorKind::Cut { .. })
    }

    /// True if the base of a search does not exist.
    pub(crate) fn is_no_such_object(&self) -> bool {
        matches!(&self.0, DirectoryErrorKind::Search { result, .. } if result.code == ResultCode::NO_SUCH_OBJECT)
    }

    /// The referral, if the server does not hold the base (RFC 4511 §4.1.10).
    pub(crate) fn referral(&self) -> Option<Vec<String>> {
        match &self.0 {
            DirectoryErrorKind::Search { result, .. } if result.code == ResultCode::REFERRAL => {
                let urls = result.referral.iter().flatten();
                Some(urls.map(|url| String::from_utf8_lossy(url).into_owned()).collect())
            }
            _ => None,
        }
    }

    /// Whether another server may answer in its place. A refused bind would be refused everywhere, unless the server
    /// was only busy.
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

    /// The failures of all servers that were tried.
    pub(crate) fn of_all(mut failed: Vec<Self>) -> Self {
        match (failed.pop(), failed.is_empty()) {
            (None, _) => DirectoryErrorKind::NoServer.into(),
            (Some(only), true) => only,
            (Some(last), false) => {
                failed.push(last);
                DirectoryErrorKind::AllFailed { failed }.into()
            }
        }
    }

    pub(crate) fn protocol(server: &str, error: ProtocolError) -> Self {
        DirectoryErrorKind::Protocol(BrokenProtocol { server: server.to_owned(), source: error }).into()
    }
}

/// The likely reasons for a silent server.
fn silence(server: &str, is_unheard: bool) -> &'static str {
    match (is_unheard, server.starts_with("ldap://")) {
        (false, _) => "a firewall that drops packets has this effect; or the server is busy: raise `timeout`",
        (true, true) => {
            "it accepts connections at this port, and does not answer there without TLS: is the port one for ldaps:// (636, or 3269)? Otherwise the server is busy: raise `timeout`"
        }
        (true, false) => {
            "it accepts connections at this port, and does not answer there with TLS: is the port one for ldap:// (389, or 3268)? Otherwise the server is busy: raise `timeout`"
        }
    }
}

/// The likely reasons for the end of a connection.
fn end(server: &str, is_unheard: bool) -> &'static str {
    match is_unheard && server.starts_with("ldap://") {
        true => {
            "it ends the connection at the first request without TLS: is the port one for ldaps:// (636, or 3269)? Otherwise a network device or the server's limits are the cause"
        }
        false => {
            "try again; if it always happens at the same point, a network device or the server's limits are the cause"
        }
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

/// A result code, with the server's message if there is one.
fn evidence(result: &LdapResult) -> String {
    let words = result.words();
    if words.is_empty() {
        result.code.to_string()
    } else {
        format!("{}, the server says: {words}", result.code)
    }
}

/// A search's result with its base, in words.
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
            "the search exceeds the server's limit: choose narrower bases, or ask for a higher limit for the bind account"
        }
        10 => {
            "this part of the tree is held by another server: references = \"follow\" reads it there; or add that server to `servers`"
        }
        12 => "the server does not support paged results: tell its administrators",
        32 => "check the spelling; people and groups are often under different bases",
        34 => "check the spelling: the server does not accept this as a distinguished name",
        51 | 52 => "the server is busy or shutting down: try again later, or add another one to `servers`",
        _ => "ask the directory's administrators, and give them the result code",
    }
}
