//! What a search asks for, and what it finds.

use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_wire::ProtocolError;
use webtaxon_wire::entry::ReceivedEntry;
use webtaxon_wire::message::{Scope, SearchRequest};

/// What is looked for.
#[derive(Clone, Debug)]
pub struct Query {
    /// Where to begin.
    pub base: String,
    /// How far down to look.
    pub scope: Scope,
    /// What an entry must be like.
    pub filter: Filter,
    /// Which attributes are wanted; `1.1` for none.
    pub attributes: Vec<String>,
    /// Whether attributes come without their values.
    pub types_only: bool,
}

/// One thing that a search found.
#[derive(Clone, Debug)]
pub enum Found {
    /// An entry.
    Entry(ReceivedEntry),
    /// A part of the tree that another server keeps; it was not followed.
    Reference(Vec<String>),
}

/// What [`Connection::each`](super::Connection::each) did not hand over.
#[derive(Clone, Debug, Default)]
pub struct Short {
    /// Parts that other servers keep.
    pub references: Vec<String>,
    /// Why the server ended the search before its end; none if it did not.
    pub limit: Option<String>,
}

impl Query {
    /// The entry at `dn`, with some of its attributes.
    #[must_use]
    pub fn base(dn: &str, attributes: &[&str]) -> Self {
        Self { scope: Scope::Base, ..Self::subtree(dn, Filter::present("objectClass"), attributes) }
    }

    /// Everything at and below `base` that the filter finds, with some of the attributes.
    #[must_use]
    pub fn subtree(base: &str, filter: Filter, attributes: &[&str]) -> Self {
        Self {
            base: base.to_owned(),
            scope: Scope::Subtree,
            filter,
            attributes: attributes.iter().map(|name| (*name).to_owned()).collect(),
            types_only: false,
        }
    }

    pub(super) fn request(&self) -> Result<SearchRequest, ProtocolError> {
        let attributes = self.attributes.iter().map(String::as_str);
        let request = SearchRequest::new(&self.base, self.scope, &self.filter, attributes)?;
        Ok(SearchRequest { types_only: self.types_only, ..request })
    }
}

/// The first entry of an answer; references are passed over.
pub(crate) fn first_entry(found: &[Found]) -> Option<&ReceivedEntry> {
    found.iter().find_map(|found| match found {
        Found::Entry(entry) => Some(entry),
        Found::Reference(_) => None,
    })
}

/// Keeps an entry; names that are not UTF-8 are passed over.
pub(crate) fn push(entries: &mut Entries, entry: &ReceivedEntry) {
    entries.push(std::str::from_utf8(entry.name()).unwrap_or(""), entry.attributes_as_text());
}
