//! What an LDIF text holds: entries, and changes to be made.

use std::borrow::Cow;

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
