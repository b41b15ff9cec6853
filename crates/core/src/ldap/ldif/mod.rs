//! LDIF (RFC 2849): entries and changes as text, as servers export them.
//!
//! [`records`] goes through a text in memory, without a copy where the text allows it; [`Stream`]
//! takes a file piece by piece and holds one record at a time, of at most [`LONGEST`] bytes.
//! Folded lines, comments, base64 values, CRLF, controls and the version line are understood;
//! values from a URL (`:<`) are refused, since this crate does no I/O. No recursion.

mod apply;
mod error;
mod read;
mod stream;
#[cfg(test)]
mod tests;
mod write;

pub use apply::changed;
pub use error::{ParseError, ParseErrorKind};
pub use read::{LONGEST, Records};
pub use stream::Stream;
pub use write::{write_addition, write_comment, write_record};

use crate::ldap::entry::Entries;
use crate::ldap::name::{Dn, DnKey};
use std::borrow::Cow;
use std::collections::HashSet;

/// One record: an entry, or a change to be made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Record<'t> {
    /// The line, counted from 1, on which its `dn:` stands.
    pub line: usize,
    /// The entry's name.
    pub dn: Cow<'t, str>,
    /// What a change asks of the server besides; none for an entry.
    pub controls: Vec<Control>,
    /// Each attribute description with one value, in the order of the file: the entry's, or those
    /// of an entry that is added.
    pub attributes: Vec<(Cow<'t, str>, Cow<'t, [u8]>)>,
    /// What is to be done; none for an entry.
    pub change: Option<Change<'t>>,
}

/// What a change record asks for (RFC 2849, `changerecord`). Exhaustive: the standard closes it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change<'t> {
    /// The entry is added, with the record's attributes.
    Add,
    /// The entry goes.
    Delete,
    /// Its values are changed, in this order.
    Modify(Vec<Modification<'t>>),
    /// It gets another name.
    Rename {
        /// The new relative name.
        new_rdn: Cow<'t, str>,
        /// Whether the values of the old one go.
        delete_old: bool,
        /// The name under which it is put, if it moves.
        new_superior: Option<Cow<'t, str>>,
    },
}

/// What is done with values (RFC 4511 §4.6).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operation {
    /// They are added.
    Add,
    /// They go; all of them where none is named.
    Delete,
    /// They take the place of those that are there.
    Replace,
}

/// A change of one attribute.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Modification<'t> {
    /// What is done.
    pub operation: Operation,
    /// The attribute description.
    pub attribute: Cow<'t, str>,
    /// The values.
    pub values: Vec<Cow<'t, [u8]>>,
}

/// A control of a change (RFC 4511 §4.1.11).
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Control {
    /// Its OID.
    pub oid: String,
    /// Whether a server that does not know it must refuse the change.
    pub critical: bool,
    /// Its value.
    pub value: Option<Vec<u8>>,
}

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
