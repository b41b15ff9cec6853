//! Results as data: JSON documents with stable keys. Text for people is the command-line tool's.

mod json;

pub use json::{browse, check, fields, filter, found, groups, members, preview};
