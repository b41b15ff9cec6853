//! A search request, and its results.

use webtaxon_core::ldap::entry::Entries;
use webtaxon_core::ldap::filter::Filter;
use webtaxon_wire::ProtocolError;
use webtaxon_wire::entry::ReceivedEntry;
use webtaxon_wire::message::{Scope, SearchRequest};

/// A search request.
#[derive(Clone, Debug)]
pub struct Query {
    /// The base.
    pub base: String,
    /// The scope.
    pub scope: Scope,
    /// The filter.
    pub filter: Filter,
    /// The attributes to return; `1.1` for none.
    pub attributes: Vec<String>,
    /// Whether to return attributes without values.
    pub types_only: bool,
}

/// One result of a search.
#[derive(Clone, Debug)]
pub enum SearchItem {
    /// An entry.
    Entry(ReceivedEntry),
    /// A search continuation reference that was not followed.
    Reference(Vec<String>),
}

/// The part of a search that [`Connection::each`](super::Connection::each) did not deliver.
#[derive(Clone, Debug, Default)]
pub struct Short {
    /// Search continuation references.
    pub references: Vec<String>,
    /// Why the server ended the search early; `None` if it did not.
    pub limit: Option<String>,
}

impl Query {
    /// The entry `dn`, with some of its attributes.
    #[must_use]
    pub fn base(dn: &str, attributes: &[&str]) -> Self {
        Self { scope: Scope::Base, ..Self::subtree(dn, Filter::present("objectClass"), attributes) }
    }

    /// The entries at and below `base` that match `filter`, with some of their attributes.
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

    /// The request, with another filter if one is given.
    pub(super) fn request(&self, instead: Option<&Filter>) -> Result<SearchRequest, ProtocolError> {
        let attributes = self.attributes.iter().map(String::as_str);
        let filter = instead.unwrap_or(&self.filter);
        let request = SearchRequest::new(&self.base, self.scope, filter, attributes)?;
        Ok(SearchRequest { types_only: self.types_only, ..request })
    }
}

/// The first entry of a result; references are skipped.
pub(crate) fn first_entry(found: &[SearchItem]) -> Option<&ReceivedEntry> {
    found.iter().find_map(|found| match found {
        SearchItem::Entry(entry) => Some(entry),
        SearchItem::Reference(_) => None,
    })
}

/// Adds an entry; one whose name is not UTF-8 is skipped.
pub(crate) fn push(entries: &mut Entries, entry: &ReceivedEntry) {
    entries.push(std::str::from_utf8(entry.name()).unwrap_or(""), entry.attributes_as_text());
}
