//! One connection to one server: reached, trusted, bound, and searched.

mod access;
mod bind;
mod connection;
mod existence;
mod offline;
mod person_bind;
mod query;
mod root_dse;
mod search;
mod srv;
mod subschema;
mod transport;

pub use access::Access;
pub use bind::SubCode;
pub use connection::Connection;
pub use query::{Query, SearchItem, Short};
pub(crate) use query::{first_entry, push};
pub use root_dse::RootDse;
pub use search::PagedSearch;
pub use subschema::read_schema;
pub use transport::Milestone;
