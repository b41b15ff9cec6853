//! The two kinds of server that the simulated directory can be, each as measured on real ones or as
//! the published protocol specification of domain controllers says.

use std::str::FromStr;
use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::schema::ServerKind;

/// Which kind of server it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Manner {
    /// entryUUID, groupOfNames, who-am-I; at most 500 entries without paging.
    Plain,
    /// objectGUID, memberOf computed without the primary group, the chain rule, at most 1,000
    /// entries without paging, 1,500 values of `member` at once, references at the domain's root,
    /// name forms and sub-codes of a bind, no who-am-I.
    Controller,
}

impl Manner {
    /// What the entries look like.
    #[must_use]
    pub fn of(entries: &Entries) -> Self {
        if entries.names().find("objectGUID").is_some() { Self::Controller } else { Self::Plain }
    }

    /// The kind of server that it imitates.
    #[must_use]
    pub fn kind(self) -> ServerKind {
        match self {
            Self::Plain => ServerKind::Plain,
            Self::Controller => ServerKind::Controller,
        }
    }

    /// The most entries that a search without paging gets.
    pub(crate) fn size_limit(self) -> usize {
        match self {
            Self::Plain => 500,
            Self::Controller => 1000,
        }
    }
}

impl FromStr for Manner {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "plain" => Ok(Self::Plain),
            "controller" => Ok(Self::Controller),
            other => Err(format!("{other} is neither plain nor controller")),
        }
    }
}
