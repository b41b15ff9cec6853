//! What can be wrong with an LDIF text, on which line, and what to do about it.

use miette::Diagnostic;
use thiserror::Error;

/// Why a text is not LDIF content, and on which line.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("line {line}: {kind}")]
pub struct ParseError {
    kind: ParseErrorKind,
    line: usize,
}

/// The rule of RFC 2849 that a line breaks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error, Diagnostic)]
#[non_exhaustive]
pub enum ParseErrorKind {
    /// No colon in a line.
    #[error("a line has an attribute name, a colon and a value")]
    #[diagnostic(code(WX0203), help("a line that goes on from the one before begins with a blank"))]
    NoColon,
    /// Something that cannot be an attribute description.
    #[error("this is not an attribute name")]
    #[diagnostic(
        code(WX0203),
        help("an attribute name has letters, digits and hyphens; options follow after a semicolon")
    )]
    BadAttribute,
    /// A record that does not begin with `dn:`.
    #[error("a record begins with dn:")]
    #[diagnostic(
        code(WX0203),
        help("records are separated by one empty line, and each begins with the entry's name")
    )]
    NoDn,
    /// `dn:` in the middle of a record.
    #[error("an empty line is missing before this dn:")]
    #[diagnostic(code(WX0203), help("records are separated by one empty line"))]
    NoBlankLine,
    /// A name that RFC 4514 does not allow.
    #[error("the entry's name is not a distinguished name")]
    #[diagnostic(
        code(WX0203),
        help("a name is a list of type=value pairs; a comma inside a value is written \\,")
    )]
    BadName,
    /// Two records of one name.
    #[error("an earlier record has the same name")]
    #[diagnostic(code(WX0203), help("take one of the two out"))]
    Twice,
    /// A double colon without base64 behind it.
    #[error("after :: comes base64")]
    #[diagnostic(
        code(WX0203),
        help("a plain value has one colon; non-ASCII text and bytes are written as base64")
    )]
    BadBase64,
    /// A name that is not UTF-8.
    #[error("this is not UTF-8")]
    #[diagnostic(code(WX0203), help("save the file as UTF-8, or write the value as base64 after ::"))]
    NotUtf8,
    /// A value from a URL.
    #[error("a value from a file or URL (:<) is not read")]
    #[diagnostic(code(WX0203), help("put the value itself into the file, as base64 after ::"))]
    Url,
    /// A change record.
    #[error("this is a change record; a file of entries is wanted")]
    #[diagnostic(code(WX0203), help("export the entries themselves, without changetype lines"))]
    Change,
    /// A control that cannot be read.
    #[error("this is not a control")]
    #[diagnostic(
        code(WX0203),
        help("a control is an OID, true or false, and a value: control: 1.2.3 true: value")
    )]
    BadControl,
    /// A control in a record that is no change.
    #[error("a control stands in a change record only")]
    #[diagnostic(code(WX0203), help("a changetype: line is missing behind it, or take it out"))]
    NoChange,
    /// `changetype:` behind attributes.
    #[error("changetype: stands behind attributes")]
    #[diagnostic(code(WX0203), help("changetype: is the line behind dn:"))]
    LateChange,
    /// A kind of change that RFC 2849 does not have.
    #[error("this is not a kind of change")]
    #[diagnostic(code(WX0203), help("changetype: is add, delete, modify, modrdn or moddn"))]
    BadChange,
    /// Something behind a deletion.
    #[error("a deletion has no more lines")]
    #[diagnostic(code(WX0203), help("an empty line is missing before this, or take it out"))]
    NothingMore,
    /// A modification that is none of the three.
    #[error("this is not a modification")]
    #[diagnostic(
        code(WX0203),
        help("a modification begins with add:, delete: or replace: and an attribute name")
    )]
    BadOperation,
    /// A value of another attribute than the one that is modified.
    #[error("this is another attribute than the one that is modified")]
    #[diagnostic(
        code(WX0203),
        help("a line with - alone ends a modification; the next one begins behind it")
    )]
    OtherAttribute,
    /// The dash behind a modification is missing.
    #[error("the - behind this modification is missing")]
    #[diagnostic(code(WX0203), help("every modification ends with a line that has - alone"))]
    NoDash,
    /// A line that a rename does not have, or one that is missing.
    #[error("a rename has newrdn:, deleteoldrdn: 0 or 1, and perhaps newsuperior:")]
    #[diagnostic(code(WX0203), help("write newrdn: CN=New Name, then deleteoldrdn: 1"))]
    BadRename,
    /// A change of an entry that is not there, or that would be there twice.
    #[error("the entry that this changes is not there, or what it adds is there already")]
    #[diagnostic(code(WX0203), help("changes are made in the order of the file; is an earlier one missing?"))]
    NoEntry,
    /// A record that is longer than is allowed.
    #[error("a record here is longer than is allowed")]
    #[diagnostic(code(WX0203), help("a record has at most 64 MiB; is an empty line missing between two?"))]
    TooLong,
    /// A version other than 1.
    #[error("only LDIF version 1 is known")]
    #[diagnostic(code(WX0203), help("the first line is version: 1, or is left out"))]
    Version,
}

impl ParseErrorKind {
    pub(super) fn at(self, line: usize) -> ParseError {
        ParseError { kind: self, line }
    }
}

impl ParseError {
    /// Which rule was broken.
    #[must_use]
    pub fn kind(&self) -> ParseErrorKind {
        self.kind
    }

    /// The line, counted from 1.
    #[must_use]
    pub fn line(&self) -> usize {
        self.line
    }
}

impl Diagnostic for ParseError {
    fn code<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.kind.code()
    }

    fn help<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.kind.help()
    }
}
