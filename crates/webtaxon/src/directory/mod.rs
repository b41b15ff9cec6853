//! The directory side: connect, bind, read, check. Everything here asks; nothing here writes.

mod access;
mod bind;
mod certificate;
mod check;
mod connection;
mod domain;
mod error;
mod follow;
mod moved;
mod nest;
mod offline;
mod password;
mod root;
mod schema;
mod search;
mod snapshot;
mod split;
pub mod survey;
mod sweep;
mod transport;
mod trust;

pub use access::Access;
pub use bind::SubCode;
pub use certificate::Certificate;
pub use check::{CheckStep, Outcome, check};
pub use connection::Connection;
pub use error::{CertificateFault, DirectoryError, DirectoryErrorKind, RefusedCertificate};
pub use password::{Prompt, password, password_warning};
pub use root::RootDse;
pub use schema::read_schema;
pub use search::{Found, PagedSearch, Query, Short};
pub use snapshot::take_snapshot;
pub use sweep::read;
pub(crate) use sweep::read_with;
pub use transport::Milestone;
