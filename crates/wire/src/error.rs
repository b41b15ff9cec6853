//! Violations of the protocol by a peer.

use miette::Diagnostic;
use thiserror::Error;

/// Why a conversation cannot continue.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{kind}")]
pub struct ProtocolError {
    kind: ProtocolErrorKind,
}

/// The rule of RFC 4511 that the peer broke, or the limit that it exceeded.
#[derive(Clone, Debug, PartialEq, Eq, Error, Diagnostic)]
#[non_exhaustive]
pub enum ProtocolErrorKind {
    /// A message above the size limit.
    #[error("the server announced a message of {announced} bytes; {limit} are allowed")]
    #[diagnostic(code(WX0311), help("directory entries are hardly ever that large: is this an LDAP server?"))]
    TooLarge {
        /// The length in the message's header.
        announced: u64,
        /// The limit.
        limit: usize,
    },
    /// Bytes that are not an LDAP message.
    #[error("the server sent something that is not an LDAP message")]
    #[diagnostic(
        code(WX0312),
        help("is this the right port? ldaps:// needs a port with TLS (636), ldap:// one without (389)")
    )]
    Malformed,
    /// A response without a request.
    #[error("the server answered a request that was never made (message {id})")]
    #[diagnostic(code(WX0312), help("tell the directory's administrators: the server breaks the protocol"))]
    UnknownRequest {
        /// The response's message id.
        id: u32,
    },
    /// A response of the wrong kind for its request.
    #[error("the server's answer does not fit the request (message {id})")]
    #[diagnostic(code(WX0312), help("tell the directory's administrators: the server breaks the protocol"))]
    WrongAnswer {
        /// The response's message id.
        id: u32,
    },
    /// Notice of Disconnection (RFC 4511 §4.4.1).
    #[error("the server ended the connection: {}", describe(*code, text))]
    #[diagnostic(
        code(WX0313),
        help("try again; if it happens every time, ask the directory's administrators why")
    )]
    Disconnected {
        /// The result code.
        code: u32,
        /// The server's message.
        text: String,
    },
    /// A filter too deeply nested to be sent.
    #[error("the filter is nested too deeply")]
    #[diagnostic(code(WX0202), help("join clauses side by side"))]
    FilterTooDeep,
    /// A message that cannot be encoded.
    #[error("the request cannot be encoded as an LDAP message")]
    #[diagnostic(code(WX0312), help("this is a bug in Webtaxon: please report it"))]
    Unwritable,
}

fn describe(code: u32, text: &str) -> String {
    let name = crate::result_code::ResultCode(code).name();
    if text.is_empty() { name.to_owned() } else { format!("{name}, {text}") }
}

impl ProtocolError {
    /// The kind of violation.
    #[must_use]
    pub fn kind(&self) -> &ProtocolErrorKind {
        &self.kind
    }
}

impl From<ProtocolErrorKind> for ProtocolError {
    fn from(kind: ProtocolErrorKind) -> Self {
        Self { kind }
    }
}

impl Diagnostic for ProtocolError {
    fn code<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.kind.code()
    }

    fn help<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.kind.help()
    }
}
