//! LDAP URLs (RFC 4516), as found in referrals and dynamic groups.

mod server;

pub use server::{Scheme, Server};

use crate::ldap::filter::Filter;
use crate::ldap::name::Dn;
use crate::words::TextError;
use server::decode;
use std::str::FromStr;

/// A part of a directory, and how to search it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LdapUrl {
    /// The server; `None` for the one that was asked.
    pub server: Option<Server>,
    /// The base; `None` for that of the request.
    pub base: Option<Dn>,
    /// The scope; `None` for that of the request.
    pub scope: Option<UrlScope>,
    /// The filter; `None` for that of the request.
    pub filter: Option<Filter>,
}

/// The scope in a URL (RFC 4516 §2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UrlScope {
    /// `base`
    Base,
    /// `one`
    One,
    /// `sub`
    Subtree,
}

impl FromStr for LdapUrl {
    type Err = TextError;

    /// Parses a URL like `ldap://host:389/OU=Annexe,DC=x??sub`.
    fn from_str(text: &str) -> Result<Self, TextError> {
        let behind_scheme = text.find("://").ok_or("it has no scheme")? + 3;
        let rest = text.get(behind_scheme..).unwrap_or("");
        let end = rest.find(['/', '?']).unwrap_or(rest.len());
        let server = match text.get(..behind_scheme) {
            Some(scheme) if end == 0 && scheme.eq_ignore_ascii_case("ldap://") => None,
            _ => Some(text.get(..behind_scheme + end).unwrap_or(text).parse()?),
        };
        let rest = rest.get(end..).unwrap_or("");
        let mut parts = rest.strip_prefix('/').unwrap_or(rest).splitn(5, '?');
        let mut next = || -> Result<Option<String>, String> {
            let part = parts.next().filter(|part| !part.is_empty());
            part.map(|part| {
                decode(part).ok_or_else(|| "a % is not followed by two hexadecimal digits".to_owned())
            })
            .transpose()
        };
        let (base, _attributes, scope) = (next()?, next()?, next()?);
        let (filter, extensions) = (next()?, next()?);
        if extensions.is_some_and(|list| list.split(',').any(|extension| extension.starts_with('!'))) {
            return Err("it requires an unknown extension".into());
        }
        let base = base.map(|base| Dn::parse(&base).map_err(|error| error.to_string())).transpose()?;
        let scope = match scope.map(|scope| scope.to_ascii_lowercase()).as_deref() {
            None => None,
            Some("base") => Some(UrlScope::Base),
            Some("one") => Some(UrlScope::One),
            Some("sub" | "subtree") => Some(UrlScope::Subtree),
            Some(other) => return Err(format!("`{other}` is not a scope").into()),
        };
        let filter =
            filter.map(|filter| Filter::parse(&filter).map_err(|error| error.to_string())).transpose()?;
        Ok(Self { server, base, scope, filter })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn references_are_read_as_servers_write_them() {
        for (text, server, base, scope, filter, why) in [
            ("ldap://h/OU=A,DC=x", "ldap://h:389", "OU=A,DC=x", None, "", "the usual form"),
            (
                "ldap://h:3890/OU=A%20B,DC=x??sub",
                "ldap://h:3890",
                "OU=A B,DC=x",
                Some(UrlScope::Subtree),
                "",
                "RFC 4511 §4.5.3",
            ),
            ("ldaps://[::1]/??base", "ldaps://[::1]:636", "", Some(UrlScope::Base), "", "no base"),
            ("ldap://h", "ldap://h:389", "", None, "", "a server alone"),
            (
                "ldap://h/DC=x?cn,mail?one?(cn=%2a)",
                "ldap://h:389",
                "DC=x",
                Some(UrlScope::One),
                "(cn=*)",
                "everything",
            ),
            ("ldap:///DC=x??sub?(l=x)", "", "DC=x", Some(UrlScope::Subtree), "(l=x)", "no server"),
            ("LDAP://h/DC=x???", "ldap://h:389", "DC=x", None, "", "empty parts"),
        ] {
            let url = text.parse::<LdapUrl>().unwrap_or_else(|error| panic!("{text}: {error}"));
            let shown = |part: Option<String>| part.unwrap_or_default();
            assert_eq!(shown(url.server.map(|server| server.to_string())), server, "{why}");
            assert_eq!(shown(url.base.map(|base| base.to_string())), base, "{why}");
            assert_eq!(
                (url.scope, shown(url.filter.map(|filter| filter.to_string())).as_str()),
                (scope, filter),
                "{why}"
            );
        }
        for text in [
            "",
            "h/DC=x",
            "http://h/DC=x",
            "ldaps:///DC=x",
            "ldap://h/OU",
            "ldap://h/%4",
            "ldap://h/??deep",
            "ldap://h/???(cn",
            "ldap://h/????!x=1",
        ] {
            assert!(text.parse::<LdapUrl>().is_err(), "{text}");
        }
    }

    proptest! {
        /// A server may send anything.
        #[test]
        fn any_text_is_read_or_refused(text in "(ldap://)?[a-z%0-9?/=,()!ä\\[\\]:]{0,40}") {
            let _ = text.parse::<LdapUrl>();
        }
    }
}
