//! LDIF (RFC 2849): entries and changes as text, as servers export them.
//!
//! [`records`] goes through a text in memory, without a copy where the text allows it; [`Stream`]
//! takes a file piece by piece and holds one record at a time, of at most [`LONGEST`] bytes.
//! Folded lines, comments, base64 values, CRLF, controls and the version line are understood;
//! values from a URL (`:<`) are refused, since this crate does no I/O. No recursion.

mod apply;
mod error;
mod read;
mod record;
mod stream;
#[cfg(test)]
mod tests;
mod write;

pub use apply::changed;
pub use error::{ParseError, ParseErrorKind};
pub use read::{LONGEST, Records};
pub use record::{Change, Control, Modification, Operation, Record};
pub use stream::Stream;
pub use write::{write_addition, write_comment, write_record};

use crate::ldap::entry::Entries;
use crate::ldap::name::{Dn, DnKey};
use std::collections::HashSet;

/// Goes through an LDIF text record by record. A record that cannot be read is told with its line,
/// and the next one follows.
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

/// Reads every entry of a text into [`Entries`], the values of one attribute together.
///
/// # Errors
/// The first line that breaks the form, that gives a name which an earlier record has, or that
/// begins a change.
pub fn entries(text: &[u8]) -> Result<Entries, ParseError> {
    let mut gathered = Gathered::default();
    records(text).try_for_each(|record| gathered.add(record?))?;
    Ok(gathered.entries)
}

/// Entries as they are read, each name once.
#[derive(Debug, Default)]
pub struct Gathered {
    /// What was read so far.
    pub entries: Entries,
    seen: HashSet<DnKey>,
}

impl Gathered {
    /// Adds one record.
    ///
    /// # Errors
    /// Its name is none, or was there already; or it is a change.
    pub fn add(&mut self, record: Record<'_>) -> Result<(), ParseError> {
        if record.change.is_some() {
            return Err(ParseErrorKind::Change.at(record.line));
        }
        let dn = Dn::parse(&record.dn).map_err(|_| ParseErrorKind::BadName.at(record.line))?;
        if !self.seen.insert(dn.key()) {
            return Err(ParseErrorKind::Twice.at(record.line));
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
