//! LDAP: a directory is connected to and searched, and never written to.
//!
//! * [`client`]: one connection to one server, and searches on it;
//! * `presence`: whether the entries that the settings name are there;
//! * `nesting`: the strategies for reading nested groups;
//! * `reading`: one intake's reading, step by step.

pub mod client;
mod error;
mod nesting;
mod presence;
mod reading;
mod shortcoming;

pub use client::{
    Access, Connection, Milestone, PagedSearch, Query, RootDse, SearchItem, Short, SubCode, read_schema,
};
pub use error::{DirectoryError, DirectoryErrorKind};
pub(crate) use nesting::{GROUP_CLASSES, UNIT_CLASSES};
pub(crate) use presence::{Absence, UNREADABLE, absence, absent};
pub(crate) use reading::{Ground, OnePerson, as_reading, read_one};
pub(crate) use reading::{KnownLinks, entry, is_catalog, read_for, read_for_both};
pub use reading::{read, take_snapshot};
pub(crate) use shortcoming::Shortcoming;
