//! Shared by SQL stores: accounts as rows of a table, and the statements that change them.
//!
//! Names are always quoted and values always bound: neither a name in the settings nor a directory value can inject
//! SQL.

mod bound;
#[cfg(feature = "sqlite")]
mod checks;
mod column;
mod dialect;
mod edits;
#[cfg(any(feature = "mysql", feature = "sqlite"))]
mod kind;
#[cfg(any(feature = "mysql", feature = "postgres"))]
mod made;
#[cfg(any(feature = "mysql", feature = "sqlite"))]
mod number;
mod references;
mod rows;
mod writer;

#[cfg(any(feature = "mysql", feature = "postgres"))]
pub(super) use bound::Many;
pub(super) use bound::{Bound, Statement};
#[cfg(feature = "sqlite")]
pub(super) use checks::checks;
pub(super) use column::{Column, MARK, complete};
#[cfg(any(feature = "mysql", feature = "postgres"))]
pub(super) use dialect::Bulk;
#[cfg(feature = "postgres")]
pub(super) use dialect::SideForm;
pub(super) use dialect::{Dialect, Which};
pub(super) use edits::RowEdits;
#[cfg(any(feature = "mysql", feature = "sqlite"))]
pub(super) use kind::Kind;
#[cfg(any(feature = "mysql", feature = "postgres"))]
pub(super) use made::{Made, Transaction};
#[cfg(feature = "sqlite")]
pub(super) use number::Number;
pub(super) use references::{ForeignKey, dependents_of};
pub(super) use rows::{Rows, Sides};
pub(super) use writer::{ASSUMES, Writer, plain};

/// Two digits for each byte.
fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Bytes that are not text, as a prefix and hexadecimal digits.
#[cfg(feature = "sqlite")]
pub(super) fn marked(bytes: &[u8]) -> String {
    format!("\\x{}", hex(bytes))
}

fn unhex(text: &str) -> Option<Vec<u8>> {
    let digits = text.strip_prefix("\\x")?.as_bytes();
    let (pairs, rest) = digits.as_chunks::<2>();
    let byte = |pair: &[u8; 2]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    if rest.is_empty() { pairs.iter().map(byte).collect() } else { None }
}
