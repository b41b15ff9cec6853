//! The kinds of server that the simulated directory can be, as measured on real servers, or as the published
//! protocol specification of domain controllers says.

use std::str::FromStr;
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::schema::ServerKind;

/// The kind of server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Manner {
    /// entryUUID, groupOfNames, who-am-I; at most 500 entries without paging.
    Plain,
    /// As 389 Directory Server: entryUUID and nsUniqueId, groups that may be empty; a search in pages below an entry
    /// that does not exist, and a search for one, end with success and nothing.
    Dirsrv,
    /// objectGUID, memberOf without the primary group, the chain rule; at most 1,000 entries without paging and 1,500
    /// values of `member` at once; references at the domain's root; name forms and sub-codes of a bind; no who-am-I.
    Controller,
}

impl Manner {
    /// The kind guessed from the entries.
    #[must_use]
    pub fn of(entries: &Entries) -> Self {
        if entries.names().find("objectGUID").is_some() { Self::Controller } else { Self::Plain }
    }

    /// The kind of server that it simulates.
    #[must_use]
    pub fn kind(self) -> ServerKind {
        match self {
            Self::Plain | Self::Dirsrv => ServerKind::Plain,
            Self::Controller => ServerKind::Controller,
        }
    }

    /// Maximum entries of a search without paging.
    pub(crate) fn size_limit(self) -> usize {
        match self {
            Self::Plain | Self::Dirsrv => 500,
            Self::Controller => 1000,
        }
    }
}

impl FromStr for Manner {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "plain" => Ok(Self::Plain),
            "dirsrv" => Ok(Self::Dirsrv),
            "controller" => Ok(Self::Controller),
            other => Err(format!("{other} is none of plain, dirsrv and controller")),
        }
    }
}
