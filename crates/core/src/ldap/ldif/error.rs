//! Errors in LDIF text: what is wrong, on which line, and what to do about it.

use miette::Diagnostic;
use thiserror::Error;

/// Why a text is not LDIF content, and on which line.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("line {line}: {kind}")]
pub struct LdifError {
    kind: LdifErrorKind,
    line: usize,
}

/// The rule of RFC 2849 that a line breaks.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error, Diagnostic)]
#[non_exhaustive]
pub enum LdifErrorKind {
    /// A line without a colon.
    #[error("a line has an attribute name, a colon and a value")]
    #[diagnostic(code(WX0203), help("a continuation line begins with a blank"))]
    NoColon,
    /// A text that is not an attribute description.
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
    /// Two records with the same name.
    #[error("an earlier record has the same name")]
    #[diagnostic(code(WX0203), help("remove one of the two"))]
    Twice,
    /// A double colon that is not followed by base64.
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
    #[error("this is a change record; entries are expected")]
    #[diagnostic(code(WX0203), help("export the entries themselves, without changetype lines"))]
    Change,
    /// A control that cannot be read.
    #[error("this is not a control")]
    #[diagnostic(
        code(WX0203),
        help("a control is an OID, true or false, and a value: control: 1.2.3 true: value")
    )]
    BadControl,
    /// A control in an entry record.
    #[error("only a change record can have a control")]
    #[diagnostic(code(WX0203), help("a changetype: line is missing after it, or remove it"))]
    NoChange,
    /// `changetype:` after attributes.
    #[error("changetype: comes after attributes")]
    #[diagnostic(code(WX0203), help("changetype: belongs right after dn:"))]
    LateChange,
    /// A kind of change that RFC 2849 does not define.
    #[error("this is not a kind of change")]
    #[diagnostic(code(WX0203), help("changetype: is add, delete, modify, modrdn or moddn"))]
    BadChange,
    /// Text after a deletion.
    #[error("a deletion has no further lines")]
    #[diagnostic(code(WX0203), help("an empty line is missing before this, or remove it"))]
    NothingMore,
    /// A modification other than add, delete and replace.
    #[error("this is not a modification")]
    #[diagnostic(
        code(WX0203),
        help("a modification begins with add:, delete: or replace: and an attribute name")
    )]
    BadOperation,
    /// A value of an attribute other than the one modified.
    #[error("this is not the attribute being modified")]
    #[diagnostic(code(WX0203), help("a line with only - ends a modification; the next one begins after it"))]
    OtherAttribute,
    /// A modification without its closing dash.
    #[error("the - after this modification is missing")]
    #[diagnostic(code(WX0203), help("every modification ends with a line that contains only -"))]
    NoDash,
    /// A rename with a line too many, or one missing.
    #[error("a rename has newrdn:, deleteoldrdn: 0 or 1, and optionally newsuperior:")]
    #[diagnostic(code(WX0203), help("write newrdn: CN=New Name, then deleteoldrdn: 1"))]
    BadRename,
    /// A change of an entry that does not exist, or the addition of one that does.
    #[error("the entry to be changed does not exist, or the one to be added does")]
    #[diagnostic(code(WX0203), help("changes are made in the order of the file; is an earlier one missing?"))]
    NoEntry,
    /// A record above the size limit.
    #[error("this record is too long")]
    #[diagnostic(code(WX0203), help("a record has at most 64 MiB; is an empty line missing between two?"))]
    TooLong,
    /// A version other than 1.
    #[error("only LDIF version 1 is supported")]
    #[diagnostic(code(WX0203), help("the first line is version: 1, or is left out"))]
    Version,
}

impl LdifErrorKind {
    pub(super) fn at(self, line: usize) -> LdifError {
        LdifError { kind: self, line }
    }
}

impl LdifError {
    /// Which rule was broken.
    #[must_use]
    pub fn kind(&self) -> LdifErrorKind {
        self.kind
    }

    /// The line, counted from 1.
    #[must_use]
    pub fn line(&self) -> usize {
        self.line
    }
}

impl Diagnostic for LdifError {
    fn code<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.kind.code()
    }

    fn help<'a>(&'a self) -> Option<Box<dyn std::fmt::Display + 'a>> {
        self.kind.help()
    }
}
