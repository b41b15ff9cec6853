//! The directory side: connect, bind, read, check. Everything here asks; nothing here writes.

mod access;
mod bind;
mod brought;
mod certificate;
mod check;
mod connection;
mod domain;
mod error;
mod follow;
mod followed;
mod group;
mod moved;
mod nest;
mod offline;
mod password;
mod progress;
mod root;
mod roots;
mod ruled;
mod schema;
mod search;
mod snapshot;
mod split;
pub mod survey;
mod sweep;
mod swept;
mod transport;
mod trust;
mod upwards;

pub use access::Access;
pub use bind::SubCode;
pub use certificate::Certificate;
pub use check::{CheckStep, Outcome, check};
pub use connection::Connection;
pub use error::{CertificateFault, DirectoryError, DirectoryErrorKind, RefusedCertificate};
#[cfg(any(feature = "postgres", feature = "scim"))]
pub(crate) use password::fetch as fetch_password;
pub use password::{Prompt, password, password_warning};
pub use progress::{Progress, Watch};
pub use root::RootDse;
pub use schema::read_schema;
pub use search::{Found, PagedSearch, Query, Short};
pub(crate) use snapshot::read_for_both;
pub use snapshot::take_snapshot;
pub use sweep::read;
pub(crate) use sweep::{Links, entry, read_with};
pub use transport::Milestone;
#[cfg(any(feature = "postgres", feature = "scim"))]
pub(crate) use trust::TlsRules;
