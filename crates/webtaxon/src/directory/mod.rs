//! The directory side: connect, bind, read, check. Everything here asks; nothing here writes.

mod check;
mod connection;
mod error;
mod nest;
mod password;
mod search;
mod sweep;
mod transport;

pub use check::{CheckStep, Outcome, check};
pub use connection::{Connection, RootDse};
pub use error::{DirectoryError, DirectoryErrorKind};
pub use password::password;
pub use search::{Found, PagedSearch, Query};
pub use sweep::read;
