//! LDIF (RFC 2849): entries and changes as text, as servers export them.
//!
//! [`records`] iterates over a text in memory and borrows from it where it can; [`Stream`] takes a file piece by
//! piece and holds one record at a time, of at most [`LONGEST`] bytes. Folded lines, comments, base64 values, CRLF,
//! controls and the version line are understood; values from a URL (`:<`) are refused, since this crate does no I/O.
//! No recursion.

mod apply;
mod error;
mod read;
mod record;
mod stream;
#[cfg(test)]
mod tests;
mod write;

pub use apply::changed;
pub use error::{LdifError, LdifErrorKind};
pub use read::{LONGEST, Records};
pub use record::{Change, Control, Modification, Operation, Record};
pub use stream::Stream;
pub use write::{write_addition, write_comment, write_record};

use crate::ldap::entry::Entries;
use crate::ldap::name::{Dn, DnKey};
use std::collections::HashSet;

/// Iterates over the records of an LDIF text. A record that cannot be read is an error with its line, and the
/// iteration continues with the next one.
///
/// # Examples
/// ```
/// let text = b"dn: cn=Ada,dc=example\ncn: Ada\n\nbroken\n\ndn: cn=Rosa,dc=example\n";
/// let read: Vec<_> = webtaxon_core::ldap::ldif::records(text).collect();
/// assert_eq!(read[0].as_ref().unwrap().dn, "cn=Ada,dc=example");
/// assert_eq!(read[1].as_ref().unwrap_err().line(), 4);
/// assert_eq!(read[2].as_ref().unwrap().dn, "cn=Rosa,dc=example");
/// ```
#[must_use]
pub fn records(text: &[u8]) -> Records<'_> {
    Records::new(text, 0, false, LONGEST)
}

/// Reads every entry of a text into [`Entries`], with the values of one attribute together.
///
/// # Errors
/// The first line that is not LDIF, repeats the name of an earlier record, or begins a change.
pub fn entries(text: &[u8]) -> Result<Entries, LdifError> {
    let mut gathered = Gathered::default();
    records(text).try_for_each(|record| gathered.add(record?))?;
    Ok(gathered.entries)
}

/// Collects entries, each name once.
#[derive(Debug, Default)]
pub struct Gathered {
    /// The entries so far.
    pub entries: Entries,
    seen: HashSet<DnKey>,
}

impl Gathered {
    /// Adds one record.
    ///
    /// # Errors
    /// Its name is invalid or a repeat, or it is a change.
    pub fn add(&mut self, record: Record<'_>) -> Result<(), LdifError> {
        if record.change.is_some() {
            return Err(LdifErrorKind::Change.at(record.line));
        }
        let dn = Dn::parse(&record.dn).map_err(|_| LdifErrorKind::BadName.at(record.line))?;
        if !self.seen.insert(dn.key()) {
            return Err(LdifErrorKind::Twice.at(record.line));
        }
        let mut attributes: Vec<(&str, Vec<&[u8]>)> = Vec::with_capacity(record.attributes.len());
        for (name, value) in &record.attributes {
            match attributes.iter_mut().find(|(known, _)| known.eq_ignore_ascii_case(name)) {
                Some((_, values)) => values.push(value),
                None => attributes.push((name, vec![value])),
            }
        }
        self.entries.push(&record.dn, attributes);
        Ok(())
    }
}
