//! The address of one LDAP server: `ldaps://host:port` or `ldap://host:port` (RFC 4516 §2).

use std::fmt;

/// One server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Server {
    /// How the connection begins.
    pub scheme: Scheme,
    /// A host name or an IP address (IPv6 without its brackets).
    pub host: String,
    /// 636 for `ldaps`, 389 for `ldap` unless said otherwise.
    pub port: u16,
}

/// How a connection begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scheme {
    /// With TLS at once.
    Ldaps,
    /// In plain text.
    Ldap,
}

impl Server {
    /// Parses an address.
    ///
    /// # Errors
    /// A sentence that says what is wrong.
    pub(super) fn parse(text: &str) -> Result<Self, String> {
        let (scheme, rest) = match text.split_once("://") {
            Some(("ldaps", rest)) => (Scheme::Ldaps, rest),
            Some(("ldap", rest)) => (Scheme::Ldap, rest),
            Some((other, _)) => return Err(format!("`{other}` is no way to reach a directory")),
            None => return Err("an address begins with ldaps:// or ldap://".to_owned()),
        };
        let rest = rest.strip_suffix('/').unwrap_or(rest);
        if rest.contains(['/', '?', '@', '#', ' ']) {
            return Err("an address is a host name and a port, with nothing behind them".to_owned());
        }
        let bracketed = rest.strip_prefix('[').and_then(|rest| rest.split_once(']'));
        let (host, port) = match bracketed {
            Some((host, port)) => (host, port.strip_prefix(':').or(port.is_empty().then_some(""))),
            None if rest.matches(':').count() > 1 => {
                return Err("an IPv6 address stands in brackets, like ldaps://[::1]:636".to_owned());
            }
            None => rest.split_once(':').map_or((rest, Some("")), |(host, port)| (host, Some(port))),
        };
        let default = match scheme {
            Scheme::Ldaps => 636,
            Scheme::Ldap => 389,
        };
        let port = match port {
            Some("") => Some(default),
            Some(text) => text.parse().ok().filter(|port| *port > 0),
            None => None,
        };
        let port = port.ok_or("a port is a number from 1 to 65535")?;
        if host.is_empty() {
            return Err("the host name is missing".to_owned());
        }
        Ok(Self { scheme, host: host.to_owned(), port })
    }
}

impl fmt::Display for Server {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let scheme = match self.scheme {
            Scheme::Ldaps => "ldaps",
            Scheme::Ldap => "ldap",
        };
        if self.host.contains(':') {
            write!(out, "{scheme}://[{}]:{}", self.host, self.port)
        } else {
            write!(out, "{scheme}://{}:{}", self.host, self.port)
        }
    }
}
