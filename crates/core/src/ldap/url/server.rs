//! The address of an LDAP server: `ldaps://host:port`, `ldap://host:port` (RFC 4516 §2), or `ldapi://%2Fpath` for a
//! local socket.

use crate::words::TextError;
use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

/// One server. Exhaustive on purpose: code that connects must handle every kind.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Server {
    /// A host on the network.
    Host {
        /// How the connection is secured.
        scheme: Scheme,
        /// A host name or an IP address (IPv6 without its brackets).
        host: String,
        /// 636 for `ldaps` and 389 for `ldap` by default.
        port: u16,
    },
    /// A Unix domain socket; it needs no encryption.
    Socket(PathBuf),
}

/// How a connection to a host is secured.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Scheme {
    /// TLS from the first byte.
    Ldaps,
    /// Plain text, upgraded by StartTLS (RFC 4511 §4.14) unless the settings say `plain`.
    Ldap,
}

impl FromStr for Server {
    type Err = TextError;

    /// Parses an address.
    fn from_str(text: &str) -> Result<Self, TextError> {
        let (scheme, rest) = match text.split_once("://") {
            Some((scheme, rest)) => (scheme.to_ascii_lowercase(), rest),
            None => return Err("an address begins with ldaps://, ldap:// or ldapi://".into()),
        };
        let scheme = match scheme.as_str() {
            "ldaps" => Scheme::Ldaps,
            "ldap" => Scheme::Ldap,
            "ldapi" => return Ok(socket(rest)?),
            other => return Err(format!("`{other}` is not a scheme for a directory").into()),
        };
        let rest = rest.strip_suffix('/').unwrap_or(rest);
        if rest.contains(['/', '?', '@', '#', ' ']) {
            return Err("an address is a host name and a port, with nothing after them".into());
        }
        let bracketed = rest.strip_prefix('[').and_then(|rest| rest.split_once(']'));
        let (host, port) = match bracketed {
            Some((host, port)) => (host, port.strip_prefix(':').or(port.is_empty().then_some(""))),
            None if rest.matches(':').count() > 1 => {
                return Err("an IPv6 address is written in brackets, like ldaps://[::1]:636".into());
            }
            None => rest.split_once(':').map_or((rest, Some("")), |(host, port)| (host, Some(port))),
        };
        let port = match port {
            Some("") => Some(scheme.port()),
            Some(text) => text.parse().ok().filter(|port| *port > 0),
            None => None,
        };
        let port = port.ok_or("a port is a number from 1 to 65535")?;
        if host.is_empty() {
            return Err("the host name is missing".into());
        }
        Ok(Self::Host { scheme, host: host.to_owned(), port })
    }
}

impl Server {
    /// Whether the connection starts in plain text over a network.
    #[must_use]
    pub fn begins_plain(&self) -> bool {
        matches!(self, Self::Host { scheme: Scheme::Ldap, .. })
    }
}

impl Scheme {
    /// The default port.
    #[must_use]
    pub fn port(self) -> u16 {
        match self {
            Self::Ldaps => 636,
            Self::Ldap => 389,
        }
    }
}

/// The path of a socket, percent-encoded, since a host cannot contain a slash (RFC 3986 §3.2.2).
fn socket(rest: &str) -> Result<Server, String> {
    let help = "write the socket's path with %2F for each slash, like ldapi://%2Frun%2Fslapd%2Fldapi";
    let rest = rest.strip_suffix('/').unwrap_or(rest);
    match decode(rest) {
        Some(path) if path.starts_with('/') && !path.contains('\0') => Ok(Server::Socket(path.into())),
        _ => Err(help.to_owned()),
    }
}

impl fmt::Display for Server {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Host { scheme, host, port } => {
                let scheme = match scheme {
                    Scheme::Ldaps => "ldaps",
                    Scheme::Ldap => "ldap",
                };
                if host.contains(':') {
                    write!(out, "{scheme}://[{host}]:{port}")
                } else {
                    write!(out, "{scheme}://{host}:{port}")
                }
            }
            Self::Socket(path) => {
                let path = path.to_string_lossy();
                out.write_str("ldapi://")?;
                path.bytes().try_for_each(|byte| match byte {
                    b'0'..=b'9' | b'a'..=b'z' | b'A'..=b'Z' | b'-' | b'.' | b'_' | b'~' => {
                        write!(out, "{}", char::from(byte))
                    }
                    other => write!(out, "%{other:02X}"),
                })
            }
        }
    }
}

/// Text with %-escapes resolved (RFC 3986 §2.1); `None` if an escape is broken or the result is not UTF-8.
pub(super) fn decode(text: &str) -> Option<String> {
    let mut decoded = Vec::with_capacity(text.len());
    let mut bytes = text.bytes();
    while let Some(byte) = bytes.next() {
        if byte != b'%' {
            decoded.push(byte);
            continue;
        }
        let mut digit = || char::from(bytes.next()?).to_digit(16);
        let (high, low) = (digit()?, digit()?);
        decoded.push(u8::try_from(high * 16 + low).ok()?);
    }
    String::from_utf8(decoded).ok()
}

impl serde::Serialize for Server {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
