//! The records of an LDIF text: entries and changes.

use std::borrow::Cow;

/// One record: an entry, or a change to be made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Record<'t> {
    /// The line, counted from 1, on which its `dn:` stands.
    pub line: usize,
    /// The entry's name.
    pub dn: Cow<'t, str>,
    /// The controls of a change; empty for an entry.
    pub controls: Vec<Control>,
    /// Attribute descriptions, each with one value, in the order of the file: of the entry, or of an entry to be
    /// added.
    pub attributes: Vec<(Cow<'t, str>, Cow<'t, [u8]>)>,
    /// The change; `None` for an entry.
    pub change: Option<Change<'t>>,
}

/// The kinds of change record (RFC 2849, `changerecord`). Exhaustive: the standard closes the list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change<'t> {
    /// Adds the entry, with the record's attributes.
    Add,
    /// Deletes the entry.
    Delete,
    /// Modifies its attributes, in this order.
    Modify(Vec<Modification<'t>>),
    /// Renames or moves it (modDN).
    Rename {
        /// The new relative distinguished name.
        new_rdn: Cow<'t, str>,
        /// Whether the values of the old one are deleted.
        delete_old: bool,
        /// The new parent, if it moves.
        new_superior: Option<Cow<'t, str>>,
    },
}

/// The kinds of modification (RFC 4511 §4.6).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operation {
    /// Adds values.
    Add,
    /// Deletes values; all of them if none is given.
    Delete,
    /// Replaces all values.
    Replace,
}

/// The modification of one attribute.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Modification<'t> {
    /// Its kind.
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
